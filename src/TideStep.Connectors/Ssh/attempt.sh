#!/bin/sh
# Tide Step's wrapper on a far side: attempt records, the fence, and a few actions that need more than one command.
# Everything lies below /var/lib/tidestep/INSTALLATION; one lock per node serves all changes of the records.
#   raise INSTALLATION EPOCH POSITION           -> "fence EPOCH POSITION" as seen before
#   begin INSTALLATION ID EPOCH POSITION WITHIN SENT WAIT ARGV  -> "refused WHY", or what status says after waiting
#   status INSTALLATION ID WAIT                 -> "running", "ended CODE", "restarted", "lost" or "unknown", then the output
#   deny INSTALLATION ID                        -> as status; what is unknown can't begin any more afterwards
#   stop INSTALLATION ID EPOCH GRACE           -> nothing, or "refused WHY"; the command is asked to end, and made to after GRACE seconds
#   run INSTALLATION ID                         (detached; not called by hand)
#   ask MARK LIMIT QUESTIONS                    -> the answers of read.sh, which lies beside
#   serve                                       -> requests of the kinds above, a line each, till the end of input (below)
#   capture PLACE PATH...  dump PLACE STATUSES ARGV...  check PLACE SHA256 PATH...  discard PLACE SHA256  place SOURCE TARGET SHA256
# A record is a folder: argv; process and reserved, which take room at once, so that a full disk loses neither, and become the process and
# the status; boot, written last, which makes the record whole; begun, empty, which the one process makes that may run the command; output;
# ear, who wants to hear of the end.
set -u
umask 077
self=$0
base=${0%/*}
nl='
'
# Every process that is started here is paid for by each step: what the shell can do itself, it does itself.
read -r boot </proc/sys/kernel/random/boot_id

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

# Whoever makes the file is the one: the command's process, or somebody who sees to it that there will be none.
claim() { # FOLDER
  set -C
  printf '' >"$1/begun"
  claimed=$?
  set +C
  return $claimed
} 2>/dev/null

# The detached process of an attempt. It stands first, so that nothing else of this file is read for it.
if [ "$1" = run ]; then
  dir=$base/$2/attempts/$3
  start_of $$
  claim "$dir" || exit 0
  printf '%s\n' "$$ $start $boot" 1<>"$dir/process"
  . "$dir/argv"
  umask 022
  cd /
  "$@" >"$dir/output" 2>&1 </dev/null
  code=$?
  forget "${dir##*/}"
  # Room was reserved: the status is written over it, and is whole or not at all under its name.
  printf 'ended %s\n' "$code" | dd of="$dir/reserved" conv=notrunc,fsync 2>/dev/null
  mv -f "$dir/reserved" "$dir/status"
  if [ -s "$dir/ear" ] && read -r ear token <"$dir/ear" && [ -p "$ear" ]; then
    # Opened so, it waits for nobody: what nobody hears is gone with the closing.
    printf '%s\n' "$dir $token" 1<>"$ear"
  fi
  exit 0
fi

whole() { # FILE TEXT: written whole or not at all
  printf '%s\n' "$2" >"$1.new" && sync -d "$1.new" 2>/dev/null
  mv -f "$1.new" "$1"
}

fence() { # reads EPOCH and POSITION as they stand
  epoch=0 position=0
  [ -s "$records/fence" ] && read -r epoch position <"$records/fence"
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

# Whether the system says that no unit of an attempt is at work; where it can't be asked, nothing is known.
gone() { # ID
  systemctl --quiet is-active "tidestep-$1" 2>/dev/null
  case $? in 3 | 4) return 0 ;; *) [ ! -d /run/systemd/system ] ;; esac
}

# How long after its record an attempt may still be on its way to begin, in seconds.
slow=30

