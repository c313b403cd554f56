# Sourced by test.sh: checks that are no .NET test; each counts as one.
check() {
  local what=$1
  shift
  if "$@" >"$log/check" 2>&1; then passed=$((passed + 1)); else
    failed=$((failed + 1))
    echo "failed: $what"
    tail -40 "$log/check"
  fi
}
csharp_formatted() {
  dotnet tool restore >/dev/null && dotnet csharpier check . || return 1
  # What a formatter leaves as it is: a comment or a text that is longer than a line may be.
  local wide
  wide=$(git ls-files '*.cs' ':!*.g.cs' | LC_ALL=C.UTF-8 xargs grep -nP '^.{121}' || true)
  [ -z "$wide" ] || { echo "longer than 120 columns:"; cut -c1-160 <<<"$wide"; return 1; }
}
check "C# formatting, 120 columns" csharp_formatted
# What the unit leaves open, by systemd's own reckoning: at most 2.0 of 10.
check "the service's unit: exposure" systemd-analyze security --offline=true --threshold=20 deploy/tidestep.service
check "the C# client as the OpenAPI document has it" scripts/client.sh --check
check "console: types, lint, formatting" npm --prefix console run --silent check
check "console: tests" npm --prefix console run --silent test
