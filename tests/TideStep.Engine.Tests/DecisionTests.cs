using TideStep.Core.Documents;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>What people, and their standing orders, may decide at a halt; and the hours to which a run keeps.</summary>
public sealed class DecisionTests
{
    private static async Task<Carriage> DecidedAsync(
        Carriage carriage,
        Func<RunState, (RunEvent[], Problem?)> decide,
        Action<Carriage>? before = null
    )
    {
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        await Carriage.UntilAsync(owner, working, s => s.Status == RunStatus.Halted ? s.Halt!.Why : null);
        before?.Invoke(carriage);
        Assert.Null(await owner.SayAsync(s => decide(s)));
        await working;
        return carriage;
    }

    private static Carriage Failing(string verb, string component = "guard: {keep: 1, at-once: 2}")
    {
        var carriage = new Carriage(component: component);
        carriage.Far.Outcome = (node, action) =>
            node == "n2" && action.Verb == verb && action.Arguments is not ["loud"] ? 7 : 0;
        return carriage;
    }

    [Fact]
    public async Task A_step_that_a_person_marks_as_done_is_not_done_again()
    {
        var carriage = await DecidedAsync(
            Failing("install"),
            s => Orders.Decide(s, DecisionKind.MarkAsDone, "Wren", "installed by hand, seen in its log", null),
            carriage => carriage.Far.SetRunning("n2", "app", "7")
        );
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(DoneHow.Marked, carriage.State.Of(carriage.State.Decisions[0].Step!).How);
        Assert.Single(carriage.State.Of("m1/w2/change/app/n2/put").Attempts);
        Assert.Contains(
            "decided by Wren: mark as done, m1/w2/change/app/n2/put (installed by hand, seen in its log)",
            string.Join("\n", RunReport.Of("r", carriage.State, carriage.Journal.Entries).Marks.Select(m => m.What))
        );
    }

    [Fact]
    public async Task A_step_that_is_skipped_is_told_as_skipped()
    {
        var carriage = await DecidedAsync(Failing("command"), s =>
            Orders.Decide(s, DecisionKind.Skip, "Wren", "nobody listens there", null)
        );
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(DoneHow.Skipped, carriage.State.Of("m1/w2/change/app/n2/quiet").How);
        Assert.Contains("n2 install x", carriage.Far.Deeds);
    }

    [Fact]
    public async Task A_member_that_is_left_out_is_not_touched_again_and_the_others_go_on()
    {
        var carriage = await DecidedAsync(Failing("install"), s =>
            Orders.Decide(s, DecisionKind.LeaveOut, "Wren", "its board is broken", null)
        );
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(["app/n2"], carriage.State.LeftOut);
        Assert.Contains("n3 install x", carriage.Far.Deeds);
        Assert.DoesNotContain("n2 start x", carriage.Far.Deeds);
        // Its temporary measure is taken back all the same.
        Assert.Empty(carriage.State.Measures);
    }

    [Fact]
    public async Task What_a_person_corrects_holds_for_this_run_and_stands_in_its_journal()
    {
        var carriage = new Carriage();
        carriage.Far.Outcome = (node, action) =>
            node == "n2" && action is { Verb: "command", Arguments: ["quiet", ..] } ? 3 : 0;
        await DecidedAsync(carriage, s =>
            Orders.Decide(
                s,
                DecisionKind.CorrectAndTryAgain,
                "Wren",
                "it has another name there",
                null,
                new Amendment(null, null, ["hush"])
            )
        );
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Contains(carriage.Far.Deeds, d => d.StartsWith("n2 command hush", StringComparison.Ordinal));
        Assert.Equal(["hush"], carriage.State.Amendments["m1/w2/change/app/n2/quiet"].Command);
    }

    [Fact]
    public async Task Decisions_without_a_reason_or_out_of_place_are_refused()
    {
        var carriage = Failing("install");
        var owner = await carriage.OwnerAsync(start: true);
        using var stop = new CancellationTokenSource();
        var working = owner.ExecuteAsync(stop.Token);
        await Carriage.UntilAsync(owner, working, s => s.Status == RunStatus.Halted ? "" : null);
        foreach (
            var (decision, reason, amendment) in new[]
            {
                (DecisionKind.MarkAsDone, " ", (Amendment?)null),
                (DecisionKind.Skip, null, null),
                (DecisionKind.LeaveOut, "", null),
                (DecisionKind.CorrectAndTryAgain, "why", null),
                (DecisionKind.CorrectAndTryAgain, "why", new Amendment(null, null, ["x"])),
                (DecisionKind.CorrectAndTryAgain, "why", new Amendment(TimeSpan.Zero, null, [])),
                (DecisionKind.GoPastWindow, "why", null),
            }
        )
            Assert.NotNull(await owner.SayAsync(s => Orders.Decide(s, decision, "Wren", reason, null, amendment)));
        Assert.NotNull(
            Orders.Give(carriage.State, [new StandingOrder(DecisionKind.Skip, TimeSpan.Zero)], "Wren").Refused
        );
        await stop.CancelAsync();
        await working.ContinueWith(_ => { }, TaskScheduler.Default);
        Assert.Empty(carriage.State.Decisions);
    }