tell() { # FOLDER
  dir=$1
  if [ ! -e "$dir/boot" ]; then forget "${dir##*/}"; echo unknown; return; fi
  if [ ! -s "$dir/status" ]; then
    begun= known= at= made=
    read -r at made <"$dir/boot"
    [ -s "$dir/process" ] && read -r begun known when <"$dir/process" && at=${when:-$at}
    if [ "$begun" = never ]; then echo unknown; return; fi
    if [ "$at" != "$boot" ]; then echo restarted
    elif [ -z "$known" ]; then
      read -r up rest </proc/uptime
      # Late, and nothing of it runs: where it has not begun it can't any more, and where it had, its command had not.
      if [ "${up%.*}" -gt $((${made:-${up%.*}} + slow)) ] && gone "${dir##*/}" && { claim "$dir" || [ -d /run/systemd/system ]; }; then
        printf 'never\n' 1<>"$dir/process"
        forget "${dir##*/}"
        echo unknown
        return
      fi
      echo running
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

# The checksum of a file, or of a folder: of all its files' checksums, and of what else lies in it.
sum_of() { # PLACE
  if [ -d "$1" ]; then
    sum=$(cd "$1" && { find . -type f -exec sha256sum {} + && find . ! -type f -printf '%y %p %l\n'; } | LC_ALL=C sort | sha256sum)
  else
    sum=$(sha256sum "$1")
  fi
  sum=${sum%% *}
}

wait_for() { # FOLDER SECONDS
  spent=0 most=$(($2 * 1000))
  while [ ! -s "$1/status" ] && [ "$spent" -lt "$most" ]; do
    if [ "$spent" -lt 40 ]; then sleep 0.003; spent=$((spent + 4)); else sleep 0.05; spent=$((spent + 51)); fi
  done
}

# The status of an attempt, after so many seconds at most. In a conversation nothing waits here: its end is heard (serve).
tell_after() { # FOLDER SECONDS
  if [ "$2" -gt 0 ] && [ -n "$ears" ] && [ ! -s "$1/status" ] && [ -e "$1/boot" ]; then
    printf '%s\n' "$ears $token" >"$1/ear"
    # An end that came before it could be told of is seen now.
    [ -s "$1/status" ] || exit $later
  fi
  [ -n "$ears" ] || wait_for "$1" "$2"
  tell "$1"
}
ears= later=99

# Starts the detached process. Over the bus it is begun a little sooner, and at less cost, than by the tool for it.
detach() { # ID INSTALLATION
  if [ -d /run/systemd/system ]; then
    busctl --quiet call org.freedesktop.systemd1 /org/freedesktop/systemd1 org.freedesktop.systemd1.Manager StartTransientUnit 'ssa(sv)a(sa(sv))' "tidestep-$1.service" fail \
      6 Description s "Tide Step $1" ExecStart 'a(sasb)' 1 /bin/sh 5 /bin/sh "$self" run "$2" "$1" false KillMode s process CollectMode s inactive-or-failed StandardOutput s null StandardError s null 0 >/dev/null 2>&1 ||
    systemd-run --quiet --collect --no-ask-password --unit="tidestep-$1" -p KillMode=process -p StandardOutput=null -p StandardError=null /bin/sh "$self" run "$2" "$1" >/dev/null
  else
    setsid /bin/sh "$self" run "$2" "$1" </dev/null >/dev/null 2>&1 &
  fi
}

# What one request does.
request() {
verb=$1
shift
case $verb in
raise | begin | status | deny | stop)
  records=$base/$1
  shift
  ;;
esac

case $verb in
raise)
  [ -d "$records/attempts" ] || mkdir -p "$records/attempts"
  fence
  # Where it stands as high already, and nothing newer was seen, nothing has to be locked out.
  [ "$1" != "$epoch" ] || [ "$position" -gt "$2" ] || { echo "fence $epoch $position"; exit 0; }
  exec 9>"$records/lock"
  flock 9
  fence
  # Of the same epoch there is nothing to raise: the position comes with each attempt.
  [ "$1" -gt "$epoch" ] && { [ "$2" -gt "$position" ] && high=$2 || high=$position; whole "$records/fence" "$1 $high"; }
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
  if [ -e "$dir/boot" ]; then echo "refused the attempt is known already"; exit 0; fi
  # SENT is this host's own time since its boot as it was when the call was made, so that no two clocks need agree.
  read -r up rest </proc/uptime
  if [ "${up%.*}" -gt $((sent + within)) ]; then echo "refused its start-by time has passed"; exit 0; fi
  if [ "$mine" != "$epoch" ]; then whole "$records/fence" "$mine $at"
  elif [ "$at" -gt "$position" ]; then
    # Where only the position rises, it is as long as before or longer, and is written over; losing that with the host's power harms
    # nothing, for the journal is ahead of it.
    printf '%s\n' "$mine $at" 1<>"$records/fence"
  fi
  # The record is made whole and lasting before anything begins; room for the status is taken now, so that a full disk can't lose it.
  { [ -d "$dir" ] || mkdir "$dir"; } && printf 'set -- %s\n' "$argv" >"$dir/argv" && printf '%128s\n' '' >"$dir/process" && printf '%4096s' '' >"$dir/reserved" && printf '%s\n' "$boot ${up%.*}" >"$dir/boot" || { rm -rf "$dir"; echo "refused no room for the attempt's record on this host"; exit 0; }
  sync "$dir/argv" "$dir/process" "$dir/reserved" "$dir/boot" "$dir" "$records/attempts"
  [ -z "$ears" ] || [ "$wait" -le 0 ] || printf '%s\n' "$ears $token" >"$dir/ear"
  exec 9>&-
  detach "$id" "${records##*/}" 2>"$dir/refusal" || {
    # What could not be asked to begin may have begun all the same; if not, it can't any more.
    if claim "$dir"; then
      forget "$id"
      cat "$dir/refusal" >"$dir/output"
      printf 'ended 125\n' 1<>"$dir/reserved"
      mv -f "$dir/reserved" "$dir/status"
    fi
  }
  tell_after "$dir" "$wait"
  ;;
