using System.Collections.Immutable;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Tests.Records;

/// <summary>A run carried by the real executor over programs with data: services end at random, people sign and decide
/// by chance, and the far side is copied whenever a part is done.</summary>
internal sealed class Voyage(EstateIndex index, Plan plan, DataFleet far, Random chance)
{
    private const int MostHalts = 20;
    private int _attempts,
        _halts;

    public MemoryJournal Journal { get; } = new();

    public RunState State => RunState.Fold(plan, Journal.Entries);

    /// <summary>How it stood after each part: the far side, and how many entries the journal had.</summary>
    public List<(int Block, DataFleet Far, int Entries)> After { get; } = [];

    /// <summary>How often a halt was decided otherwise than by trying again.</summary>
    public HashSet<DecisionKind> Decided { get; } = [];

    /// <summary>Whether owners end, and people decide anything but to try again.</summary>
    public bool Troubled { get; init; }

    /// <summary>Where the way back was closed though the plan showed it open, after a break in which nothing was
    /// skipped.</summary>
    public List<string> Surprises { get; } = [];

    private string? WayBackClosed()
    {
        var back = ReturnPlanner.Make(index, "r", State, 1, "e", "c");
        if (back.Ok)
            return null;
        Surprises.Add($"in part {State.CurrentBlock}: {string.Join("; ", back.Problems)}");
        return Surprises[^1];
    }

    public async Task<RunEnd> ToEndAsync()
    {
        await Journal.CreateRunAsync(
            new StoredRun("r", plan.Digest, null, DateTimeOffset.UnixEpoch, 0, null, null),
            new Opened(plan.Digest, "", "Wren", null),
            DateTimeOffset.UnixEpoch,
            default
        );
        Journal.Appended = entry =>
        {
            if (entry.Event is BlockDone done)
                After.Add((done.Block, far.Copy(), (int)entry.Sequence));
        };
        for (var owners = 0; State.End is null; owners++)
        {
            Assert.True(owners < 200, "the run does not end:\n" + string.Join("\n", Journal.Entries.TakeLast(20)));
            Journal.Left = Troubled && owners < 5 ? chance.Next(3, 40) : null;
            try
            {
                await CarryAsync();
            }
            catch (ProcessEnded)
            { /* the next owner takes up what stands in the journal */
            }
        }
        return State.End!.Value;
    }

    private async Task CarryAsync()
    {
        var settings = new EngineSettings(1e9, TimeSpan.FromMilliseconds(1), 64, "/nowhere");
        var context = new RunContext(
            index.Estate,
            index.Catalogue,
            Journal,
            new RunFeed(),
            new MemberReader([far], settings, TimeProvider.System),
            settings,
            TimeProvider.System,
            "t",
            () => $"a{Interlocked.Increment(ref _attempts)}"
        )
        {
            WayBackClosed = (_, _) => Task.FromResult(WayBackClosed()),
        };
        var started = State.StartedAt is not null;
        var owner = new RunExecutor(context, "r", await Journal.TakeOwnershipAsync("r", "me", default), State, (_, _) =>
            Task.CompletedTask
        );
        await owner.Log.AppendAsync(new Owned("me"));
        if (!started)
            await owner.Log.AppendAsync(new MembersRead("before", plan.Premises.Running), new Started("Wren"));
        using var stop = new CancellationTokenSource(TimeSpan.FromSeconds(120));
        var grown = new SemaphoreSlim(0);
        owner.Log.Grew += () => grown.Release();
        var working = owner.ExecuteAsync(stop.Token);
        while (!working.IsCompleted)
        {
            await SayAsync(owner);
            await Task.WhenAny(working, grown.WaitAsync(stop.Token));
            if (stop.IsCancellationRequested)
                throw new InvalidOperationException("it stands still:\n" + Told());
        }
        await working;
    }

    // Who was left out may be missed by a later wave's guard: then nothing but to stop is of any use.
    private DecisionKind Chosen() =>
        !Troubled ? DecisionKind.TryAgain
        : _halts > MostHalts / 2 ? DecisionKind.StopHere
        : chance.NextDouble() switch
        {
            < 0.8 => DecisionKind.TryAgain,
            < 0.9 => DecisionKind.LeaveOut,
            _ => DecisionKind.StopHere,
        };

    private string Told() =>
        string.Join(
            "\n",
            Journal.Entries.Select(e => e.Event).Where(e => e is not (ReadAgain or ReadingAwaited)).Take(150)
        );

    // What people say when they are asked.
    private async Task SayAsync(RunExecutor owner)
    {
        if (owner.Log.Look(s => s.Halt is null && s.AwaitedPersons.Any()))
            await owner.SayAsync(s =>
                s.Halt is null && s.AwaitedPersons.FirstOrDefault() is { } asked
                    ? Orders.Sign(s, asked.Step.Id, "Wren", "done", asked.Step.Member)
                    : ([], null)
            );
        if (owner.Log.Look(s => s.Status != RunStatus.Halted || s.OpenAttempts.Any()))
            return;
        if (++_halts > MostHalts)
            throw new InvalidOperationException("it halts for ever:\n" + Told());
        var kind = Chosen();
        var refused = await owner.SayAsync(s =>
            s.Status == RunStatus.Halted ? Orders.Decide(s, kind, "Wren", "by chance", null) : ([], null)
        );
        if (refused is null)
            Decided.Add(kind);
        else
            await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", "by chance", null));
    }
}
