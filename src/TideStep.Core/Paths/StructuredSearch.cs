using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>Finds the best path by structure where it can be told so: the best ends by themselves, the cheapest way to
/// each, and one order of them all.
/// Criteria 2 to 7 are then least for any path; 8, 9 and 11 are nought, or least for the only choice that costs as
/// little, 10 was least among the ends, 12 is first among the orders.
/// Where any of this does not come out, it finds nothing and the search over sets of jumps has to look.</summary>
internal sealed class StructuredSearch(PathProblem problem)
{
    private const int MostWays = 16;
    private const int MostChoices = 64;

    private readonly CostLayout _layout = new(problem);
    private readonly Dictionary<(int Component, int End), ChainSource> _sources = [];

    /// <summary>The moves of the best path with its cost, or null.</summary>
    public (List<MoveOption> Moves, long[] Cost)? Find(EndDomains domains)
    {
        if (new EndChoice(problem, domains, CostOf).Find() is not (var ends, var least, true))
            return null;
        var moving = Enumerable
            .Range(0, ends.Length)
            .Where(c => problem.Today[c] >= 0 && ends[c] != problem.Today[c])
            .ToList();
        var ways = moving.ToDictionary(c => c, c => Cheapest(c, ends[c]));
        (List<MoveOption> Moves, long[] Cost)? best = null;
        foreach (var chains in Choices(moving, ways))
        {
            var order = new PrecedenceOrder(problem, chains);
            // Another choice that costs as much may leave less after a closing jump, have fewer tolerated states or
            // fewer moves out of turn; nothing leaves less than nought.
            if (
                order.Best() is not { } moves
                || (order.AfterClosing + order.Transitional + order.OutOfTurn > 0 && !OnlyChoice(domains, ways))
            )
                return null;
            var cost = (long[])least.Clone();
            (cost[_layout.AfterClosing], cost[_layout.Transitional], cost[_layout.OutOfTurn]) = (
                order.AfterClosing,
                order.Transitional,
                order.OutOfTurn
            );
            if (best is not { } known || PathSearch.CompareText(moves, known.Moves) < 0)
                best = (moves, cost);
        }
        return best;
    }

    /// <summary>The untested pairs of the least costly ends where any may be relied on: no path relies on fewer, for
    /// every path has ends.
    /// With it the least that criteria 1 to 7 and 10 can come to, and whether no other ends come to as
    /// little.</summary>
    public (List<(int Pair, int A, int B)> Relied, long[] Least, bool Unique)? ReliedAtEnds(EndDomains domains)
    {
        var one = new long[_layout.Length];
        one[CostLayout.Untested] = 1;
        if (new EndChoice(problem, domains.May, CostOf, (p, state) => !problem.MayStandAtEnd(p, state) ? null
                : problem.ReliesOn(p, state) ? one
                : EndChoice.Nothing).Find() is not var (ends, least, unique))
            return null;
        return (
            [
                .. Enumerable
                    .Range(0, problem.Index.Pairs.Length)
                    .Where(p => problem.Meets(p, ends) && problem.ReliesOn(p, ends))
                    .Select(p => (p, ends[problem.Index.Pairs[p].A], ends[problem.Index.Pairs[p].B])),
            ],
            least,
            unique
        );
    }

    private ChainSource SourceOf(int c, int end) =>
        _sources.TryGetValue((c, end), out var known)
            ? known
            : _sources[(c, end)] = new ChainSource(problem, _layout, c, end);

    private readonly Dictionary<(int Component, int End), long[]?> _costs = [];

    private long[]? CostOf(int c, int end) =>
        _costs.TryGetValue((c, end), out var known) ? known : _costs[(c, end)] = Reckon(c, end);

    private long[]? Reckon(int c, int end)
    {
        var cost = new long[_layout.Length];
        if (end != problem.Today[c])
        {
            if (problem.Pinned.Contains(c) || SourceOf(c, end)[0] is not { } chain)
                return null;
            for (var i = 0; i < cost.Length; i++)
                cost[i] = chain.Cost[i];
            if (problem.TargetOf[c] is null or { AnyWillDo: true })
                cost[_layout.OtherRank(c)] = Ranking.Distance(BestFirst(c), problem.Versions[c][end]);
        }
        if (problem.TargetOf[c] is { AnyWillDo: false } target && !problem.IsMixed(c, end))
            cost[_layout.GoalAt(problem.Targets.IndexOf(target))] = Ranking.Distance(
                target.BestFirst,
                problem.Versions[c][end]
            );
        return cost;
    }

    private readonly Dictionary<int, List<Catalogue.Release>> _bestFirst = [];

