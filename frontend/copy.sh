#!/bin/sh
# Copies what the application ships out of the npm packages, without source maps.
set -eu
here=$(dirname "$0")
from="$here/node_modules"
to="$here/../hypotaxis/web/static/vendor"
rm -rf "$to" && mkdir -p "$to/fonts"
sed 's,/\*# sourceMappingURL=.*\*/,,' "$from/bootstrap/dist/css/bootstrap.min.css" > "$to/bootstrap.min.css"
cp "$from/@alpinejs/csp/dist/cdn.min.js" "$to/alpine-csp.min.js"
cp "$from/bootstrap/LICENSE" "$to/LICENSE-bootstrap"
for face in barlow-latin-400 barlow-latin-500 barlow-latin-ext-400 barlow-latin-ext-500; do
  cp "$from/@fontsource/barlow/files/$face-normal.woff2" "$to/fonts/"
done
for face in barlow-semi-condensed-latin-600 barlow-semi-condensed-latin-ext-600; do
  cp "$from/@fontsource/barlow-semi-condensed/files/$face-normal.woff2" "$to/fonts/"
done
for face in ibm-plex-mono-latin-400 ibm-plex-mono-latin-500; do
  cp "$from/@fontsource/ibm-plex-mono/files/$face-normal.woff2" "$to/fonts/"
done
cp "$from/@fontsource/barlow/LICENSE" "$to/fonts/LICENSE-barlow"
cp "$from/@fontsource/ibm-plex-mono/LICENSE" "$to/fonts/LICENSE-ibm-plex-mono"
cp "$from/axe-core/axe.min.js" "$here/../tests/browser/axe.min.js"
# The same faces for the PDF, which takes none that are packed for the web.
"$here/../.venv/bin/python" "$here/unpack.py" "$from/@fontsource" "$here/../hypotaxis/core/formats/faces"
