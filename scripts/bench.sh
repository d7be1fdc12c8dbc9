#!/usr/bin/env bash
# Speed and memory, with a database cluster of its own. Ratios are measured side
# by side in one run.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/packages.sh /usr/lib/postgresql/15/bin/initdb=postgresql-15 sqlite3=sqlite3 gcc=gcc
mkdir -p .local
dir=$(mktemp -d .local/bench-XXXXXX)
chmod 755 "$dir"
stop() {
  scripts/postgres.sh stop "$dir/pg"
  chmod -R u+w "$dir" && rm -rf "$dir"
}
trap stop EXIT
trap 'exit 130' INT TERM
scripts/postgres.sh start "$dir/pg"
CROSSWIND_TEST_DATABASE=$(cat "$dir/pg/url")
export CROSSWIND_TEST_DATABASE
# Debian's sqlite3 has no .recover; the source that comes with npm's sqlite3 does.
(
  cd "$dir"
  npm pack --silent sqlite3@5.1.7 >/dev/null
  tar xzf sqlite3-5.1.7.tgz
  tar xzf package/deps/sqlite-autoconf-*.tar.gz
  gcc -O2 -DSQLITE_ENABLE_DBPAGE_VTAB -DSQLITE_THREADSAFE=0 -o sqlite3 sqlite-autoconf-*/shell.c sqlite-autoconf-*/sqlite3.c -lm -ldl
)
RECOVER=$PWD/$dir/sqlite3 go test -run '^$' -bench . -benchtime 2x -timeout 30m ./core/salvage
go test -run '^$' -bench . -benchmem $(go list ./core/... | grep -v salvage)
go test -run '^$' -bench . -benchtime 3x ./internal/acquire ./internal/store
go test -run '^$' -bench . -benchtime 1x -timeout 30m ./cmd/crosswind
go test -run '^$' -bench . -benchtime 1x ./internal/press
