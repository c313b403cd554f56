#!/usr/bin/env bash
# Upgrades a real database cluster of one leader and two followers under a steady write load and holds it against the load's own record.
# Without a word the plain run and a return from the middle; with one, one part: plain, returned, killed-host, link, disk, killed-service, colleague, bare; or faults for all faults.
. "$(dirname "$0")/setup.sh"
[ "$(id -u)" = 0 ] || { echo "the lab makes hosts in namespaces: run this as root" >&2; exit 3; }
need mmdebstrap mmdebstrap
need ssh-keygen openssh-client
need nft nftables
need ip iproute2
need python3 python3-minimal
need psql postgresql-client
bin=${TIDESTEP_BIN:-$PWD/bin}
work=$(mktemp -d)
export TIDESTEP_DATA=$work/data TIDESTEP_HOME=$work TIDESTEP_NAME="Lab Keeper"
port=${TIDESTEP_PORT:-7492}
export TIDESTEP_SERVER=http://127.0.0.1:$port
service= writer= run=
hosts="relay-1 relay-2 relay-3"

end() {
  [ -n "$writer" ] && kill "$writer" 2>/dev/null
  [ -n "$service" ] && kill "$service" 2>/dev/null
  wait 2>/dev/null
  [ -n "${TIDESTEP_KEEP:-}" ] || { lab/lab down; rm -rf "$work"; }
}
trap end EXIT