status)
  tell_after "$records/attempts/$1" "$2"
  ;;
deny)
  [ -d "$records/attempts/$1" ] || mkdir -p "$records/attempts/$1"
  exec 9>"$records/lock"
  flock 9
  dir=$records/attempts/$1
  if [ ! -e "$dir/boot" ]; then
    claim "$dir"
    printf 'never\n' >"$dir/process"
    whole "$dir/boot" "$boot 0"
  fi
  tell "$dir"
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
  wait_for "$dir" "$grace"
  [ -s "$dir/status" ] && exit 0
  below "$begun"
  for pid in $found; do kill -KILL "$pid" 2>/dev/null; done
  exit 0
  ;;
ask)
  mark=$1 limit=$2 self=$base/read.sh
  if [ -n "$ears" ]; then
    # Shells and bounds of their own cost more than most commands. Here this shell may hold so many KiB, the command any; what fails or is
    # too long is asked again by a call of its own, which tells why.
    ulimit -S -v 65536 || exit 1
    export LC_ALL=C
    q() {
      [ "$1" = command ] || set -- command /bin/sh "$self" --one "$@"
      shift
      said=$(ulimit -S -v unlimited && exec timeout -k 2 "$limit" "$@")
      set -- $?
      case $1 in 0 | 124 | 137) ;; *) [ -n "$said" ] || exit 1 ;; esac
      printf '%s\n\n%s %s \n' "$said" "$mark" "$1"
    }
  else
    . "$self"
  fi
  eval "$3"
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
  # The command writes a file or a folder, beside the place first: what lies at the place is always whole.
  place=$1 well=$2
  shift 2
  mkdir -p "$(dirname "$place")" || exit 1
  rm -rf "$place.new"
  code=0
  "$@" "$place.new" || code=$?
  case " $well " in *" $code "*) ;; *) rm -rf "$place.new"; exit "$code" ;; esac
  if [ -d "$place.new" ]; then
    count=$(find "$place.new" -type f | wc -l) bytes=$(du -sb "$place.new" | cut -f1)
    [ "$count" -gt 0 ] || { rm -rf "$place.new"; echo "what it wrote is empty"; exit 1; }
    find "$place.new" -exec sync -d {} + 2>/dev/null || sync
    rm -rf "$place"
  else
    [ -f "$place.new" ] || { rm -rf "$place.new"; echo "it wrote nothing to $place.new"; exit 1; }
    [ -s "$place.new" ] || { rm -f "$place.new"; echo "what it wrote is empty"; exit 1; }
    count=1 bytes=$(stat -c %s "$place.new")
    sync "$place.new"
    [ ! -d "$place" ] || rm -rf "$place"
  fi
  mv -f "$place.new" "$place"
  sum_of "$place"
  printf '{"place":"%s","bytes":%s,"sha256":"%s","entries":%s}\n' "$place" "$bytes" "$sum" "$count"
  ;;
