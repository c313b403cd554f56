using CsCheck;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Tests;

/// <summary>Plans keep to their windows: they pause at resting places only, and every wave's return path still ends in
/// time.</summary>
public sealed class WindowTests
{
    private const string Steps =
        "steps:\n  stop: {do: {stop: x}, safe-after: true}\n  put: {do: {install: x, version: "
        + "\"{jump.to}\"}}\n  start: {do: {start: x}}\nroutines: {leave: [stop], return: [start]}\n";
    private const string Hour = "  night: {every: sunday, from: \"01:00\", lasts: 1 h}\n";

    private static string Engine(string rules = "") =>
        "releases: {\"1\": {}, \"2\": {}}\njumps:\n  to-2: {from: \"=1\", to: \"2\", methods: {rolling: "
        + "{member: 9 min, settle: 1 min}}, change: [put]}\n  back: {from: \"=2\", to: \"1\", down: true, "
        + "methods: {rolling: {member: 4 min, settle: 1 min}}, change: [put]}\n"
        + rules
        + Steps;

    private static Fleet Two(string windows, string rules = "", string second = "") =>
        new Fleet()
            .Windows(windows)
            .Node("a[1-2]")
            .Node("b[1-2]")
            .With("app", "engine", "1", "\"a[1-2]\"")
            .With("base", "other", "1", "\"b[1-2]\"", second)
            .Product("engine", Engine())
            .Product("other", Engine(rules));

    private static Checked<Plan> Try(
        Fleet fleet,
        string goal = "goal: [{component: app, to: 2}, {component: base, to: 2}]"
    )
    {
        var request = fleet.Request(goal);
        return PlanMaker.Make(request.Index, Fleet.Good(Paths.PathFinder.Find(request)), "e", "c");
    }

    [Fact]
    public void A_plan_without_windows_has_no_times()
    {
        var plan = Fleet.Good(Try(Two("")));
        Assert.Empty(plan.Windows);
        Assert.All(plan.Blocks, b => Assert.Null(b.Begins));
    }

    [Fact]
    public void What_fits_with_its_return_path_goes_in_one_window_and_the_rest_waits_for_the_next()
    {
        // Each move takes 20 minutes and 10 to lead back: two take 40, and 20 back.
        var one = Fleet.Good(Try(Two(Hour)));
        Assert.Equal([(1, 2)], one.Windows.Select(w => (w.FirstMove, w.LastMove)));
        Assert.Equal(Nights.At(0, 1), one.Blocks[0].Begins);
        var two = Fleet.Good(Try(Two(Hour.Replace("1 h", "59 min"))));
        Assert.Equal([(1, 1), (2, 2)], two.Windows.Select(w => (w.FirstMove, w.LastMove)));
        Assert.Equal(Nights.At(7, 1), two.Windows[1].From);
        Assert.True(Assert.Single(two.Blocks, b => b.RestsAfter) is { Move: 1 });
        Assert.NotNull(two.Windows[0].Rests);
        Assert.Null(two.Windows[1].Rests);
    }

    [Fact]
    public void The_turn_back_time_leaves_the_return_path_its_time()
    {
        var plan = Fleet.Good(Try(Two(Hour)));
        Assert.Equal(Nights.At(0, 1, 55), plan.Blocks[0].TurnBack);
        Assert.Equal(Nights.At(0, 1, 40), plan.Blocks[^1].TurnBack);
        Assert.All(plan.Blocks, b => Assert.True(b.Begins + b.Expected + b.Settle <= b.TurnBack));
    }

    [Fact]
    public void A_window_that_is_too_short_is_said_with_its_numbers()
    {
        var problem = Assert.Single(Try(Two(Hour.Replace("1 h", "25 min"))).Problems);
        Assert.Contains("no window is long enough for move 1", problem.What);
        Assert.Contains("night has 25 min: 5 min short", problem.What);
    }

