#!/usr/bin/env bash
# Upgrades three real hosts over SSH and checks the result from outside. With a word, one part alone: refused, rolling, failing or killed.
. "$(dirname "$0")/setup.sh"
[ "$(id -u)" = 0 ] || { echo "the lab makes hosts in namespaces: run this as root" >&2; exit 3; }
need mmdebstrap mmdebstrap
need ssh-keygen openssh-client
need nft nftables
need ip iproute2
need python3 python3-minimal
bin=${TIDESTEP_BIN:-$PWD/bin}
work=$(mktemp -d)
export TIDESTEP_DATA=$work/data TIDESTEP_HOME=$work TIDESTEP_NAME="Lab Keeper"
port=${TIDESTEP_PORT:-7490}
export TIDESTEP_SERVER=http://127.0.0.1:$port
service= prober=

end() {
  [ -n "$prober" ] && kill "$prober" 2>/dev/null
  [ -n "$service" ] && kill "$service" 2>/dev/null
  wait 2>/dev/null
  lab/lab down
  rm -rf "$work"
}
trap end EXIT

fail() { echo "FAILED: $*" >&2; "$bin/tidestep" run list >&2 || true; tail -20 "$work/service.log" >&2 || true; exit 1; }
same() { [ "$2" = "$3" ] || fail "$1: expected $3, found $2"; echo "  ok: $1 is $2"; }
from_outside() { python3 -c 'import json, sys, urllib.request as u; print(json.load(u.urlopen("http://%s:8080/version" % sys.argv[1], timeout=5))[sys.argv[2]])' "10.77.0.1$1" "$2"; }
boots() { lab/lab exec "relay-$1" cat /proc/sys/kernel/random/boot_id; }
package() { lab/lab exec "relay-$1" dpkg-query -W -f '${Version}' phalarope-relay; }

serve() {
  "$bin/tidestep-service" --port "$port" >>"$work/service.log" 2>&1 &
  service=$!
  for _ in $(seq 200); do curl -fs -o /dev/null "$TIDESTEP_SERVER/health/live" && return 0; sleep 0.05; done
  fail "the service does not come up"
}

