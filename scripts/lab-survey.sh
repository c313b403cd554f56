#!/usr/bin/env bash
# Surveys two real hosts with a real database and its streaming follower, holds the readings against what the hosts say themselves, and lets every fault be found by the check that is meant for it.
. "$(dirname "$0")/setup.sh"
[ "$(id -u)" = 0 ] || { echo "the lab makes hosts in namespaces: run this as root" >&2; exit 3; }
need mmdebstrap mmdebstrap
need ssh-keygen openssh-client
need nft nftables
need ip iproute2
need python3 python3-minimal
[ -e /usr/lib/*/faketime/libfaketime.so.1 ] || need faketime-library libfaketime
bin=${TIDESTEP_BIN:-$PWD/bin}
work=$(mktemp -d)
export TIDESTEP_DATA=$work/data TIDESTEP_HOME=$work TIDESTEP_NAME="Lab Keeper"
port=${TIDESTEP_PORT:-7491}
export TIDESTEP_SERVER=http://127.0.0.1:$port
service=

end() {
  [ -n "$service" ] && kill "$service" 2>/dev/null
  wait 2>/dev/null
  lab/lab down
  rm -rf "$work"
}
trap end EXIT

fail() { echo "FAILED: $*" >&2; tail -20 "$work/service.log" >&2 || true; exit 1; }
on() { local host=$1; shift; lab/lab exec "$host" "$@"; }
ask() { on "$1" runuser -u postgres -- psql -At -d ledger -c "$2"; }

serve() { # [COMMAND...]: under another program
  "$@" "$bin/tidestep-service" --port "$port" >>"$work/service.log" 2>&1 &
  service=$!
  for _ in $(seq 400); do curl -fs -o /dev/null "$TIDESTEP_SERVER/health/live" && return 0; sleep 0.05; done
  fail "the service does not come up"
}
unserve() { kill "$service"; wait "$service" 2>/dev/null || true; service=; }

database() { # a leader on relay-1 and its follower on relay-2
  local pg
  for host in relay-1 relay-2; do
    pg=$(on "$host" sh -c 'ls -d /usr/lib/postgresql/*/bin')
    on "$host" sh -c "printf '[Unit]\nAfter=network.target\n[Service]\nUser=postgres\nExecStartPre=+/bin/sh -c \"mkdir -p /run/postgresql && chown postgres /run/postgresql\"\nExecStart=$pg/postgres -D /var/lib/ledger\nKillSignal=SIGINT\n[Install]\nWantedBy=multi-user.target\n' >/etc/systemd/system/ledger.service; systemctl daemon-reload; install -d -o postgres -m 700 /var/lib/ledger; mkdir -p /var/backups/tidestep"
  done
  on relay-1 sh -c "cd /tmp && runuser -u postgres -- $pg/initdb -D /var/lib/ledger -A trust >/dev/null && printf \"listen_addresses = '*'\nfsync = off\nmax_wal_size = 64MB\nmin_wal_size = 32MB\n\" >>/var/lib/ledger/postgresql.conf && printf 'host all watcher 10.77.0.0/24 scram-sha-256\nhost replication follower 10.77.0.0/24 trust\n' >>/var/lib/ledger/pg_hba.conf && systemctl start ledger"
  for _ in $(seq 100); do on relay-1 runuser -u postgres -- psql -At -c 'select 1' >/dev/null 2>&1 && break; sleep 0.1; done
  on relay-1 runuser -u postgres -- psql -q -c "create database ledger" -c "create role watcher login password 'heron-at-dusk'" -c "grant pg_monitor to watcher" -c "grant execute on function pg_promote to watcher" -c "create role follower replication login" -c "select pg_create_physical_replication_slot('relay_2')" >/dev/null
  on relay-1 runuser -u postgres -- psql -q -d ledger -c "grant execute on function pg_promote to watcher" -c "create table sailings as select g as id, repeat('ferry ', 20) as note from generate_series(1, 20000) g"
  on relay-2 sh -c "cd /tmp && runuser -u postgres -- $pg/pg_basebackup -h 10.77.0.11 -U follower -D /var/lib/ledger -c fast -R -S relay_2 -X stream && systemctl start ledger"
  for _ in $(seq 100); do [ "$(ask relay-1 "select count(*) from pg_stat_replication where state = 'streaming'")" = 1 ] && return 0; sleep 0.1; done
  fail "the follower does not stream"
}

