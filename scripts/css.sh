#!/usr/bin/env bash
# Builds what the pages serve from npm's packages: styles, the script libraries
# and the fonts. The results are committed, so that the application builds
# without Node.js.
set -euo pipefail
cd "$(dirname "$0")/.."
out=internal/web/static
npx @tailwindcss/cli -i internal/web/frame/chart-room.css -o "$out/chart-room.css" --minify 2>/dev/null
cp node_modules/@alpinejs/csp/dist/cdn.min.js "$out/alpine.js"
cp node_modules/@imacrayon/alpine-ajax/dist/cdn.min.js "$out/alpine-ajax.js"
mkdir -p "$out/fonts"
for family in atkinson-hyperlegible-next atkinson-hyperlegible-mono; do
  from=node_modules/@fontsource-variable/$family
  cp "$from/files/$family-latin-wght-normal.woff2" "$from/files/$family-latin-ext-wght-normal.woff2" "$out/fonts/"
  cp "$from/LICENSE" "$out/fonts/$family-LICENSE"
done
node scripts/coast.mjs node_modules/world-atlas/land-50m.json internal/graticule/coast.bin
