#!/usr/bin/env bash
# Makes the C# client's shapes anew from docs/formats/openapi.json: what the service answers and Core does not hold.
# --check says whether they are as they should be.
. "$(dirname "$0")/setup.sh"
shapes=(
  ArtefactLine AskedInView FetchStanding FollowUpLine InvitedView KeepingTimes KeptRehearsal LackView LibraryView
  MadeToken MeView MemberView MissingLine NoticeLine NoticeRuleLine PersonView PlanLine PlanSignOffs PlanView
  PointAnswer PointView ReadingLine ReadingThen RebuiltView RecordLineView RecordVerdict RehearsalsView ReturnPathView
  RoundView ScheduleView SealedAnew SignedIn StagingLine StagingView SurveyLine SurveyProgress TimeLine TokenView
)
dotnet tool restore >/dev/null
made=$(mktemp --suffix .cs)
trap 'rm -f "$made"' EXIT
others=$(SHAPES="${shapes[*]}" node -e '
  const all = Object.keys(require("./docs/formats/openapi.json").components.schemas);
  const ours = process.env.SHAPES.split(" ");
  const gone = ours.filter((s) => !all.includes(s));
  if (gone.length) throw new Error("the document has no shape " + gone.join(", "));
  console.log(all.filter((s) => !ours.includes(s)).join(","));')
known=$(grep -rhoE '^namespace TideStep\.Core[A-Za-z.]*' src/TideStep.Core --include='*.cs' | cut -d' ' -f2 | sort -u | paste -sd,)
dotnet nswag openapi2csclient /input:docs/formats/openapi.json "/output:$made" /namespace:TideStep.Client.Shapes \
  /generateClientClasses:false /jsonLibrary:SystemTextJson /classStyle:Record /generateNullableReferenceTypes:true \
  /generateOptionalPropertiesAsNullable:true /generateDataAnnotations:false /arrayType:System.Collections.Generic.IReadOnlyList \
  "/excludedTypeNames:$others" "/additionalNamespaceUsages:$known" >/dev/null
sed -i -e 's/\r$//' -e '/Generated using the/d' "$made"
kept=src/TideStep.Client/Shapes.g.cs
if [ "${1:-}" = --check ]; then
  cmp -s "$made" $kept || { echo "$kept is not what the OpenAPI document says: run scripts/client.sh" >&2; exit 1; }
else
  cp "$made" $kept
fi
