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
check "C# formatting" dotnet format TideStep.slnx --verify-no-changes --no-restore --severity warn
check "console: types, lint, formatting" npm --prefix console run --silent check
check "console: tests" npm --prefix console run --silent test