    private List<Catalogue.Release> BestFirst(int c) =>
        _bestFirst.TryGetValue(c, out var known)
            ? known
            : _bestFirst[c] = Ranking.BestFirst(
                problem.Products[c]!,
                _ => true,
                problem.Request.Day,
                problem.Request.Goal.Newest
            );

    // All ways to an end that cost as little as the cheapest.
    private List<ImmutableArray<Option>> Cheapest(int c, int end)
    {
        var source = SourceOf(c, end);
        var ways = new List<ImmutableArray<Option>>();
        for (
            var i = 0;
            i <= MostWays && source[i] is { } way && CostLayout.Compare(way.Cost, source[0]!.Cost) == 0;
            i++
        )
            ways.Add(way.Jumps);
        return ways;
    }

    // Another choice of ends or ways that is as good by criteria 1 to 7 would have to be weighed too.
    private bool OnlyChoice(EndDomains domains, Dictionary<int, List<ImmutableArray<Option>>> ways) =>
        ways.Values.All(w => w.Count == 1)
        && new EndChoice(problem, domains, (c, end) => CostOf(c, end)?[.._layout.AfterClosing]).Find()
            is { Unique: true };

    // Each combination of ways that are not alike in all that an order can see; of those alike the first by its text
    // stands for all.
    private IEnumerable<ImmutableSortedDictionary<int, ImmutableArray<Option>>> Choices(
        List<int> moving,
        Dictionary<int, List<ImmutableArray<Option>>> ways
    )
    {
        var kinds = moving.Select(c => (Component: c, Ways: Unlike(c, ways))).ToList();
        long count = 1;
        foreach (var (_, its) in kinds)
            if (its.Count > MostWays || (count *= its.Count) > MostChoices)
                yield break;
        for (var number = 0L; number < count; number++)
        {
            var (chains, rest) = (ImmutableSortedDictionary.CreateBuilder<int, ImmutableArray<Option>>(), number);
            foreach (var (c, its) in kinds)
            {
                chains.Add(c, its[(int)(rest % its.Count)]);
                rest /= its.Count;
            }
            yield return chains.ToImmutable();
        }
    }

    private List<ImmutableArray<Option>> Unlike(int c, Dictionary<int, List<ImmutableArray<Option>>> ways)
    {
        var kinds = new List<ImmutableArray<Option>>();
        foreach (var way in ways[c].OrderBy(w => w, Comparer<ImmutableArray<Option>>.Create(CompareWays)))
            if (!kinds.Any(k => Alike(c, k, way, ways)))
                kinds.Add(way);
        return kinds;
    }

    private static int CompareWays(ImmutableArray<Option> a, ImmutableArray<Option> b) =>
        PathSearch.CompareText([.. a.Select(o => o.AsMove)], [.. b.Select(o => o.AsMove)]);

    // Whether two ways allow the same orders, whichever ways the others take.
    private bool Alike(
        int c,
        ImmutableArray<Option> a,
        ImmutableArray<Option> b,
        Dictionary<int, List<ImmutableArray<Option>>> ways
    )
    {
        if (a.Length != b.Length)
            return false;
        var state = problem.Today.ToArray();
        for (var i = 0; i < a.Length; i++)
        {
            if (a[i].Closes != b[i].Closes)
                return false;
            if (a[i].Requires.Count + a[i].Together.Count + b[i].Requires.Count + b[i].Together.Count > 0)
                return false;
            foreach (var pair in problem.PairsOf[c])
            {
                var other =
                    problem.Index.Pairs[pair].A == c ? problem.Index.Pairs[pair].B : problem.Index.Pairs[pair].A;
                if (problem.Today[other] < 0)
                    continue;
                foreach (var version in Passed(other, ways))
                {
                    state[other] = version;
                    if (Seen(pair, a[i].To) != Seen(pair, b[i].To))
                        return false;
                }
                state[other] = problem.Today[other];
            }
        }
        // What others demand of this component must be met alike as well.
        return !ways.Any(w =>
            w.Value.Any(way => way.Any(o => o.Requires.Concat(o.Together).Any(d => d.Component == c)))
        );

        (bool, bool) Seen(int pair, int version)
        {
            state[c] = version;
            return (
                problem.MayStand(pair, state),
                problem.Meets(pair, state) && problem.Judge(pair, state).Transitional
            );
        }
    }

    private HashSet<int> Passed(int other, Dictionary<int, List<ImmutableArray<Option>>> ways) =>
        [problem.Today[other], .. ways.TryGetValue(other, out var its) ? its.SelectMany(w => w).Select(o => o.To) : []];
}