prepare() {
  lab/lab up 3
  lab/packages/build "$work/debs"
  mkdir -p "$TIDESTEP_DATA/secrets" "$TIDESTEP_DATA/artefacts"
  install -m 600 /run/tidestep-lab/keys/keeper "$TIDESTEP_DATA/secrets/keeper"
  cp /run/tidestep-lab/keys/known_hosts "$TIDESTEP_DATA/known_hosts"
  cp "$work"/debs/*.deb "$TIDESTEP_DATA/artefacts/"
  for i in 1 2 3; do
    lab/lab exec "relay-$i" sh -c 'cat >/var/cache/relay.deb' <"$work/debs/phalarope-relay_3.0_all.deb"
    lab/lab exec "relay-$i" dpkg -i /var/cache/relay.deb >/dev/null 2>&1
  done
  for i in 1 2 3; do for _ in $(seq 100); do from_outside "$i" version >/dev/null 2>&1 && break; sleep 0.1; done; done
  serve
  "$bin/tidestep" estate import lab/documents/estate.yaml lab/documents/catalogue >/dev/null
}

refused() { # a host key that changed, and a login that is refused, are said as such
  echo "0. a changed host key and a refused login"
  local said
  cp "$TIDESTEP_DATA/known_hosts" "$work/known_hosts"
  awk 'NR == FNR { if ($1 == "10.77.0.13") key = $2 " " $3; next } $1 == "10.77.0.12" { print $1, key; next } { print }' "$work/known_hosts" "$work/known_hosts" >"$TIDESTEP_DATA/known_hosts"
  said=$("$bin/tidestep" survey take || true)
  grep -q "relay/relay-2  the host key of relay-2 is not the pinned one" <<<"$said" || fail "the changed host key was not found: $said"
  echo "  ok: the host key of relay-2 is not the pinned one"
  cp "$work/known_hosts" "$TIDESTEP_DATA/known_hosts"
  cp "$TIDESTEP_DATA/secrets/keeper" "$work/keeper"
  rm "$TIDESTEP_DATA/secrets/keeper"
  ssh-keygen -q -t ed25519 -N '' -f "$TIDESTEP_DATA/secrets/keeper"
  kill "$service"; wait "$service" 2>/dev/null || true
  serve
  said=$("$bin/tidestep" survey take || true)
  grep -q "relay/relay-1  relay-1 refuses the login of keeper" <<<"$said" || fail "the refused login was not said: $said"
  echo "  ok: relay-1 refuses the login of keeper"
  install -m 600 "$work/keeper" "$TIDESTEP_DATA/secrets/keeper"
  "$bin/tidestep" survey take
}

open_run() { # LABEL; sets run
  "$bin/tidestep" survey take >/dev/null
  local plan
  plan=$("$bin/tidestep" plan make --goal lab/documents/goals/relay.yaml --format json | python3 -c 'import json, sys; print(json.load(sys.stdin)["digest"])')
  run=$("$bin/tidestep" run open "$plan" --label "$1")
}

probe() {
  python3 lab/prober.py "$TIDESTEP_SERVER" "$(cat "$TIDESTEP_DATA/access.key")" "$run" relay-1=10.77.0.11 relay-2=10.77.0.12 relay-3=10.77.0.13 >"$work/prober" 2>"$work/prober.errors" &
  prober=$!
}

probed() {
  kill "$prober" 2>/dev/null || true
  # It may be ending by itself just now: what it wrote counts, not the signal that it ended with.
  wait "$prober" || true
  grep -q '"failed": \[\]' "$work/prober" || { cat "$work/prober" "$work/prober.errors" >&2; fail "the prober saw failed requests"; }
  prober=
  echo "  ok: the prober $(cat "$work/prober")"
}

reset() { # every host back on 3.0 with fresh data
  for i in 1 2 3; do
    lab/lab exec "relay-$i" sh -c 'systemctl stop phalarope; dpkg --purge phalarope-relay >/dev/null 2>&1; rm -rf /var/lib/phalarope /etc/phalarope; dpkg -i /var/cache/relay.deb >/dev/null 2>&1'
    for _ in $(seq 100); do from_outside "$i" version >/dev/null 2>&1 && break; sleep 0.1; done
  done
}

rolling() {
  echo "1. one host at a time, 3.0 over the stepping stone 3.1 to 3.2, each restarted for it, under load"
  open_run "relay to 3.2"
  probe
  local -a booted
  for i in 1 2 3; do booted[i]=$(boots "$i"); done
  "$bin/tidestep" run start "$run" >/dev/null
  "$bin/tidestep" run follow "$run" | tail -25 || fail "the run did not complete"
  probed
  for i in 1 2 3; do
    [ "$(boots "$i")" != "${booted[i]}" ] || fail "relay-$i was not restarted"
    same "relay-$i's restarts by the run" "$(lab/lab exec "relay-$i" sh -c "grep -lx 'set -- .*systemctl.* .*reboot.*' /var/lib/tidestep/*/attempts/*/argv | wc -l")" 1
    same "relay-$i's running version" "$(from_outside "$i" version)" 3.2
    same "relay-$i's package" "$(package "$i")" 3.2
    same "relay-$i's data format" "$(from_outside "$i" format)" 2
    lab/lab exec "relay-$i" test ! -e /usr/sbin/policy-rc.d || fail "the temporary measure was left on relay-$i"
  done
}

failing() {
  echo "2. relay-2 fails its health check on 3.2: the run halts, and the return restores it"
  open_run "relay to 3.2, relay-2 breaks"
  lab/lab exec relay-2 sh -c 'echo broken=3.2 >>/etc/phalarope/relay.conf'
  local status=0
  "$bin/tidestep" run start "$run" >/dev/null
  "$bin/tidestep" run follow "$run" | tail -25 || status=${PIPESTATUS[0]}
  same "the exit status of a halt" "$status" 4
  same "relay-1's version" "$(from_outside 1 version)" 3.2
  same "relay-3's version, untouched" "$(from_outside 3 version)" 3.1
  same "relay-2's package" "$(package 2)" 3.2
  "$bin/tidestep" run decide "$run" return --as-far-as "move 2" --reason "relay-2 is not healthy on 3.2" --follow | tail -12 || true
  for i in 1 2 3; do
    same "relay-$i's running version after the return" "$(from_outside "$i" version)" 3.1
    same "relay-$i's package after the return" "$(package "$i")" 3.1
    same "relay-$i's data format after the return" "$(from_outside "$i" format)" 1
  done
  same "the run" "$("$bin/tidestep" run show "$run" --format json | python3 -c 'import json, sys; print(json.load(sys.stdin)["status"])')" returned
}

killed() {
  echo "3. the service is ended with -9 while dpkg runs on a host, started again, and finishes without running it twice"
  open_run "relay to 3.2, service killed"
  for i in 1 2 3; do lab/lab exec "relay-$i" sh -c 'mkdir -p /etc/systemd/system.conf.d; printf "[Manager]\nDefaultEnvironment=PHALAROPE_SLOW=4\n" >/etc/systemd/system.conf.d/slow.conf; systemctl daemon-reexec'; done
  probe
  "$bin/tidestep" run start "$run" >/dev/null
  for _ in $(seq 1200); do lab/lab exec relay-1 sh -c 'pgrep -f "dpkg.*phalarope-relay_3.2" >/dev/null || pgrep -f "phalarope-relay.postinst" >/dev/null' 2>/dev/null && break; sleep 0.05; done
  kill -9 "$service"
  wait "$service" 2>/dev/null || true
  echo "  the service was ended while dpkg ran on relay-1"
  sleep 1
  serve
  "$bin/tidestep" run follow "$run" | tail -12 || fail "the run did not complete"
  probed
  for i in 1 2 3; do
    same "relay-$i's running version" "$(from_outside "$i" version)" 3.2
    same "how often relay-$i was brought to 3.2" "$(lab/lab exec "relay-$i" grep -c ' upgrade phalarope-relay:all 3.1 3.2' /var/log/dpkg.log)" "${1:-1}"
  done
}

prepare
case ${1:-all} in
refused) refused ;;
rolling) "$bin/tidestep" survey take; rolling ;;
failing) failing ;;
killed) killed ;;
all) refused; rolling; reset; failing; reset; for i in 1 2 3; do lab/lab exec "relay-$i" sh -c ': >/var/log/dpkg.log'; done; killed ;;
*) echo "unknown part $1"; exit 2 ;;
esac
echo "the lab example is done"
