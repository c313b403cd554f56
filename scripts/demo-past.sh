#!/usr/bin/env bash
# Carries out what went before the demo's planning day, two Sunday nights, on the stand-in fleet with the versions of
# then, and keeps what the service and the fleet recorded in demo/past, from where `make demo` takes it.
. "$(dirname "$0")/setup.sh"
need curl curl
# The fleet listens where the demo's documents say: what is kept can be led back in it.
PORT=${PORT:-7490} FLEET_PORT=7471
. scripts/demo-up.sh
then=$work/demo/past
day() { date -u -d "$(date -u -d "$(cat demo/planning-day)" +%F) $1 days ago" +%F; }
# as NAME COMMAND...: what somebody says; a run that halts (4) and checks that find something (1) are part of the story
as() {
  local name=$1 status=0
  shift
  TIDESTEP_NAME=$name "$bin/tidestep" "$@" >>"$work/past.log" 2>&1 || status=$?
  case $status in 0 | 1 | 4) ;; *) tail -20 "$work/past.log" >&2; return $status ;; esac
}
# opened NAME GOAL LABEL: a plan, its checks and an opened run; the plan's digest is in $plan, the run's id in $run
opened() {
  plan=$(TIDESTEP_NAME=$1 "$bin/tidestep" plan make --goal "$then/goals/$2.yaml" --format json | digest)
  as "$1" check run "$plan"
  run=$(TIDESTEP_NAME=$1 "$bin/tidestep" run open "$plan" --label "$3")
}

# at DAYS TIME: the clock stands at that time, so many days before the planning day, and goes on 120 times faster
# than the machine's: what is recorded are the times that the machines of the story take, and windows are kept
at() {
  clock_at "$(date -u -d "$(date -u -d "$(cat demo/planning-day)" +%F) $2 $1 days ago" +%FT%TZ)"
  TIDESTEP_CLOCK_RATE=120@$(date +%s)
}
# moved DAYS TIME: the service ends, and starts again then
moved() {
  service_down
  at "$@"
  service 1 --node-limit "30 min"
}

export TIDESTEP_CLOCK_RATE
at 17 20:00
fleet "$then/readings.yaml" 1
service 1 --node-limit "30 min"
as "Ada Quill" estate import "$work/demo/estate.yaml" "$work/demo/catalogue" "$then/readings.yaml"
as "Wren Hale" survey take
# The first night: a caution is accepted for a week, and what is left to be done afterwards gets an owner and a day.
opened "Wren Hale" relay-north "North shore: relay to 3.1"
as "Ada Quill" check waive "$plan" "to-3.1 backlog relay-north" --until "$(day 8)" \
  --reason "the late boats' queue; it is empty by two"
relay=$run
opened "Wren Hale" sessions "North shore: sessions to 2.4"
moved 15 01:02
as "Wren Hale" run start "$relay"
# Something does not start; that is led back.
fault '{"node": "ns-ses-3", "verb": "start", "kind": "fail-once"}'
as "Wren Hale" run start "$run" --follow
as "Wren Hale" run decide "$run" return --reason "ns-ses-3 does not start, and it is late" --follow
as "Wren Hale" run follow "$relay"
as "Wren Hale" follow-up give "$relay" "counts of messages" --owner "Tom Reedy" --until "$(day 3)"
# The second night: what had been led back, once more; beside it the other shore's relay.
moved 9 20:00
as "Wren Hale" survey take
opened "Ada Quill" relay-south "South shore: relay to 3.1"
relay=$run
opened "Ada Quill" sessions "North shore: sessions to 2.4, second attempt"
moved 8 01:02
as "Ada Quill" run start "$run"
fault '{"node": "ss-rel-3", "verb": "install", "kind": "bad-checksum"}'
as "Ada Quill" run start "$relay" --follow
as "Ada Quill" run decide "$relay" try-again --reason "the package was fetched anew" --follow
as "Tom Reedy" follow-up done "$relay" "counts of messages" --note "within a hundred of last week's"
as "Ada Quill" run follow "$run"
service_down
curl -fs "http://127.0.0.1:$fleet_port/points" >demo/past/points.json
# A database at rest is one file; `gzip -n` writes no moment into it.
gzip -9 -n -c "$TIDESTEP_DATA/tidestep.db" >demo/past/tidestep.db.gz
grep -E "^(halted|.*ended:|decided|done)" "$work/past.log" || true
ls -l demo/past
