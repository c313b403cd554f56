#!/usr/bin/env bash
# Takes the pictures of docs/screenshots anew: pages as the browser tests see them, commands as a terminal shows them.
# What is taken has to be looked at by somebody before it is kept.
. "$(dirname "$0")/setup.sh"
need chromium chromium
need Xvfb xvfb
need xterm xterm
need import imagemagick
need fc-list fontconfig fonts-dejavu-core
shots=$PWD/docs/screenshots
taken=$(mktemp -d)
dotnet build tests/TideStep.Browser -c Release -v q --nologo
TIDESTEP_PICTURES=$taken tests/TideStep.Browser/bin/Release/net10.0/TideStep.Browser -noColor \
  -class TideStep.Browser.ConsoleTests -class TideStep.Browser.GuideTests -class TideStep.Browser.EstateTests \
  -class TideStep.Browser.DocumentsTests -class TideStep.Browser.PersonsPageTests \
  -class TideStep.Browser.AfterwardsPageTests -class TideStep.Browser.CatalogueTests | tail -2
for page in now run halt halt-choice plan-page findings path-page catalogue estate map document person-step afterwards rehearsal import; do
  if [ -e "$taken/$page.png" ]; then cp "$taken/$page.png" "$shots/$page.png"; else echo "not taken: $page"; fi
done

PORT=${PORT:-7590} FLEET_PORT=${FLEET_PORT:-7591}
. scripts/demo-up.sh
Xvfb :77 -screen 0 1280x800x24 >/dev/null 2>&1 & display=$!
trap 'kill $display 2>/dev/null || true; end' EXIT
present >/dev/null
# terminal NAME COMMANDS: what the commands print, in a window of their own; it is taken once they have ended
terminal() {
  rm -f "$work/over"
  DISPLAY=:77 xterm -fa "DejaVu Sans Mono" -fs 11 -geometry 138x46+0+0 -bg "#fbfbf9" -fg "#1d2528" -b 12 +sb \
    -e bash -c "cd '$PWD'; PATH='$bin':\$PATH; PS1=; $2; touch '$work/over'; sleep 30" & local window=$!
  for _ in $(seq 600); do [ -e "$work/over" ] && break; sleep 0.1; done
  sleep 1
  DISPLAY=:77 import -window root "$shots/$1.png"
  kill $window
  wait $window 2>/dev/null || true
}
say() { printf "echo '$ %s'; %s; " "$1" "$1"; }
terminal path "$(say 'tidestep path --goal demo/goals/season.yaml')"
plan=$("$bin/tidestep" plan make --goal demo/goals/season.yaml --format json | digest)
terminal plan "$(say "tidestep plan show ${plan:7:10} | head -44")"
printf '| Knot | 6.8 | 6.14 | 7.0 | 7.2 |\n|---|---|---|---|---|\n| 4.0 | yes | yes | no | yes |\n' >"$work/meets.md"
terminal catalogue-terminal "cd '$work'; $(say 'tidestep catalogue import meets.md --product knot --other curlew --relation inside')echo; \
  $(say 'tidestep catalogue matrix curlew dunlin')echo; $(say 'tidestep catalogue changes curlew 6.8 7.2')"
fault '{"node": "ss-rel-2", "verb": "install", "kind": "bad-checksum"}'
run=$("$bin/tidestep" run open "$("$bin/tidestep" plan make --goal demo/goals/relay.yaml --format json | digest)" --label "South shore: relay to 3.2")
terminal follow "$(say "tidestep run start $run --follow")"
