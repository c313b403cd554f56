#!/usr/bin/env bash
# The whole example to its end, without a person: the path, the plan, a halt, a return, and the season's upgrade. Exits 0 when all of it went as it must.
. "$(dirname "$0")/setup.sh"
need curl curl
PACE=${PACE:-600} PORT=${PORT:-7480} FLEET_PORT=${FLEET_PORT:-7481}
. scripts/demo-up.sh
present
step() { echo; echo "== $*"; }

step "the path to the season's goal"
"$bin/tidestep" path --goal "$work/demo/goals/season.yaml"

step "a short run that halts: the relay's package arrives broken on ss-rel-2"
fault '{"node": "ss-rel-2", "verb": "install", "kind": "bad-checksum"}'
plan=$("$bin/tidestep" plan make --goal "$work/demo/goals/relay.yaml" --format json | digest)
run=$("$bin/tidestep" run open "$plan" --label "relay to 3.2")
status=0
"$bin/tidestep" run start "$run" --follow | tail -16 || status=${PIPESTATUS[0]}
[ "$status" = 4 ] || { echo "expected a halt (exit status 4), found $status"; exit 1; }

step "its return"
"$bin/tidestep" run return-path "$run"
"$bin/tidestep" run decide "$run" return --reason "not tonight" --follow | tail -3 || true
"$bin/tidestep" run report "$run"
state=$("$bin/tidestep" run show "$run" --format json || true)
grep -q '"status": "returned"' <<<"$state"
"$bin/tidestep" survey take

step "something is installed for the first time; a person's measure is asked for, signed, and taken back by a person"
plan=$("$bin/tidestep" plan make --goal "$work/demo/goals/boards.yaml" --format json | digest)
run=$("$bin/tidestep" run open "$plan" --label "departure boards")
status=0
"$bin/tidestep" run start "$run" --follow | tail -16 || status=${PIPESTATUS[0]}
[ "$status" = 4 ] || { echo "expected a person's step (exit status 4), found $status"; exit 1; }
status=0
"$bin/tidestep" run sign "$run" "stewards show the departures by hand" --evidence "all twelve said yes"
"$bin/tidestep" run follow "$run" | tail -12 || status=${PIPESTATUS[0]}
[ "$status" = 4 ] || { echo "expected what a person takes back (exit status 4), found $status"; exit 1; }
"$bin/tidestep" run sign "$run" "stewards show the departures by hand" --evidence "the paper is collected"
"$bin/tidestep" run follow "$run" | tail -4
"$bin/tidestep" survey take

step "four people come in, each with roles of their own; what lasts longer than a day has to be signed by another"
. scripts/demo-people.sh
people
"$bin/tidestep" person list
printf '\nsign-offs:\n  start: {lasts: 1 d}\n' >>"$work/demo/estate.yaml"
as "Wren Hale" estate import "$work/demo/estate.yaml"

step "the season's upgrade: the planner plans it, and is refused the run; the operator opens it"
fault '{"node": "gate-04-2", "verb": "start", "kind": "fail-once"}'
plan=$(as "Wren Hale" plan make --goal "$work/demo/goals/season.yaml" --format json | digest)
status=0
as "Wren Hale" run open "$plan" || status=$?
[ "$status" = 2 ] || { echo "expected a refusal (exit status 2), found $status"; exit 1; }
run=$(as "Odo Marsh" run open "$plan" --label "tickets to 7.2, gates to 7.1")

step "its checks: a node of the ledger is short of disk, a gate's image is not the one that is meant, and so the run is not started"
status=0
as "Odo Marsh" check run "$plan" || status=$?
[ "$status" = 1 ] || { echo "expected a blocker (exit status 1), found $status"; exit 1; }
status=0
as "Odo Marsh" run start "$run" || status=$?
[ "$status" = 1 ] || { echo "expected a refusal (exit status 1), found $status"; exit 1; }

step "the right image is added, and both are laid ready on the gates ahead of time"
as "Wren Hale" artefact add "$work/demo/artefacts/mended"
as "Odo Marsh" artefact stage "$plan" | tail -4
as "Odo Marsh" artefact list

step "the disk is grown, what people had to do is signed, the follower's lag is accepted, another signs the plan, and it starts"
grow
as "Odo Marsh" check sign "$plan" "ask for the licence of Greenshank 4" --evidence "it came on Thursday"
as "Odo Marsh" check sign "$plan" "move the price reports off the old fare table" --evidence "all eleven read the price list now"
as "Odo Marsh" check sign "$plan" "tell the landings which lanes close when" --evidence "written to all twelve"
as "Odo Marsh" check waive "$plan" "to-8.4 lag ledger-north/ns-led-3" --reason "it lags on Sundays while the reports are written, and catches up in minutes"
status=0
as "Odo Marsh" plan sign-off "$plan" || status=$?
[ "$status" = 2 ] || { echo "expected a refusal (exit status 2), found $status"; exit 1; }
as "Tamsin Reed" plan sign-off "$plan"
as "Odo Marsh" check run "$plan" | head -4
as "Odo Marsh" run start "$run" --follow >"$work/season"
tail -14 "$work/season"
grep -q "it rests, as planned" "$work/season" || { echo "expected a rest between the two windows"; exit 1; }

step "the second window; a gate does not come back at first and is tried again"
as "Odo Marsh" run go-on "$run"
status=0
as "Odo Marsh" run follow "$run" >"$work/season" || status=$?
tail -14 "$work/season"
[ "$status" = 4 ] || { echo "expected a halt (exit status 4), found $status"; exit 1; }
as "Odo Marsh" run decide "$run" try-again --reason "it answers again" --follow | tail -18
as "Odo Marsh" survey take
as "Odo Marsh" estate show
[ "$(as "Odo Marsh" estate show --format json | grep -c '"versions": "7.[12]"')" = 3 ]

step "who did what, refusals too"
as "Iris Vane" record list --about "runs/$run"
as "Iris Vane" record list --by "Wren Hale"
as "Iris Vane" record verify

echo
echo "the example is done"
