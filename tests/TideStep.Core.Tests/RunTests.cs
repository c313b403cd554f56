using System.Text.Json;
using CsCheck;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Tests;

public sealed class RunTests
{
    private const string Steps =
        "steps:\n  stop: {do: {stop: x}, safe-after: true}\n  quiet: {do: {command: [quiet]}, undo: "
        + "{command: [loud]}}\n  put: {do: {install: x, version: \"{jump.to}\"}}\n"
        + "  start: {do: {start: x}}\nroutines: {leave: [stop], return: [start]}\n";

    private static readonly Plan ThePlan = Make();

    private static Plan Make()
    {
        var fleet = new Fleet()
            .Node("a[1-3]")
            .With("app", "engine", "6", "\"a[1-3]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 1 min, settle: 1 min}}, change: [quiet, put]}\n"
                    + Steps
            );
        return Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));
    }

    /// <summary>Carries a run in memory: every piece of work succeeds but for the steps named.</summary>
    private sealed class Carrier(Func<string, int, bool> succeeds)
    {
        private readonly Dictionary<string, int> _tries = [];
        public List<JournalEntry> Journal { get; } = [];
        public RunState State { get; private set; } = new(ThePlan);
        public List<(string Step, bool Undo)> Effects { get; } = [];

        public void Append(RunEvent e)
        {
            Journal.Add(
                new JournalEntry("r", Journal.Count + 1, 1, DateTimeOffset.UnixEpoch.AddSeconds(Journal.Count), e)
            );
            State.Apply(Journal[^1]);
        }

        public void Start()
        {
            Append(new Opened(ThePlan.Digest, "", "Wren", null));
            Append(new Started("Wren"));
        }

        public bool Step()
        {
            var work = NextWork.Of(State);
            if (work.IsEmpty)
                return false;
            switch (work[0])
            {
                case Append append:
                    Append(append.Event);
                    break;
                case CheckGuards guards:
                    Append(new GuardsChecked(guards.Block, true, ""));
                    break;
                case WatchSettling settling:
                    Append(new BlockSettled(settling.Block));
                    break;
                case ReadOnceMore:
                    Append(new ReadAgain("a break", []));
                    break;
                case ReadAfter:
                    Append(new MembersRead("after", State.Before));
                    break;
                case TakeBack back:
                    Effects.Add((back.Step, true));
                    Append(new MeasureTakenBack(back.Step));
                    break;
                case DoStep step:
                    if (State.Of(step.Step).Status == StepStatus.Pending)
                    {
                        Append(new StepBegun(step.Step));
                        break;
                    }
                    var tries = _tries[step.Step] = _tries.GetValueOrDefault(step.Step) + 1;
                    Effects.Add((step.Step, false));
                    Append(new Intended(step.Step, $"a{Journal.Count}", tries, "n", false));
                    var good = succeeds(step.Step, tries);
                    Append(
                        new AttemptEnded(
                            step.Step,
                            State.Of(step.Step).Attempts[^1].Id,
                            good ? AttemptEnd.Succeeded : AttemptEnd.Failed,
                            good ? 0 : 1,
                            "",
                            false
                        )
                    );
                    Append(good ? new StepDone(step.Step, DoneHow.Done) : new StepFailed(step.Step, "failed"));
                    break;
            }
            return true;
        }

        public void ToRest()
        {
            for (var i = 0; Step(); i++)
                Assert.True(i < 1000);
        }
    }

    [Fact]
    public void A_run_without_trouble_does_every_step_once_in_the_plans_order()
    {
        var carrier = new Carrier((_, _) => true);
        carrier.Start();
        carrier.ToRest();
        Assert.Equal(RunStatus.Completed, carrier.State.Status);
        Assert.Equal(
            ThePlan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => s.Id),
            carrier.Effects.Where(e => !e.Undo).Select(e => e.Step)
        );
        Assert.Empty(carrier.State.Measures);
    }

    [Fact]
    public void A_failure_halts_before_anything_else_leaves_service()
    {
        var carrier = new Carrier((step, _) => !step.Contains("/a2/put"));
        carrier.Start();
        carrier.ToRest();
        Assert.Equal(RunStatus.Halted, carrier.State.Status);
        Assert.DoesNotContain(carrier.Effects, e => e.Step.Contains("/a3/"));
        Assert.Single(carrier.State.Measures);
        Assert.Equal(MemberState.Failed, carrier.State.MemberStateOf("app/a2"));
        Assert.Equal(MemberState.Leaving, ThePlan.Step("m1/w2/leave/app/a2/stop").State);
    }

    [Fact]
    public void Whichever_way_a_run_ends_its_measures_are_taken_back()
    {
        foreach (var decision in new[] { DecisionKind.StopHere, DecisionKind.TryAgain })
        {
            var carrier = new Carrier((step, tries) => !step.Contains("/a2/put") || tries > 1);
            carrier.Start();
            carrier.ToRest();
            carrier.Append(new Decided(decision, "Wren", null, null));
            carrier.ToRest();
            Assert.NotNull(carrier.State.End);
            Assert.Empty(carrier.State.Measures);
            Assert.Equal(
                carrier.Effects.Count(e => e.Step.EndsWith("/quiet", StringComparison.Ordinal) && !e.Undo),
                carrier.Effects.Count(e => e.Undo)
            );
        }
    }

    [Fact]
    public void The_state_is_the_fold_of_the_journal_at_every_entry() =>
        Gen.Int[0, 60]
            .Sample(
                failAt =>
                {
                    var count = 0;
                    var carrier = new Carrier((_, tries) => tries > 1 || count++ != failAt % 14);
                    carrier.Start();
                    while (true)
                    {
                        var copy = RunState.Fold(
                            ThePlan,
                            carrier.Journal.Select(e =>
                                JsonSerializer.Deserialize<JournalEntry>(
                                    JsonSerializer.Serialize(e, Json.Options),
                                    Json.Options
                                )!
                            )
                        );
                        Assert.Equal(NextWork.Of(carrier.State), NextWork.Of(copy));
                        Assert.Equal(carrier.State.Status, copy.Status);
                        if (carrier.Step())
                            continue;
                        if (carrier.State.Status != RunStatus.Halted)
                            break;
                        carrier.Append(new Decided(DecisionKind.TryAgain, "Wren", null, null));
                    }
                    Assert.Equal(RunStatus.Completed, carrier.State.Status);
                },
                iter: 30
            );

    [Fact]
    public void A_plan_made_twice_is_equal_byte_for_byte_and_survives_its_own_json()
    {
        var again = Make();
        Assert.Equal(Json.Canonical(ThePlan), Json.Canonical(again));
        var read = JsonSerializer.Deserialize<Plan>(Json.Canonical(ThePlan), Json.Options)!;
        Assert.Equal(ThePlan.Digest, read.Digest);
    }

    [Fact]
    public void Orders_fit_the_state_they_are_given_in()
    {
        var carrier = new Carrier((step, _) => !step.Contains("/a2/put"));
        Assert.NotNull(Orders.Hold(carrier.State, "Wren").Refused);
        carrier.Start();
        Assert.Null(Orders.Hold(carrier.State, "Wren").Refused);
        Assert.NotNull(Orders.Decide(carrier.State, DecisionKind.TryAgain, "Wren", null, null).Refused);
        carrier.ToRest();
        Assert.NotNull(Orders.Hold(carrier.State, "Wren").Refused);
        Assert.Null(Orders.Decide(carrier.State, DecisionKind.StopHere, "Wren", null, null).Refused);
        carrier.Append(new Decided(DecisionKind.StopHere, "Wren", null, null));
        Assert.NotNull(Orders.Decide(carrier.State, DecisionKind.StopHere, "Wren", null, null).Refused);
    }

    [Fact]
    public void Every_kind_of_entry_has_words_of_its_own_in_the_log()
    {
        var kinds = typeof(RunEvent)
            .GetCustomAttributes(typeof(System.Text.Json.Serialization.JsonDerivedTypeAttribute), false)
            .Cast<System.Text.Json.Serialization.JsonDerivedTypeAttribute>()
            .Select(a => a.DerivedType)
            .ToList();
        Assert.True(kinds.Count > 40);
        foreach (var kind in kinds)
        {
            string words;
            // An entry without contents stumbles over them only where it has words; one without words is told by its
            // name.
            try
            {
                words = RunLogText.Words(
                    (RunEvent)System.Runtime.CompilerServices.RuntimeHelpers.GetUninitializedObject(kind),
                    TimeZoneInfo.Utc
                );
            }
            catch (Exception e) when (e is NullReferenceException or ArgumentNullException or InvalidOperationException)
            {
                continue;
            }
            Assert.NotEqual(kind.Name, words);
        }
    }

    [Fact]
    public void The_log_says_when_in_the_zone_it_is_asked_for_and_whose_word_it_was()
    {
        var zone = TimeZoneInfo.FindSystemTimeZoneById("Europe/London");
        Assert.Equal(
            $"waits for its hour, Sun {Nights.On(-147)} 02:00 +01:00",
            RunLogText.Words(new WindowAwaited(2, Nights.At(-147, 1)), zone)
        );
        Assert.Equal(
            "decided by Wren Hale's standing order: try again, m1/put (the disk was full)",
            RunLogText.Words(
                new Decided(DecisionKind.TryAgain, "Wren Hale", "the disk was full", null)
                {
                    Step = "m1/put",
                    Standing = true,
                },
                zone
            )
        );
        Assert.Equal(
            "m1/put ended with status 28 (a1)",
            RunLogText.Words(new AttemptEnded("m1/put", "a1", AttemptEnd.Failed, 28, "no room", false), zone)
        );
    }

    [Theory]
    [InlineData(50, false)]
    [InlineData(70, true)]
    public void After_a_person_took_long_over_a_step_the_members_are_read_again(int minutes, bool again)
    {
        var fleet = new Fleet()
            .Node("n[1-2]", "site: s")
            .With("app", "engine", "6", "\"n[1-2]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 1 min}}, change: [look]}\nsteps:\n  look: {do: {person: look at it}}\n"
            );
        var plan = Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));
        var (state, at) = (new RunState(plan), Nights.At(0, 1));
        void Say(params RunEvent[] events)
        {
            foreach (var e in events)
                state.Apply(new JournalEntry("r", state.Sequence + 1, 1, at, e));
        }
        var step = plan.Blocks[0].Lanes[0].Steps.First(s => s.Name == "look").Id;
        Say(
            new Opened(plan.Digest, "", "Wren", null),
            new Started("Wren"),
            new BlockEntered(1),
            new GuardsChecked(1, true, ""),
            new StepBegun(step)
        );
        at += TimeSpan.FromMinutes(minutes);
        Say(new PersonSigned(step, "Wren", "seen"), new StepDone(step, DoneHow.Signed));
        Assert.Equal(again, NextWork.Of(state).Any(w => w is ReadOnceMore));
    }
}
