#!/usr/bin/env bash
# Every test on days that once made trouble or might: the programs see another clock, the machine keeps its own.
# Takes hours; for a night. DATES="..." chooses the moments, PROJECTS="..." the test projects.
# The lab's hosts keep the machine's clock, and a host with another clock than the service's is a finding: what is tried
# on them is left to `make test`.
. "$(dirname "$0")/setup.sh"
need cc gcc libc6-dev
need chromium chromium
. scripts/postgres.sh
trap 'pg_end; rm -f "${preload:-}" "${log:-}"' EXIT
if [ "${BUILT:-}" = "" ]; then
  PACKAGES=all scripts/console.sh
  make --no-print-directory build
  dotnet build TideStep.slnx -v q -c Release --nologo
fi
# Both clock changes at the estate's place on a Sunday at half past one, a leap day, the turn of a year, and ten years on.
dates=${DATES:-2027-03-28T01:30:00 2027-10-31T01:30:00 2028-02-29T12:00:00 2026-12-31T23:58:00 2036-06-15T12:00:00}
preload=$(mktemp --suffix .so)
cc -shared -fPIC -O1 -o "$preload" scripts/clock/ahead.c -ldl
passed=0 failed=0
log=$(mktemp)
for date in $dates; do
  ahead=$(($(date -d "${date}Z" +%s) - $(date +%s)))
  for project in ${PROJECTS:-$(ls tests | grep TideStep)}; do
    TIDESTEP_TEST_AHEAD=$ahead LD_PRELOAD=$preload \
      "tests/$project/bin/Release/net10.0/$project" -noColor -class- TideStep.EndToEnd.LabTests >"$log" 2>&1 || true
    read -r total bad < <(sed -nE 's/.*Total: ([0-9]+), Errors: ([0-9]+), Failed: ([0-9]+).*/\1 \2 \3/p' "$log" | tail -1 | awk '{print $1, $2 + $3}') || true
    [ -n "$total" ] || { tail -20 "$log"; total=1 bad=1; }
    [ "$bad" = 0 ] || grep -vE "Discover|Starting|Finished" "$log" | head -80
    echo "$date $project: $((total - bad)) passed, $bad failed"
    passed=$((passed + total - bad)) failed=$((failed + bad))
  done
done
echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
