using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>Finds the best path of single moves by deciding in turn where components end, by which jumps they get
/// there, and in which order.
/// Criteria 2 to 7 depend on the jumps alone, so sets of jumps are tried in the order of their cost. A set begins with
/// the components of the goal and grows only
/// by what can mend it: another end for one side of a pair that may not stand, or another way for a component that
/// takes part in blocking every order.
/// A component that takes no part could not open the way, so every path's own jumps are reached, and the first set that
/// can be ordered is best.</summary>
internal sealed class ChainSearch(PathProblem problem)
{
    private const int MostSets = 20_000;
    private const int MostOrderStates = 200_000;

    /// <summary>Where the moving components end and which of their ways they take.</summary>
    private sealed record Set(ImmutableSortedDictionary<int, (int End, int Way)> Moving, int Decided, long[] Estimate);

    private readonly CostLayout _layout = new(problem);
    private readonly RemainingCost _remaining = new(problem, new CostLayout(problem), joint: false);
    private readonly PriorityQueue<Set, Set> _queue = new(Comparer<Set>.Create(CompareSets));
    private readonly HashSet<string> _seen = [];
    private readonly Dictionary<(int Component, int End), ChainSource> _sources = [];
    private readonly EndDomains _ends = new(problem);
    private readonly int[] _pair = new int[problem.Today.Length];
    private int _orderStates;

    /// <summary>Whether every set that could be better was tried, with every order of those that are best.</summary>
    public bool Exhausted { get; private set; } = true;

    /// <summary>What any path costs at least, joint moves or not: that of the cheapest ends at which every pair may
    /// stand. Null before one was found.</summary>
    public long[]? Least { get; private set; }

    /// <summary>Whether the question can be put this way: untested pairs relied on count by the states passed, not by
    /// the jumps.</summary>
    public static bool Fits(PathProblem problem) => !problem.Request.Goal.AllowUntested;

    private static int CompareSets(Set? a, Set? b)
    {
        var order = CostLayout.Compare(a!.Estimate, b!.Estimate);
        return order != 0 ? order : b.Decided.CompareTo(a.Decided); // of equals the one nearer to its end
    }

    /// <summary>The moves of the best path with its cost, or null where none was found.</summary>
    public (List<MoveOption> Moves, long[] Cost)? Find()
    {
        var rest = new long[_layout.Length];
        for (var c = 0; c < problem.Today.Length; c++)
        {
            if (problem.Today[c] < 0)
            {
                if (problem.TargetOf[c] is not null)
                    return null;
                continue;
            }
            if (_remaining.Least(c, problem.Today[c]) is not { } least)
                return null;
            if (problem.TargetOf[c] is not null)
                AddTo(rest, least);
        }
        Push(new Set(ImmutableSortedDictionary<int, (int, int)>.Empty, 0, rest));
        (List<MoveOption> Moves, long[] Cost)? best = null;
        for (var looked = 0; _queue.TryDequeue(out var set, out _); )
        {
            if (best is { } known && ComparePrefix(set.Estimate, known.Cost) > 0)
                break;
            if (++looked > MostSets || _orderStates > MostOrderStates || !problem.Request.Goes)
            {
                Exhausted = false;
                break;
            }
            if (set.Decided < problem.Targets.Count)
            {
                Decide(set);
                continue;
            }
            if (EndIssue(set) is { } menders)
            {
                foreach (var c in menders.Distinct())
                    MoveElsewhere(set, c);
                continue;
            }
            Least ??= set.Estimate;
            var chains = set.Moving.ToImmutableSortedDictionary(
                m => m.Key,
                m => SourceOf(m.Key, m.Value.End)[m.Value.Way]!.Jumps
            );
            var order = new MoveGroups(problem, chains, Math.Max(1, MostOrderStates - _orderStates));
            var moves = order.Best();
            _orderStates += order.Looked;
            if (order.CutOff || !order.Proved)
                Exhausted = false;
            foreach (var c in moves is null ? order.Blocking : [.. set.Moving.Keys])
            {
                if (set.Moving.ContainsKey(c))
                    TakeNextWay(set, c);
                else
                    MoveElsewhere(set, c);
            }
            if (moves is null)
                continue;
            var cost = FullCost(set, chains, order);
            if (
                best is null
                || CostLayout.Compare(cost, best.Value.Cost) is < 0
                || (
                    CostLayout.Compare(cost, best.Value.Cost) == 0
                    && PathSearch.CompareText(moves, best.Value.Moves) < 0
                )
            )
                best = (moves, cost);
        }
        return best;
    }

    private static void AddTo(long[] sum, long[] cost)
    {
        for (var i = 0; i < sum.Length; i++)
            sum[i] += cost[i];
    }

    private int ComparePrefix(long[] a, long[] b)
    {
        for (var i = 0; i < _layout.AfterClosing; i++)
            if (a[i] != b[i])
                return a[i].CompareTo(b[i]);
        return 0;
    }

    private ChainSource SourceOf(int c, int end) =>
        _sources.TryGetValue((c, end), out var known)
            ? known
            : _sources[(c, end)] = new ChainSource(problem, _layout, c, end);