    [Fact]
    public void A_state_with_a_pair_that_is_only_tolerated_is_no_resting_place()
    {
        const string rules =
            "rules:\n- {this: \"*\", depends-on: engine, at: \"*\", verdict: supported}\n"
            + "- {this: \"=1\", depends-on: engine, at: \"=2\", verdict: transitional}\n"
            + "- {this: \"=2\", depends-on: engine, at: \"=1\", verdict: transitional}\n";
        var tolerated = rules.Replace(
            "- {this: \"*\", depends-on: engine, at: \"*\", verdict: supported}\n",
            "- {this: \"=1\", depends-on: engine, at: \"=1\", verdict: supported}\n"
                + "- {this: \"=2\", depends-on: engine, at: \"=2\", verdict: supported}\n"
        );
        var problem = Assert.Single(Try(Two(Hour.Replace("1 h", "59 min"), tolerated, "depends-on: [app]")).Problems);
        Assert.Contains("moves 1 to 2, between which there is no resting place", problem.What);
    }

    [Theory]
    // the hour from one o'clock is left out
    [InlineData(3, "02:00:00+01:00", "03:00:00+01:00")]
    [InlineData(10, "01:30:00+01:00", "01:30:00+00:00")] // it comes twice
    [InlineData(6, "01:30:00+01:00", "02:30:00+01:00")]
    public void Windows_follow_the_clocks_of_their_zone_and_last_real_hours(int month, string begins, string ends)
    {
        var sunday = Nights.LastSunday(month);
        var (from, to) = ($"{Nights.Written(sunday)}T{begins}", $"{Nights.Written(sunday)}T{ends}");
        var rule = new WindowRule("w", DayOfWeek.Sunday, null, new TimeOnly(1, 30), TimeSpan.FromHours(1));
        var first = WindowCalendar
            .After([rule], TimeZoneInfo.FindSystemTimeZoneById("Europe/London"), sunday.AddDays(-1), 30)
            .First();
        Assert.Equal((DateTimeOffset.Parse(from), DateTimeOffset.Parse(to)), (first.From, first.To));
        Assert.Equal(DateTimeOffset.Parse(from).Offset, first.From.Offset);
    }

    [Theory]
    [InlineData("{from: \"01:00\", lasts: 1 h}", "every: sunday")]
    [InlineData("{every: sunday, on: @7, from: \"01:00\", lasts: 1 h}", "every: sunday")]
    [InlineData("{every: sundy, from: \"01:00\", lasts: 1 h}", "Did you mean 'sunday'?")]
    [InlineData("{every: sunday, from: \"1 o'clock\", lasts: 1 h}", "must be a time")]
    [InlineData("{every: sunday, from: \"01:00\"}", "'lasts' is missing")]
    [InlineData("{every: sunday, from: \"01:00\", lasts: 9 d}", "at most seven days")]
    public void A_window_that_is_wrong_is_said_with_its_place(string window, string says)
    {
        var read = EstateDocument.Read(Two($"  w: {Nights.In(window)}\n").EstateText, "estate.yaml");
        Assert.Contains(read.Problems, p =>
            (p.What + p.Hint).Contains(says, StringComparison.Ordinal) && p.At is { Line: 4 }
        );
    }

    [Fact]
    public void Whatever_the_window_the_work_pauses_at_moves_ends_and_ends_in_time() =>
        Gen.Int[1, 180]
            .Sample(minutes =>
            {
                var made = Try(Two(Hour.Replace("1 h", $"{minutes} min")));
                Assert.Equal(minutes >= 30, made.Ok);
                if (!made.Ok)
                    return;
                var plan = made.Value!;
                foreach (var window in plan.Windows)
                {
                    Assert.All(plan.Blocks.Where(b => b.Move >= window.FirstMove && b.Move <= window.LastMove), b =>
                        Assert.True(
                            b.Begins >= window.From
                                && b.Begins + b.Expected + b.Settle <= b.TurnBack
                                && b.TurnBack <= window.To
                        )
                    );
                    Assert.True(window.Ends <= window.To);
                }
                Assert.Equal(plan.Moves.Length, plan.Windows.Sum(w => w.LastMove - w.FirstMove + 1));
            });

