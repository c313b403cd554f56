using TideStep.Connectors;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>What the executor does when something is in the way.</summary>
public sealed class TroubleTests
{
    private static async Task<string> HaltOf(Carriage carriage, Func<RunExecutor, Task>? then = null)
    {
        using var stop = new CancellationTokenSource();
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(stop.Token);
        var why = await Carriage.UntilAsync(owner, working, s => s.Status == RunStatus.Halted ? s.Halt!.Why : null);
        if (then is not null)
        {
            await then(owner);
            await Carriage.UntilAsync(owner, working, s => s.End?.ToString());
        }
        await stop.CancelAsync();
        await working.ContinueWith(_ => { }, TaskScheduler.Default);
        return why;
    }

    [Fact]
    public async Task A_node_out_of_contact_before_a_step_is_waited_for()
    {
        var carriage = new Carriage();
        var away = 0;
        carriage.Far.Around = (call, node, _) =>
            node == "n2" && call is "raise" or "begin" && away++ is > 3 and < 18
                ? throw FarSide.Away(node)
                : Task.CompletedTask;
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Single(carriage.Far.Deeds, d => d == "n2 install x");
    }

    [Fact]
    public async Task A_prerequisite_is_asked_again_before_each_wave_on_live_readings()
    {
        const string needs =
            "    prerequisites: [{id: room, per: member, holds: 'free(\"/data\") >= 2 GiB', remedy: Clear it.}]\n";
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-3]\"")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7:\n"
                        + "    from: \"=6\"\n    to: \"7\"\n    methods: {rolling: {member: 1 min, settle: 1 "
                        + "min}}\n    change: [quiet, put]\n"
                        + needs
                        + Carriage.Steps
                ),
            "goal: [{component: app, to: 7}]"
        );
        foreach (var node in carriage.Nodes)
            carriage.Far.Told[(node, "free(\"/data\")")] = Core.Expressions.Value.Of(
                node == "n2" ? 1 << 30 : 4e9,
                Core.Expressions.ValueKind.Bytes
            );
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var why = await Carriage.UntilAsync(owner, working, s => s.Guards is { Hold: false } g ? g.Why : null);
        Assert.Contains(
            "app/n2 does not meet to-7 room: needs at least 2 GiB, has 1 GiB: 1 GiB short (Clear it.)",
            why
        );
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n2", StringComparison.Ordinal));
        carriage.Far.Told[("n2", "free(\"/data\")")] = Core.Expressions.Value.Of(4e9, Core.Expressions.ValueKind.Bytes);
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    private static Carriage Asking(string prerequisite) =>
        new(
            new Fleet()
                .Node("n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .Node("d1", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-3]\"", "depends-on: [db]")
                .With("db", "store", "1", "d1")
                .Product("store", "releases: {\"1\": {}}\nreadings: {lag: {by: field, unit: bytes}}\n")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: {rolling: "
                        + "{member: 1 min, settle: 1 min}}, change: [quiet, put], prerequisites: "
                        + $"[{{id: fit, {prerequisite}}}]}}\n"
                        + Carriage.Steps
                ),
            "goal: [{component: app, to: 7}]"
        );

    private static Core.Expressions.Value Bytes(double bytes) =>
        Core.Expressions.Value.Of(bytes, Core.Expressions.ValueKind.Bytes);

    [Theory]
    [InlineData("per: component, when: wave, holds: 'related(\"store\").lag <= 1 MiB'", "app does not meet")]
    [InlineData("per: member, when: wave, holds: 'related(\"store\").lag <= 1 MiB'", "app/n1 does not meet")]
    [InlineData("per: member, holds: 'related(\"store\").lag <= 1 MiB'", "app/n1 does not meet")]
    [InlineData("per: site, when: wave, holds: 'related(\"store\").lag <= 1 MiB'", "app at s does not meet")]
    public async Task What_is_asked_of_related_members_is_read_of_them_before_a_wave(string asked, string says)
    {
        var carriage = Asking(asked);
        carriage.Far.Told[("d1", "lag")] = Bytes(5 << 20);
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var why = await Carriage.UntilAsync(owner, working, s => s.Guards is { Hold: false } g ? g.Why : null);
        Assert.Contains($"{says} to-7 fit: needs at most 1 MiB, has 5 MiB: 4 MiB too much (db/d1)", why);
        Assert.Empty(carriage.Far.Deeds);
        carriage.Far.Told[("d1", "lag")] = Bytes(1 << 10);
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task What_counts_over_members_and_says_wave_is_asked_before_each()
    {
        // The first wave meets it; behind it one member runs 7.
        var carriage = Asking("per: component, when: wave, holds: 'count(members where running = \"6\") >= 3'");
        var why = await HaltOf(carriage);
        Assert.Contains("app does not meet to-7 fit: needs at least 3, has 2: 1 short", why);
        Assert.Equal(["n1 install x"], carriage.Far.Deeds.Where(d => d.Contains("install", StringComparison.Ordinal)));
    }

    [Fact]
    public async Task A_caution_of_a_wave_is_told_and_keeps_nothing_from_beginning()
    {
        var carriage = Asking("level: caution, when: wave, holds: 'related(\"store\").lag <= 1 MiB'");
        carriage.Far.Told[("d1", "lag")] = Bytes(5 << 20);
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Contains(carriage.Journal.Entries, e =>
            e.Event is GuardsChecked { Hold: true } g
            && g.Why.Contains("app/n1 does not meet", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_node_that_refuses_for_good_is_not_waited_for()
    {
        var carriage = new Carriage();
        carriage.Far.Around = (call, node, _) =>
            node == "n1" && call == "raise"
                ? throw new ConnectorException(new Problem("n1 refuses the login of keeper"), lasting: true)
                : Task.CompletedTask;
        Assert.Contains("refuses the login", await HaltOf(carriage));
        Assert.Empty(carriage.Far.Deeds);
    }

    [Fact]
    public async Task A_node_that_knows_a_later_journal_halts_the_run()
    {
        var carriage = new Carriage();
        carriage.Far.SetPosition("n1", 5000);
        Assert.Contains("knows journal position 5000", await HaltOf(carriage));
        Assert.Empty(carriage.Far.Deeds);
    }

    [Fact]
    public async Task A_failed_step_halts_before_anybody_else_leaves_service()
    {
        var carriage = new Carriage();
        carriage.Far.Outcome = (node, action) => node == "n2" && action.Verb == "install" ? 7 : 0;
        Assert.Contains("status 7", await HaltOf(carriage));
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n3", StringComparison.Ordinal));
        Assert.Equal("6", carriage.Far.RunningOf("n3", "app"));
    }

    [Fact]
    public async Task Trying_again_after_a_failure_ends_the_run_and_takes_every_measure_back()
    {
        var carriage = new Carriage();
        var broken = true;
        carriage.Far.Outcome = (node, action) => broken && node == "n2" && action.Verb == "install" ? 7 : 0;
        await HaltOf(carriage, async owner =>
        {
            broken = false;
            Assert.Null(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null)));
        });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Empty(carriage.Far.Measures);
        Assert.Single(carriage.Far.Deeds, d => d == "n2 install x");
    }

    [Fact]
    public async Task Stopping_here_takes_every_measure_back_and_leaves_the_rest()
    {
        var carriage = new Carriage();
        carriage.Far.Outcome = (node, action) => node == "n2" && action.Verb == "install" ? 7 : 0;
        await HaltOf(carriage, async owner =>
            Assert.Null(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.StopHere, "Wren", "enough", null)))
        );
        Assert.Equal(RunEnd.StoppedHere, carriage.State.End);
        Assert.Empty(carriage.Far.Measures);
        Assert.Equal(1, carriage.Far.Stopped);
    }

    [Fact]
    public async Task An_overdue_step_halts_and_is_still_followed_and_never_begun_again()
    {
        var carriage = new Carriage();
        carriage.Far.Outcome = (node, action) => node == "n1" && action.Verb == "install" ? null : 0;
        var why = await HaltOf(carriage, async owner =>
        {
            Assert.NotNull(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.StopHere, "Wren", null, null)));
            carriage.Far.EndHanging(1);
            carriage.Far.Outcome = (_, _) => 0;
            using var stop = new CancellationTokenSource();
            for (var ended = false; !ended; await Task.Yield())
                ended = owner.Log.Look(s => !s.OpenAttempts.Any());
            Assert.Null(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.StopHere, "Wren", null, null)));
        });
        Assert.Contains("overdue", why);
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.Contains("install"));
        Assert.Single(carriage.Journal.Entries, e => e.Event is AttemptOverdue);
    }

    [Fact]
    public async Task A_node_that_does_not_answer_is_told_from_a_slow_step_and_a_halt_is_kept_true()
    {
        var (carriage, silent) = (new Carriage(2), true);
        var (owner, working) = await carriage.HangingAsync();
        carriage.Far.Around = (call, node, _) =>
            silent && call == "status" && node == "n1"
                ? throw new ConnectorException(new Problem("n1 does not answer"), lasting: false)
                : Task.CompletedTask;
        RunView View() => owner.Log.Look(s => RunView.Of("r", s, 1));
        var step = await Carriage.UntilAsync(owner, working, s => s.Silent.Keys.FirstOrDefault());
        await Carriage.UntilAsync(owner, working, s => s.Halt?.Why);
        Assert.Contains("n1 has not answered since", View().Halt);
        Assert.Contains("may still be at work", View().Halt);
        Assert.Single(carriage.Journal.Entries, e => e.Event is NotAnswering { Node: "n1" });
        silent = false;
        await Carriage.UntilAsync(owner, working, s => s.Silent.Count == 0 ? "answers" : null);
        Assert.DoesNotContain("has not answered", View().Halt);
        carriage.EndHanging();
        await Carriage.UntilAsync(owner, working, s => s.OpenAttempts.Any() ? null : "ended");
        Assert.Contains("Since then it has ended well: with 'try again'", View().Halt);
        Assert.Null(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null)));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Single(carriage.State.Of(step).Attempts);
    }

    private static ConnectorException Gone(string node) => new(new Problem($"{node} does not answer"), lasting: false);

    private static readonly Func<RunState, (RunEvent[], Problem?)> LeaveOut = s =>
        Orders.Decide(s, DecisionKind.LeaveOut, "Wren", "its rack has no power", null);

    [Theory]
    [InlineData("1 s", 1e9, true)]
    [InlineData("20 h", 60, false)]
    public async Task The_member_of_a_silent_node_is_left_out_and_what_was_begun_there_is_waited_for(
        string limit,
        double pace,
        bool halts
    )
    {
        var carriage = new Carriage(
            steps: Carriage.Steps.Replace("limit: 1 s", $"limit: {limit}"),
            component: "guard: {keep: 1, at-once: 2}"
        )
        {
            Pace = pace,
        };
        var (owner, working) = await carriage.HangingAsync();
        carriage.Far.Around = (call, node, _) =>
            call is "status" or "raise" or "read" or "begin" && node == "n1" ? throw Gone("n1") : Task.CompletedTask;
        var step = await Carriage.UntilAsync(owner, working, s => s.Silent.Keys.FirstOrDefault());
        if (halts)
            await Carriage.UntilAsync(owner, working, s => s.Halt?.Why);
        var offered = owner
            .Log.Look(s => RunView.Of("r", s, 1))
            .Decisions.Single(d => d.Decision == DecisionKind.LeaveOut);
        Assert.Contains("'put' was begun there and may still be at work", offered.Means);
        // What would be refused while it may be at work is not offered.
        Assert.DoesNotContain(owner.Log.Look(s => RunView.Of("r", s, 1)).Decisions, d =>
            d.Decision is DecisionKind.ReturnAsFarAs or DecisionKind.StopHere
        );
        Assert.NotNull(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.LeaveOut, "Wren", "", null)));
        Assert.Null(await owner.SayAsync(s => LeaveOut(s)));
        // The others go on; then the measure of the one that was left out is taken back there, and not while the other
        // attempt is at work.
        var asked = new TaskCompletionSource();
        carriage.Far.Around = (call, node, _) =>
        {
            if (call == "status" && node == "n1")
                asked.TrySetResult();
            return Task.CompletedTask;
        };
        await Task.WhenAny(asked.Task, working, Task.Delay(TimeSpan.FromSeconds(60)));
        Assert.True(asked.Task.IsCompleted, string.Join("\n", carriage.Journal.Entries.TakeLast(12)));
        Assert.Contains("n3 install x", carriage.Far.Deeds);
        Assert.DoesNotContain("n1 command loud", carriage.Far.Deeds);
        Assert.Equal(halts, carriage.Journal.Entries.Any(e => e.Event is Halted));
        carriage.Far.Outcome = (_, _) => 0;
        carriage.Far.EndHanging(0);
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Contains("n1 command loud", carriage.Far.Deeds);
        Assert.Contains("app/n1", carriage.State.LeftOut);
        Assert.Single(carriage.State.Of(step).Attempts);
        Assert.Contains(FollowUps.Of(carriage.State), f =>
            f.Why.Contains("'put' was begun there and may have gone on", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task An_overdue_step_that_fails_after_the_halt_is_not_tried_again_before_somebody_says_so()
    {
        var carriage = new Carriage(
            steps: Carriage.Steps.Replace("limit: 1 s}", "limit: 1 s, attempts: {times: 2, every: 0 s}}")
        );
        carriage.Far.Outcome = (node, action) => node == "n1" && action.Verb == "install" ? null : 0;
        int Begun(RunState state) =>
            state
                .Plan.Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s => s.Node == "n1" && s.Name == "put")
                .Sum(s => state.Of(s.Id).Attempts.Length);
        await HaltOf(carriage, async owner =>
        {
            carriage.Far.EndHanging(1);
            carriage.Far.Outcome = (_, _) => 0;
            for (var ended = false; !ended; await Task.Yield())
                ended = owner.Log.Look(s => !s.OpenAttempts.Any());
            // Whatever would follow by itself follows at once, before what is said now and is said in vain.
            for (var i = 0; i < 100; i++)
            {
                Assert.NotNull(await owner.SayAsync(s => Orders.Hold(s, "Wren")));
                await Task.Yield();
            }
            Assert.Null(
                await owner.SayAsync(s =>
                    Begun(s) == 1
                        ? Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null)
                        : ([], new Core.Documents.Problem("it was begun again"))
                )
            );
        });
        Assert.Equal((RunEnd.Completed, 2), (carriage.State.End, Begun(carriage.State)));
    }

    /// <summary>A measure stands as long as it is for: two jumps of two members each, one after the other.</summary>
    [Theory]
    [InlineData("member", "n1 quiet, n1 loud, n2 quiet, n2 loud, n1 quiet, n1 loud, n2 quiet, n2 loud")]
    [InlineData("wave", "n1 quiet, n1 loud, n2 quiet, n2 loud, n1 quiet, n1 loud, n2 quiet, n2 loud")]
    [InlineData("jump", "n1 quiet, n2 quiet, n2 loud, n1 loud, n1 quiet, n2 quiet, n2 loud, n1 loud")]
    [InlineData("run", "n1 quiet, n2 quiet, n2 loud, n1 loud")]
    public async Task A_temporary_measure_stands_as_long_as_it_is_for(string lasts, string expected)
    {
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-2]\"")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}, \"8\": {}}\njumps:\n"
                        + "  to-7: {from: \"=6\", to: \"7\", methods: {rolling: {member: 1 min, settle: 0 s}}, "
                        + "change: [quiet, put]}\n  to-8: {from: \"=7\", to: \"8\", methods: {rolling: {member: 1 "
                        + "min, settle: 0 s}}, change: [quiet, put]}\n"
                        + Carriage.Steps.Replace(
                            "undo: {command: [loud]}",
                            $"undo: {{command: [loud]}}, lasts: {lasts}"
                        )
                ),
            "goal: [{component: app, to: 8}]"
        );
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(
            expected,
            string.Join(
                ", ",
                carriage.Far.Deeds.Where(d => d.Contains("command")).Select(d => d.Replace("command ", ""))
            )
        );
    }

    private static Carriage Draining(string when) =>
        new(
            change: "[drain, put]",
            steps: Carriage.Steps.Replace(
                "  put:",
                $"  drain: {{do: {{command: [drain]}}, ends-well: [0, 4], attempts: {{times: 4, every: 0 s, "
                    + $"when: {when}}}, verify: {{holds: room >= 2, within: 0 s}}}}\n  put:"
            ) + "readings: {room: {by: field, unit: count}}\n"
        );

    private static bool IsDrain(FarAction action) => action.Arguments.FirstOrDefault() == "drain";

    /// <summary>Kinds of failure: which are tried again, and which halt the run at once.</summary>
    [Theory]
    [InlineData("{statuses: [75]}", 75, "", 4, "(tried 4 times)")]
    [InlineData("{statuses: [75]}", 1, "", 1, "(no failure for which it is tried again)")]
    [InlineData("{says: 'still [0-9]+ sessions'}", 1, "still 3 sessions", 4, "(tried 4 times)")]
    [InlineData("{says: 'still [0-9]+ sessions'}", 1, "no such host", 1, "(no failure for which it is tried again)")]
    [InlineData("{statuses: [75], says: late}", 1, "late", 4, "(tried 4 times)")]
    [InlineData("{unverified: true}", 75, "", 1, "(no failure for which it is tried again)")]
    [InlineData("{unverified: true}", 0, "", 4, "not so within")]
    [InlineData("{statuses: [75]}", 0, "", 1, "not so within")]
    [InlineData("{statuses: [75]}", 4, "", 1, "not so within")]
    public async Task A_step_is_tried_again_for_the_failures_that_it_names_and_no_others(
        string when,
        int status,
        string output,
        int attempts,
        string why
    )
    {
        var carriage = Draining(when);
        foreach (var node in carriage.Nodes)
            carriage.Far.Told[(node, "room")] = Core.Expressions.Value.Of(1, Core.Expressions.ValueKind.Count);
        carriage.Far.Outcome = (_, action) => IsDrain(action) ? status : 0;
        carriage.Far.Prints = (_, action) => IsDrain(action) ? output : "";
        Assert.Contains(why, await HaltOf(carriage));
        Assert.Equal(
            attempts,
            carriage
                .Journal.Entries.Select(e => e.Event)
                .OfType<Intended>()
                .Count(i => i.Step == "m1/w1/change/app/n1/drain")
        );
    }

    [Fact]
    public async Task Where_statuses_of_success_are_named_no_other_is()
    {
        var carriage = new Carriage(
            change: "[drain, put]",
            steps: Carriage.Steps.Replace("  put:", "  drain: {do: {command: [drain]}, ends-well: [4]}\n  put:")
        );
        carriage.Far.Outcome = (node, action) => IsDrain(action) && node == "n1" ? 4 : 0;
        Assert.Contains("ended with status 0", await HaltOf(carriage));
        Assert.Single(carriage.Far.Deeds, d => d.Contains("install", StringComparison.Ordinal));
    }

    [Fact]
    public async Task What_comes_true_after_another_attempt_lets_the_run_go_on()
    {
        var carriage = Draining("{unverified: true}");
        foreach (var node in carriage.Nodes)
            carriage.Far.Told[(node, "room")] = Core.Expressions.Value.Of(
                node == "n2" ? 1 : 2,
                Core.Expressions.ValueKind.Count
            );
        var tries = 0;
        carriage.Far.Outcome = (node, action) =>
        {
            if (IsDrain(action) && node == "n2" && ++tries == 3)
                carriage.Far.Told[(node, "room")] = Core.Expressions.Value.Of(2, Core.Expressions.ValueKind.Count);
            return IsDrain(action) ? 4 : 0;
        };
        await carriage.ToEndAsync(_ => { });
        Assert.Equal((RunEnd.Completed, 3), (carriage.State.End, tries));
    }

    [Fact]
    public async Task A_step_whose_probes_contradict_each_other_halts_and_says_both()
    {
        // What the one takes for done the other takes for not done: neither is believed.
        var carriage = new Carriage(
            change: "[put]",
            steps: Carriage.Steps.Replace(
                "limit: 1 s}",
                "limit: 1 s, already: room >= 1, verify: {holds: room >= 2, within: 0 s}}"
            ) + "readings: {room: {by: field, unit: count}}\n"
        );
        foreach (var node in carriage.Nodes)
            carriage.Far.Told[(node, "room")] = Core.Expressions.Value.Of(1, Core.Expressions.ValueKind.Count);
        Assert.Contains("room >= 2 (room = 1)", await HaltOf(carriage));
        Assert.Contains(carriage.Journal.Entries, e => e.Event is Probed { Purpose: "already", Holds: true });
        Assert.Contains(carriage.Journal.Entries, e => e.Event is Probed { Purpose: "verify", Holds: false });
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.Contains("install", StringComparison.Ordinal));
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n2", StringComparison.Ordinal));
    }

    [Fact]
    public async Task What_a_person_says_to_a_journal_that_can_not_be_written_ends_the_owner_and_begins_nothing()
    {
        var carriage = new Carriage(change: "[put]", steps: Carriage.Steps.Replace("limit: 1 s", "limit: 9 h"));
        var (owner, working) = await carriage.HangingAsync();
        carriage.Journal.Left = 0;
        await Assert.ThrowsAnyAsync<Exception>(() => owner.SayAsync(s => Orders.Hold(s, "Wren")));
        await Assert.ThrowsAnyAsync<Exception>(() => working);
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n2", StringComparison.Ordinal));
        carriage.EndHanging();
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task The_parts_of_a_long_step_are_told_as_its_output_tells_them_and_anew_with_another_attempt()
    {
        var carriage = new Carriage(
            change: "[put]",
            steps: Carriage.Steps.Replace(
                "limit: 1 s}",
                "limit: 9 h, attempts: {times: 2, every: 0 s}, milestones: [unpack, {title: convert, says: "
                    + "converting}, {title: start, says: starting}]}"
            )
        );
        var (tries, said) = (0, "");
        carriage.Far.Outcome = (_, action) =>
            action.Verb != "install" ? 0
            : ++tries == 1 ? null
            : 0; // the first hangs
        carriage.Far.Running = () => said;
        carriage.Far.Prints = (_, action) => action.Verb == "install" ? "converting\nstarting" : "";
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        int[] Begun() =>
            owner.Log.Look(s =>
                s.Of("m1/w1/change/app/n1/put").Attempts.LastOrDefault() is { } last
                    ? last.Milestones.Select(p => p.Number).ToArray()
                    : []
            );
        await Carriage.UntilAsync(owner, working, _ => Begun() is [1] ? "" : null);
        said = "converting";
        await Carriage.UntilAsync(owner, working, _ => Begun() is [1, 2] ? "" : null);
        Assert.Equal(
            [true, true, false],
            owner
                .Log.Look(s => RunView.Of("r", s, 1))
                .Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .First(s => s.Id == "m1/w1/change/app/n1/put")
                .Milestones!.Value.Select(p => p.Begun is not null)
        );
        carriage.Far.EndHanging(1);
        await working;
        Assert.Equal(
            [1, 2, 1, 2, 3],
            carriage
                .Journal.Entries.Select(e => e.Event)
                .OfType<MilestoneReached>()
                .Where(p => p.Step == "m1/w1/change/app/n1/put")
                .Select(p => p.Number)
        );
        Assert.Equal([1, 2, 3], Begun());
    }

    private static Carriage Stoppable(int times = 1) =>
        new(steps: Carriage.Steps.Replace("limit: 1 s}", $"limit: 1 s, overdue: stop, attempts: {{times: {times}}}}}"));

    [Fact]
    public async Task An_overdue_step_that_may_be_stopped_is_stopped_and_its_end_is_read_before_the_run_halts()
    {
        var carriage = Stoppable();
        carriage.Far.Outcome = (node, action) => node == "n1" && action.Verb == "install" ? null : 0;
        Assert.Contains("was stopped, as the step allows", await HaltOf(carriage));
        var events = carriage.Journal.Entries.Select(e => e.Event).ToList();
        Assert.True(
            events.FindIndex(e => e is StopAsked) is var asked and > 0
                && asked < events.FindIndex(e => e is AttemptEnded { ExitCode: 143 })
        );
        Assert.False(carriage.State.OpenAttempts.Any());
    }

    [Fact]
    public async Task An_overdue_step_that_was_stopped_is_tried_again_as_its_attempts_say()
    {
        var carriage = Stoppable(times: 2);
        var first = true;
        carriage.Far.Outcome = (node, action) =>
            node == "n1" && action.Verb == "install" && first && !(first = false) ? null : 0;
        await carriage.ToEndAsync(_ => { });
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Single(carriage.Far.Deeds, d => d == "n1 install x");
    }

    [Fact]
    public async Task A_command_that_does_not_end_when_it_is_stopped_needs_a_decision_and_is_still_followed()
    {
        var carriage = Stoppable();
        carriage.Far.HeedsStop = false;
        carriage.Far.Outcome = (node, action) => node == "n1" && action.Verb == "install" ? null : 0;
        Assert.Contains("did not end when it was stopped; it is still followed", await HaltOf(carriage));
        Assert.True(carriage.State.OpenAttempts.Any());
    }

    [Fact]
    public async Task A_node_that_can_not_be_asked_to_stop_a_command_is_asked_again()
    {
        var carriage = Stoppable();
        var asked = 0;
        carriage.Far.Around = (call, node, _) =>
            call == "stop-attempt" && asked++ < 3 ? throw FarSide.Away(node) : Task.CompletedTask;
        carriage.Far.Outcome = (node, action) => node == "n1" && action.Verb == "install" ? null : 0;
        Assert.Contains("was stopped", await HaltOf(carriage));
        Assert.Equal(4, asked);
    }

    [Fact]
    public async Task A_wave_waits_while_a_guard_does_not_hold_on_live_readings_and_then_halts()
    {
        var carriage = new Carriage();
        var stopped = false;
        carriage.Far.Around = (call, node, _) =>
            node == "n3" && call == "read" && !stopped ? throw FarSide.Away("n3") : Task.CompletedTask;
        Assert.Contains("waits in vain", await HaltOf(carriage));
        Assert.Contains(carriage.Journal.Entries, e =>
            e.Event is GuardsChecked { Hold: false } checkedGuards
            && checkedGuards.Why.Contains("n3", StringComparison.Ordinal)
        );
        Assert.Empty(carriage.Far.Deeds);
    }

    [Fact]
    public async Task A_member_that_boots_its_former_version_again_has_reverted_and_a_second_try_may_hold()
    {
        var reverts = true;
        var carriage = new Carriage(
            members: 2,
            change: "[switch, boot]",
            steps: Carriage.Steps.Replace(
                "steps:\n",
                "steps:\n  switch: {title: switch slots, do: {command: [switch]}, already: 'running = "
                    + "jump.to', repeatable: true}\n  boot: {title: restart it, do: {restart: node}, already: "
                    + "'running = jump.to', repeatable: true}\n"
            )
        );
        carriage.Far.Outcome = (node, action) =>
        {
            if (action.Verb == "restart-node" && !(reverts && node == "n1"))
                carriage.Far.SetRunning(node, "app", "7");
            return 0;
        };
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        var halt = await Carriage.UntilAsync(owner, working, s => s.Halt);
        Assert.Equal("app/n1 went back to 6 by itself: it was restarted for 7 and runs 6 again", halt.Why);
        Assert.Equal(Core.Plans.MemberState.Reverted, owner.Log.Look(s => s.MemberStateOf("app/n1")));
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n2", StringComparison.Ordinal));
        Assert.Contains(
            "- ",
            RunReport
                .Of("r", carriage.State, carriage.Journal.Entries)
                .ToMarkdown(TimeZoneInfo.Utc)
                .Split('\n')
                .Single(l => l.EndsWith("app/n1 went back to 6 by itself", StringComparison.Ordinal))
        );
        // Brought to the new version by hand it is waited for once more.
        reverts = false;
        carriage.Far.SetRunning("n1", "app", "7");
        Assert.Null(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null)));
        Assert.Equal(
            Core.Plans.MemberState.InService,
            await Carriage.UntilAsync(owner, working, s =>
                s.CurrentBlock > 1 || s.End is not null ? (object)s.MemberStateOf("app/n1")! : null
            )
        );
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task A_capture_that_is_not_whole_stops_the_run_before_anything_changes()
    {
        var carriage = new Carriage(change: "[quiet, put]\n    points: [{capture: save, while: stopped}]");
        carriage.Far.Outcome = (node, action) => action.Verb == "check-point" ? 5 : 0;
        await HaltOf(carriage);
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.Contains("install"));
    }

    [Fact]
    public async Task A_measure_that_cannot_be_taken_back_keeps_the_run_open()
    {
        var carriage = new Carriage();
        carriage.Far.Outcome = (_, action) => action.Verb == "command" && action.Arguments[0] == "loud" ? 1 : 0;
        Assert.Contains("could not be taken back", await HaltOf(carriage));
        Assert.Null(carriage.State.End);
        Assert.Single(carriage.Far.Measures);
    }

    [Fact]
    public async Task A_clock_set_back_does_not_turn_the_journals_time()
    {
        var clock = new SteppedClock();
        var carriage = new Carriage { Time = clock };
        await carriage.ToEndAsync(_ => clock.SetBack(TimeSpan.FromHours(2)));
        var times = carriage.Journal.Entries.Skip(1).Select(e => e.At).ToList();
        Assert.Equal(times.Order(), times);
    }

    private sealed class SteppedClock : TimeProvider
    {
        private TimeSpan _ahead = TimeSpan.Zero;

        public void SetBack(TimeSpan by) => _ahead -= by;

        public override DateTimeOffset GetUtcNow() => base.GetUtcNow() + _ahead;
    }

    [Fact]
    public async Task A_listener_that_is_too_slow_is_cut_off_and_goes_on_from_the_journal()
    {
        var feed = new RunFeed();
        var listening = new TaskCompletionSource();
        await using var listener = feed.ListenAsync("r", listening, default).GetAsyncEnumerator();
        var first = listener.MoveNextAsync();
        await listening.Task;
        for (var i = 1; i <= 20_000; i++)
            feed.Publish([new JournalEntry("r", i, 1, DateTimeOffset.UnixEpoch, new Held())]);
        Assert.True(await first);
        var seen = 1L;
        while (await listener.MoveNextAsync())
            Assert.Equal(++seen, listener.Current.Sequence);
        Assert.InRange(seen, 1, 19_999);
    }

    [Fact]
    public async Task A_listener_to_one_run_hears_nothing_of_others()
    {
        var feed = new RunFeed();
        var listening = new TaskCompletionSource();
        await using var listener = feed.ListenAsync("r", listening, default).GetAsyncEnumerator();
        var next = listener.MoveNextAsync();
        await listening.Task;
        feed.Publish([new JournalEntry("other", 1, 1, DateTimeOffset.UnixEpoch, new Held())]);
        feed.Publish([new JournalEntry("r", 7, 1, DateTimeOffset.UnixEpoch, new Held())]);
        Assert.True(await next);
        Assert.Equal(7, listener.Current.Sequence);
    }
}
