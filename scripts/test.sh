#!/usr/bin/env bash
# Everything that proves the application, with a database cluster of its own.
set -euo pipefail
cd "$(dirname "$0")/.."
command -v go >/dev/null || { echo "missing: Go (1.26 or newer). Install it first." >&2; exit 1; }
command -v npm >/dev/null || { echo "missing: Node.js 20 or newer with npm. Install it first." >&2; exit 1; }
scripts/packages.sh /usr/lib/postgresql/15/bin/initdb=postgresql-15 sqlite3=sqlite3 openssl=openssl unzip=unzip zbarimg=zbar-tools mkfs.ext4=e2fsprogs sfdisk=fdisk mkfs.exfat=exfatprogs mount.exfat-fuse=exfat-fuse mkfs.fat=dosfstools mcopy=mtools svn=subversion newsboat=newsboat exiftool=libimage-exiftool-perl ffmpeg=ffmpeg /usr/bin/convert=imagemagick sox=sox jpegtran=libjpeg-turbo-progs /usr/lib/x86_64-linux-gnu/sox/libsox_fmt_amr_nb.so=libsox-fmt-base qpdf=qpdf pdfinfo=poppler-utils /usr/share/unicode/auxiliary/WordBreakTest.txt=unicode-data /usr/share/fonts/truetype/noto/NotoSans-Regular.ttf=fonts-noto-core /usr/share/fonts/truetype/noto/NotoSansMono-Regular.ttf=fonts-noto-mono /usr/share/fonts/opentype/noto/NotoSansCJK-Regular.ttc=fonts-noto-cjk /usr/share/fonts/truetype/noto/NotoColorEmoji.ttf=fonts-noto-color-emoji
# Without a window to draw the browser takes a fifth less; where that form cannot be had, the whole of it does as well.
scripts/packages.sh chromium-headless-shell=chromium-headless-shell || scripts/packages.sh chromium=chromium
[ node_modules/.package-lock.json -nt package-lock.json ] || npm ci --no-audit --no-fund --loglevel=error
# In memory where there is room for it: most of the tests' time went into waiting for disks.
room() { [ -w "$1" ] && [ "$(df --output=avail -k "$1" | tail -1)" -ge 6000000 ] && ! findmnt -no OPTIONS -T "$1" | grep -qw noexec; }
base=/dev/shm
if ! room "$base" 2>/dev/null; then base=$PWD/.local && mkdir -p "$base"; fi
dir=$(mktemp -d "$base/crosswind-test-XXXXXX")
chmod 755 "$dir"
mkdir "$dir/tmp"
export TMPDIR=$dir/tmp
browsing=
stop() {
  [ -z "$browsing" ] || { kill -INT "$browsing" && wait "$browsing"; } 2>/dev/null || true
  scripts/postgres.sh stop "$dir/pg"
  chmod -R u+w "$dir" && rm -rf "$dir"
}
trap stop EXIT
trap 'exit 130' INT TERM
TIMEFORMAT='== took %0R s, %0U s of CPU'
step() {
  echo "== $*"
  time "$@"
}
export GOGC=300 # memory for time: the collector was an eighth of it
step go build -o bin/crosswind ./cmd/crosswind
scripts/postgres.sh start "$dir/pg"
CROSSWIND_TEST_DATABASE=$(cat "$dir/pg/url")
export CROSSWIND_TEST_DATABASE
# The browser tests wait for one another and for the application most of the time: all others go beside them, and give way.
if [ -z "${SKIP_E2E:-}" ]; then
  CROSSWIND_LOCAL=$dir node_modules/.bin/playwright test --config e2e/playwright.config.mjs >"$dir/e2e.log" 2>&1 &
  browsing=$!
fi
failed=
# The longest first; another beside them, since those wait for databases and processes, too.
step nice -n 5 go test -vet=all -timeout 60m -p 2 ./internal/web/... ./cmd/... ./internal/... ./core/... || failed="$failed Go"
fuzz() {
  # A third of the targets a day, all with FUZZ=all: their builds take longer than they are run, and what broke them once
  # is tested above. Not core/salvage:FuzzRows, whose build takes as long as all others together.
  local targets=(core/sqlitefile:FuzzOpen core/backup:FuzzOpen core/backup:FuzzStow core/unpack:FuzzMembers
    core/digest:FuzzOpenKnown core/search:FuzzIndex core/reading:FuzzReaders core/media:FuzzRead core/media:FuzzReadClip
    core/volume:FuzzOpen core/carve:FuzzScan core/stamp:FuzzParse)
  local turn=$((10#$(date +%j) % 3)) n=0
  for target in "${targets[@]}"; do
    [ $((n++ % 3)) = "$turn" ] || [ "${FUZZ:-}" = all ] || continue
    for try in 1 2 3; do
      said=$(step nice -n 5 go test -run '^$' -fuzz "^${target#*:}\$" -fuzztime "${FUZZTIME:-3s}" -fuzzminimizetime 1x -parallel 1 "./${target%:*}" 2>&1) && ok=0 || ok=$?
      echo "$said"
      # The tool now and then takes the end of its own time for a failure, and then has no input to show.
      [ "$ok" -ne 0 ] && [ "$try" -lt 3 ] && [[ $said == *"context deadline exceeded"* && $said != *"Failing input"* ]] || break
    done
    [ "$ok" -eq 0 ] || return "$ok"
  done
}
fuzz || failed="$failed fuzzing"
if [ -n "$browsing" ]; then
  echo "== playwright test"
  wait "$browsing" || failed="$failed browser"
  browsing=
  cat "$dir/e2e.log"
fi
[ -z "$failed" ] || { echo "== failed:$failed" >&2; exit 1; }
