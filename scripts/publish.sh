#!/usr/bin/env bash
# Builds the three programs into bin/, with the console beside the service.
. "$(dirname "$0")/setup.sh"
for project in Service Cli StandIn; do
  dotnet publish "src/TideStep.$project" -c Release -p:PublishReadyToRun=true -o bin -v q --nologo 2>&1 | { grep -E "error|warn" || true; }
done
rm -rf bin/console
[ -d console/dist ] && cp -r console/dist bin/console
touch bin/tidestep
