#!/usr/bin/env bash
# Sets up, checks formatting, builds, and runs every test; ends with "N passed, N failed".
. "$(dirname "$0")/setup.sh"
need chromium chromium
need curl curl
need ssh openssh-client
need sudo sudo
need sshd openssh-server
need mmdebstrap mmdebstrap
need ip iproute2
need systemd-analyze systemd
. scripts/postgres.sh
log=$(mktemp -d)
trap 'pg_end; rm -rf "$log"' EXIT

PACKAGES=all scripts/console.sh >"$log/console" 2>&1 & console=$!
DOTNET_TieredPGO=0 dotnet build TideStep.slnx -v q -c Release --nologo -p:UseSharedCompilation=false >"$log/build" 2>&1 || true
grep -E "error|warn" "$log/build" | sort -u | head -40 || true
grep -q "Build succeeded" "$log/build" || grep -q "0 Error" "$log/build" || { tail -5 "$log/build"; echo "the build failed"; echo "0 passed, 1 failed"; exit 1; }
wait $console || { cat "$log/console"; echo "0 passed, 1 failed"; exit 1; }
# The programs are published from that same build.
BUILT=1 scripts/publish.sh || { echo "0 passed, 1 failed"; exit 1; }

# run PROJECT...: the tests of each, one project after the other; leaves "PASSED FAILED SKIPPED" per project in $log/counts
run() {
  local name start line total bad skip
  for name; do
    start=$SECONDS
    "tests/$name/bin/Release/net10.0/$name" -noColor >"$log/$name" 2>&1 || true
    line=$(grep -E "Total: [0-9]+" "$log/$name" | tail -1 || true)
    total=$(sed -nE 's/.*Total: ([0-9]+).*/\1/p' <<<"$line")
    bad=$(sed -nE 's/.*Errors: ([0-9]+), Failed: ([0-9]+).*/\1 \2/p' <<<"$line" | awk '{print $1+$2}')
    skip=$(sed -nE 's/.*Skipped: ([0-9]+).*/\1/p' <<<"$line")
    if [ -z "$total" ]; then cat "$log/$name"; total=1 bad=1 skip=0; fi
    [ "$bad" = 0 ] || grep -vE "Discover|Starting|Finished" "$log/$name" | head -120 || true
    # Told once more at the end, where only that is kept.
    grep -E "^ +[A-Za-z.]+.* \[FAIL\]" "$log/$name" >>"$log/failed" || true
    echo "$name: $((total - bad - skip)) passed, $bad failed, $skip skipped ($((SECONDS - start)) s)"
    echo "$((total - bad - skip)) $bad $skip" >>"$log/counts"
  done
}
# Two lanes: while one waits for a run or a page, the other reckons.
run TideStep.EndToEnd & lane=$!
run $(ls tests | grep '^TideStep' | grep -v EndToEnd)
wait $lane
read -r passed failed skipped < <(awk '{ p += $1; f += $2; s += $3 } END { print p, f, s }' "$log/counts")
# What failed among everything else is tried once more alone, and told: on a busy machine a wait may be too short, and
# who reads this has to see that it was. More than three are no accident.
if [ -s "$log/failed" ] && [ "$(wc -l <"$log/failed")" -le 3 ]; then
  while read -r test _; do
    project=$(ls -d tests/*/ | xargs -n 1 basename | awk -v t="$test" 'index(t, $1 ".") == 1 && length($1) > length(b) { b = $1 } END { print b }')
    if "tests/$project/bin/Release/net10.0/$project" -noColor -method "${test%%(*}" </dev/null >"$log/again" 2>&1 &&
      ! grep -q "Total: 0" "$log/again"; then
      echo "unsteady: $test failed among the others and passed alone"
      passed=$((passed + 1)) failed=$((failed - 1))
    else
      grep -vE "Discover|Starting|Finished" "$log/again" | head -60
    fi
  done <"$log/failed"
fi
. scripts/test-more.sh
[ "$failed" = 0 ] || [ ! -s "$log/failed" ] || { echo "failed:"; cat "$log/failed"; }
[ "$skipped" = 0 ] || echo "skipped: $skipped"
echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
