using Microsoft.Extensions.Time.Testing;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>After a hold, a halt, a wait or another owner the members and the premises are read again; what was changed
/// from outside needs a decision.</summary>
public sealed class OutsideTests
{
    // Three members, one after another; the first is done, then the run is held.
    private static async Task<(Carriage Carriage, RunExecutor Owner, Task Working)> HeldAsync(
        Func<CancellationToken, Task<(string, string)>>? revisions = null,
        Func<string?>? wayBack = null,
        string engine = "",
        Func<string, string>? steps = null
    )
    {
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-3]\"", "guard: {keep: 2}")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                        + "{rolling: {member: 1 min}}, change: [put]"
                        + engine
                        + "}\n"
                        + (steps ?? (s => s))(Carriage.Steps.Replace("limit: 1 s", "limit: 9 h"))
                ),
            "goal: [{component: app, to: 7}]"
        )
        {
            Revisions = revisions,
            WayBackClosed = wayBack ?? (() => null),
        };
        var (owner, working) = await carriage.HangingAsync();
        Assert.Null(await owner.SayAsync(s => Orders.Hold(s, "Wren")));
        carriage.EndHanging();
        await Carriage.UntilAsync(owner, working, s => s.IsHeld ? s : null);
        return (carriage, owner, working);
    }

    private static Task<Halted> HaltAsync(RunExecutor owner, Task working) =>
        Carriage.UntilAsync(owner, working, s => s.Halt);

    private static Task<Problem?> DecideAsync(RunExecutor owner, DecisionKind kind, string? reason = null) =>
        owner.SayAsync(s => Orders.Decide(s, kind, "Wren", reason, null));

    private static void Away(Carriage carriage, string which) =>
        carriage.Far.Around = (call, node, _) =>
            call == "read" && node == which ? throw FarSide.Away(node) : Task.CompletedTask;

    [Fact]
    public async Task From_an_outages_stop_to_its_start_it_is_no_change_from_outside_that_nothing_runs()
    {
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-2]\"")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                        + "{offline: {outage: 1 min}}, change: [put]}\n"
                        + Carriage.Steps
                ),
            "goal: [{component: app, to: 7}]"
        );
        await carriage.ToEndAsync(_ => { });
        var entries = carriage.Journal.Entries;
        var (stopped, started) = (
            entries.First(e => e.Event is BlockDone { Block: 1 }).Sequence,
            entries.First(e => e.Event is StepDone d && d.Step.EndsWith("n1/start", StringComparison.Ordinal)).Sequence
        );
        Assert.True(started - stopped > 8);
        for (var at = stopped; at < started; at++)
            Assert.Contains(
                RunningText.Nothing,
                OutsideChanges.Expected(RunState.Fold(carriage.Plan, entries.Where(e => e.Sequence <= at)))["app/n1"]
            );
    }

    [Fact]
    public async Task A_member_changed_while_the_run_was_held_halts_it_until_somebody_accepts_it()
    {
        var (carriage, owner, working) = await HeldAsync();
        carriage.Far.SetRunning("n3", "app", "7");
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        Assert.Equal("changed from outside: app/n3 runs 7, expected 6", (await HaltAsync(owner, working)).Why);
        Assert.DoesNotContain(carriage.Far.Deeds, d =>
            d.StartsWith("n2", StringComparison.Ordinal) || d.StartsWith("n3", StringComparison.Ordinal)
        );
        Assert.Contains(owner.Log.Look(s => RunView.Of("r", s, 1)).Decisions, d =>
            d.Decision == DecisionKind.AcceptDifferences && d.Means.Contains("as it is", StringComparison.Ordinal)
        );
        // Tried again it is read again, and is still so.
        Assert.Null(await DecideAsync(owner, DecisionKind.TryAgain));
        await Carriage.UntilAsync(owner, working, s => s.Decisions.Count == 1 && s.Halt is not null ? s : null);
        Assert.NotNull(await DecideAsync(owner, DecisionKind.AcceptDifferences));
        Assert.Null(await DecideAsync(owner, DecisionKind.AcceptDifferences, "Dunlin did it by hand"));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.False(carriage.State.DifferencesAccepted);
        Assert.Contains(RunReport.Of("r", carriage.State, carriage.Journal.Entries).Marks, m =>
            m.What == "read again after a hold: app/n3 runs 7, expected 6"
        );
    }

    [Fact]
    public async Task A_way_back_that_closes_otherwise_than_the_plan_showed_halts_the_run_until_somebody_accepts_it()
    {
        var asked = 0;
        var (carriage, owner, working) = await HeldAsync(
            wayBack: () => ++asked > 0 ? "no set of points covers app/n1" : null,
            engine: ", points: [{capture: save, while: stopped}]",
            steps: s =>
                s.Replace(
                    "routines: {",
                    "  load: {do: {command: [load, \"{point.place}\"]}}\nroutines: {restore: {save: [load]}, "
                )
        );
        Assert.All(carriage.Plan.Blocks, b => Assert.NotEqual(Core.Plans.ReturnState.Closed, b.Return.State));
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        Assert.Equal(
            "the return path to the start is closed, which the plan showed open: no set of points covers app/n1",
            (await HaltAsync(owner, working)).Why
        );
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n2", StringComparison.Ordinal));
        Assert.Contains(owner.Log.Look(s => RunView.Of("r", s, 1)).Decisions, d =>
            d.Decision == DecisionKind.AcceptDifferences
            && d.Means.Contains("nothing leads back to the start", StringComparison.Ordinal)
        );
        // Tried again it is asked again; once accepted it is not.
        Assert.Null(await DecideAsync(owner, DecisionKind.TryAgain));
        await Carriage.UntilAsync(owner, working, s => s.Decisions.Count == 1 && s.Halt is not null ? s : null);
        Assert.Equal(2, asked);
        Assert.Null(await DecideAsync(owner, DecisionKind.AcceptDifferences, "the data is made anew every night"));
        await working;
        Assert.Equal((RunEnd.Completed, 2), (carriage.State.End, asked));
        Assert.Contains(RunReport.Of("r", carriage.State, carriage.Journal.Entries).Marks, m =>
            m.What.Contains("which the plan showed open", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task What_closes_as_the_plan_showed_it_is_no_surprise()
    {
        var asked = 0;
        var (carriage, owner, working) = await HeldAsync(wayBack: () => $"closed {++asked}");
        Assert.All(carriage.Plan.Blocks, b => Assert.Equal(Core.Plans.ReturnState.Closed, b.Return.State));
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        await working;
        Assert.Equal((RunEnd.Completed, 0), (carriage.State.End, asked));
    }

    [Fact]
    public async Task What_was_put_back_meanwhile_lets_it_go_on()
    {
        var (carriage, owner, working) = await HeldAsync();
        carriage.Far.SetRunning("n1", "app", "6");
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        Assert.Equal("changed from outside: app/n1 runs 6, expected 7", (await HaltAsync(owner, working)).Why);
        carriage.Far.SetRunning("n1", "app", "7");
        Assert.Null(await DecideAsync(owner, DecisionKind.TryAgain));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Equal(
            ["a hold", "a halt"],
            carriage.Journal.Entries.Select(e => e.Event).OfType<ReadAgain>().Select(r => r.After)
        );
    }

    [Fact]
    public async Task Another_owner_reads_the_members_before_it_begins_anything()
    {
        var carriage = new Carriage();
        carriage.Journal.Left = 12;
        var first = await carriage.OwnerAsync(start: true);
        await Assert.ThrowsAnyAsync<ProcessEnded>(() => first.ExecuteAsync(default));
        carriage.Journal.Left = null;
        carriage.Far.SetRunning("n3", "app", "7");
        var next = await carriage.OwnerAsync();
        var working = next.ExecuteAsync(default);
        Assert.Equal("changed from outside: app/n3 runs 7, expected 6", (await HaltAsync(next, working)).Why);
        Assert.Null(await DecideAsync(next, DecisionKind.StopHere));
        await working;
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n3", StringComparison.Ordinal));
    }

    [Fact]
    public async Task Changed_documents_are_asked_about_once()
    {
        var catalogue = "c";
        var (carriage, owner, working) = await HeldAsync(_ => Task.FromResult(("e", catalogue)));
        catalogue = "c2";
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        Assert.Equal(
            "changed from outside: the catalogue's document has changed",
            (await HaltAsync(owner, working)).Why
        );
        Assert.Null(await DecideAsync(owner, DecisionKind.AcceptDifferences, "a remark only"));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task A_node_that_does_not_answer_is_waited_for_and_named()
    {
        var (carriage, owner, working) = await HeldAsync();
        Away(carriage, "n2");
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        var waiting = await Carriage.UntilAsync(owner, working, s => s.AwaitsReading);
        Assert.Equal("app/n2 does not answer", waiting);
        Assert.Equal(
            (RunStatus.Waiting, "app/n2 does not answer"),
            owner.Log.Look(s => (s.Status, RunView.Of("r", s, 1).WaitsFor))
        );
        carriage.Far.Around = (_, _, _) => Task.CompletedTask;
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task Held_at_once_it_does_not_wait_for_a_node_first_and_reads_when_it_goes_on()
    {
        var (carriage, owner, working) = await HeldAsync();
        Away(carriage, "n2");
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        await Carriage.UntilAsync(owner, working, s => s.AwaitsReading);
        Assert.Null(await owner.SayAsync(s => Orders.Hold(s, "Wren", atOnce: true)));
        await Carriage.UntilAsync(owner, working, s => s.IsHeld ? s : null);
        carriage.Far.Around = (_, _, _) => Task.CompletedTask;
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
        Assert.Single(carriage.Journal.Entries, e => e.Event is ReadAgain);
    }

    [Fact]
    public async Task One_that_never_answers_needs_a_decision()
    {
        var time = new FakeTimeProvider(Nights.At(0, 1));
        var carriage = new Carriage()
        {
            Time = time,
            Pace = 1,
            WatchesTime = false,
            Poll = TimeSpan.FromSeconds(5),
        };
        carriage.Journal.Left = 12;
        await Assert.ThrowsAnyAsync<ProcessEnded>(async () =>
            await (await carriage.OwnerAsync(start: true)).ExecuteAsync(default)
        );
        carriage.Journal.Left = null;
        Away(carriage, "n3");
        var next = await carriage.OwnerAsync();
        var working = next.ExecuteAsync(default);
        await Carriage.UntilAsync(next, working, time, s => s.Halt is not null);
        Assert.Equal("changed from outside: app/n3 does not answer", next.Log.Look(s => s.Halt!.Why));
        Assert.Null(await DecideAsync(next, DecisionKind.StopHere));
        await Carriage.UntilAsync(next, working, time, s => s.End is not null);
    }
}
