using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>The ways of one component from today's version to another, cheapest first, found only as far as they are
/// asked for.</summary>
internal sealed class ChainSource
{
    /// <summary>Jumps one after another with what they cost.</summary>
    internal sealed record Chain(ImmutableArray<Option> Jumps, long[] Cost);

    private sealed record Part(ImmutableArray<Option> Jumps, int At, long[] Cost, long[] Estimate);

    private readonly PathProblem _problem;
    private readonly CostLayout _layout;
    private readonly int _component;
    private readonly int _end;
    private readonly long[]?[] _least;
    private readonly List<Chain> _found = [];
    private readonly PriorityQueue<Part, Part> _queue = new(
        Comparer<Part>.Create((a, b) => CostLayout.Compare(a.Estimate, b.Estimate))
    );

    public ChainSource(PathProblem problem, CostLayout layout, int component, int end)
    {
        (_problem, _layout, _component, _end) = (problem, layout, component, end);
        _least = Least();
        if (_least[problem.Today[component]] is { } least)
            Push(new Part([], problem.Today[component], new long[layout.AfterClosing], least));
    }

    /// <summary>The way at a place in the order of cost, or null where there are not so many.</summary>
    public Chain? this[int place]
    {
        get
        {
            while (_found.Count <= place && _queue.TryDequeue(out var part, out _))
            {
                if (part.At == _end && part.Jumps.Length > 0)
                {
                    var cost = new long[_layout.Length];
                    part.Cost.CopyTo(cost, 0);
                    if (_problem.TargetOf[_component] is null && !_problem.Found[_component].Contains(_end))
                        cost[_layout.OthersMoved]++;
                    _found.Add(new Chain(part.Jumps, cost));
                    continue;
                }
                foreach (var option in _problem.Options[_component][part.At])
                {
                    if (_least[option.To] is not { } rest || part.Jumps.Any(j => j.From == option.To))
                        continue; // never round and round
                    var cost = (long[])part.Cost.Clone();
                    Add(cost, option);
                    Push(new Part(part.Jumps.Add(option), option.To, cost, [.. cost.Select((x, i) => x + rest[i])]));
                }
            }
            return place < _found.Count ? _found[place] : null;
        }
    }

    private void Push(Part part) => _queue.Enqueue(part, part);

    private void Add(long[] cost, Option option)
    {
        cost[_layout.Losing] += option.Loses ? 1 : 0;
        cost[_layout.Outage] += option.OutageSeconds;
        cost[_layout.Closing] += option.Closes ? 1 : 0;
        cost[_layout.Jumps]++;
        cost[_layout.Time] += option.Seconds;
    }

    private long[]?[] Least()
    {
        var least = new long[]?[_problem.Versions[_component].Length];
        least[_end] = new long[_layout.AfterClosing]; // a way costs nothing of the criteria behind
        for (var changed = true; changed; )
        {
            changed = false;
            for (var v = 0; v < least.Length; v++)
                foreach (var option in _problem.Options[_component][v])
                {
                    if (least[option.To] is not { } rest)
                        continue;
                    var cost = (long[])rest.Clone();
                    Add(cost, option);
                    if (least[v] is { } known && CostLayout.Compare(known, cost) <= 0)
                        continue;
                    least[v] = cost;
                    changed = true;
                }
        }
        return least;
    }
}
