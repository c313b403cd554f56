using Microsoft.Extensions.Time.Testing;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>What a run says of its own time, in simulated time.</summary>
public sealed class RunClockTests
{
    private readonly FakeTimeProvider _time = new(Nights.At(0, 1));

    private Carriage Run(string windows) =>
        new(
            (windows.Length == 0 ? new Fleet() : new Fleet().Windows(windows))
                .Node("n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-3]\"", "guard: {keep: 2}")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                        + "{rolling: {member: 10 min, settle: 5 min}}, change: [put]}\n"
                        + "  to-6: {from: \"=7\", to: \"6\", down: true, methods: {rolling: {member: 10 min, "
                        + "settle: 5 min}}, change: [put]}\n"
                        + Carriage.Steps.Replace("limit: 1 s", "limit: 9 h")
                ),
            "goal: [{component: app, to: 7}]"
        )
        {
            Time = _time,
            Pace = 1,
            Poll = TimeSpan.FromSeconds(5),
        };

    private Task UntilAsync(RunExecutor owner, Task working, Func<RunState, bool> so) =>
        Carriage.UntilAsync(owner, working, _time, so);

    [Fact]
    public async Task At_the_turn_back_time_a_run_that_will_not_fit_comes_to_a_safe_place_and_asks()
    {
        var carriage = Run("  night: {every: sunday, from: \"01:00\", lasts: 2 h}\n");
        carriage.Far.Outcome = (node, action) => node == "n2" && action.Verb == "install" ? null : 0;
        using var stop = new CancellationTokenSource();
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(stop.Token);
        await UntilAsync(owner, working, s => s.TurnBack is not null);
        var near = carriage.Journal.Entries.Single(e => e.Event is TurnBackNear);
        var said = (TurnBackNear)near.Event;
        Assert.Equal(Nights.At(0, 3), said.WindowEnds);
        Assert.InRange(near.At, said.TurnBack.AddMinutes(-10), said.TurnBack.AddMinutes(2));
        // The member in the middle is finished first; nobody else leaves.
        carriage.Far.SetRunning("n2", "app", "7");
        carriage.Far.EndHanging(0);
        await UntilAsync(owner, working, s => s.Halt is not null);
        Assert.Contains("the turn-back time", owner.Log.Look(s => s.Halt!.Why));
        Assert.DoesNotContain(carriage.Far.Deeds, d => d.StartsWith("n3", StringComparison.Ordinal));
        // Somebody says go on: it is not asked again; the next wave does not fit any more, and that is said.
        Assert.Null(await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null)));
        await UntilAsync(owner, working, s => s.Halt is not null);
        Assert.Single(carriage.Journal.Entries, e => e.Event is TurnBackNear);
        Assert.Contains("would end, with the return path after it", owner.Log.Look(s => s.Halt!.Why));
        await stop.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => working);
    }

    [Fact]
    public async Task A_run_that_is_slower_than_planned_says_once_that_it_is_late()
    {
        var carriage = Run("");
        carriage.Far.Outcome = (node, action) => node == "n2" && action.Verb == "install" ? null : 0;
        using var stop = new CancellationTokenSource();
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(stop.Token);
        await UntilAsync(owner, working, s => s.LateAgainst is not null);
        var late = (RanLate)carriage.Journal.Entries.Single(e => e.Event is RanLate).Event;
        Assert.True(late.Forecast > late.Due);
        carriage.Far.SetRunning("n2", "app", "7");
        carriage.Far.EndHanging(0);
        await UntilAsync(owner, working, s => s.End is not null);
        Assert.Single(carriage.Journal.Entries, e => e.Event is RanLate);
        await working;
    }

    [Fact]
    public async Task A_run_in_time_says_nothing()
    {
        var carriage = Run("  night: {every: sunday, from: \"01:00\", lasts: 4 h}\n");
        var owner = await carriage.OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        await UntilAsync(owner, working, s => s.End is not null);
        await working;
        Assert.DoesNotContain(carriage.Journal.Entries, e => e.Event is RanLate or TurnBackNear or Halted);
    }
}
