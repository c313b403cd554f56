#!/usr/bin/env bash
# Measures, as ratios in one run, and writes docs/benchmarks.md. The SSH figure needs root, for the lab.
. "$(dirname "$0")/setup.sh"
out=$(mktemp -d)
trap 'rm -rf "$out"; [ "$(id -u)" = 0 ] && lab/lab down' EXIT
dotnet publish bench/Empty -c Release -o "$out/empty" -v q --nologo
dotnet publish bench/TideStep.Bench -c Release -o "$out/bench" -v q --nologo
keys=()
if [ "$(id -u)" = 0 ]; then
  need mmdebstrap mmdebstrap
  need ssh openssh-client
  need rsync rsync
  lab/lab up 3
  # The yardstick of staging runs on the hosts too, and their disks have to hold what is staged.
  for host in relay-1 relay-2 relay-3; do
    lab/lab disk $host 3g
    lab/lab lay $host "$(command -v rsync)" $(ldd "$(command -v rsync)" | grep -oE '/[^ ]+')
  done
  keys=(/run/tidestep-lab/keys)
fi
dotnet publish bench/Solver -c Release -r linux-x64 --self-contained false -o "$out/solver" -v q --nologo
"$out/bench/TideStep.Bench" docs/benchmarks.md bin/tidestep-service "$out/empty/Empty" "${keys[@]}"
# The rows of the comparison with a general solver follow the table's last one.
"$out/solver/Solver" > "$out/rows"
sed -i "$(grep -n '^|' docs/benchmarks.md | tail -1 | cut -d: -f1)r $out/rows" docs/benchmarks.md