reading() { "$bin/tidestep" survey show "ledger/$1" --format json | python3 -c 'import json, sys; print(next((r.get("value") for r in json.load(sys.stdin)["readings"] if r["name"] == sys.argv[1]), "missing"))' "$2"; }
same() { [ "$2" = "$3" ] || fail "$1: the host says $3, the survey $2"; echo "  ok: $1 is $2"; }
found() { # CHECK PATTERN...: a finding that did not pass has all of the patterns
  local said check=$1
  shift
  said=$("$bin/tidestep" check run "$plan" --format json | python3 -c 'import json, sys
for f in json.load(sys.stdin)["round"]["findings"]:
    if f["result"] != "passed": print(f["check"], f["subject"], f["result"] + ":", f["what"])' || true)
  for pattern in "$@"; do grep -E "^$check .*$pattern" <<<"$said" >/dev/null || fail "no finding of $check with '$pattern':
$said"; done
  echo "  ok: $(grep -E "^$check .*$1" <<<"$said" | head -1 | cut -c1-150)"
}
# Another check may fail meanwhile, such as a follower that is still coming back: the command's own status says nothing here.
passed() { { "$bin/tidestep" check run "$plan" --format json || true; } | python3 -c 'import json, sys
bad = [f for f in json.load(sys.stdin)["round"]["findings"] if f["check"] == sys.argv[1] and f["result"] not in ("passed", "not-applicable")]
sys.exit(str(bad) if bad else 0)' "$1" || fail "$1 did not pass again"; }

echo "0. two hosts, a database and its follower"
lab/lab down
lab/lab up 2
# The hosts have no way out: their packages come from a folder of their own.
for host in relay-1 relay-2; do on "$host" sh -c 'rm -f /etc/apt/sources.list.d/*; mkdir -p /srv/packages; echo "deb [trusted=yes] file:/srv/packages ./" >/etc/apt/sources.list'; done
database
mkdir -p "$TIDESTEP_DATA/secrets" "$TIDESTEP_DATA/artefacts"
install -m 600 /run/tidestep-lab/keys/keeper "$TIDESTEP_DATA/secrets/keeper"
cp /run/tidestep-lab/keys/known_hosts "$TIDESTEP_DATA/known_hosts"
serve
printf 'heron-at-dusk\n' | "$bin/tidestep" secret set watcher >/dev/null
"$bin/tidestep" estate import lab/ledger/estate.yaml lab/ledger/catalogue >/dev/null
"$bin/tidestep" survey take

echo "1. the readings against what the hosts say themselves"
for host in relay-1 relay-2; do
  same "$host's kernel" "$(reading $host kernel)" "$(on $host uname -r)"
  same "$host's release" "$(reading $host os.release)" "$(on $host cat /etc/debian_version)"
  same "$host's processors" "$(reading $host cpu.count)" "$(on $host nproc)"
  same "$host's package" "$(reading $host installed)" "$(on $host dpkg-query -W -f '${Version}' postgresql-15 | grep -oE '^[0-9.]+')"
  same "$host's running server" "$(reading $host running)" "$(ask $host "select split_part(current_setting('server_version'), ' ', 1)")"
done
same "the leader" "$(reading relay-1 role)" leader
same "the follower" "$(reading relay-2 role)" follower
same "the followers of the leader" "$(reading relay-1 followers)" 1
same "the right to promote" "$(reading relay-2 may-promote)" true
same "the lag" "$(reading relay-2 lag)" "0 B"
python3 - "$(reading relay-1 size)" "$(ask relay-1 'select sum(pg_database_size(datname)) from pg_database')" "$(reading relay-1 'free("/var/lib/ledger")')" "$(on relay-1 df --output=avail -B1 /var/lib/ledger | tail -1)" <<'P' || fail "sizes differ"
import sys
unit = {"B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}
def size(text): n, u = text.split(); return float(n) * unit[u]
size_read, size_own, free_read, free_own = size(sys.argv[1]), float(sys.argv[2]), size(sys.argv[3]), float(sys.argv[4])
assert abs(size_read - size_own) < 0.02 * size_own, (size_read, size_own)
assert abs(free_read - free_own) < 0.05 * free_own, (free_read, free_own)
print(f"  ok: the database's size is {sys.argv[1]}, the room for its log {sys.argv[3]}")
P

echo "2. a plan, and its checks while all is well"
plan=$("$bin/tidestep" plan make --goal lab/ledger/goals/ledger.yaml --format json | python3 -c 'import json, sys; print(json.load(sys.stdin)["digest"])')
"$bin/tidestep" check run "$plan" | head -3
for check in reachable guard clock package-lock package-held package-source services rights "to-15.99 streaming" "to-15.99 slots" "to-15.99 lag" "to-15.99 may-promote"; do passed "$check"; done

echo "3. every fault is found by its check"
lab/lab link relay-2 down
found reachable "ledger/relay-2.*(no answer|did not answer|does not answer|broke)"
lab/lab link relay-2 up
passed reachable

lab/lab pause relay-2
found reachable "ledger/relay-2.*(no answer|did not answer|does not answer|broke)"
lab/lab resume relay-2
passed reachable

on relay-2 systemctl stop ssh.service ssh.socket 2>/dev/null || on relay-2 systemctl stop ssh
on relay-2 sh -c 'pkill -x sshd || true' || true
found reachable "ledger/relay-2.*(refused|broke|does not answer)"
on relay-2 systemctl start ssh
passed reachable

on relay-2 systemctl stop ledger
found in-step "ledger/relay-2.*15.20 is installed and nothing runs"
found "to-15.99 lag" "ledger/relay-2.*database of relay-2 does not answer"
found "to-15.99 streaming" "has 0"
on relay-2 systemctl start ledger
for _ in $(seq 100); do [ "$(ask relay-1 "select count(*) from pg_stat_replication where state = 'streaming'")" = 1 ] && break; sleep 0.1; done
passed "to-15.99 streaming"

on relay-1 mv /srv/packages /srv/elsewhere
found package-source "relay-1.*no answer from /srv/packages"
on relay-1 mv /srv/elsewhere /srv/packages
passed package-source

on relay-1 apt-mark hold postgresql-15 >/dev/null
found package-held "relay-1.*postgresql-15 is held"
on relay-1 apt-mark unhold postgresql-15 >/dev/null
passed package-held

on relay-1 python3 -c "
import fcntl, os, time
f = open('/var/lib/dpkg/lock-frontend', 'w'); fcntl.lockf(f, fcntl.LOCK_EX)
if os.fork() == 0: fcntl.lockf(f, fcntl.LOCK_EX); os.setsid(); time.sleep(300)
" &
locker=$!
wait $locker || true
found package-lock "relay-1.*holds the package lock"
on relay-1 pkill -f 'fcntl.LOCK_EX' || true
passed package-lock

on relay-1 sh -c 'free=$(df --output=avail -B1M /var/lib/ledger | tail -1); head -c "$((free - 8))M" /dev/zero >/var/lib/filler'
found room "relay-1.*(9[0-9]|100) % full"
found "point-room /var/backups/tidestep" "relay-1.*short"
found "to-15.99 log-room" "relay-1.*short"
on relay-1 rm /var/lib/filler
passed room

ask relay-1 "select pg_create_physical_replication_slot('forgotten')" >/dev/null
found "to-15.99 slots" "ledger failed: needs 0, has 1"
ask relay-1 "select pg_drop_replication_slot('forgotten')" >/dev/null
ask relay-1 "revoke execute on function pg_promote from watcher" >/dev/null
found "to-15.99 may-promote" "relay-1"
ask relay-1 "grant execute on function pg_promote to watcher" >/dev/null

unserve
# Not by its own program, which stands between and would be ended in the service's place.
serve env LD_PRELOAD="$(ls /usr/lib/*/faketime/libfaketime.so.1)" FAKETIME=+40s
found clock "relay-1.*(39|40|41)[.0-9]* s behind ours"
unserve
serve

echo "4. the password is nowhere but in its store"
"$bin/tidestep" survey show ledger/relay-1 >"$work/said" && "$bin/tidestep" plan show "$plan" --format json >>"$work/said" && "$bin/tidestep" check show "$plan" --format json >>"$work/said"
if grep -rl heron-at-dusk "$work" --include='*' | grep -v '/secrets/'; then fail "the password stands in a file"; fi
for host in relay-1 relay-2; do on $host grep -rl heron-at-dusk /var/lib/tidestep /var/cache /tmp 2>/dev/null && fail "the password stands on $host"; done
echo "  ok: no file that was written holds it"
echo "the lab's survey is done"