    [Theory]
    [InlineData(false)]
    [InlineData(true)] // as a journal of before has it
    public void A_run_rests_where_its_plan_does_and_goes_on_when_told(bool older)
    {
        var plan = Fleet.Good(Try(Two(Hour.Replace("1 h", "59 min"))));
        var state = new RunState(plan);
        var number = 0;
        void Say(RunEvent e) =>
            state.Apply(new JournalEntry("r", ++number, 1, DateTimeOffset.UnixEpoch.AddSeconds(number), e));
        Say(new Opened(plan.Digest, "", "Wren", null));
        Say(new Started("Wren"));
        for (var round = 0; state.Status != RunStatus.Held && round < 500; round++)
            foreach (var work in NextWork.Of(state))
                Do(work);
        Assert.Equal(1, plan.Blocks[state.BlocksDone - 1].Move);
        Assert.Equal(Nights.At(7, 1), Assert.IsType<RestTill>(Assert.Single(NextWork.Of(state))).Till);
        Assert.Contains(
            $"it rests, as planned, till night opens on Sun {Nights.On(7)} 01:00",
            RunView.Of("r", state, 1).WaitsFor
        );
        Say(new WentOn("Wren"));
        for (var round = 0; state.End is null && round < 500; round++)
            foreach (var work in NextWork.Of(state))
                Do(work);
        Assert.Equal(RunEnd.Completed, state.End);

        void Do(Work work)
        {
            switch (work)
            {
                case Append append:
                    Say(older && append.Event is HoldAsked rest ? rest with { AsPlanned = false } : append.Event);
                    break;
                case EnterInWindow enter:
                    Say(new BlockEntered(enter.Block));
                    break;
                case DoStep step:
                    Say(new StepDone(step.Step, DoneHow.Done));
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
    }

    [Theory]
    [InlineData("{from: @0, to: @0}", true)]
    [InlineData("{from: \"@0 01:59\", to: \"@0 03:00\"}", true)]
    [InlineData("{from: \"@-1 01:00\", to: \"@0 01:00\"}", false)]
    [InlineData("{from: \"@0 02:00\", to: \"@1 00:00\"}", false)]
    public void A_window_that_a_freeze_reaches_into_is_not_used(string freeze, bool skipped)
    {
        var plan = Fleet.Good(Try(Two(Hour).Freezes($"  regatta: {Nights.In(freeze)}\n")));
        Assert.Equal(skipped ? Nights.Day(7) : Nights.Day(0), DateOnly.FromDateTime(plan.Windows[0].From.Date));
        Assert.Equal(skipped, plan.Notes.Contains($"window night of {Nights.On(0)} is not used: freeze regatta"));
    }

    [Theory]
    [InlineData("{from: @3, to: @2}", "ends before it begins")]
    [InlineData("{from: soon, to: @2}", "must be a day like")]
    [InlineData("{from: @3}", "to")]
    public void A_freeze_that_can_not_be_meant_is_named(string freeze, string what) =>
        Assert.Contains(
            EstateDocument
                .Read(
                    $"tidestep: estate/1\nestate: t\nsites: {{s: {{}}}}\n"
                        + $"nodes: {{n1: {{site: s}}}}\ncomponents: {{app: {{product: p, members: [n1]}}}}\n"
                        + $"freezes: {{f: {Nights.In(freeze)}}}\n",
                    "e"
                )
                .Problems,
            p => p.What.Contains(what)
        );

    [Fact]
    public void Without_windows_a_start_that_would_come_upon_a_freeze_is_a_blocker()
    {
        var fleet = Two("")
            .Freezes($"  regatta: {{from: \"{Nights.On(-6)} 12:00\", to: \"{Nights.On(-6)} 18:00\", why: boats}}\n");
        var plan = Fleet.Good(Try(fleet));
        Checks.Finding At(int hour, int minute) =>
            Assert.Single(
                Checks
                    .PlanChecks.Of(fleet.Index(""), plan, new Checks.CheckContext(Nights.At(-6, hour, minute)))
                    .Findings,
                f => f.Check == "freeze"
            );
        Assert.Equal(
            (
                Checks.CheckResult.Passed,
                Checks.CheckResult.Failed,
                Checks.CheckResult.Failed,
                Checks.CheckResult.Passed
            ),
            (At(9, 0).Result, At(11, 59).Result, At(17, 59).Result, At(18, 0).Result)
        );
        Assert.Contains(
            $"nothing may be changed from {Nights.On(-6)} 12:00 to {Nights.On(-6)} 18:00: boats",
            At(11, 59).What
        );
    }
}
