#!/usr/bin/env bash
# Refreshes the committed assets from package-lock.json: compiles the style, copies scripts, fonts
# and their licences. Needs Node; run it after a change to crates/web/styles or to package.json.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
npm ci --ignore-scripts --no-audit --no-fund --silent
modules=node_modules
web=../../crates/web
npx sass --no-source-map --style=compressed --load-path="$modules" --silence-deprecation=if-function \
    "$web/styles/almanac.scss" "$web/assets/almanac.css"
cp "$modules/@alpinejs/csp/dist/cdn.min.js" "$web/assets/alpine-csp.js"
cp "$modules/@fontsource-variable/fraunces/files/fraunces-latin-wght-normal.woff2" "$web/assets/fonts/fraunces.woff2"
cp "$modules/@fontsource-variable/atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-wght-normal.woff2" \
    "$web/assets/fonts/atkinson-hyperlegible-next.woff2"
cp "$modules/uplot/dist/uPlot.iife.min.js" "$web/assets/uplot.js"
cp "$modules/uplot/dist/uPlot.min.css" "$web/assets/uplot.css"
cp "$modules/uplot/LICENSE" "$web/assets/licences/uplot.txt"
cp "$modules/bulma/LICENSE" "$web/assets/licences/bulma.txt"
cp "$modules/@fontsource-variable/fraunces/LICENSE" "$web/assets/licences/fraunces.txt"
cp "$modules/@fontsource-variable/atkinson-hyperlegible-next/LICENSE" "$web/assets/licences/atkinson-hyperlegible-next.txt"
mkdir -p ../../crates/app/tests/vendor
cp "$modules/axe-core/axe.min.js" ../../crates/app/tests/vendor/axe.min.js
cp "$modules/axe-core/LICENSE" ../../crates/app/tests/vendor/axe-LICENSE.txt