    private long[] EndCost(int target, int version)
    {
        var cost = new long[_layout.Length];
        var its = problem.Targets[target];
        if (!its.AnyWillDo && !problem.IsMixed(its.Component, version))
            cost[_layout.GoalAt(target)] = Ranking.Distance(its.BestFirst, problem.Versions[its.Component][version]);
        return cost;
    }

    // The next component of the goal ends at each version that it may end at.
    private void Decide(Set set)
    {
        var c = problem.Targets[set.Decided].Component;
        var least = _remaining.Least(c, problem.Today[c])!;
        if (_ends.May(c, problem.Today[c]) && Suits(set, c, problem.Today[c]))
            Push(
                set with
                {
                    Decided = set.Decided + 1,
                    Estimate = Sum(set.Estimate, least, EndCost(set.Decided, problem.Today[c])),
                }
            );
        if (problem.Pinned.Contains(c))
            return;
        for (var end = 0; end < problem.Versions[c].Length; end++)
            if (end != problem.Today[c] && _ends.May(c, end) && Suits(set, c, end) && SourceOf(c, end)[0] is { } chain)
                Push(
                    new Set(
                        set.Moving.SetItem(c, (end, 0)),
                        set.Decided + 1,
                        Sum(set.Estimate, least, EndCost(set.Decided, end), chain.Cost)
                    )
                );
    }

    // A component that the goal does not name ends somewhere else than today.
    private void MoveElsewhere(Set set, int c)
    {
        if (
            problem.Today[c] < 0
            || problem.Pinned.Contains(c)
            || problem.TargetOf[c] is not null
            || set.Moving.ContainsKey(c)
        )
            return;
        for (var end = 0; end < problem.Versions[c].Length; end++)
            if (end != problem.Today[c] && _ends.May(c, end) && Suits(set, c, end) && SourceOf(c, end)[0] is { } chain)
                Push(new Set(set.Moving.SetItem(c, (end, 0)), set.Decided, Sum(set.Estimate, null, chain.Cost)));
    }

    // Whether an end may stand beside the ends that are settled in this set; they do not change any more.
    private bool Suits(Set set, int c, int end)
    {
        foreach (var pair in problem.PairsOf[c])
        {
            var (a, b, _) = problem.Index.Pairs[pair];
            var other = a == c ? b : a;
            var moving = set.Moving.TryGetValue(other, out var way);
            if (!moving && !(problem.TargetOf[other] is { } target && problem.Targets.IndexOf(target) < set.Decided))
                continue;
            (_pair[a], _pair[b]) = (problem.Today[a], problem.Today[b]);
            if (moving)
                _pair[other] = way.End;
            _pair[c] = end;
            if (!problem.MayStandAtEnd(pair, _pair))
                return false;
        }
        return true;
    }

    private void TakeNextWay(Set set, int c)
    {
        var (end, way) = set.Moving[c];
        if (SourceOf(c, end)[way + 1] is { } next)
            Push(
                new Set(
                    set.Moving.SetItem(c, (end, way + 1)),
                    set.Decided,
                    Sum(set.Estimate, SourceOf(c, end)[way]!.Cost, next.Cost)
                )
            );
    }

    private static long[] Sum(long[] whole, long[]? less, params ReadOnlySpan<long[]> more)
    {
        var sum = (long[])whole.Clone();
        for (var i = 0; less is not null && i < sum.Length; i++)
            sum[i] -= less[i];
        foreach (var cost in more)
            AddTo(sum, cost);
        return sum;
    }

    private void Push(Set set)
    {
        if (
            _seen.Add(
                $"{set.Decided}|" + string.Join(' ', set.Moving.Select(m => $"{m.Key}:{m.Value.End}:{m.Value.Way}"))
            )
        )
            _queue.Enqueue(set, set);
    }

    // What may not stand at the end: a component that must not stay where it is, or a pair; both sides could mend it.
    private int[]? EndIssue(Set set)
    {
        var state = problem.Today.ToArray();
        foreach (var (c, way) in set.Moving)
            state[c] = way.End;
        for (var c = 0; c < state.Length; c++)
            if (state[c] >= 0 && problem.TargetOf[c] is null && !RemainingCost.MayEnd(problem, c, state[c]))
                return [c];
        foreach (var moved in set.Moving.Keys)
        foreach (var pair in problem.PairsOf[moved])
            if (!problem.MayStandAtEnd(pair, state))
                return [problem.Index.Pairs[pair].A, problem.Index.Pairs[pair].B];
        return null;
    }

    private long[] FullCost(Set set, ImmutableSortedDictionary<int, ImmutableArray<Option>> chains, MoveGroups order)
    {
        var cost = (long[])set.Estimate.Clone();
        (cost[_layout.AfterClosing], cost[_layout.Transitional], cost[_layout.OutOfTurn]) = (
            order.AfterClosing,
            order.Transitional,
            order.OutOfTurn
        );
        foreach (var c in _layout.Others)
            if (chains.TryGetValue(c, out var chain))
                cost[_layout.OtherRank(c)] = Ranking.Distance(
                    Ranking.BestFirst(
                        problem.Products[c]!,
                        _ => true,
                        problem.Request.Day,
                        problem.Request.Goal.Newest
                    ),
                    problem.Versions[c][chain[^1].To]
                );
        return cost;
    }
}