    [Fact]
    public async Task Where_nobody_decides_in_time_the_standing_orders_do_in_their_order()
    {
        var carriage = Failing("install");
        var owner = await carriage.OwnerAsync(start: true);
        Assert.Null(
            await owner.SayAsync(s =>
                Orders.Give(
                    s,
                    [
                        new StandingOrder(DecisionKind.TryAgain, TimeSpan.FromMinutes(5), 2),
                        new StandingOrder(DecisionKind.StopHere, TimeSpan.FromMinutes(20)),
                    ],
                    "Wren"
                )
            )
        );
        await owner.ExecuteAsync(default);
        Assert.Equal(
            [(DecisionKind.TryAgain, true), (DecisionKind.TryAgain, true), (DecisionKind.StopHere, true)],
            carriage.State.Decisions.Select(d => (d.Decision, d.Standing))
        );
        Assert.Equal(
            (RunEnd.StoppedHere, 3),
            (carriage.State.End, carriage.State.Of("m1/w2/change/app/n2/put").Attempts.Count(a => !a.Undo))
        );
        Assert.All(carriage.State.Decisions, d => Assert.Equal("Wren", d.By));
    }

    // A clock that jumps to whatever is waited for.
    private sealed class JumpingTime(DateTimeOffset from) : TimeProvider
    {
        private long _ticks = from.UtcTicks;

        public override long TimestampFrequency => TimeSpan.TicksPerSecond;

        public override long GetTimestamp() => Interlocked.Read(ref _ticks);

