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
. scripts/postgres.sh
log=$(mktemp -d)
trap 'pg_end; rm -rf "$log"' EXIT

make --no-print-directory build || { echo "0 passed, 1 failed"; exit 1; }

dotnet build TideStep.slnx -v q -c Release --nologo 2>&1 | tee "$log/build" | grep -E "error|warn" | sort -u | head -40 || true
grep -q "Build succeeded" "$log/build" || grep -q "0 Error" "$log/build" || { tail -5 "$log/build"; echo "the build failed"; echo "0 passed, 1 failed"; exit 1; }
passed=0 failed=0 skipped=0
# One project's tests; what came of them goes into files, for several run side by side.
project() {
  local name=$1 start=$SECONDS line total bad skip
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
  echo "$((total - bad - skip)) $bad $skip" >"$log/counts.$name"
}
# What drives real programs and hosts waits most of its time. What only reckons fills these pauses, behind it.
reckons="TideStep.Client.Tests TideStep.Core.Tests TideStep.Engine.Tests TideStep.StandIn.Tests TideStep.Storage.Tests TideStep.Tables.Tests"
(renice -n 19 -p "$BASHPID" >/dev/null; for name in $reckons; do project "$name"; done) &
behind=$!
for path in tests/*/*.csproj; do
  name=$(basename "$path" .csproj)
  grep -qw "$name" <<<"$reckons" || project "$name"
done
wait "$behind"
read -r passed failed skipped < <(cat "$log"/counts.* | awk '{ p += $1; f += $2; s += $3 } END { print p, f, s }')
. scripts/test-more.sh
[ ! -s "$log/failed" ] || { echo "failed:"; cat "$log/failed"; }
[ "$skipped" = 0 ] || echo "skipped: $skipped"
echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
