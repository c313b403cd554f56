#!/bin/sh
# Tide Step's wrapper on a far side: attempt records, the fence, and a few actions that need more than one command.
# Everything lies below /var/lib/tidestep/INSTALLATION; one lock per node serves all changes of the records.
#   raise INSTALLATION EPOCH POSITION           -> "fence EPOCH POSITION" as seen before
#   begin INSTALLATION ID EPOCH POSITION WITHIN SENT WAIT ARGV  -> "refused WHY", or what status says after waiting
#   status INSTALLATION ID WAIT                 -> "running", "ended CODE", "restarted", "lost" or "unknown", then the output
#   stop INSTALLATION ID EPOCH GRACE           -> nothing, or "refused WHY"; the command is asked to end, and made to after GRACE seconds
#   run INSTALLATION ID                         (detached; not called by hand)
#   capture PLACE PATH...  dump PLACE ARGV...  check PLACE SHA256 PATH...  discard PLACE SHA256  place SOURCE TARGET SHA256
set -u
umask 077
self=$0
base=${0%/*}
verb=$1
shift
# Every process that is started here is paid for by each step: what the shell can do itself, it does itself.
read -r boot </proc/sys/kernel/random/boot_id

whole() { # FILE TEXT: written whole or not at all
  printf '%s\n' "$2" >"$1.new" && sync -d "$1.new" 2>/dev/null
  mv -f "$1.new" "$1"
}

fence() { # reads EPOCH and POSITION as they stand
  epoch=0 position=0
  [ -s "$records/fence" ] && read -r epoch position <"$records/fence"
}

forget() { # ID: the attempt's secrets, which lie in memory
  [ ! -d "/dev/shm/tidestep-$1" ] || rm -rf "/dev/shm/tidestep-$1"
}

# The start time of a process, field 22 of its stat line; the name before it may hold spaces.
start_of() {
  start=
  [ -r "/proc/$1/stat" ] && read -r line <"/proc/$1/stat" || return 0
  set -- ${line##*) }
  start=${20}
}

# The processes below one, parents before their children, in $found.
below() {
  found= ahead=" $1 "
  while [ -n "$ahead" ]; do
    parents=$ahead ahead=
    for stat in /proc/[0-9]*/stat; do
      read -r line 2>/dev/null <"$stat" || continue
      pid=${line%% *}
      set -- ${line##*) }
      case $parents in *" $2 "*) found="$found $pid" ahead="${ahead:- }$pid " ;; esac
    done
  done
}

tell() {
  dir=$records/attempts/$1
  if [ ! -d "$dir" ]; then forget "$1"; echo unknown; return; fi
  if [ ! -s "$dir/status" ]; then
    begun= known= at=
    [ -s "$dir/process" ] && read -r begun known at <"$dir/process"
    [ -n "$at" ] || { known= && read -r at <"$dir/boot"; }
    if [ "$at" != "$boot" ]; then echo restarted
    elif [ -z "$known" ]; then echo running
    else
      start_of "$begun"
      if [ "$start" = "$known" ]; then echo running
      elif [ ! -s "$dir/status" ]; then echo lost; fi
    fi
  fi
  if [ -s "$dir/status" ]; then read -r line <"$dir/status"; printf '%s\n' "$line"; fi
  [ -s "$dir/output" ] && tail -c 65536 "$dir/output"
  return 0
}

wait_for() { # ID SECONDS
  spent=0 most=$(($2 * 1000))
  while [ ! -s "$records/attempts/$1/status" ] && [ "$spent" -lt "$most" ]; do
    if [ "$spent" -lt 40 ]; then sleep 0.003; spent=$((spent + 4)); else sleep 0.05; spent=$((spent + 51)); fi
  done
}

case $verb in
raise | begin | status | stop | run)
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
  [ "$1" -ge "$epoch" ] && { [ "$2" -gt "$position" ] && high=$2 || high=$position; whole "$records/fence" "$1 $high"; }
  echo "fence $epoch $position"
  ;;