fail() { echo "FAILED: $*" >&2; [ -n "$run" ] && "$bin/tidestep" run show "$run" >&2; tail -20 "$work/service.log" >&2 || true; exit 1; }
same() { [ "$2" = "$3" ] || fail "$1: expected $3, found $2"; echo "  ok: $1 is $2"; }
on() { local host=$1; shift; lab/lab exec "$host" "$@"; }
ask() { on "$1" runuser -u postgres -- psql -At -d ledger -c "$2"; }
address() { echo "10.77.0.1${1#relay-}"; }
field() { python3 -c 'import json, sys; print(json.load(sys.stdin)[sys.argv[1]])' "$1"; }
state() { "$bin/tidestep" run show "$run" --format json | field status; }
until_is() { # WHAT SECONDS COMMAND...: waits until the command succeeds
  local what=$1 until=$((SECONDS + $2))
  shift 2
  until "$@" >/dev/null 2>&1; do [ $SECONDS -lt $until ] || fail "$what: not within its time"; sleep 0.1; done
}
reached() { "$bin/tidestep" run show "$run" --format json | python3 -c 'import json, sys
steps = [s for b in json.load(sys.stdin)["blocks"] for l in b["lanes"] for s in l["steps"] if s["id"].endswith(sys.argv[1])]
sys.exit(0 if any(s["status"] == sys.argv[2] for s in steps) else 1)' "$1" "$2"; }

serve() {
  "$bin/tidestep-service" --port "$port" >>"$work/service.log" 2>&1 &
  service=$!
  for _ in $(seq 400); do curl -fs -o /dev/null "$TIDESTEP_SERVER/health/live" && return 0; sleep 0.05; done
  fail "the service does not come up"
}

# The two newest versions that the system offers. Where it offers one only, the older one is made of it: the same program that says an older version of the same length.
packages() {
  local base=$1 offered
  major=$(ls "$base/usr/lib/postgresql" | tail -1)
  mkdir -p "$work/debs" "$TIDESTEP_DATA/artefacts"
  offered=$(apt-cache madison "postgresql-$major" | awk '{print $3}' | awk '!seen[$0]++' | head -"${TIDESTEP_VERSIONS:-2}")
  for version in $offered; do
    (cd "$work/debs" && apt-get download -qq "postgresql-$major=$version" >/dev/null 2>&1) || fail "postgresql-$major $version can't be fetched"
    mv "$work/debs/postgresql-${major}_"*"_"*.deb "$TIDESTEP_DATA/artefacts/postgresql-${major}_${version%%-*}.deb"
  done
  new=$(sed -n 1p <<<"$offered"); new=${new%%-*}
  old=$(sed -n 2p <<<"$offered"); old=${old%%-*}
  if [ -z "$old" ] || [ "$old" = "$new" ]; then
    old=$(python3 -c 'import sys; v = sys.argv[1]; n = str(int(v.split(".")[1]) - 1).zfill(len(v.split(".")[1])); print(v.split(".")[0] + "." + n)' "$new")
    dpkg-deb -R "$TIDESTEP_DATA/artefacts/postgresql-${major}_$new.deb" "$work/older"
    sed -i "s/$new\b/$old/g" "$work/older/usr/lib/postgresql/$major/bin"/*
    sed -i "s/^Version: $new/Version: $old/" "$work/older/DEBIAN/control"
    rm -f "$work/older/DEBIAN/md5sums"
    dpkg-deb -b "$work/older" "$TIDESTEP_DATA/artefacts/postgresql-${major}_$old.deb" >/dev/null
  fi
  echo "  versions $old and $new of release $major"
  cp -r lab/cluster "$work/documents"
  sed -i "s/@MAJOR@/$major/g; s/@OLD@/$old/g; s/@NEW@/$new/g" "$work/documents"/*/*.yaml
}

put_back() { # the old package on every host, and the cluster made anew with relay-1 leading
  local deb=/var/cache/tidestep/old.deb
  for host in $hosts; do
    on "$host" sh -c 'systemctl unmask -q ledger; systemctl stop ledger; rm -f /usr/sbin/policy-rc.d; rm -rf /var/lib/ledger; install -d -o postgres -m 700 /var/lib/ledger' >/dev/null 2>&1 || true
    on "$host" sh -c "mkdir -p /var/cache/tidestep && cat >$deb" <"$TIDESTEP_DATA/artefacts/postgresql-${major}_$old.deb"
    on "$host" sh -c "dpkg-query -W -f '\${Version}' postgresql-$major | grep -q '^$old-' && dpkg -s postgresql-$major | grep -q 'install ok installed' || DEBIAN_FRONTEND=noninteractive dpkg -i $deb" >/dev/null 2>&1 || fail "the old package can't be put on $host"
    on "$host" sh -c "printf '[Unit]\nAfter=network.target\n[Service]\nUser=postgres\nExecStartPre=+/bin/sh -c \"mkdir -p /run/postgresql && chown postgres /run/postgresql\"\nExecStart=/usr/lib/postgresql/$major/bin/postgres -D /var/lib/ledger -c cluster_name=${host/-/_}\nKillSignal=SIGINT\nKillMode=mixed\nTimeoutStopSec=60\n[Install]\nWantedBy=multi-user.target\n' >/usr/lib/systemd/system/ledger.service; systemctl daemon-reload; systemctl enable -q ledger"
  done
  on relay-1 sh -c "cd /tmp && runuser -u postgres -- /usr/lib/postgresql/$major/bin/initdb -D /var/lib/ledger -A trust >/dev/null && printf \"listen_addresses = '*'\nmax_wal_size = 64MB\nmin_wal_size = 32MB\nmax_slot_wal_keep_size = 128MB\nsynchronous_standby_names = 'ANY 1 (relay_1, relay_2, relay_3)'\nwal_receiver_timeout = 5s\nwal_sender_timeout = 5s\nwal_retrieve_retry_interval = 200ms\n\" >>/var/lib/ledger/postgresql.conf && printf 'host all watcher 10.77.0.0/24 scram-sha-256\nhost replication follower 10.77.0.0/24 trust\nhost ledger writer 10.77.0.1/32 trust\n' >>/var/lib/ledger/pg_hba.conf && systemctl start ledger"
  until_is "the leader answers" 20 on relay-1 runuser -u postgres -- psql -At -c 'select 1'
  # Before there is a follower nothing may wait for one.
  on relay-1 env PGOPTIONS='-c synchronous_commit=local' runuser -u postgres -- psql -q -c "create database ledger" -c "create role watcher login password 'heron-at-dusk'" -c "grant pg_monitor to watcher" -c "create role follower replication login" -c "create role writer login" -c "select pg_create_physical_replication_slot('relay_2', true), pg_create_physical_replication_slot('relay_3', true)" >/dev/null
  on relay-1 env PGOPTIONS='-c synchronous_commit=local' runuser -u postgres -- psql -q -d ledger -c "create table bookings (id bigint primary key, at timestamptz default now())" -c "grant insert, select on bookings to writer" -c "create table sailings as select g as id, repeat('ferry ', 20) || g as note from generate_series(1, 20000) g" -c "grant select on sailings to watcher"
  for host in relay-2 relay-3; do
    on "$host" sh -c "cd /tmp && runuser -u postgres -- /usr/lib/postgresql/$major/bin/pg_basebackup -h 10.77.0.11 -U follower -D /var/lib/ledger -c fast -R -S ${host/-/_} -X stream && systemctl start ledger"
  done
  until_is "both followers stream" 20 sh -c "[ \"\$(lab/lab exec relay-1 runuser -u postgres -- psql -At -c \"select count(*) from pg_stat_replication where state = 'streaming'\")\" = 2 ]"
}

open_run() { # LABEL; sets run
  "$bin/tidestep" survey take >"$work/survey" || { cat "$work/survey"; "$bin/tidestep" survey show ledger/relay-1; "$bin/tidestep" survey show ledger/relay-2; fail "the survey"; }
  local plan
  plan=$("$bin/tidestep" plan make --goal "$work/documents/goals/ledger.yaml" --format json | field digest) || fail "no plan was made"
  run=$("$bin/tidestep" run open "$plan" --label "$1")
}

load() {
  python3 lab/writer.py 10.77.0.11,10.77.0.12,10.77.0.13 "$work/acknowledged" >"$work/writer" 2>"$work/writer.errors" &
  writer=$!
  until_is "the load writes" 10 test -s "$work/acknowledged"
}

leader() { for host in $hosts; do [ "$(ask "$host" 'select pg_is_in_recovery()' 2>/dev/null)" = f ] && echo "$host"; done; return 0; }

# Everything that was acknowledged is with whoever leads now and with both followers; one leader; the pauses of the load by its own record.
loaded() { # MOST-SECONDS-OF-A-PAUSE
  kill "$writer"
  wait "$writer" || true
  writer=
  local lead
  lead=$(leader)
  [ "$(wc -w <<<"$lead")" = 1 ] || fail "who leads: '$lead'"
  for host in $hosts; do
    until_is "$host has everything" 20 sh -c "[ \"\$(lab/lab exec $host runuser -u postgres -- psql -At -d ledger -c 'select count(*) from bookings')\" -ge \"\$(wc -l <$work/acknowledged)\" ]"
    ask "$host" 'select id from bookings' | sort >"$work/there"
    awk '{print $1}' "$work/acknowledged" | sort | comm -23 - "$work/there" | head -3 >"$work/lost"
    [ -s "$work/lost" ] && fail "acknowledged and not on $host: $(tr '\n' ' ' <"$work/lost")"
  done
  python3 - "$work/writer" "$1" "$lead" <<'P' || fail "the load stood still too long: $(cat "$work/writer")"
import json, sys
said = json.load(open(sys.argv[1]))
print(f"  ok: {sys.argv[3]} leads, {said['rows']} acknowledged rows, none lost; longest pauses {', '.join(f'{g:.2f} s after {at:.0f} s' for g, at in said['longest'][:3])}")
sys.exit(0 if said["longest"][0][0] <= float(sys.argv[2]) else 1)
P
}

all_at() { # VERSION
  local lead
  lead=$(leader)
  for host in $hosts; do
    same "$host's running server" "$(ask "$host" "select split_part(current_setting('server_version'), ' ', 1)")" "$1"
    same "$host's package" "$(on "$host" dpkg-query -W -f '${Version}' "postgresql-$major" | grep -oE '^[0-9.]+')" "$1"
    on "$host" test ! -e /usr/sbin/policy-rc.d || fail "a temporary measure was left on $host"
    same "$host's unit" "$(on "$host" systemctl is-enabled ledger)" enabled
    [ "$host" = "$lead" ] || same "unused slots of $host" "$(ask "$host" 'select count(*) from pg_replication_slots where not active')" 0
  done
  same "followers of $lead" "$(ask "$lead" "select count(*) from pg_stat_replication where state = 'streaming'")" 2
  same "unused slots of $lead" "$(ask "$lead" 'select count(*) from pg_replication_slots where not active')" 0
}

to_end() { # follows until it ends or halts, tells the end
  "$bin/tidestep" run follow "$run" >"$work/followed" 2>&1 || { tail -15 "$work/followed"; fail "the run did not complete"; }
  same "the run" "$(state)" completed
}

plain() {
  echo "1. followers first, then the leader with a handover, under load"
  open_run "ledger to $new"
  load
  local began=$SECONDS
  "$bin/tidestep" run start "$run" >/dev/null
  to_end
  echo "  it took $((SECONDS - began)) s"
  loaded 30
  all_at "$new"
  "$bin/tidestep" run report "$run" | grep 'hands over to' || fail "the report does not name who took over"
}

returned() {
  echo "2. a return from the middle: one follower is upgraded, the run is held and returned"
  open_run "ledger to $new, returned"
  load
  "$bin/tidestep" run start "$run" >/dev/null
  until_is "the first follower is upgraded" 120 reached "w1/ledger/relay-2/in-step" done
  "$bin/tidestep" run hold "$run"
  until_is "it is held" 120 sh -c "[ \"\$($bin/tidestep run show $run --format json | python3 -c 'import json, sys; print(json.load(sys.stdin)[\"status\"])')\" = held ]"
  "$bin/tidestep" run decide "$run" return --reason "not tonight" --follow >"$work/followed" 2>&1 || true
  same "the run" "$(state)" returned
  loaded 30
  all_at "$old"
}

killed_host() {
  echo "3. the host that is being upgraded is killed during its upgrade and boots again"
  open_run "ledger to $new, host killed"
  load
  "$bin/tidestep" run start "$run" >/dev/null
  until_is "the package is being installed" 120 reached "ledger/relay-2/install" working
  lab/lab kill relay-2
  settle_halts
  loaded 30
  all_at "$new"
}

link() {
  echo "4. the link of the host being upgraded is down for a minute"
  open_run "ledger to $new, link down"
  load
  "$bin/tidestep" run start "$run" >/dev/null
  until_is "the package is being installed" 120 reached "ledger/relay-2/install" working
  lab/lab link relay-2 down
  sleep 60
  lab/lab link relay-2 up
  settle_halts
  loaded 30
  all_at "$new"
}

disk() {
  echo "5. the disk fills up during unpack"
  open_run "ledger to $new, disk full"
  on relay-2 sh -c 'mkdir -p /var/filler'
  load
  "$bin/tidestep" run start "$run" >/dev/null
  until_is "the new package is there" 120 reached "ledger/relay-2/send-new" done
  # What is written meanwhile takes room too: a little more is left then.
  on relay-2 sh -c 'for left in 6 8 10 12; do fallocate -l "$(($(df --output=avail -B1M / | tail -1) - left))M" /var/filler/full && exit 0; done; exit 1'
  local status=0
  "$bin/tidestep" run follow "$run" >"$work/followed" 2>&1 || status=$?
  same "the exit status of a halt" "$status" 4
  # By the data, not by what is shown: there a line may break between two words.
  local said
  said=$({ "$bin/tidestep" run show "$run" --format json || true; } | field halt)
  grep -qi 'no space' <<<"$said" || fail "the halt does not say that the disk is full: $said"
  on relay-2 rm -rf /var/filler
  "$bin/tidestep" run decide "$run" try-again --reason "the disk has room again" --follow >"$work/followed" 2>&1 || { tail -5 "$work/followed"; fail "it did not go on"; }
  same "the run" "$(state)" completed
  loaded 30
  all_at "$new"
}

killed_service() {
  echo "6. the service is ended with -9 between the leader's stop and the promotion, and started again"
  open_run "ledger to $new, service killed"
  # It ends itself by force, so that the moment is the same each time.
  kill -9 "$service"
  wait "$service" 2>/dev/null || true
  TIDESTEP_ENDS=done:stop-and-note serve
  load
  "$bin/tidestep" run start "$run" >/dev/null
  until_is "the service has ended after the leader's stop" 180 sh -c "! kill -0 $service"
  wait "$service" 2>/dev/null || true
  serve
  to_end
  loaded 30
  all_at "$new"
}

colleague() {
  echo "7. a colleague restarts a server outside, and changes packages outside: before the start, and while the run is held"
  open_run "ledger to $new, a colleague's hand"
  on relay-3 systemctl restart ledger
  on relay-3 sh -c "cat >/tmp/new.deb; DEBIAN_FRONTEND=noninteractive dpkg -i /tmp/new.deb" <"$TIDESTEP_DATA/artefacts/postgresql-${major}_$new.deb" >/dev/null 2>&1
  on relay-3 systemctl restart ledger
  until_is "relay-3 follows" 20 sh -c "[ \"\$(lab/lab exec relay-3 runuser -u postgres -- psql -At -d ledger -c \"select count(*) from pg_stat_wal_receiver where status = 'streaming'\")\" = 1 ]"
  local said
  said=$("$bin/tidestep" run start "$run" 2>&1 || true)
  grep -q "ledger/relay-3 runs $new, the plan expects $old" <<<"$said" || fail "the changed package was not found: $said"
  echo "  ok: it is found before the start"
  load
  open_run "ledger to $new, from what is there"
  "$bin/tidestep" run start "$run" >/dev/null
  until_is "the first follower is at work" 120 reached "ledger/relay-2/stop" done
  on relay-3 systemctl restart ledger
  "$bin/tidestep" run hold "$run" >/dev/null
  until_is "the run is held" 120 sh -c "'$bin/tidestep' run show '$run' --format json | grep -q '\"status\": *\"held\"'"
  local deb=/var/cache/tidestep/old.deb
  on relay-3 sh -c "DEBIAN_FRONTEND=noninteractive dpkg -i $deb" >/dev/null 2>&1
  on relay-3 systemctl restart ledger
  until_is "relay-3 runs $old" 20 sh -c "lab/lab exec relay-3 runuser -u postgres -- psql -At -c 'show server_version' | grep -q '$old'"
  "$bin/tidestep" run go-on "$run" >/dev/null
  "$bin/tidestep" run follow "$run" >"$work/followed" 2>&1 && fail "the changed package was not found while the run was held"
  said=$({ "$bin/tidestep" run show "$run" --format json || true; } | field halt)
  grep -q "changed from outside: ledger/relay-3 runs $old, expected $new" <<<"$said" || fail "it halted for another reason: $said"
  echo "  ok: it is found when the run goes on: $said"
  on relay-3 sh -c "cat >/tmp/new.deb; DEBIAN_FRONTEND=noninteractive dpkg -i /tmp/new.deb" <"$TIDESTEP_DATA/artefacts/postgresql-${major}_$new.deb" >/dev/null 2>&1
  on relay-3 systemctl restart ledger
  until_is "relay-3 runs $new again" 20 sh -c "lab/lab exec relay-3 runuser -u postgres -- psql -At -c 'show server_version' | grep -q '$new'"
  "$bin/tidestep" run decide "$run" try-again >/dev/null
  to_end
  loaded 30
  all_at "$new"
}

# A host that comes up again may leave its step in the open: a person looks and says try again.
settle_halts() {
  for _ in 1 2 3 4; do
    if "$bin/tidestep" run follow "$run" >"$work/followed" 2>&1; then same "the run" "$(state)" completed; return 0; fi
    echo "  halted: $("$bin/tidestep" run show "$run" --format json | field halt)"
    until_is "relay-2 answers" 60 on relay-2 true
    on relay-2 sh -c 'dpkg --configure -a' >/dev/null 2>&1 || true
    "$bin/tidestep" run decide "$run" try-again --reason "the host is up again" >/dev/null
  done
  fail "it halts again and again"
}

# The same with bare commands over multiplexed connections: what the run is held against.
bare() {
  echo "8. the same by a script of bare commands"
  load
  local began=$SECONDS options="-q -o BatchMode=yes -o UserKnownHostsFile=/run/tidestep-lab/keys/known_hosts -i /run/tidestep-lab/keys/keeper -o ControlMaster=auto -o ControlPath=$work/%h -o ControlPersist=60"
  far() { local host=$1; shift; ssh $options "keeper@$(address "$host")" sudo "$@"; }
  streams() { until_is "$1 streams" 60 sh -c "[ \"\$(ssh $options keeper@$(address "$1") sudo runuser -u postgres -- psql -At -d ledger -c \"\\\"select count(*) from pg_stat_wal_receiver where status = 'streaming'\\\"\")\" = 1 ]"; }
  for host in $hosts; do scp $options "$TIDESTEP_DATA/artefacts/postgresql-${major}_$new.deb" "keeper@$(address "$host"):new.deb"; done
  for host in relay-2 relay-3; do
    far "$host" systemctl stop ledger
    far "$host" env DEBIAN_FRONTEND=noninteractive dpkg -i /home/keeper/new.deb >/dev/null 2>&1
    far "$host" systemctl start ledger
    streams "$host"
    sleep 3
  done
  far relay-1 systemctl stop ledger
  far relay-1 touch /var/lib/ledger/standby.signal
  far relay-2 runuser -u postgres -- psql -At -d ledger -c '"select pg_promote(true, 60)"' >/dev/null
  far relay-2 runuser -u postgres -- psql -At -d ledger -c "\"select pg_create_physical_replication_slot(n, true) from (values ('relay_1'), ('relay_3')) names(n)\"" >/dev/null
  far relay-3 runuser -u postgres -- psql -At -d ledger -c "\"alter system set primary_conninfo = 'host=10.77.0.12 user=follower'\"" -c '"select pg_reload_conf()"' >/dev/null
  printf "primary_conninfo = 'host=10.77.0.12 user=follower'\nprimary_slot_name = 'relay_1'\n" | ssh $options "keeper@$(address relay-1)" sudo tee -a /var/lib/ledger/postgresql.auto.conf >/dev/null
  far relay-1 env DEBIAN_FRONTEND=noninteractive dpkg -i /home/keeper/new.deb >/dev/null 2>&1
  far relay-1 systemctl start ledger
  streams relay-1
  sleep 3
  echo "  it took $((SECONDS - began)) s"
  kill "$writer"; wait "$writer" || true; writer=
  echo "  $(cat "$work/writer")"
}

echo "0. three hosts, a leader and two followers"
lab/lab down
lab/lab up 3
packages "${TIDESTEP_LAB_CACHE:-/var/cache/tidestep-lab}/base-3"
put_back
mkdir -p "$TIDESTEP_DATA/secrets"
install -m 600 /run/tidestep-lab/keys/keeper "$TIDESTEP_DATA/secrets/keeper"
cp /run/tidestep-lab/keys/known_hosts "$TIDESTEP_DATA/known_hosts"
serve
printf 'heron-at-dusk\n' | "$bin/tidestep" secret set watcher >/dev/null
"$bin/tidestep" estate import "$work/documents/estate.yaml" "$work/documents/catalogue" >/dev/null

case ${1:-all} in
all) plain; put_back; returned ;;
faults) killed_host; put_back; link; put_back; disk; put_back; killed_service; put_back; colleague ;;
*) for part in "$@"; do "${part//-/_}"; [ "$part" = "${!#}" ] || put_back; done ;;
esac
echo "the cluster's upgrade is done"
