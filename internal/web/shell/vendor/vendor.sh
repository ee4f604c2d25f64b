#!/bin/sh
# Copies the front-end packages of package-lock.json into static/vendor, without
# their source maps, beside their licences. Run it after a version changed.
set -eu
cd "$(dirname "$0")"
npm ci --ignore-scripts --no-audit --no-fund
out=../static/vendor
rm -rf "$out" && mkdir -p "$out/fonts"
m=node_modules
take() { sed -e '/^\/[/*]# sourceMappingURL=/d' "$1" > "$out/$2"; }
take $m/bootstrap/dist/css/bootstrap.min.css bootstrap.css
take $m/bootstrap-icons/font/bootstrap-icons.min.css bootstrap-icons.css
cp $m/bootstrap-icons/font/fonts/bootstrap-icons.woff2 "$out/fonts/"
take $m/@alpinejs/csp/dist/cdn.min.js alpine.js
take $m/@alpinejs/morph/dist/cdn.min.js alpine-morph.js
for f in next mono; do
  cp "$m/@fontsource-variable/atkinson-hyperlegible-$f/files/atkinson-hyperlegible-$f-latin-wght-normal.woff2" "$out/fonts/"
  cp "$m/@fontsource-variable/atkinson-hyperlegible-$f/files/atkinson-hyperlegible-$f-latin-ext-wght-normal.woff2" "$out/fonts/"
  cp "$m/@fontsource-variable/atkinson-hyperlegible-$f/LICENSE" "$out/fonts/LICENSE-atkinson-hyperlegible-$f"
done
cp $m/bootstrap/LICENSE "$out/LICENSE-bootstrap"
cp $m/bootstrap-icons/LICENSE "$out/LICENSE-bootstrap-icons"
cat > "$out/LICENSE-alpinejs" <<'L'
Alpine.js, @alpinejs/csp and @alpinejs/morph: MIT License, Copyright (c) Caleb Porzio and contributors.
L
sed -i 's/?[0-9a-f]\{32\}//g' "$out/bootstrap-icons.css"
(cd "$out" && find . -type f ! -name SHA256SUMS | sort | xargs sha256sum > SHA256SUMS)
# What only tests need stands beside them.
mkdir -p ../../../testbed/axe && cp $m/axe-core/axe.min.js $m/axe-core/LICENSE ../../../testbed/axe/
rm -rf node_modules
