#!/usr/bin/env bash
# What takes long: a simulated day with fifty runs, and the real database cluster with every fault; with ESTATES=1 two hundred estates at random too. Ends with "N passed, N failed".
. "$(dirname "$0")/setup.sh"
log=$(mktemp -d)
trap 'rm -rf "$log"' EXIT
passed=0 failed=0
part() { # WHAT COMMAND...
  local what=$1 start=$SECONDS
  shift
  if "$@" >"$log/part" 2>&1; then passed=$((passed + 1)); echo "$what: passed ($((SECONDS - start)) s)"; else failed=$((failed + 1)); echo "$what: failed ($((SECONDS - start)) s)"; tail -60 "$log/part"; fi
  grep -E 'simulated hours|returns carried out in copies|^  it took|longest pauses' "$log/part" || true
}
engine=tests/TideStep.Engine.Tests
dotnet build $engine -v q -c Release --nologo >"$log/build" 2>&1 || { tail -5 "$log/build"; echo "0 passed, 1 failed"; exit 1; }
soak() { "$engine/bin/Release/net10.0/TideStep.Engine.Tests" -noColor -explicit only -showLiveOutput -class "TideStep.Engine.Tests.$1"; }
part "a simulated day of fifty runs" soak SoakTests
# With troubles drawn by chance each time, and long: for a night.
[ "${ESTATES:-}" = "" ] || part "two hundred estates at random, every record held against its plan, every promised return carried out" soak Records.RandomUpgradeTests
part "the database cluster, faults and a colleague" scripts/lab-cluster.sh faults
echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
