#!/bin/sh
# Rebuilds what the application ships built: styles, fonts, htmx, and their licences.
set -eu
cd "$(dirname "$0")/../assets"
static=../pondel/web/static
npm install --ignore-scripts --no-audit --no-fund
npx tailwindcss --input app.css --output "$static/css/app.css" --minify
fonts=node_modules/@fontsource-variable
cp "$fonts/atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-wght-normal.woff2" "$static/fonts/atkinson-hyperlegible-next.woff2"
cp "$fonts/martian-mono/files/martian-mono-latin-standard-normal.woff2" "$static/fonts/martian-mono.woff2"
cp node_modules/htmx.org/dist/htmx.min.js "$static/vendor/htmx.min.js"
cp "$fonts/atkinson-hyperlegible-next/LICENSE" "$static/licences/atkinson-hyperlegible-next.txt"
cp "$fonts/martian-mono/LICENSE" "$static/licences/martian-mono.txt"
cp node_modules/htmx.org/LICENSE "$static/licences/htmx.txt"
cp node_modules/tailwindcss/LICENSE "$static/licences/tailwindcss.txt"