begin)
  id=$1 mine=$2 at=$3 within=$4 sent=$5 wait=$6 argv=$7
  [ -d "$records/attempts" ] || mkdir -p "$records/attempts"
  exec 9>"$records/lock"
  flock 9
  fence
  dir=$records/attempts/$id
  if [ "$mine" -lt "$epoch" ]; then echo "refused epoch $mine is below $epoch, the highest seen here"; exit 0; fi
  if [ -d "$dir" ]; then echo "refused the attempt is known already"; exit 0; fi
  # SENT is this host's own time since its boot as it was when the call was made, so that no two clocks need agree.
  read -r up rest </proc/uptime
  if [ "${up%.*}" -gt $((sent + within)) ]; then echo "refused its start-by time has passed"; exit 0; fi
  if [ "$mine" != "$epoch" ]; then whole "$records/fence" "$mine $at"
  elif [ "$at" -gt "$position" ]; then
    # Where only the position rises, losing the last write with the host's power harms nothing: the journal is ahead of it.
    printf '%s\n' "$mine $at" >"$records/fence.new" && mv -f "$records/fence.new" "$records/fence"
  fi
  # The record is made whole and lasting before anything begins; room for the status is taken now, so that a full disk can't lose it.
  [ -d "$dir.new" ] && rm -rf "$dir.new"
  mkdir "$dir.new" && printf 'set -- %s\n' "$argv" >"$dir.new/argv" && printf '%s\n' "$boot" >"$dir.new/boot" && printf '%4096s' '' >"$dir.new/reserved" || { rm -rf "$dir.new"; echo "refused no room for the attempt's record on this host"; exit 0; }
  mv "$dir.new" "$dir"
  sync "$dir/argv" "$dir/boot" "$dir/reserved" "$dir" "$records/attempts"
  if [ -d /run/systemd/system ]; then
    systemd-run --quiet --collect --no-ask-password --unit="tidestep-$id" -p KillMode=process -p StandardOutput=null -p StandardError=null /bin/sh "$self" run "${records##*/}" "$id" 9>&- >/dev/null 2>"$dir/refusal" || {
      forget "$id"
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
stop)
  id=$1 mine=$2 grace=$3
  exec 9>"$records/lock"
  flock 9
  fence
  if [ "$mine" -lt "$epoch" ]; then echo "refused epoch $mine is below $epoch, the highest seen here"; exit 0; fi
  exec 9>&-
  dir=$records/attempts/$id
  [ -s "$dir/process" ] && [ ! -s "$dir/status" ] || exit 0
  read -r begun known at <"$dir/process"
  start_of "$begun"
  [ "$at" = "$boot" ] && [ "$start" = "$known" ] || exit 0
  # What the command started in turn is stopped with it; the wrapper's own process stays and writes the status.
  below "$begun"
  for pid in $found; do kill -TERM "$pid" 2>/dev/null; done
  wait_for "$id" "$grace"
  [ -s "$dir/status" ] && exit 0
  below "$begun"
  for pid in $found; do kill -KILL "$pid" 2>/dev/null; done
  exit 0
  ;;
run)
  dir=$records/attempts/$1
  start_of $$
  printf '%s\n' "$$ $start $boot" >"$dir/process"
  . "$dir/argv"
  umask 022
  cd /
  "$@" >"$dir/output" 2>&1 </dev/null
  code=$?
  forget "${dir##*/}"
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
dump)
  # The command writes beside the place first: what lies at the place is always whole.
  place=$1
  shift
  mkdir -p "$(dirname "$place")" || exit 1
  rm -rf "$place.new"
  "$@" "$place.new" || { code=$?; rm -rf "$place.new"; exit "$code"; }
  [ -f "$place.new" ] || { rm -rf "$place.new"; echo "it wrote no file to $place.new"; exit 1; }
  [ -s "$place.new" ] || { rm -f "$place.new"; echo "what it wrote is empty"; exit 1; }
  sync "$place.new"
  mv -f "$place.new" "$place"
  printf '{"place":"%s","bytes":%s,"sha256":"%s","entries":1}\n' "$place" "$(stat -c %s "$place")" "$(sha256sum "$place" | cut -d' ' -f1)"
  ;;
check)
  sum=$(sha256sum "$1" | cut -d' ' -f1)
  if [ "$sum" != "$2" ]; then echo "checksum differs: $sum"; exit 5; fi
  case $1 in *.tar.gz) ;; *) echo "whole: checksum agrees"; exit 0 ;; esac
  list=$(tar -tzf "$1") || { echo "the archive can't be listed"; exit 5; }
  [ -n "$list" ] || { echo "the archive lists nothing"; exit 5; }
  count=$(printf '%s\n' "$list" | wc -l)
  archive=$1
  shift 2
  for path in "$@"; do
    path=${path#/}
    tar -tzf "$archive" "${path%/}" >/dev/null 2>&1 || { echo "the archive does not hold /$path"; exit 5; }
  done
  echo "whole: checksum and listing of $count entries agree"
  ;;
discard)
  # Only what was captured is taken away: another file that lies there now is somebody else's.
  if [ ! -e "$1" ]; then echo "$1 was gone already"; exit 0; fi
  sum=$(sha256sum "$1" | cut -d' ' -f1)
  if [ "$sum" != "$2" ]; then echo "$1 is not what was captured, and was left: checksum $sum"; exit 6; fi
  rm -f "$1" && sync "$(dirname "$1")" && echo "$1 is gone"
  ;;
place)
  sum=$(sha256sum "$1" | cut -d' ' -f1)
  if [ "$sum" != "$3" ]; then rm -f "$1"; echo "checksum differs: $sum"; exit 4; fi
  mkdir -p "$(dirname "$2")" && cp "$1" "$2.new" && sync "$2.new" && mv -f "$2.new" "$2" && rm -f "$1" && echo "$2 is whole"
  ;;
clock) read -r up rest </proc/uptime; echo "${up%.*}" ;;
*) echo "unknown verb $verb" >&2; exit 2 ;;
esac
