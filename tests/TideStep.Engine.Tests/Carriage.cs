using Microsoft.Extensions.Time.Testing;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>A run carried by the real executor against far sides and a journal in memory; owners can end and follow one
/// another.</summary>
internal sealed class Carriage
{
    public const string Steps = """
        steps:
          stop: {do: {stop: x}, safe-after: true}
          quiet: {do: {command: [quiet]}, undo: {command: [loud]}}
          save: {do: {capture: data, paths: [/data]}}
          put: {do: {install: x, version: "{jump.to}"}, limit: 1 s}
          start: {do: {start: x}}
        routines: {leave: [stop], return: [start]}

        """;

    private readonly EstateIndex _index;
    private int _attempts;

    public Carriage(int members = 3, string steps = Steps, string change = "[quiet, put]", string component = "")
        : this(
            new Fleet()
                .Node($"n[1-{members}]", "site: s, reach: {by: stand-in, address: x}")
                .With("app", "engine", "6", $"\"n[1-{members}]\"", component)
                .Product(
                    "engine",
                    $"releases: {{\"6\": {{}}, \"7\": {{}}}}\njumps:\n  to-7: {{from: \"=6\", to: \"7\", "
                        + $"methods: {{rolling: {{member: 1 min, settle: 1 min}}}}, change: {change}}}\n"
                        + steps
                ),
            "goal: [{component: app, to: 7}]"
        ) { }

    /// <summary>The plan of a goal; every member runs what its component was read at.</summary>
    public Carriage(Fleet fleet, string goal)
    {
        _index = fleet.Index();
        Plan = Fleet.Good(PlanMaker.Make(_index, fleet.Path(goal), "e", "c"));
        foreach (var member in _index.Components.SelectMany(c => c.Members))
            Far.SetRunning(member.Node, member.Component, _index.Readings.Of(member).Running!);
        Journal.CreateRunAsync(
            new StoredRun("r", Plan.Digest, null, DateTimeOffset.UnixEpoch, 0, null, null),
            new Opened(Plan.Digest, "", "Wren", null),
            DateTimeOffset.UnixEpoch,
            default
        );
    }

    public Plan Plan { get; }
    public FarSide Far { get; } = new();
    public MemoryJournal Journal { get; } = new();
    public RunFeed Feed { get; } = new();
    public TimeProvider Time { get; init; } = TimeProvider.System;
    public double Pace { get; init; } = 1e9;

    /// <summary>Not where time jumps on with every wait: a clock that is looked at again and again would make it
    /// race.</summary>
    public bool WatchesTime { get; init; } = true;
    public Func<CancellationToken, Task<(string Estate, string Catalogue)>>? Revisions { get; init; }

    /// <summary>Why nothing leads back to the start; null where something does.</summary>
    public Func<string?> WayBackClosed { get; init; } = () => null;
    public Func<IReadOnlyCollection<string>, string, string> Mask { get; init; } = (_, text) => text;
    public TimeSpan Poll { get; init; } = TimeSpan.FromMilliseconds(1);
    public IReadOnlyList<string> Nodes => [.. _index.Estate.Nodes.Keys.Order(StringComparer.Ordinal)];

    public RunState State => RunState.Fold(Plan, Journal.Entries);

    /// <summary>A new owner of the run, at work or about to be.</summary>
    public async Task<RunExecutor> OwnerAsync(bool start = false, bool owned = true)
    {
        var settings = new EngineSettings(Pace, Poll, 64, "/nowhere") { WatchesTime = WatchesTime };
        var context = new RunContext(
            _index.Estate,
            _index.Catalogue,
            Journal,
            Feed,
            new MemberReader([Far], settings, Time),
            settings,
            Time,
            "t",
            () => $"a{Interlocked.Increment(ref _attempts)}"
        )
        {
            Mask = Mask,
            Revisions = Revisions,
            WayBackClosed = (_, _) => Task.FromResult(WayBackClosed()),
        };
        var executor = new RunExecutor(
            context,
            "r",
            await Journal.TakeOwnershipAsync("r", "me", default),
            State,
            (_, _) => Task.CompletedTask
        );
        if (owned)
            await executor.Log.AppendAsync(new Owned("me"));
        if (start)
            await executor.Log.AppendAsync(new MembersRead("before", Plan.Premises.Running), new Started("Wren"));
        return executor;
    }

