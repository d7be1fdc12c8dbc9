#!/usr/bin/env bash
# Everything that proves the application, with a database cluster of its own.
set -euo pipefail
cd "$(dirname "$0")/.."
command -v go >/dev/null || { echo "missing: Go (1.26 or newer). Install it first." >&2; exit 1; }
command -v npm >/dev/null || { echo "missing: Node.js 20 or newer with npm. Install it first." >&2; exit 1; }
scripts/packages.sh /usr/lib/postgresql/15/bin/initdb=postgresql-15 sqlite3=sqlite3 chromium=chromium openssl=openssl unzip=unzip zbarimg=zbar-tools mkfs.ext4=e2fsprogs mkfs.fat=dosfstools mcopy=mtools svn=subversion newsboat=newsboat
[ node_modules/.package-lock.json -nt package-lock.json ] || npm ci --no-audit --no-fund --loglevel=error
mkdir -p .local
dir=$(mktemp -d .local/test-XXXXXX)
chmod 755 "$dir"
stop() {
  scripts/postgres.sh stop "$dir/pg"
  chmod -R u+w "$dir" && rm -rf "$dir"
}
trap stop EXIT
trap 'exit 130' INT TERM
step() { echo "== $*"; "$@"; }
step go build -o bin/crosswind ./cmd/crosswind
step go vet ./...
scripts/postgres.sh start "$dir/pg"
CROSSWIND_TEST_DATABASE=$(cat "$dir/pg/url")
export CROSSWIND_TEST_DATABASE
step go test ./...
for target in core/sqlitefile:FuzzOpen core/salvage:FuzzRows core/backup:FuzzOpen core/backup:FuzzStow core/unpack:FuzzMembers core/digest:FuzzOpenKnown; do
  step go test -run '^$' -fuzz "^${target#*:}\$" -fuzztime "${FUZZTIME:-4s}" -fuzzminimizetime 1x "./${target%:*}"
done
[ "${SKIP_E2E:-}" ] || CROSSWIND_LOCAL="$PWD/$dir" step npx playwright test --config e2e/playwright.config.mjs
