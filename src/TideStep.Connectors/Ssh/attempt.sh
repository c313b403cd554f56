#!/bin/sh
# Tide Step's wrapper on a far side: attempt records, the fence, and a few actions that need more than one command.
# Everything lies below /var/lib/tidestep/INSTALLATION; one lock per node serves all changes of the records.
#   raise INSTALLATION EPOCH POSITION           -> "fence EPOCH POSITION" as seen before
#   begin INSTALLATION ID EPOCH POSITION WITHIN SENT WAIT ARGV  -> "refused WHY", or what status says after waiting
#   status INSTALLATION ID WAIT                 -> "running", "ended CODE", "restarted", "lost" or "unknown", then the output
#   run INSTALLATION ID                         (detached; not called by hand)
#   capture PLACE PATH...  check PLACE SHA256  place SOURCE TARGET SHA256
set -u
umask 077
base=${TIDESTEP_STATE:-/var/lib/tidestep}
self=$base/attempt.sh
verb=$1
shift

whole() { # FILE, content on standard input: written whole or not at all
  cat >"$1.new" && sync -d "$1.new" 2>/dev/null
  mv -f "$1.new" "$1"
}

fence() { # reads EPOCH and POSITION as they stand
  epoch=0 position=0
  [ -s "$records/fence" ] && read -r epoch position <"$records/fence"
}

now_boot() { cat /proc/sys/kernel/random/boot_id; }

# The start time of a process, field 22 of its stat line; the name before it may hold spaces.
start_of() { sed 's/.*) //' "/proc/$1/stat" 2>/dev/null | cut -d' ' -f20; }

tell() {
  dir=$records/attempts/$1
  if [ ! -d "$dir" ]; then echo unknown; return; fi
  if [ -s "$dir/status" ]; then head -n 1 "$dir/status" | tr -d '\0'
  elif [ -s "$dir/process" ]; then
    read -r pid start boot <"$dir/process"
    if [ "$boot" != "$(now_boot)" ]; then echo restarted
    elif [ "$(start_of "$pid")" = "$start" ]; then echo running
    elif [ -s "$dir/status" ]; then head -n 1 "$dir/status" | tr -d '\0'
    else echo lost; fi
  elif [ "$(cat "$dir/boot" 2>/dev/null)" != "$(now_boot)" ]; then echo restarted
  else echo running; fi
  [ -f "$dir/output" ] && tail -c 65536 "$dir/output"
  return 0
}

wait_for() { # ID SECONDS
  tries=0 most=$(( $2 * 20 ))
  while [ ! -s "$records/attempts/$1/status" ] && [ "$tries" -lt "$most" ]; do
    if [ "$tries" -lt 20 ]; then sleep 0.01; else sleep 0.05; fi
    tries=$((tries + 1))
  done
}

case $verb in
raise | begin | status | run)
  records=$base/$1
  shift
  ;;
esac

case $verb in
raise)
  mkdir -p "$records/attempts"
  exec 9>"$records/lock"
  flock 9
  fence
  [ "$1" -ge "$epoch" ] && { [ "$2" -gt "$position" ] && high=$2 || high=$position; echo "$1 $high" | whole "$records/fence"; }
  echo "fence $epoch $position"
  ;;
begin)
  id=$1 mine=$2 at=$3 within=$4 sent=$5 wait=$6 argv=$7
  mkdir -p "$records/attempts"
  exec 9>"$records/lock"
  flock 9
  fence
  dir=$records/attempts/$id
  if [ "$mine" -lt "$epoch" ]; then echo "refused epoch $mine is below $epoch, the highest seen here"; exit 0; fi
  if [ -d "$dir" ]; then echo "refused the attempt is known already"; exit 0; fi
  # SENT is this host's own clock as read a moment ago, so that two clocks need not agree.
  if [ "$(date +%s)" -gt $((sent + within)) ]; then echo "refused its start-by time has passed"; exit 0; fi
  if [ "$mine" != "$epoch" ] || [ "$at" -gt "$position" ]; then echo "$mine $at" | whole "$records/fence"; fi
  # The record is made whole before it gets its name; room for the status is taken now, so that a full disk can't lose it.
  rm -rf "$dir.new"
  mkdir "$dir.new" && printf '%s' "$argv" >"$dir.new/argv" && now_boot >"$dir.new/boot" && head -c 4096 /dev/zero >"$dir.new/reserved" || { rm -rf "$dir.new"; echo "refused no room for the attempt's record on this host"; exit 0; }
  mv "$dir.new" "$dir"
  if [ -d /run/systemd/system ]; then
    systemd-run --quiet --collect --no-ask-password --unit="tidestep-$id" -p KillMode=process -p StandardOutput=null -p StandardError=null /bin/sh "$self" run "${records##*/}" "$id" 9>&- >/dev/null 2>"$dir/refusal" || {
      echo "ended 125" >"$dir/status"
      cat "$dir/refusal" >"$dir/output"
    }
  else
    setsid /bin/sh "$self" run "${records##*/}" "$id" 9>&- </dev/null >/dev/null 2>&1 &
  fi
  exec 9>&-
  wait_for "$id" "$wait"
  tell "$id"
  ;;
status)
  wait_for "$1" "$2"
  tell "$1"
  ;;
run)
  dir=$records/attempts/$1
  echo "$$ $(start_of $$) $(now_boot)" | whole "$dir/process"
  old_ifs=$IFS
  IFS=,
  set --
  for piece in $(cat "$dir/argv"); do
    text=$(printf '%s' "$piece" | base64 -d; printf x)
    set -- "$@" "${text%x}"
  done
  IFS=$old_ifs
  umask 022
  cd /
  "$@" >"$dir/output" 2>&1 </dev/null
  code=$?
  printf 'ended %s\n' "$code" | dd of="$dir/reserved" conv=notrunc,fsync 2>/dev/null
  mv -f "$dir/reserved" "$dir/status"
  ;;
capture)
  place=$1
  shift
  mkdir -p "$(dirname "$place")" || exit 1
  list=$(mktemp) || exit 1
  for path in "$@"; do printf '%s\n' "${path#/}"; done >"$list"
  if ! tar -C / -czf "$place.new" -T "$list"; then rm -f "$place.new" "$list"; exit 1; fi
  rm -f "$list"
  sync "$place.new"
  mv -f "$place.new" "$place"
  sum=$(sha256sum "$place" | cut -d' ' -f1)
  printf '{"place":"%s","bytes":%s,"sha256":"%s","entries":%s}\n' "$place" "$(stat -c %s "$place")" "$sum" "$(tar -tzf "$place" | wc -l)"
  ;;
check)
  sum=$(sha256sum "$1" | cut -d' ' -f1)
  if [ "$sum" != "$2" ]; then echo "checksum differs: $sum"; exit 5; fi
  count=$(tar -tzf "$1" | wc -l) || exit 5
  [ "$count" -gt 0 ] || { echo "the archive lists nothing"; exit 5; }
  echo "whole: checksum and listing of $count entries agree"
  ;;
place)
  sum=$(sha256sum "$1" | cut -d' ' -f1)
  if [ "$sum" != "$3" ]; then rm -f "$1"; echo "checksum differs: $sum"; exit 4; fi
  mkdir -p "$(dirname "$2")" && cp "$1" "$2.new" && sync "$2.new" && mv -f "$2.new" "$2" && rm -f "$1" && echo "$2 is whole"
  ;;
clock) date +%s ;;
*) echo "unknown verb $verb" >&2; exit 2 ;;
esac
