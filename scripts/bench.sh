#!/usr/bin/env bash
# Speed and memory, with a database cluster of its own. Ratios are measured side
# by side in one run.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/packages.sh /usr/lib/postgresql/15/bin/initdb=postgresql-15 sqlite3=sqlite3
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
go test -run '^$' -bench . -benchmem ./core/...
go test -run '^$' -bench . -benchtime 3x ./internal/acquire
go test -run '^$' -bench . -benchtime 1x -timeout 30m ./cmd/crosswind