        public override DateTimeOffset GetUtcNow() => new(Interlocked.Read(ref _ticks), TimeSpan.Zero);

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            if (dueTime > TimeSpan.Zero)
                Interlocked.Add(ref _ticks, dueTime.Ticks);
            return System.CreateTimer(
                callback,
                state,
                dueTime == Timeout.InfiniteTimeSpan ? dueTime : TimeSpan.Zero,
                Timeout.InfiniteTimeSpan
            );
        }
    }

    // The plan is of Monday the 23rd; its window is on Sunday the 29th from 01:00 to 06:00.
    private static Carriage InWindow(DateTimeOffset from, string lasts = "5 h") =>
        new(
            new Fleet()
                .Windows($"  night: {{every: sunday, from: \"01:00\", lasts: {lasts}}}\n")
                .Node("n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-3]\"")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                        + "{rolling: {member: 10 min, settle: 1 min}}, change: [quiet, put]}\n"
                        + Carriage.Steps
                ),
            "goal: [{component: app, to: 7}]"
        )
        {
            Pace = 1,
            Poll = TimeSpan.FromSeconds(20),
            WatchesTime = false,
            Time = new JumpingTime(from),
        };

    [Fact]
    public async Task A_run_waits_for_its_window()
    {
        var carriage = InWindow(Nights.At(0, 0, 30));
        var owner = await carriage.OwnerAsync(start: true);
        await owner.ExecuteAsync(default);
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        var opens = Nights.At(0, 1);
        Assert.Equal(opens, Assert.Single(carriage.Journal.Entries.Select(e => e.Event).OfType<WindowAwaited>()).Till);
        Assert.True(carriage.Journal.Entries.First(e => e.Event is BlockEntered).At >= opens);
    }

    [Fact]
    public async Task A_wave_that_does_not_fit_what_is_left_of_the_window_is_not_begun_unless_somebody_says_so()
    {
        var carriage = InWindow(Nights.At(0, 5, 55));
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        Assert.Contains("the window ends at 06:00", await Carriage.UntilAsync(owner, working, s => s.Halt?.Why));
        Assert.Empty(carriage.Far.Deeds);
        Assert.Null(
            await owner.SayAsync(s =>
                Orders.Decide(s, DecisionKind.GoPastWindow, "Wren", "the ferries are in till noon", null)
            )
        );
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task Without_windows_no_wave_is_begun_that_would_end_in_a_freeze_unless_somebody_says_so()
    {
        // The first member, at 11:09, can be back when the freeze begins; the second can not.
        var carriage = new Carriage(
            new Fleet()
                .Freezes($"  regatta: {{from: \"{Nights.On(0)} 11:20\", to: \"{Nights.On(0)} 18:00\", why: boats}}\n")
                .Node("n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-3]\"")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                        + "{rolling: {member: 10 min, settle: 1 min}}, change: [quiet, put]}\n"
                        + Carriage.Steps
                ),
            "goal: [{component: app, to: 7}]"
        )
        {
            Pace = 1,
            Poll = TimeSpan.FromSeconds(20),
            WatchesTime = false,
            Time = new JumpingTime(Nights.At(0, 11, 9)),
        };
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        Assert.Contains(
            $"in the freeze regatta (boats), from {Nights.On(0)} 11:20 to {Nights.On(0)} 18:00",
            await Carriage.UntilAsync(owner, working, s => s.Halt?.Why)
        );
        var before = carriage.Far.Deeds.Count;
        Assert.True(before > 0);
        Assert.Null(
            await owner.SayAsync(s => Orders.Decide(s, DecisionKind.GoPastWindow, "Wren", "the boats are late", null))
        );
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.True(carriage.Far.Deeds.Count > before);
    }

    [Fact]
    public async Task A_return_does_not_take_a_measure_that_the_run_still_holds()
    {
        var fleet = new Fleet()
            .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
            .With("app", "engine", "6", "\"n[1-2]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n"
                    + "  to-7: {from: \"=6\", to: \"7\", methods: {rolling: {member: 1 min}}, change: [quiet, put]}\n"
                    + "  down: {from: \"=7\", to: \"6\", down: true, methods: {rolling: {member: 1 min}}, "
                    + "change: [quiet, put]}\n"
                    + Carriage.Steps
            );
        var carriage = new Carriage(fleet, "goal: [{component: app, to: 7}]");
        carriage.Far.Outcome = (node, action) => node == "n2" && action.Verb == "install" ? 7 : 0;
        var owner = await carriage.OwnerAsync(start: true);
        using var stop = new CancellationTokenSource();
        var working = owner.ExecuteAsync(stop.Token);
        await Carriage.UntilAsync(owner, working, s => s.Halt);
        var back = Fleet.Good(ReturnPlanner.Make(fleet.Index(), "r", carriage.State, 1, "e", "c"));
        Assert.Equal(
            ["app/n1"],
            back.Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s => s.Name == "quiet")
                .Select(s => s.Member)
        );
        await stop.CancelAsync();
        await working.ContinueWith(_ => { }, TaskScheduler.Default);
    }

    [Fact]
    public async Task Of_many_who_decide_at_the_same_halt_one_is_heard()
    {
        var carriage = Failing("install");
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        await Carriage.UntilAsync(owner, working, s => s.Halt);
        var seen = owner.Log.Look(s => s.HaltNumber);
        carriage.Far.Outcome = (_, _) => 0;
        var answers = await Task.WhenAll(
            Enumerable
                .Range(0, 40)
                .Select(i =>
                    Task.Run(() =>
                        owner.SayAsync(s =>
                            Orders.AnotherHalt(s, seen) is { } other
                                ? ([], other)
                                : Orders.Decide(s, DecisionKind.TryAgain, $"person {i}", null, null)
                        )
                    )
                )
        );
        Assert.Single(answers, a => a is null);
        await working;
        Assert.Single(carriage.State.Decisions);
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task A_rule_that_breaks_harms_nobody_else_and_a_refused_one_writes_nothing()
    {
        var carriage = new Carriage(1);
        var owner = await carriage.OwnerAsync(start: true);
        var before = carriage.Journal.Entries.Count;
        var asked = new[]
        {
            owner.SayAsync(_ => throw new InvalidOperationException("broken")),
            owner.SayAsync(_ => ([new WentOn("Wren")], new Problem("no"))),
            owner.SayAsync(_ => ([], null)),
        };
        await Assert.ThrowsAsync<InvalidOperationException>(() => asked[0]);
        Assert.Equal("no", (await asked[1])!.What);
        Assert.Null(await asked[2]);
        Assert.Equal(before, carriage.Journal.Entries.Count);
        await owner.ExecuteAsync(default);
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }
}
