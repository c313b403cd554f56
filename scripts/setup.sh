# Sourced by the other scripts: installs Debian packages that are missing, and says so.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
export DOTNET_CLI_TELEMETRY_OPTOUT=1 DOTNET_NOLOGO=1 MSBUILDDISABLENODEREUSE=1

# need COMMAND PACKAGE...: makes sure that a command is there
need() {
  local command=$1
  shift
  command -v "$command" >/dev/null 2>&1 && return 0
  echo "installing $* (for $command)"
  if [ "$(id -u)" != 0 ]; then echo "  run this once as root, or install the packages by hand: $*" >&2; exit 3; fi
  if [ ! -e /var/lib/apt/lists/lock ] || [ -z "$(find /var/lib/apt/lists -name '*_Packages*' -print -quit)" ]; then apt-get update -qq; fi
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null 2>&1 ||
    { apt-get update -qq; DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null; }
}
