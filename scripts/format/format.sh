#!/bin/sh
# format.sh --check | --write: templates, scripts and styles as prettier writes them.
set -eu
root=$(cd "$(dirname "$0")/../.." && pwd)
cd "$root/scripts/format"
[ -x node_modules/.bin/prettier ] || npm ci --ignore-scripts --no-audit --no-fund --loglevel=error >/dev/null
find "$root/internal/web" "$root/internal/testbed" -name vendor -prune -o -name axe -prune -o \( -name '*.html' -o -name '*.js' -o -name '*.css' \) -print |
  xargs node_modules/.bin/prettier --config .prettierrc.json --log-level warn "$@"