    /// <summary>Carries until the run ends; an owner that ends is followed by the next. Gives how many owners it
    /// took.</summary>
    public async Task<int> ToEndAsync(Action<int> beforeOwner)
    {
        for (var owners = 1; ; owners++)
        {
            Assert.True(owners < 1000, "the run does not end: " + string.Join("\n", Journal.Entries.TakeLast(12)));
            Journal.Left = null;
            var started = State.StartedAt is not null;
            var halted = new TaskCompletionSource();
            try
            {
                var owner = await OwnerAsync(start: !started);
                beforeOwner(owners);
                owner.Log.Grew += () =>
                {
                    if (owner.Log.Look(s => s.Halt?.Why) is { } why)
                        halted.TrySetException(new InvalidOperationException("halted: " + why));
                };
                var working = owner.ExecuteAsync(default);
                await await Task.WhenAny(working, halted.Task);
                return owners;
            }
            catch (ProcessEnded)
            { /* the next owner takes up what stands in the journal */
            }
        }
    }

    /// <summary>Waits until the run's state is so, with the owner at work meanwhile.</summary>
    public static async Task<T> UntilAsync<T>(RunExecutor owner, Task working, Func<RunState, T?> look)
        where T : class
    {
        var found = new TaskCompletionSource<T>(TaskCreationOptions.RunContinuationsAsynchronously);
        void Look()
        {
            if (owner.Log.Look(look) is { } it)
                found.TrySetResult(it);
        }
        owner.Log.Grew += Look;
        Look();
        var first = await Task.WhenAny(found.Task, working, Task.Delay(TimeSpan.FromSeconds(60)));
        if (first == working)
            await working;
        Look();
        Assert.True(
            found.Task.IsCompleted,
            "the run never came to that state: " + owner.Log.Look(s => $"{s.Status} {s.Halt?.Why}")
        );
        return await found.Task;
    }

    /// <summary>Its first owner at work, with the installation on n1 at work too and without an end.</summary>
    public async Task<(RunExecutor Owner, Task Working)> HangingAsync()
    {
        var hangs = new TaskCompletionSource();
        Far.Outcome = (node, action) => node == "n1" && action.Verb == "install" ? null : 0;
        Far.Around = (call, node, verb) =>
        {
            if (call == "begun" && node == "n1" && verb == "install")
                hangs.TrySetResult();
            return Task.CompletedTask;
        };
        var owner = await OwnerAsync(start: true);
        var working = owner.ExecuteAsync(default);
        await hangs.Task;
        return (owner, working);
    }

    /// <summary>That installation ends well, and so does everything after it.</summary>
    public void EndHanging()
    {
        Far.Outcome = (_, _) => 0;
        Far.SetRunning("n1", "app", "7");
        Far.EndHanging(0);
    }

    /// <summary>Waits for a state while simulated time goes on.</summary>
    public static async Task UntilAsync(RunExecutor owner, Task working, FakeTimeProvider time, Func<RunState, bool> so)
    {
        for (var beat = 0; !owner.Log.Look(so); beat++)
        {
            Assert.True(
                beat < 20_000,
                "the run never came to that state: "
                    + owner.Log.Look(s => $"{s.Status} {s.Halt?.Why} at {time.GetUtcNow():u}")
            );
            if (working.IsFaulted)
                await working;
            time.Advance(TimeSpan.FromSeconds(10));
            await Task.Yield();
            if (beat % 10 == 0)
                await Task.Delay(1);
        }
    }
}
