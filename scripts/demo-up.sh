# Sourced: starts the stand-in fleet and the service on the demo estate, and ends both with the script.
bin=$PWD/bin
port=${PORT:-7470} fleet_port=${FLEET_PORT:-7471} pace=${PACE:-60}
work=$(mktemp -d)
# The story is told on its planning day, whatever day it is: all programs take their time from there.
clock_at() { export TIDESTEP_CLOCK_AHEAD=$(($(date -d "$1" +%s) - $(date +%s))); }
clock_at "$(cat demo/planning-day)"
export TIDESTEP_DATA=${DATA:-$work/data} TIDESTEP_HOME=$work TIDESTEP_SERVER=http://127.0.0.1:$port TIDESTEP_NAME=${TIDESTEP_NAME:-Wren Hale}
fleet_pid= service_pid= service_options=()

service_down() { kill $service_pid 2>/dev/null && wait $service_pid 2>/dev/null || true; }
fleet_down() { kill $fleet_pid 2>/dev/null && wait $fleet_pid 2>/dev/null || true; }
end() {
  trap - EXIT INT TERM
  service_down
  fleet_down
  rm -rf "$work"
}
trap end EXIT
trap 'exit 130' INT TERM

taken() { (exec 3<>"/dev/tcp/127.0.0.1/$1") 2>/dev/null; }
for pair in "$port:PORT" "$fleet_port:FLEET_PORT"; do
  if taken "${pair%:*}"; then echo "port ${pair%:*} is taken; choose another: make $(basename "$0" .sh) ${pair#*:}=$((${pair%:*} + 100))" >&2; exit 3; fi
done

# The documents name the fleet's address; another port is written into copies of them.
mkdir -p "$work/demo"
cp -r demo/* "$work/demo/"
sed -i "s/127.0.0.1:7471/127.0.0.1:$fleet_port/" "$work/demo/estate.yaml"
answers() { for _ in $(seq 300); do curl -fs -o /dev/null "$1" && return 0; sleep 0.05; done; cat "$work"/*.log >&2; return 1; }
# fleet READINGS PACE: the stand-in fleet, as the readings say that it is.
fleet() {
  "$bin/tidestep-standin" --estate "$work/demo/estate.yaml" --readings "$1" --port "$fleet_port" --pace "$2" >"$work/fleet.log" 2>&1 &
  fleet_pid=$!
  answers "http://127.0.0.1:$fleet_port/"
}
# service PACE [OPTIONS...]
service() {
  "$bin/tidestep-service" --port "$port" --pace "$@" >"$work/service.log" 2>&1 &
  service_pid=$!
  answers "$TIDESTEP_SERVER/health/ready"
}
digest() { sed -n 's/^  "digest": "\(.*\)",/\1/p'; }
fault() { curl -fs -X POST "http://127.0.0.1:$fleet_port/faults" -H 'Content-Type: application/json' -d "$1"; }
grow() { curl -fs -X PUT "http://127.0.0.1:$fleet_port/nodes/ss-led-3/readings" -H 'Content-Type: application/json' -d '{"component": "ledger-south", "name": "free(\"/data\")", "value": "64 GiB"}'; }
# present: as things stand on the planning day.
present() {
  fleet "$work/demo/readings.yaml" "$pace"
  service "$pace" "${service_options[@]}"
  "$bin/tidestep" estate import "$work/demo/estate.yaml" "$work/demo/catalogue" "$work/demo/readings.yaml" >/dev/null
  "$bin/tidestep" artefact add "$work/demo/artefacts" >/dev/null
  "$bin/tidestep" survey take
}
