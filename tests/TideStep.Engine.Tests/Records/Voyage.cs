using System.Collections.Immutable;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Engine.Tests.Records;

/// <summary>A run carried by the real executor over programs with data: services end at random, people sign and decide
/// by chance, and the far side is copied whenever a part is done.</summary>
internal sealed class Voyage(EstateIndex index, Plan plan, DataFleet far, Random chance, long afterEpoch = 0)
{
    private const int MostHalts = 20;
    private int _attempts,
        _halts;
    private readonly DataFleet start = far.Copy();

    public MemoryJournal Journal { get; } = new(afterEpoch);

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

    /// <summary>What was wrong with returns that were decided on, and how many of them there were.</summary>
    public (int Carried, List<string> Wrong) Returns => (_returns, _wrongReturns);
    private readonly List<string> _wrongReturns = [];
    private int _returns;

    // A child run on the same far side, under a higher epoch, with whatever faults are still to come.
    private async Task BeginReturnAsync(RunExecutor parent, string? asFarAs)
    {
        Journal.Left = null;
        var only = State.ReturningMember;
        var made = ReturnPlanner.Make(index, "r", State, 1, "e", "c", only);
        if (made.Value is not { } back)
        {
            await parent.Log.AppendAsync(
                new Halted(string.Join("; ", made.Problems), only is null ? null : State.FailedSteps.FirstOrDefault())
            );
            return;
        }
        if (back.Blocks.IsEmpty)
        {
            await parent.Log.AppendAsync(new ReturnBegun("none"), new ReturnEnded("none", RunEnd.Completed));
            return;
        }
        await parent.Log.AppendAsync(new ReturnBegun("r2"));
        var (then, child) = (far.Copy(), new Voyage(index, back, far, new Random(1), Journal.Epoch + 1000));
        var end = await child.ToEndAsync();
        _returns++;
        if (end == RunEnd.Completed)
            _wrongReturns.AddRange(
                RecordCheck
                    .Differs(start, then, far, m => only is null || m == only, clean: back.Notes.IsEmpty)
                    .Select(w => $"the return of {only ?? "all"} that was decided on: {w}")
            );
        // Who was left out may be missed by a guard of the way back.
        else if (State.LeftOut.Count == 0)
            _wrongReturns.Add($"the return of {only ?? "all"} that was decided on ended as {end}");
        Journal.Epoch = child.Journal.Epoch;
        await parent.RenewAsync("me");
        await parent.Log.AppendAsync(new ReturnEnded("r2", end));
    }

    private string? WayBackClosed()
    {
        var back = ReturnPlanner.Make(index, "r", State, 1, "e", "c");
        if (back.Ok)
            return null;
        // The plan knew of nobody who would be left out.
        if (State.LeftOut.Count == 0)
            Surprises.Add($"in part {State.CurrentBlock}: {string.Join("; ", back.Problems)}");
        return string.Join("; ", back.Problems);
    }

    /// <summary>Whether an attempt was made by this run, not by one that led it back.</summary>
    public bool IsOwn(string attempt) => attempt.StartsWith($"a{afterEpoch}-", StringComparison.Ordinal);

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
            () => $"a{afterEpoch}-{Interlocked.Increment(ref _attempts)}"
        )
        {
            WayBackClosed = (_, _) => Task.FromResult(WayBackClosed()),
        };
        var started = State.StartedAt is not null;
        var owner = new RunExecutor(
            context,
            "r",
            await Journal.TakeOwnershipAsync("r", "me", default),
            State,
            BeginReturnAsync
        );
        await owner.Log.AppendAsync(new Owned("me"));
        if (!started)
            await owner.Log.AppendAsync(new MembersRead("before", plan.Premises.Running), new Started("Wren"));
        using var stop = new CancellationTokenSource(TimeSpan.FromSeconds(afterEpoch > 0 ? 60 : 120));
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
        !Troubled
            ? afterEpoch > 0 && _halts > MostHalts / 2
                ? DecisionKind.StopHere
                : DecisionKind.TryAgain
            : _halts > MostHalts / 2
                ? DecisionKind.StopHere
                : chance.NextDouble() switch
                {
                    < 0.7 => DecisionKind.TryAgain,
                    < 0.8 => DecisionKind.LeaveOut,
                    < 0.87 => DecisionKind.ReturnMember,
                    < 0.94 => DecisionKind.ReturnAsFarAs,
                    _ => DecisionKind.StopHere,
                };

    private string Told() =>
        string.Join(
            "\n",
            Journal.Entries.Select(e => e.Event).Where(e => e is not (ReadAgain or ReadingAwaited)).TakeLast(150)
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
        var kind = owner.Log.Look(s => s.Changes.Contains(OutsideChange.WayBackClosed))
            ? DecisionKind.AcceptDifferences
            : Chosen();
        var refused = await owner.SayAsync(s =>
            s.Status == RunStatus.Halted ? Orders.Decide(s, kind, "Wren", "by chance", null) : ([], null)
        );
        if (refused is null)
            Decided.Add(kind);
        else
            await owner.SayAsync(s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", "by chance", null));
    }
}
