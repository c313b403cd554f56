#!/bin/sh
# Tide Step's readings of a host, many in one call; it changes nothing.
#   sh -c 'mark=M limit=S self=PATH; . PATH; q KIND ARG...; q ...'
# Each question prints its answer, at most 64 KiB of it, and then a line "M STATUS WHY"; each has S seconds, whatever it does.
set -u
export LC_ALL=C
most=65536
nl='
'
# Questions by their kind; what is printed is the answer.
answer() {
  kind=$1
  shift
  case $kind in
  command) "$@" ;;
  file) cat -- "$1" ;;
  os.name) . /etc/os-release && echo "$ID" ;;
  os.release)
    . /etc/os-release
    if [ "$ID" = debian ] && [ -s /etc/debian_version ]; then cat /etc/debian_version; else echo "${VERSION_ID-}"; fi ;;
  kernel) uname -r ;;
  cpu.count) nproc ;;
  cpu.load) read -r load _ </proc/loadavg && echo "$load" ;;
  memory.total) while read -r name amount _; do [ "$name" = MemTotal: ] && echo "${amount}" && break; done </proc/meminfo | { read -r kib && echo $((kib * 1024)); } ;;
  memory.free) while read -r name amount _; do [ "$name" = MemAvailable: ] && echo "${amount}" && break; done </proc/meminfo | { read -r kib && echo $((kib * 1024)); } ;;
  disk.fullest) fullest | { read -r share _ && echo "$share%"; } ;;
  disk.mount) fullest | { read -r _ mount && echo "$mount"; } ;;
  clock) date +%s.%N ;;
  uptime) read -r seconds _ </proc/uptime && echo "$seconds" ;;
  units.failed) systemctl list-units --state=failed --plain --no-legend --no-pager 2>/dev/null | while read -r unit _; do echo "$unit"; done | sort | paste -sd ' ' - ;;
  ports) listening | sort -n | uniq | paste -sd ' ' - ;;
  packages.held) dpkg-query -W -f '${db:Status-Want} ${Package}\n' 2>/dev/null | while read -r want name; do [ "$want" = hold ] && echo "$name"; done | paste -sd ' ' - ;;
  package-lock.free)
    # A lock that somebody holds shows in the kernel's list, by the file's inode.
    for lock in /var/lib/dpkg/lock-frontend /var/lib/dpkg/lock; do
      [ -e "$lock" ] || continue
      inode=$(stat -c %i -- "$lock")
      while read -r line; do case $line in *":$inode "*) echo no; return ;; esac; done </proc/locks
    done
    echo yes ;;
  sources.closed)
    # Each place that packages come from is tried side by side; where a proxy fetches them, that is tried instead.
    proxy=
    said=$(apt-config shell proxy Acquire::http::Proxy 2>/dev/null) && eval "$said"
    case $proxy in false|DIRECT) proxy= ;; esac
    apt-get update --print-uris 2>/dev/null | cut -d "'" -f 2 | while IFS= read -r uri; do
      case $uri in
      http://*|https://*)
        [ -z "$proxy" ] || uri=$proxy
        rest=${uri#*://}
        rest=${rest%%/*}
        rest=${rest##*@}
        case $rest in *:*) echo "$rest" ;; *) case $uri in https:*) echo "$rest:443" ;; *) echo "$rest:80" ;; esac ;; esac ;;
      file:/*|copy:/*)
        uri=${uri#*:}
        uri=${uri%%/dists/*}
        echo "${uri%%/./*}" ;;
      esac
    done | sort -u | {
      while IFS= read -r place; do
        case $place in
        /*) [ -e "$place" ] || echo "$place" ;;
        *) timeout 3 bash -c 'exec 3<>"/dev/tcp/$1/$2"' reach "${place%:*}" "${place##*:}" 2>/dev/null || echo "$place" ;;
        esac &
      done
      wait
    } | sort | paste -sd ' ' - ;;
  updates.next)
    next=$(systemctl show apt-daily-upgrade.timer -p NextElapseUSecRealtime --value 2>/dev/null)
    [ -n "$next" ] && [ "$next" != n/a ] || return 1
    echo $(($(date -d "$next" +%s) - $(date +%s))) ;;
  restart.due)
    [ -e /run/reboot-required ] || [ -e /var/run/reboot-required ] && { echo yes; return; }
    # A newer kernel of the same flavour lies there and is not running.
    newest=$(ls /boot/vmlinuz-* 2>/dev/null | sort -V | tail -1)
    if [ -n "$newest" ] && [ -e "/boot/vmlinuz-$(uname -r)" ] && [ "${newest#/boot/vmlinuz-}" != "$(uname -r)" ]; then echo yes; else echo no; fi ;;
  administrator) [ "$(id -u)" = 0 ] && echo yes || echo no ;;
  service.active) systemctl is-active --quiet -- "$1" && echo yes || echo no ;;
  service.enabled) systemctl is-enabled --quiet -- "$1" 2>/dev/null && echo yes || echo no ;;
  package.version) dpkg-query -W -f '${db:Status-Abbrev} ${Version}\n' -- "$1" 2>/dev/null | { read -r status version && [ "${status#?}" = i ] && echo "$version"; } ;;
  package.whole) [ "$(dpkg-query -W -f '${db:Status-Abbrev}' -- "$1" 2>/dev/null)" = 'ii ' ] && echo yes || { [ "$(dpkg-query -W -f '${db:Status-Status}' -- "$1" 2>/dev/null)" = installed ] && echo yes || echo no; } ;;
  package.held) [ "$(dpkg-query -W -f '${db:Status-Want}' -- "$1" 2>/dev/null)" = hold ] && echo yes || echo no ;;
  package.candidate) apt-cache policy -- "$1" 2>/dev/null | while read -r name value _; do [ "$name" = Candidate: ] && [ "$value" != '(none)' ] && echo "$value"; done ;;
  file.exists) [ -e "$1" ] && echo yes || echo no ;;
  free) df --output=avail -B1 -- "$1" | tail -n +2 ;;
  total) df --output=size -B1 -- "$1" | tail -n +2 ;;
  size) du -sb -- "$1" | { read -r bytes _ && echo "$bytes"; } ;;
  port.open) listening | { while read -r port; do [ "$port" = "$1" ] && echo yes && exit; done; echo no; } ;;
  reach.open) timeout 3 bash -c 'exec 3<>"/dev/tcp/$1/$2"' reach "$1" "$2" 2>/dev/null && echo yes || echo no ;;
  name.resolves) getent hosts -- "$1" >/dev/null && echo yes || echo no ;;
  account.exists) getent passwd -- "$1" >/dev/null && echo yes || echo no ;;
  processes) find /proc -maxdepth 1 -user "$1" -name '[0-9]*' | wc -l ;;
  *) echo "unknown question $kind" >&2; return 2 ;;
  esac
}

# The share in use and the place of the file system that is fullest; those of the kernel's own do not count.
fullest() {
  df -P -x tmpfs -x devtmpfs -x proc -x sysfs -x squashfs 2>/dev/null | tail -n +2 | while read -r _ _ _ _ used mount; do echo "${used%\%} $mount"; done | sort -n | tail -1
}

# Ports that something listens on, by TCP, from the kernel's tables.
listening() {
  cat /proc/net/tcp /proc/net/tcp6 2>/dev/null | while read -r _ local _ state _; do [ "$state" = 0A ] && echo $((0x${local##*:})); done
}

# Asks one question in a process of its own, so that nothing that it does outlasts its time or its bound.
# A command needs no shell of its own for that.
q() {
  if [ "$1" = command ]; then shift; else set -- /bin/sh "$self" --one "$@"; fi
  said=$({ { timeout -k 2 "$limit" "$@" 2>&3; printf '\n%s' "$?" >&3; } | head -c "$most" >&5; } 3>&1 | tail -c 300)
  status=${said##*"$nl"}
  why=
  [ "$status" = 0 ] || why=$(printf %s "${said%"$nl"*}" | tr '\n' ' ')
  printf '\n%s %s %s\n' "$mark" "$status" "$why"
}

if [ "${1-}" = --one ]; then
  shift
  answer "$@"
  exit
fi
exec 5>&1
