#!/usr/bin/env bash
# Starts the demo: installs what is missing, starts the project's own
# PostgreSQL, builds, and runs `crosswind demo`. With --reset the story starts
# afresh. No process is left behind.
set -euo pipefail
cd "$(dirname "$0")/.."
command -v go >/dev/null || { echo "missing: Go (1.26 or newer). Install it first." >&2; exit 1; }
scripts/packages.sh /usr/lib/postgresql/15/bin/initdb=postgresql-15 runuser=util-linux mkfs.ext4=e2fsprogs mkfs.fat=dosfstools mcopy=mtools ffmpeg=ffmpeg /usr/share/fonts/truetype/noto/NotoSans-Regular.ttf=fonts-noto-core /usr/share/fonts/truetype/noto/NotoSansMono-Regular.ttf=fonts-noto-mono /usr/share/fonts/opentype/noto/NotoSansCJK-Regular.ttc=fonts-noto-cjk /usr/share/fonts/truetype/noto/NotoColorEmoji.ttf=fonts-noto-color-emoji
# What sets reports as PDF; without it they are web pages alone.
[ node_modules/.package-lock.json -nt package-lock.json ] || npm ci --no-audit --no-fund --loglevel=error || echo "npm ci failed: reports are not set as PDF" >&2
local=${CROSSWIND_LOCAL:-.local/demo}
mkdir -p "$local"
if [ -s "$local/crosswind.pid" ] && kill -0 "$(cat "$local/crosswind.pid")" 2>/dev/null; then
  echo "the demo is running already (process $(cat "$local/crosswind.pid")); end it first with Ctrl-C" >&2
  exit 1
fi
if [ "${1:-}" = --reset ]; then
  scripts/postgres.sh stop "$local/pg"
  chmod -R u+w "$local" && rm -rf "$local" && mkdir -p "$local"
fi
echo "Building (the first time takes a minute or two)" >&2
go build -o bin/crosswind ./cmd/crosswind
scripts/postgres.sh start "$local/pg"
app=
stop() {
  [ -n "$app" ] && kill "$app" 2>/dev/null && wait "$app" 2>/dev/null
  scripts/postgres.sh stop "$local/pg"
}
trap stop EXIT
trap 'exit 130' INT TERM
CROSSWIND_DATABASE="$(cat "$local/pg/url")" bin/crosswind demo --dir "$local" --listen "${CROSSWIND_LISTEN:-127.0.0.1:8417}" &
app=$!
echo "$app" >"$local/crosswind.pid"
code=0
wait "$app" || code=$?
app=
rm -f "$local/crosswind.pid"
exit "$code"
