using System.Collections.Immutable;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>When members were back on their new versions: so many by then, of all members of all moves.</summary>
public sealed record ArrivalView(DateTimeOffset At, int Members);

/// <summary>How many members of each component run the old and the new version, carried on with every step that comes
/// to be done: what a page shows costs nothing that grows with the members.</summary>
public sealed class Tide
{
    private sealed record Part(string Component, string From, string To)
    {
        // How many steps of each of its members are still to be done.
        public Dictionary<string, int> Left { get; } = [];
        public int Arrived { get; set; }
    }

    private readonly List<Part> _parts = [];
    private readonly Dictionary<string, List<(Part Part, string Member)>> _counts = [];
    private readonly Dictionary<string, Lane> _waves = [];
    private readonly Dictionary<Lane, (int Left, DateTimeOffset Last)> _wavesLeft = new(
        ReferenceEqualityComparer.Instance
    );
    private readonly List<DateTimeOffset> _arrivals = [];

    /// <summary>The tide of a plan's run.</summary>
    /// <param name="done">Whether a step is done by now, and since when.</param>
    public Tide(Plan plan, Func<string, (bool Done, DateTimeOffset? At)> done)
    {
        foreach (var move in plan.Moves)
        foreach (var component in move.Components)
            _parts.Add(PartOf(plan, move, component));
        foreach (var lane in plan.Blocks.Where(b => b.Phase == Phase.Roll).SelectMany(b => b.Lanes))
        {
            _wavesLeft[lane] = (lane.Steps.Length, DateTimeOffset.MinValue);
            foreach (var step in lane.Steps)
                _waves[step.Id] = lane;
        }
        foreach (var step in _waves.Keys.Union(_counts.Keys).ToList())
            if (done(step) is { Done: true, At: var at })
                Changed(step, true, at);
        _arrivals.Sort();
    }

    // Of a replaced component the new members count, not those that leave.
    private Part PartOf(Plan plan, PlannedMove move, string component)
    {
        var part = new Part(
            component,
            move.Jumps.First(j => j.Component == component).From,
            move.Jumps.Last(j => j.Component == component).To
        );
        var lanes = plan
            .Blocks.Where(b => b.Move == move.Number && b.Phase is Phase.Roll or Phase.Resume)
            .SelectMany(b => b.Lanes.Select(l => (b.Phase, Lane: l)))
            .Where(l => l.Lane.Subject.StartsWith(component + "/", StringComparison.Ordinal))
            .ToList();
        var members = lanes
            .Where(l => l.Phase == Phase.Roll && l.Lane.Steps.Any(s => s.To != s.From))
            .Select(l => l.Lane.Subject)
            .ToHashSet();
        foreach (var lane in lanes.Select(l => l.Lane).Where(l => members.Contains(l.Subject)))
        foreach (var step in lane.Steps.Where(s => s.Member == lane.Subject && s.To != s.From))
        {
            part.Left[lane.Subject] = part.Left.GetValueOrDefault(lane.Subject) + 1;
            if (!_counts.TryGetValue(step.Id, out var counts))
                _counts[step.Id] = counts = [];
            counts.Add((part, lane.Subject));
        }
        return part;
    }

    /// <summary>A step came to be done, or is not any more.</summary>
    internal void Changed(string step, bool done, DateTimeOffset? at)
    {
        foreach (var (part, member) in _counts.GetValueOrDefault(step) ?? [])
        {
            var left = part.Left[member] += done ? -1 : 1;
            part.Arrived +=
                done && left == 0 ? 1
                : !done && left == 1 ? -1
                : 0;
        }
        if (_waves.GetValueOrDefault(step) is not { } lane)
            return;
        var (open, last) = _wavesLeft[lane];
        _wavesLeft[lane] = (open + (done ? -1 : 1), at > last ? at.Value : last);
        if (done && open == 1)
            _arrivals.Add(_wavesLeft[lane].Last);
    }

    /// <summary>Each component's members, in the order of the moves.</summary>
    public ImmutableArray<TideView> Views =>
        [.. _parts.Select(p => new TideView(p.Component, p.From, p.To, p.Left.Count - p.Arrived, p.Arrived))];

    /// <summary>When members of waves were back, at most so many marks: of more the last of each stretch.</summary>
    public ImmutableArray<ArrivalView> Arrivals(int most)
    {
        var all = _arrivals.Count;
        var each = Math.Max(1, (int)Math.Ceiling(all / (double)most));
        return
        [
            .. Enumerable
                .Range(0, all)
                .Where(i => (i + 1) % each == 0 || i == all - 1)
                .Select(i => new ArrivalView(_arrivals[i], i + 1)),
        ];
    }
}
