#!/usr/bin/env bash
# A PostgreSQL cluster of the project's own.
#   postgres.sh start DIR   starts the cluster in DIR, making it first if need be
#   postgres.sh stop DIR    stops it
# After start, DIR/url holds the address with its password (mode 600).
set -euo pipefail
bin=/usr/lib/postgresql/15/bin
what=$1 dir=$2
mkdir -p "$dir"
dir=$(cd "$dir" && pwd)

# PostgreSQL refuses to run as root.
as() { if [ "$(id -u)" -eq 0 ]; then runuser -u postgres -- "$@"; else "$@"; fi; }
ready() { as "$bin/pg_isready" -q -h 127.0.0.1 -p "$(cat "$dir/port")"; }

stop() {
  [ -s "$dir/data/postmaster.pid" ] || return 0
  as "$bin/pg_ctl" -D "$dir/data" -m fast -w stop >/dev/null 2>&1 || true
}

free_port() {
  node -e 'const s = require("net").createServer().listen(0, "127.0.0.1", () => { console.log(s.address().port); s.close() })'
}

start() {
  if [ "$(id -u)" -eq 0 ]; then
    runuser -u postgres -- test -x "$dir" || {
      echo "the user postgres cannot enter $dir: a folder above it is closed to others. Put the checkout elsewhere, or open it with chmod o+x." >&2
      exit 1
    }
  fi
  if [ ! -s "$dir/data/PG_VERSION" ]; then
    echo "Making a PostgreSQL cluster in $dir" >&2
    rm -rf "$dir/data" && mkdir -p "$dir/data" "$dir/run"
    umask 077
    head -c 24 /dev/urandom | od -An -tx1 | tr -d ' \n' >"$dir/password"
    if [ "$(id -u)" -eq 0 ]; then chown -R postgres "$dir/data" "$dir/run" "$dir/password"; fi
    as "$bin/initdb" -D "$dir/data" -U crosswind -A scram-sha-256 --pwfile="$dir/password" -E UTF8 --locale=C.UTF-8 >/dev/null
    free_port >"$dir/port"
  fi
  chmod 644 "$dir/port"
  for try in 1 2 3 4 5; do
    # After the postmaster was killed, its file stays behind for a moment.
    if ready; then break; fi
    as "$bin/pg_ctl" -D "$dir/data" -l "$dir/data/log" -w -t 30 \
      -o "-c listen_addresses=127.0.0.1 -c port=$(cat "$dir/port") -c unix_socket_directories='$dir/run'" start >/dev/null 2>&1 || true
    if ready; then break; fi
    sleep 1
    # The port may have been taken by somebody else since.
    [ "$try" -ge 3 ] && free_port >"$dir/port"
  done
  ready || { echo "PostgreSQL does not start; see $dir/data/log" >&2; exit 1; }
  (umask 077 && echo "postgres://crosswind:$(cat "$dir/password")@127.0.0.1:$(cat "$dir/port")/postgres" >"$dir/url")
}

"$what"
