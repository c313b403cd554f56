#!/usr/bin/env bash
# Starts everything on the demo estate and waits for Ctrl-C. PORT, FLEET_PORT, PACE and DATA change the ports, the speed and the data folder.
. "$(dirname "$0")/setup.sh"
need curl curl
. scripts/demo-up.sh
# A new demo has a past: see demo-past.sh.
if [ ! -e "$TIDESTEP_DATA/tidestep.db" ]; then
  (umask 077 && mkdir -p "$TIDESTEP_DATA" && gzip -dc demo/past/tidestep.db.gz >"$TIDESTEP_DATA/tidestep.db")
fi
service_options=(--guide "$work/demo/what-to-try.md")
present
curl -fs -X PUT "http://127.0.0.1:$fleet_port/points" -H 'Content-Type: application/json' -d @demo/past/points.json
# Trouble on purpose: the relay's package arrives broken on one node at first, and one gate does not come back from its first start.
fault '{"node": "ss-rel-2", "verb": "install", "kind": "bad-checksum"}'
fault '{"node": "gate-04-2", "verb": "start", "kind": "fail-once"}'
relay=$("$bin/tidestep" run open "$("$bin/tidestep" plan make --goal "$work/demo/goals/relay.yaml" --format json | digest)" --label "South shore: relay to 3.2")
season=$("$bin/tidestep" run open "$("$bin/tidestep" plan make --goal "$work/demo/goals/season.yaml" --format json | digest)" --label "Tickets to 7.2, gates to 7.1")
minute=$(awk "BEGIN { print 60 / $pace }")
# Four people work on it from now on; what stands above was done by whoever set the demo up.
. scripts/demo-people.sh
people
password=$(cat "$TIDESTEP_DATA/demo-password")
sed -i "s/{relay}/$relay/; s/{password}/$password/; s/{season}/$season/; s/{minute}/$minute/" "$work/demo/what-to-try.md"
echo
echo "Marram Ferries is ready: 75 simulated nodes, one minute of theirs takes $minute s here."
echo
echo "  console:  $("$bin/tidestep" console link)"
echo "            Its page 'What to try' leads through it. Two runs are open. Start 'South shore: relay to 3.2': it halts at ss-rel-2, where the package arrives broken."
echo "            Then try again, or return: the decision stands at the top with its return path."
echo
echo "  people:   Iris Vane administers, Wren Hale plans, Odo Marsh runs the nights, Tamsin Reed signs; the password of each is $password"
echo "            The link above is for whoever set this up, who may do everything but sign. Sign out to come in as one of them."
echo
echo "  terminal: export TIDESTEP_DATA=$TIDESTEP_DATA TIDESTEP_SERVER=$TIDESTEP_SERVER TIDESTEP_CLOCK_AHEAD=$TIDESTEP_CLOCK_AHEAD"
echo "            export TIDESTEP_HOME='$(home_of "Odo Marsh")'      only to be Odo Marsh, who may run and not plan; the others' lie beside"
echo "            bin/tidestep run start $relay --follow      the short one, with its halt"
echo "            bin/tidestep run start $season --follow      the whole season's upgrade: refused, for a node is short of disk"
echo "            curl -X PUT http://127.0.0.1:$fleet_port/nodes/ss-led-3/readings -H 'Content-Type: application/json' \\"
echo "                 -d '{\"component\": \"ledger-south\", \"name\": \"free(\\\"/data\\\")\", \"value\": \"64 GiB\"}'      grows that disk"
echo "            bin/tidestep artefact add $work/demo/artefacts/mended      the gates' image of the wide boards, whole"
echo "            bin/tidestep path --goal demo/goals/season.yaml"
echo "            bin/tidestep plan make --goal demo/goals/boards.yaml      something installed for the first time, with a person's measure"
echo
echo "Ctrl-C ends it all."
while :; do sleep 1 & wait $!; done
