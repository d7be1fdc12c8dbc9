#!/usr/bin/env bash
# Reads the databases with which SQLite's own tests attack it, from the source package of
# Debian's, and then fuzzes one target: fuzz.sh PACKAGE:TARGET TIME
set -euo pipefail
cd "$(dirname "$0")/.."
target=$1 time=$2
published=$PWD/.local/published
if [ ! -d "$published" ]; then
  scripts/packages.sh dpkg-source=dpkg-dev xz=xz-utils
  mkdir -p .local
  dir=$(mktemp -d .local/source-XXXXXX)
  trap 'rm -rf "$dir"' EXIT
  (
    cd "$dir"
    mkdir -p lists/partial cache/archives/partial sources
    # The machine's own sources of packages, as sources of source packages.
    for f in /etc/apt/sources.list /etc/apt/sources.list.d/*; do
      [ -e "$f" ] && sed 's/^Types: deb$/Types: deb-src/; s/^deb /deb-src /' "$f" >"sources/${f##*/}"
    done
    apt=(apt-get -qq -o Dir::Etc::sourcelist=/dev/null -o Dir::Etc::sourceparts="$PWD/sources" -o Dir::State::lists="$PWD/lists" -o Dir::Cache="$PWD/cache" -o APT::Sandbox::User=root)
    "${apt[@]}" update || true # of another source than Debian's
    "${apt[@]}" --download-only source sqlite3
    mkdir out
    tar xf sqlite3_*.orig.tar.xz -C out --strip-components=2 --wildcards '*/test/*.db'
  )
  mv "$dir/out" "$published"
fi
PUBLISHED=$published go test -count=1 -v -run TestPublishedDatabases ./core/salvage
go test -run '^$' -fuzz "^${target#*:}\$" -fuzztime "$time" -fuzzminimizetime 10x "./${target%%:*}"
