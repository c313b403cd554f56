using System.Collections.Concurrent;
using TideStep.Core.Estates;

namespace TideStep.StandIn;

/// <summary>How fast the fleet's time runs, and how long its actions take.</summary>
internal sealed class FleetClock(double pace)
{
    // Spans of the fleet's own time; the pace divides them.
    private static readonly Dictionary<string, TimeSpan> Spans = new()
    {
        ["install"] = TimeSpan.FromMinutes(2),
        ["start"] = TimeSpan.FromSeconds(40),
        ["stop"] = TimeSpan.FromSeconds(30),
        ["restart-service"] = TimeSpan.FromSeconds(50),
        ["restart-node"] = TimeSpan.FromMinutes(3),
        ["capture"] = TimeSpan.FromMinutes(2),
        ["capture-by"] = TimeSpan.FromMinutes(2),
        ["check-point"] = TimeSpan.FromSeconds(20),
        ["discard-point"] = TimeSpan.FromSeconds(5),
        ["command"] = TimeSpan.FromSeconds(20),
        ["send"] = TimeSpan.FromSeconds(30),
        ["catch-up"] = TimeSpan.FromSeconds(45),
        ["drain"] = TimeSpan.FromSeconds(40),
        ["late"] = TimeSpan.FromMinutes(10),
    };

    private readonly TimeProvider _time = ShiftedClock.OfProcess;

    public DateTimeOffset Now => _time.GetUtcNow();

    public TimeSpan Pace(TimeSpan span) => pace <= 0 ? TimeSpan.Zero : span / pace;

    public TimeSpan TimeOf(string action) => Pace(Spans.GetValueOrDefault(action, TimeSpan.FromSeconds(20)));

    public async Task After(TimeSpan span, Action then)
    {
        if (span > TimeSpan.Zero)
            await Task.Delay(span, _time);
        else
            await Task.Yield();
        then();
    }
}

/// <summary>Everything that was done to the fleet, in order; tests judge runs by it.</summary>
internal sealed class FleetRecord
{
    private readonly ConcurrentQueue<Deed> _deeds = new();
    private long _number;

    public void Add(string node, string component, string verb, string arguments, string attempt, string what) =>
        _deeds.Enqueue(
            new Deed(
                Interlocked.Increment(ref _number),
                ShiftedClock.OfProcess.GetUtcNow(),
                node,
                component,
                verb,
                arguments,
                attempt,
                what
            )
        );

    public IReadOnlyList<Deed> All => [.. _deeds];
}

/// <summary>The simulated nodes, made from an estate and its readings.</summary>
internal sealed class Fleet
{
    private readonly ConcurrentDictionary<string, SimulatedNode> _nodes = new();

    public FleetRecord Record { get; } = new();

    /// <summary>Makes the nodes that the estate reaches as stand-ins, each member at the version it was read
    /// with.</summary>
    public Fleet(Estate estate, Readings readings, double pace)
    {
        var clock = new FleetClock(pace);
        foreach (var node in estate.Nodes.Values.Where(n => n.Reach.By == "stand-in"))
            _nodes[node.Id] = new SimulatedNode(node.Id, clock, Record);
        foreach (var component in estate.Components)
        foreach (
            var member in component.Members.Concat(component.SpareNodes.Select(n => new Member(component.Id, n, null)))
        )
        {
            if (!_nodes.TryGetValue(member.Node, out var node))
                continue;
            var reading = readings.Of(member);
            node.Add(
                new SimulatedMember(
                    component.Id,
                    component.Product,
                    reading.Running,
                    reading.Role ?? member.Role,
                    reading.Values
                )
                {
                    Staged = reading.Staged,
                    Installed = reading.Installed ?? reading.Running,
                }
            );
        }
    }

    public SimulatedNode? Find(string id) => _nodes.GetValueOrDefault(id);

    public IEnumerable<SimulatedNode> Nodes => _nodes.Values.OrderBy(n => n.Id, StringComparer.Ordinal);
}
