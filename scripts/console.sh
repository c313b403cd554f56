#!/usr/bin/env bash
# Builds the console into console/dist; npm packages are restored where they are missing or changed.
. "$(dirname "$0")/setup.sh"
cd console
if [ ! -e node_modules/.restored ] || [ package-lock.json -nt node_modules/.restored ]; then
  echo "restoring the console's npm packages"
  npm ci --no-audit --no-fund --loglevel=error
  touch node_modules/.restored
fi
npm run --silent build >/tmp/tidestep-console-build.$$ 2>&1 || { cat /tmp/tidestep-console-build.$$; rm -f /tmp/tidestep-console-build.$$; exit 1; }
rm -f /tmp/tidestep-console-build.$$
touch dist/index.html
