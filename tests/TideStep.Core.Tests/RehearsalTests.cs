using System.Collections.Immutable;
using CsCheck;
using TideStep.Core.Learnt;
using TideStep.Core.Plans;
using TideStep.Core.Rehearsals;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

public sealed class RehearsalTests
{
    private const string Steps = """
        steps:
          stop: {do: {stop: x}, takes: 30 s, safe-after: true}
          put: {do: {install: x, version: "{jump.to}"}, takes: 4 min}
          start: {do: {start: x}, takes: 30 s}
        routines: {leave: [stop], return: [start]}

        """;

    private static Fleet Estate(string windows = "") =>
        (windows.Length == 0 ? new Fleet() : new Fleet().Windows(windows))
            .Node("n[1-3]", "site: s")
            .With("app", "engine", "6", "\"n[1-3]\"", "guard: quorum")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 5 min, settle: 5 min}}, change: [put]}\n"
                    + Steps
            );

    private static (Plan Plan, Core.Estates.Estate Estate) Made(string windows = "", LearntTimes? learnt = null)
    {
        var fleet = Estate(windows);
        return (
            Fleet.Good(
                PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c", learnt: learnt)
            ),
            fleet.Estate
        );
    }

    private static RehearsalWish Wish(params ChosenFault[] faults) =>
        RehearsalWish.Usual with
        {
            FailsPerThousand = 0,
            Faults = [.. faults],
        };

    [Fact]
    public void The_same_seed_gives_the_same_and_another_gives_another()
    {
        var (plan, estate) = Made();
        var one = Rehearsing.Of(plan, estate, Wish());
        var again = Rehearsing.Of(plan, estate, Wish());
        Assert.Equal((one.Early, one.Middle, one.Late), (again.Early, again.Middle, again.Late));
        Assert.NotEqual(one.Middle, Rehearsing.Of(plan, estate, Wish() with { Seed = 7 }).Middle);
        Assert.True(one.Early < one.Middle && one.Middle < one.Late);
        Assert.Equal(1, one.Ended);
        Assert.Empty(one.Broken);
        // Nothing was learnt, so all of it is assumed, and the longest step decides.
        Assert.Equal(1, one.AssumedShare);
        Assert.Equal(("put", true), (one.Deciding[0].Step, one.Deciding[0].Assumed));
        Assert.InRange(one.Middle, plan.Expected * 0.95, plan.Expected * 1.2);
    }

    [Fact]
    public void A_window_that_is_just_long_enough_is_kept_only_sometimes()
    {
        var (plan, estate) = Made("  night: {every: sunday, from: \"01:00\", lasts: 31 min}\n");
        var window = Assert.Single(Rehearsing.Of(plan, estate, Wish()).Windows);
        Assert.InRange(window.Chance, 0.001, 0.9);
        var (roomy, its) = Made("  night: {every: sunday, from: \"01:00\", lasts: 3 h}\n");
        Assert.Equal(1, Rehearsing.Of(roomy, its, Wish()).Chance);
    }

    [Fact]
    public void In_a_later_window_only_the_way_back_to_its_beginning_has_to_fit()
    {
        // Two components, one a window each; the way back to the start would fit into neither's rest.
        var fleet = new Fleet()
            .Windows("  night: {every: sunday, from: \"01:00\", lasts: 2 h}\n")
            .Node("n[1-3]", "site: s")
            .With("app", "engine", "6", "\"n[1-3]\"")
            .Node("m[1-3]", "site: s")
            .With("other", "engine", "6", "\"m[1-3]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 15 min, settle: 5 min}}, change: [put]}\n"
                    + "  to-6: {from: \"=7\", to: \"6\", down: true, methods: {rolling: {member: 15 min, settle: 1 "
                    + "min}}, change: [put]}\n"
                    + Steps
            );
        var plan = Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{product: engine, to: 7}]"), "e", "c"));
        Assert.Equal(2, plan.Windows.Length);
        var last = plan.Blocks.Last(b => b.CheckGuards);
        Assert.True(
            last.Begins + last.Expected + last.Settle + last.Return.Length > plan.Windows[1].To,
            "the whole return would fit: this shows nothing"
        );
        Assert.Null(Entering.Of(plan, last, last.Begins!.Value).Halt);
        Assert.NotNull(Entering.Of(plan, last, plan.Windows[1].To - TimeSpan.FromMinutes(30)).Halt);
        Assert.InRange(Rehearsing.Of(plan, fleet.Estate, Wish() with { Draws = 50 }).Chance, 0.2, 1);
    }

    [Fact]
    public void A_chosen_fault_halts_and_costs_what_a_person_needs_to_decide()
    {
        var (plan, estate) = Made();
        var smooth = Rehearsing.Of(plan, estate, Wish());
        var failing = Rehearsing.Of(
            plan,
            estate,
            Wish(new ChosenFault("n2/put", 1, 1)) with
            {
                Person = TimeSpan.FromHours(1),
            }
        );
        Assert.InRange(failing.Middle - smooth.Middle, TimeSpan.FromMinutes(60), TimeSpan.FromMinutes(70));
        Assert.Equal("app: put: 200 times in 200", Assert.Single(failing.Halts));
        var longer = Rehearsing.Of(plan, estate, Wish(new ChosenFault("put", 0, 3)));
        Assert.InRange(longer.Middle - smooth.Middle, TimeSpan.FromMinutes(20), TimeSpan.FromMinutes(32));
        // Failing for ever it never ends.
        Assert.Equal(0, Rehearsing.Of(plan, estate, Wish(new ChosenFault("put", 100, 1)) with { Draws = 5 }).Ended);
    }

    [Theory]
    [InlineData(0, "put", "1 to 10000 draws")]
    [InlineData(10, "putt", "no step of the plan is called 'putt'")]
    public void A_wish_that_can_t_be_drawn_is_said(int draws, string step, string says) =>
        Assert.Contains(
            says,
            Rehearsing.WrongOf(Wish(new ChosenFault(step, 1, 1)) with { Draws = draws }, Made().Plan)!.What
        );

    [Fact]
    public void What_was_learnt_stands_in_the_plan_and_spreads_the_rehearsal()
    {
        var learnt = new LearntTimes(
            ImmutableSortedDictionary<string, ImmutableArray<double>>
                .Empty.Add("engine/put", [100, 110, 120, 130, 140])
                .Add("engine/stop", [1, 2])
        );
        var (plan, estate) = Made(learnt: learnt);
        var put = plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).First(s => s.Name == "put");
        Assert.Equal(
            (TimeSpan.FromMinutes(2), 5, "learnt from 5 times: mostly 1 min 44 s to 2 min 16 s"),
            (put.Expected, put.Learnt!.Times, put.Reckoning)
        );
        Assert.All(plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Where(s => s.Name == "stop"), s =>
            Assert.Null(s.Learnt)
        ); // twice is not enough
        // The path is chosen as before.
        Assert.Equal(Made().Plan.Moves.Select(m => m.Takes), plan.Moves.Select(m => m.Takes));
        Assert.InRange(Rehearsing.Of(plan, estate, Wish()).AssumedShare, 0.1, 0.9);
    }

    [Fact]
    public void A_run_teaches_only_what_went_by_itself_at_its_own_pace()
    {
        var (plan, _) = Made();
        var state = Done(plan, 1);
        var learnt = LearntTimes.None.With(state, _ => "engine");
        Assert.Equal(3, learnt.Seconds["engine/put"].Length);
        Assert.Empty(LearntTimes.None.With(Done(plan, 600), _ => "engine").Seconds);
        for (var i = 0; i < 30; i++)
            learnt = learnt.With(state, _ => "engine");
        Assert.Equal(LearntTimes.Kept, learnt.Seconds["engine/put"].Length);
    }

    private static RunState Done(Plan plan, double pace)
    {
        var (state, now) = (new RunState(plan), DateTimeOffset.UnixEpoch);
        void Say(RunEvent e) =>
            state.Apply(new JournalEntry("r", state.Sequence + 1, 1, now += TimeSpan.FromSeconds(2), e));
        Say(new Opened(plan.Digest, "", "Wren", null));
        Say(new Started("Wren") { Pace = pace });
        foreach (var step in plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps))
        {
            Say(new StepBegun(step.Id));
            Say(new StepDone(step.Id, DoneHow.Done));
        }
        return state;
    }

    [Fact]
    public void The_spread_of_times_lies_where_they_do() =>
        Gen.Double[0.1, 1000]
            .List[1, 60]
            .Sample(seconds =>
            {
                var spread = LearntTimes.Of(seconds);
                Assert.True(spread.Low <= spread.Median && spread.Median <= spread.High);
                Assert.InRange(spread.Median.TotalSeconds, seconds.Min() - 0.1, seconds.Max() + 0.1);
                Assert.True(seconds.Count(s => s <= spread.High.TotalSeconds + 0.1) >= 0.9 * seconds.Count - 1);
            });

    [Fact]
    public void A_report_of_a_test_estate_is_evidence_only_for_the_same_steps_and_jumps()
    {
        var (plan, _) = Made();
        var report = RunReport.Of("r1", Ended(plan), []) with { Estate = "elsewhere" };
        RunReport As(Func<ReportStep, ReportStep> change) => report with { Steps = [.. report.Steps.Select(change)] };
        Assert.True(
            TestEvidenceRules
                .Of(plan, report, ImmutableDictionary<string, string>.Empty, "Wren", DateTimeOffset.UnixEpoch)
                .Ok
        );
        var mapped = report with
        {
            Jumps = [.. report.Jumps.Select(j => j with { Component = "app-test" })],
            Steps = [.. report.Steps.Select(s => s with { Component = "app-test" })],
        };
        Assert.True(
            TestEvidenceRules
                .Of(
                    plan,
                    mapped,
                    new Dictionary<string, string> { ["app"] = "app-test" },
                    "Wren",
                    DateTimeOffset.UnixEpoch
                )
                .Ok
        );
        void Refused(RunReport wrong, string says) =>
            Assert.Contains(
                TestEvidenceRules
                    .Of(plan, wrong, ImmutableDictionary<string, string>.Empty, "Wren", DateTimeOffset.UnixEpoch)
                    .Problems,
                p => p.What.Contains(says, StringComparison.Ordinal)
            );
        Refused(mapped, "the report moves no component 'app'");
        Refused(report with { Estate = plan.Estate }, "in the plan's own estate");
        Refused(report with { End = "returned" }, "it is returned");
        Refused(As(s => s.Step == "put" ? s with { Digest = "0" } : s), "its step 'put' was another one there");
        Refused(
            report with
            {
                Steps = [.. report.Steps.Where(s => s.Step != "stop")],
            },
            "its step 'stop' was not taken there"
        );
        Refused(report with { Jumps = [report.Jumps[0] with { To = "8" }] }, "app went 6 to 8, the plan goes 6 to 7");
    }

    private static RunState Ended(Plan plan)
    {
        var state = Done(plan, 1);
        state.Apply(new JournalEntry("r", state.Sequence + 1, 1, state.LastAt, new Ended(RunEnd.Completed)));
        return state;
    }
}
