#!/usr/bin/env bash
# Builds the three programs into bin/, with the console beside the service. BUILT=1 takes what is compiled already.
. "$(dirname "$0")/setup.sh"
# The console is built beside the programs; what it says comes after what they say.
said=$(mktemp)
trap 'rm -f "$said"' EXIT
make -s console/dist/index.html >"$said" 2>&1 & console=$!
# A build is too short for the compiler's own code to be profiled while it runs.
export DOTNET_TieredPGO=0
# Analysis is for `make test`, which builds everything with it; a start need not wait for that.
how=(-p:RunAnalyzers=false -p:UseSharedCompilation=false)
[ -z "${BUILT:-}" ] || how=(--no-build)
status=0
dotnet publish src/TideStep.Programs -c Release "${how[@]}" -o bin -v q --nologo 2>&1 |
  { grep -E "error|warn" | sort -u || true; } || status=1
wait $console || status=1
cat "$said"
[ $status = 0 ] || exit 1
rm -rf bin/console bin/programs.*
cp -r console/dist bin/console
touch bin/tidestep
