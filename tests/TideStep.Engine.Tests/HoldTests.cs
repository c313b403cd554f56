using Microsoft.Extensions.Time.Testing;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>Holding a run: at the next safe place, at once, or at a time.</summary>
public sealed class HoldTests
{
    private static async Task<(Carriage Carriage, RunExecutor Owner, Task Working)> InTheMiddleAsync()
    {
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-2]\"")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                        + "{rolling: {member: 1 min}}, change: [put]}\n"
                        + Carriage.Steps.Replace("limit: 1 s", "limit: 9 h")
                ),
            "goal: [{component: app, to: 7}]"
        )
        {
            Pace = 1,
        };
        var (owner, working) = await carriage.HangingAsync();
        return (carriage, owner, working);
    }

    [Fact]
    public async Task Held_at_the_next_safe_place_a_member_in_the_middle_is_brought_there_first()
    {
        var (carriage, owner, working) = await InTheMiddleAsync();
        Assert.Null(await owner.SayAsync(s => Orders.Hold(s, "Wren")));
        carriage.EndHanging();
        await Carriage.UntilAsync(owner, working, s => s.IsHeld ? s : null);
        Assert.Equal(
            ["n1 stop x", "n1 start x"],
            carriage.Far.Deeds.Where(d => !d.Contains("install", StringComparison.Ordinal))
        );
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        await working;
    }

    [Fact]
    public async Task Held_at_once_nothing_further_is_begun_and_who_is_in_the_middle_is_told()
    {
        var (carriage, owner, working) = await InTheMiddleAsync();
        Assert.Null(await owner.SayAsync(s => Orders.Hold(s, "Wren")));
        // Asked for gently first, it can still be said that it is to be at once; twice it is not.
        Assert.Null(await owner.SayAsync(s => Orders.Hold(s, "Wren", atOnce: true)));
        Assert.NotNull(await owner.SayAsync(s => Orders.Hold(s, "Wren", atOnce: true)));
        carriage.EndHanging();
        await Carriage.UntilAsync(owner, working, s => s.IsHeld ? s : null);
        Assert.Equal(["n1 stop x"], carriage.Far.Deeds.Where(d => !d.Contains("install", StringComparison.Ordinal)));
        Assert.Equal(
            "held at once, with members in the middle: app/n1 before 'start'; say go-on soon",
            owner.Log.Look(s => RunView.Of("r", s, 1).WaitsFor)
        );
        Assert.Null(await owner.SayAsync(s => Orders.GoOn(s, "Wren")));
        await working;
        Assert.Equal(RunEnd.Completed, carriage.State.End);
    }

    [Fact]
    public async Task Held_at_a_time_it_goes_on_till_then_whoever_owns_it()
    {
        var time = new FakeTimeProvider(Nights.At(0, 1));
        var carriage = new Carriage(
            new Fleet()
                .Node("n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", "\"n[1-3]\"", "guard: {keep: 2}")
                .Product(
                    "engine",
                    "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                        + "{rolling: {member: 10 min, settle: 20 min}}, change: [put]}\n"
                        + Carriage.Steps
                ),
            "goal: [{component: app, to: 7}]"
        )
        {
            Time = time,
            Pace = 1,
            Poll = TimeSpan.FromSeconds(5),
        };
        var at = time.GetUtcNow().AddMinutes(30);
        var owner = await carriage.OwnerAsync(start: true);
        Assert.Contains(
            "is past",
            (await owner.SayAsync(s => Orders.HoldAt(s, "Wren", time.GetUtcNow(), time.GetUtcNow())))!.What
        );
        Assert.NotNull(await owner.SayAsync(s => Orders.HoldAt(s, "Wren", null, time.GetUtcNow())));
        Assert.Null(await owner.SayAsync(s => Orders.HoldAt(s, "Wren", at, time.GetUtcNow())));
        using var stop = new CancellationTokenSource();
        var working = owner.ExecuteAsync(stop.Token);
        await Carriage.UntilAsync(owner, working, time, _ => time.GetUtcNow() > at.AddMinutes(-10));
        Assert.DoesNotContain(carriage.Journal.Entries, e => e.Event is HoldAsked);
        await stop.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => working);
        // The next owner knows it from the journal.
        owner = await carriage.OwnerAsync();
        using var last = new CancellationTokenSource();
        working = owner.ExecuteAsync(last.Token);
        await Carriage.UntilAsync(owner, working, time, s => s.IsHeld);
        var asked = carriage.Journal.Entries.Single(e => e.Event is HoldAsked);
        Assert.Equal(("Wren", false), (((HoldAsked)asked.Event).By, ((HoldAsked)asked.Event).AtOnce));
        Assert.InRange(asked.At, at, at.AddMinutes(2));
        Assert.Null(owner.Log.Look(s => s.HoldAt));
        await last.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => working);
    }
}