check)
  sum_of "$1"
  if [ "$sum" != "$2" ]; then echo "checksum differs: $sum"; exit 5; fi
  [ ! -d "$1" ] || { echo "whole: checksum of $(find "$1" -type f | wc -l) files agrees"; exit 0; }
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
  sum_of "$1"
  if [ "$sum" != "$2" ]; then echo "$1 is not what was captured, and was left: checksum $sum"; exit 6; fi
  rm -rf "$1" && sync "$(dirname "$1")" && echo "$1 is gone"
  ;;
place)
  sum=$(sha256sum "$1" | cut -d' ' -f1)
  if [ "$sum" != "$3" ]; then rm -f "$1"; echo "checksum differs: $sum"; exit 4; fi
  mkdir -p "$(dirname "$2")" && cp "$1" "$2.new" && sync "$2.new" && mv -f "$2.new" "$2" && rm -f "$1" && echo "$2 is whole"
  ;;
clock) read -r up rest </proc/uptime; echo "${up%.*}" ;;
*) echo "unknown verb $verb" >&2; exit 2 ;;
esac
}

# One write, that others' can't come between: >TOKEN, a line with the status of the request, what it said, and <TOKEN.
# What is too long for that is not told ("large"): it is asked for again by a call of its own.
answer_with() { # TOKEN STATUS SAID
  if [ ${#3} -le 3500 ]; then set -- "$1" "$2" "$3"; else set -- "$1" large ''; fi
  printf '>%s\n%s\n%s\n<%s\n' "$1" "$2" "$3" "$1"
}

# One conversation instead of a session, a shell and a sudo for each request. A line is TOKEN VERB ARGUMENT..., quoted for the shell, with
# "$nl" for an end of line. Each is answered by a process of its own, in any order; one that would have to wait for an attempt's end is
# answered "later" at once, and once more when that end is heard of.
serve() {
  ears=$base/ear.$$
  rm -f "$ears"
  mkfifo "$ears" || exit 1
  exec 7<>"$ears"
  while read -r dir token <&7; do
    said=$(tell "$dir")
    answer_with "$token" 0 "$said"
  done &
  listener=$!
  exec 7>&-
  trap 'kill "$listener"; rm -f "$ears"' EXIT
  trap 'exit 0' HUP INT TERM PIPE
  while IFS= read -r line; do
    {
      trap - EXIT HUP INT TERM PIPE
      eval "set -- $line"
      token=$1
      shift
      said=$(
        trap 'printf "\n%s" "$?"' EXIT
        request "$@" 2>/dev/null
      )
      status=${said##*"$nl"}
      said=${said%"$nl"*}
      [ "$status" != "$later" ] || status=later
      answer_with "$token" "$status" "$said"
    } &
    # Those that have ended are let go of.
    jobs >/dev/null
  done
}

if [ "$1" = serve ]; then serve; else request "$@"; fi
