#!/usr/bin/env bash
# Builds what the pages serve from npm's packages: styles, the script libraries
# and the fonts. The results are committed, so that the application builds
# without Node.js.
set -euo pipefail
cd "$(dirname "$0")/.."
out=internal/web/static
cp node_modules/@alpinejs/csp/dist/cdn.min.js "$out/alpine.js"
cp node_modules/@imacrayon/alpine-ajax/dist/cdn.min.js "$out/alpine-ajax.js"
mkdir -p "$out/fonts"
for family in atkinson-hyperlegible-next atkinson-hyperlegible-mono; do
  from=node_modules/@fontsource/$family
  cp "$from/files/$family"-latin{,-ext}-{400,700}-normal.woff2 "$out/fonts/"
  cp "$from/LICENSE" "$out/fonts/$family-LICENSE"
done
npx @tailwindcss/cli -i internal/web/frame/chart-room.css -o "$out/chart-room.css" --minify 2>/dev/null
# As static.Address has it: what has another content has another address, so that browsers ask for it once.
for font in "$out"/fonts/*.woff2; do
  sum=$(sha256sum "$font")
  sed -i "s|fonts/${font##*/})|fonts/${font##*/}?v=${sum:0:16})|" "$out/chart-room.css"
done
node scripts/coast.mjs node_modules/world-atlas/land-50m.json internal/graticule/coast.bin
