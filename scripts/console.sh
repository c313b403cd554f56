#!/usr/bin/env bash
# Builds the console into console/dist; npm packages are restored where they are missing or changed. What only its
# tests need (PACKAGES=all) is left out otherwise: it is the greater part.
. "$(dirname "$0")/setup.sh"
cd console
restored=node_modules/.restored
leave=(--omit=dev)
if [ "${PACKAGES:-}" = all ] || grep -qs all $restored; then leave=(); fi
if [ ! -e $restored ] || [ package-lock.json -nt $restored ] || { [ "${PACKAGES:-}" = all ] && ! grep -q all $restored; }; then
  echo "restoring the console's npm packages"
  npm ci "${leave[@]}" --no-audit --no-fund --loglevel=error
  if [ ${#leave[@]} = 0 ]; then echo all >$restored; else echo build >$restored; fi
fi
said=$(mktemp)
trap 'rm -f "$said"' EXIT
npm run --silent build >"$said" 2>&1 || { cat "$said"; exit 1; }
touch dist/index.html
