using TideStep.Core.Catalogue;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Core.Tests;

/// <summary>What becomes of rollback points after their run: used, void, expired, given up, and who may say so
/// when.</summary>
public sealed class PointLifeTests
{
    private static readonly DateTimeOffset Start = Nights.At(0, 1);

    private static Fleet Of(
        string points = "{capture: save, while: stopped, serves: 14 d, settle: 2 d}",
        string change = "[put]",
        string more = ""
    ) =>
        new Fleet()
            .Node("n[1-2]", "site: s")
            .With("app", "engine", "6", "\"n[1-2]\"")
            .Product(
                "engine",
                $$$"""
                releases: {"6": {}, "7": {}}
                jumps:
                  to-7: {from: "=6", to: "7", methods: {rolling: {member: 1 min, settle: 1 min}},
                      change: {{{change}}}, points: [{{{points}}}]}
                routines: {restore: {save: [load]}{{{more}}}}
                steps:
                  put: {do: {install: x, version: "{jump.to}"}}
                  wipe: {do: {command: [wipe]}, voids: [save]}
                  save: {do: {capture: save}}
                  try: {do: {command: [try, "{point.place}"]}}
                  load: {do: {command: [load, "{point.place}"]}}

                """
            );

    private static Plan PlanOf(Fleet fleet) =>
        Fleet.Good(PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: app, to: 7}]"), "e", "c"));

    /// <summary>Plays a plan to its end, or to the step before which somebody stops it.</summary>
    private static RunState Play(
        Plan plan,
        string run = "r1",
        double dayOfStart = 0,
        string place = "",
        string? stopBefore = null
    )
    {
        var (state, now) = (new RunState(plan), Start.AddDays(dayOfStart));
        void Say(params RunEvent[] events)
        {
            foreach (var e in events)
                state.Apply(new JournalEntry(run, state.Sequence + 1, 1, now += TimeSpan.FromSeconds(1), e));
        }
        Say(
            new Opened(plan.Digest, "Engine", "Wren Hale", null),
            new MembersRead("before", plan.Premises.Running),
            new Started("Wren Hale")
        );
        for (var round = 0; state.End is null && round < 200; round++)
            foreach (var work in NextWork.Of(state))
            {
                if (
                    work is DoStep at
                    && stopBefore is not null
                    && plan.Step(at.Step).Name == stopBefore
                    && state.Of(at.Step).Status == StepStatus.Pending
                )
                    return state;
                switch (work)
                {
                    case Append append:
                        Say(append.Event);
                        break;
                    case DoStep step when plan.Step(step.Step).Point is { } point:
                        Say(
                            new StepBegun(step.Step),
                            new PointCaptured(step.Step, point, $"/points/{point}{place}", 1 << 20, "0", 1),
                            new PointVerified(point, "read again"),
                            new StepDone(step.Step, DoneHow.Done)
                        );
                        break;
                    case DoStep step when state.Of(step.Step).Status != StepStatus.Done:
                        Say(
                            new StepBegun(step.Step),
                            new Intended(step.Step, "a" + state.Sequence, 1, "n", false),
                            new StepDone(step.Step, DoneHow.Done)
                        );
                        break;
                    case CheckGuards guards:
                        Say(new GuardsChecked(guards.Block, true, ""));
                        break;
                    case WatchSettling settling:
                        Say(new BlockSettled(settling.Block));
                        break;
                    case ReadOnceMore:
                        Say(new ReadAgain("a break", []));
                        break;
                    case ReadAfter:
                        Say(new MembersRead("after", plan.Premises.Running));
                        break;
                }
            }
        Assert.NotNull(state.End);
        return state;
    }

    private static string[] States(IEnumerable<PointLine> lines) =>
        [.. lines.OrderBy(l => l.Point.CapturedAt).Select(l => l.Point.State!)];

    [Fact]
    public void A_point_serves_till_its_time_is_over_and_its_component_settles_before()
    {
        var state = Play(PlanOf(Of()));
        var now = state.EndedAt!.Value;
        var all = PointLife.Of([("r1", state)], now);
        Assert.Equal(["usable", "usable"], States(all));
        Assert.All(all, l => Assert.Equal((now.AddDays(14), now.AddDays(2)), (l.Until!.Value, l.Settled!.Value)));
        // Each is the last of its member: two days nobody gives it up, then anybody may.
        Assert.All(all, l => Assert.Contains("settles till", PointLife.Refusal(l, all, true, null, now)!.What));
        Assert.All(all, l => Assert.Null(PointLife.Refusal(l, all, true, null, now.AddDays(2))));
        Assert.Contains("at work and may need", PointLife.Refusal(all[0], all, false, null, now.AddDays(3))!.What);
        Assert.Equal("run r9 works on app", PointLife.Refusal(all[0], all, true, "r9", now.AddDays(3))!.What);
        var late = PointLife.Of([("r1", state)], now.AddDays(14));
        Assert.Equal(["expired", "expired"], States(late));
        Assert.All(late, l =>
        {
            Assert.False(l.Point.LeadsBack);
            Assert.True(l.TakesRoom);
            Assert.Null(PointLife.Refusal(l, late, true, null, now.AddDays(14)));
        });
    }

    [Fact]
    public void What_is_kept_is_the_last_set_that_leads_back_not_any_point()
    {
        var plan = PlanOf(Of().Product("engine", ProductWithTwin));
        var (first, second) = (Play(plan), Play(plan, "r2", 1, "-r2"));
        var now = second.EndedAt!.Value;
        var all = PointLife.Of([("r1", first), ("r2", second)], now);
        Assert.Equal(8, all.Length);
        // With two whole sets either may go; with one, no point of it may.
        Assert.All(all, l => Assert.Null(PointLife.Refusal(l, all, true, null, now)));
        var one = PointLife.Of([("r2", second)], now);
        Assert.All(one, l => Assert.Contains("last set", PointLife.Refusal(l, one, true, null, now)!.What));
        // A set of which one is given up, before or in the same word, leads nowhere and stands in for nothing.
        var twins = all.Where(l => l is { Run: "r1", Point.Planned.Kind: "twin" });
        var left = PointLife.Without(all, twins).ToList();
        Assert.All(left.Where(l => l.Run == "r2"), l => Assert.NotNull(PointLife.Refusal(l, left, true, null, now)));
    }

    private const string ProductWithTwin = """
        releases: {"6": {}, "7": {}}
        jumps:
          to-7: {from: "=6", to: "7", methods: {rolling: {member: 1 min, settle: 1 min}}, change: [put],
              points: [{capture: save, while: stopped}, {capture: twin, while: stopped}]}
        routines: {restore: {save: [put], twin: [put]}}
        steps: {put: {do: {install: x, version: "{jump.to}"}}, save: {do: {capture: save}}, twin: {do: {capture: twin}}}

        """;

    [Fact]
    public void A_later_capture_in_the_same_place_leaves_nothing_of_the_earlier()
    {
        var (first, second) = (Play(PlanOf(Of())), Play(PlanOf(Of()), "r2", 1));
        var all = PointLife.Of([("r2", second), ("r1", first)], second.EndedAt!.Value);
        Assert.Equal(["void", "void", "usable", "usable"], States(all));
        Assert.All(all.Where(l => l.Run == "r1"), l =>
        {
            Assert.Equal("written over by run r2", l.Point.Why);
            Assert.False(l.TakesRoom);
            Assert.Contains("Nothing is left", PointLife.Refusal(l, all, true, null, second.EndedAt.Value)!.Hint);
        });
        Assert.Equal(
            ["usable", "usable", "usable", "usable"],
            States(PointLife.Of([("r1", first), ("r2", Play(PlanOf(Of()), "r2", 1, "-r2"))], second.EndedAt.Value))
        );
    }

    [Fact]
    public void A_step_that_voids_a_capture_does_so_from_its_intent_on_and_the_return_path_knows_it()
    {
        var plan = PlanOf(Of(change: "[put, wipe]"));
        var state = Play(plan);
        Assert.All(state.Points.Values, p => Assert.Equal(("void", false), (p.State!, p.LeadsBack)));
        Assert.Contains(state.Points.Values, p => p.Why == "void by wipe on n1");
        // After the first wave its point is void and nothing brings its member back; without the step everything is
        // open.
        Assert.Equal(ReturnState.Closed, plan.Blocks.First(b => b.Phase == Phase.Roll).Return.State);
        Assert.NotEqual(ReturnState.Closed, PlanOf(Of()).Blocks.First(b => b.Phase == Phase.Roll).Return.State);
        // A later run's step voids what an earlier one captured elsewhere.
        var all = PointLife.Of([("r1", Play(PlanOf(Of()))), ("r2", Play(plan, "r2", 1, "-r2"))], Start.AddDays(2));
        Assert.All(all.Where(l => l.Run == "r1"), l =>
        {
            Assert.Equal("void", l.Point.State);
            Assert.EndsWith("in run r2", l.Point.Why);
            Assert.True(l.TakesRoom);
        });
    }

    [Theory]
    [InlineData("inside: [app]", "engine/save", "void")]
    [InlineData("", "engine/save", "usable")]
    [InlineData("inside: [app]", "save", "usable")]
    public void What_helpers_do_later_may_make_a_point_of_their_host_void(string relation, string voids, string state)
    {
        // A helper that stands beside its host under no roof of its own: once it has converted, a capture of the host
        // alone leads nowhere.
        var fleet = Of()
            .With("helper", "addon", "1", "\"n[1-2]\"", relation)
            .Product(
                "addon",
                $$$"""
                releases: {"1": {}, "2": {}}
                jumps:
                  to-2: {from: "=1", to: "2", methods: {offline: {outage: 1 min} }, change: [convert]}
                  to-1: {from: "=2", to: "1", down: true, methods: {offline: {outage: 1 min} }, change: [put-back]}
                steps: {put-back: {do: {command: [put-back]} },
                    convert: {do: {command: [convert]}, voids: [{{{voids}}}] }, save: {do: {capture: save} } }

                """
            );
        Assert.Empty(CatalogueReview.Of(fleet.Catalogue).Where(f => f.What.Contains("void", StringComparison.Ordinal)));
        var helper = Fleet.Good(
            PlanMaker.Make(fleet.Index(), fleet.Path("goal: [{component: helper, to: 2}]"), "e", "c")
        );
        var all = PointLife.Of([("r1", Play(PlanOf(fleet))), ("r2", Play(helper, "r2", 1, "-r2"))], Start.AddDays(2));
        Assert.All(all.Where(l => l.Run == "r1"), l => Assert.Equal(state, l.Point.State));
        // In one run, the return path after the helper's move knows it as well.
        var both = Fleet.Good(
            PlanMaker.Make(
                fleet.Index(),
                fleet.Path("goal: [{component: app, to: 7}, {component: helper, to: 2}]"),
                "e",
                "c"
            )
        );
        var played = Play(both);
        Assert.Equal(["app", "helper"], both.Moves.Select(m => m.Component));
        Assert.All(played.Points.Values, p => Assert.Equal(state, p.State));
        Assert.Equal(state == "void", both.Blocks[^1].Return.State == ReturnState.Closed);
    }

    [Theory]
    [InlineData("nobody/save", "which is no product of the catalogue")]
    [InlineData("engine/put", "which captures nothing there")]
    public void Another_products_capture_that_is_none_is_found_when_the_catalogue_is_looked_through(
        string voids,
        string why
    )
    {
        var fleet = Of()
            .Product(
                "addon",
                $"releases: {{\"1\": {{}}, \"2\": {{}}}}\njumps: {{to-2: {{from: \"=1\", to: \"2\", methods: "
                    + $"{{offline: {{outage: 1 min}}}}, change: [convert]}}}}\n"
                    + $"steps: {{convert: {{do: {{command: [convert]}}, voids: [{voids}]}}}}\n"
            );
        Assert.Contains(CatalogueReview.Of(fleet.Catalogue), f => f.What.Contains(why, StringComparison.Ordinal));
    }

    [Fact]
    public void What_a_return_brought_back_is_used()
    {
        var fleet = Of();
        var state = Play(PlanOf(fleet));
        var back = ReturnPlanner.Make(fleet.Index(), "r1", state, 1, "e", "c");
        Assert.True(back.Ok, string.Join("; ", back.Problems));
        var returned = Play(back.Value!, "r2", 1);
        Assert.Equal(
            ["used", "used"],
            States(PointLife.Of([("r1", state), ("r2", returned)], returned.EndedAt!.Value))
        );
        Assert.Equal(
            ["usable", "usable"],
            States(
                PointLife.Of(
                    [("r1", state), ("r2", Play(back.Value!, "r2", 1, stopBefore: "load"))],
                    returned.EndedAt.Value
                )
            )
        );
        // Points that are gone lead nowhere, whatever the run's own journal says.
        Assert.False(
            ReturnPlanner.Make(fleet.Index(), "r1", state, 1, "e", "c", useless: state.Points.Keys.ToHashSet()).Ok
        );
    }

    [Fact]
    public void A_point_given_up_stays_in_the_list_and_leads_nowhere()
    {
        var fleet = Of();
        var state = Play(PlanOf(fleet));
        var (first, at) = (state.Points.Keys.First(), state.EndedAt!.Value.AddDays(3));
        state.Apply(
            new JournalEntry(
                "r1",
                state.Sequence + 1,
                2,
                at,
                new PointGivingUp(first, "Ida Moss", "room is short", "g1")
            )
        );
        Assert.Equal(
            ("giving up", "given up by Ida Moss: room is short"),
            (state.Points[first].State!, state.Points[first].Why!)
        );
        var all = PointLife.Of([("r1", state)], at);
        // Begun and not ended it may be said again.
        Assert.Null(PointLife.Refusal(all.First(l => l.Point.Planned.Id == first), all, true, null, at));
        state.Apply(new JournalEntry("r1", state.Sequence + 1, 2, at, new PointGivenUp(first, "gone")));
        all = PointLife.Of([("r1", state)], at.AddDays(30));
        var line = all.First(l => l.Point.Planned.Id == first);
        Assert.Equal(("given up", false), (line.Point.State!, line.TakesRoom));
        Assert.Contains("given up already", PointLife.Refusal(line, all, true, null, at)!.What);
        Assert.False(ReturnPlanner.Make(fleet.Index(), "r1", state, 1, "e", "c").Ok);
        Assert.Contains(FollowUps.Of(state), f => f.What == "say whether its rollback points may go: 1, 1 MiB");
    }

    [Fact]
    public void A_capture_is_proved_at_once_where_the_product_can_and_its_place_is_known_only_in_the_run()
    {
        var fleet = Of(more: ", prove: {save: [try]}");
        var plan = PlanOf(fleet);
        var lane = plan.Blocks.SelectMany(b => b.Lanes).First(l => l.Steps.Any(s => s.Name == "save"));
        Assert.Equal(["save", "try", "put"], lane.Steps.Select(s => s.Name).Where(n => n is "save" or "try" or "put"));
        var proof = lane.Steps.First(s => s.Name == "try");
        var state = Play(plan, stopBefore: "try");
        var (step, missing) = RunBinding.Of(proof, state, fleet.Index().Estate);
        Assert.Null(missing);
        Assert.Equal(["try", "/points/app-n1-m1-save"], ((Catalogue.CommandAction)step.Do).Arguments);
        Assert.Equal(
            "try: its rollback point was not captured",
            RunBinding.Of(proof, new RunState(plan), fleet.Index().Estate).Missing
        );
    }

    [Fact]
    public void What_is_written_of_points_has_to_make_sense()
    {
        string Wrong(Fleet fleet) =>
            string.Join("; ", Catalogue.ProductDocument.Read(fleet.ProductTexts["engine"], "engine.yaml").Problems);
        Assert.Contains(
            "the settle time is longer than the point serves",
            Wrong(Of("{capture: save, while: stopped, serves: 1 d, settle: 2 d}"))
        );
        Assert.Contains(
            "'voids' names 'put', which captures nothing",
            Wrong(
                new Fleet()
                    .Node("a1")
                    .With("app", "engine", "1", "a1")
                    .Product("engine", "releases: {\"1\": {}}\nsteps: {put: {do: {command: [x]}, voids: [put]}}\n")
            )
        );
        Assert.Contains("routines, prove: 'put' is not known here", Wrong(Of(more: ", prove: {put: [try]}")));
    }
}
