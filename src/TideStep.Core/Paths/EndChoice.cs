namespace TideStep.Core.Paths;

/// <summary>Chooses where every component ends at the least cost of criteria 2 to 7 and then 10, each pair of ends
/// being allowed: components are taken away one by one,
/// those with the fewest partners first, and what each adds is kept for every choice of its partners (variable
/// elimination; Dechter 1999, bucket elimination).
/// The order of the moves is not looked at here. Estates are mostly trees of few crossing relations, so that the tables
/// stay small.</summary>
internal sealed class EndChoice
{
    private const int LargestTable = 4096;

    /// <summary>What is left to be paid for each choice of the components in the scope; null where there is
    /// none.</summary>
    private sealed record Table(int[] Scope, int[][] Domains, long[]?[] Costs, bool[] Tied)
    {
        public int Place(int[] ends)
        {
            var place = 0;
            for (var i = 0; i < Scope.Length; i++)
                place = place * Domains[i].Length + Array.IndexOf(Domains[i], ends[Scope[i]]);
            return place;
        }
    }

    private readonly PathProblem _problem;
    private readonly int[][] _domains;
    private readonly long[][][] _own;
    private readonly HashSet<int>[] _partners;
    private readonly List<(int A, int B, long[]?[,] Price)> _rules = [];

    /// <param name="problem">The problem.</param>
    /// <param name="may">Whether a component may end at a version, whatever it costs.</param>
    /// <param name="costOf">What it costs a component to end at a version; null where it can't.</param>
    /// <param name="priceOf">What it costs that a pair stands so at the end, by the pair's number; null where it must
    /// not.</param>
    public EndChoice(
        PathProblem problem,
        Func<int, int, bool> may,
        Func<int, int, long[]?> costOf,
        Func<int, int[], long[]?> priceOf
    )
    {
        _problem = problem;
        var n = problem.Today.Length;
        (_domains, _own) = (new int[n][], new long[n][][]);
        for (var c = 0; c < n; c++)
        {
            var all =
                problem.Today[c] < 0
                    ? []
                    : Enumerable
                        .Range(0, problem.Versions[c].Length)
                        .Where(v => may(c, v))
                        .Select(v => (v, Cost: costOf(c, v)))
                        .Where(x => x.Cost is not null)
                        .ToList();
            (_domains[c], _own[c]) = ([.. all.Select(x => x.v)], [.. all.Select(x => x.Cost!)]);
        }
        _partners = [.. Enumerable.Range(0, n).Select(_ => new HashSet<int>())];
        var state = problem.Today.ToArray();
        foreach (
            var together in Enumerable
                .Range(0, problem.Index.Pairs.Length)
                .GroupBy(p => (problem.Index.Pairs[p].A, problem.Index.Pairs[p].B))
        )
        {
            var (a, b) = together.Key;
            if (problem.Today[a] < 0 || problem.Today[b] < 0)
                continue;
            var (price, binds) = (new long[]?[_domains[a].Length, _domains[b].Length], false);
            for (var i = 0; i < _domains[a].Length; i++)
            for (var j = 0; j < _domains[b].Length; j++)
            {
                (state[a], state[b]) = (_domains[a][i], _domains[b][j]);
                price[i, j] = Sum(together.Select(p => priceOf(p, state)));
                binds |= price[i, j] is not { Length: 0 };
            }
            (state[a], state[b]) = (problem.Today[a], problem.Today[b]);
            if (!binds)
                continue;
            _rules.Add((a, b, price));
            _partners[a].Add(b);
            _partners[b].Add(a);
        }
    }

    /// <summary>For pairs that may stand for nothing, or not at all.</summary>
    public EndChoice(PathProblem problem, EndDomains ends, Func<int, int, long[]?> costOf)
        : this(problem, ends.May, costOf, (p, state) => problem.MayStandAtEnd(p, state) ? Nothing : null) { }

    /// <summary>A price of nought.</summary>
    public static readonly long[] Nothing = [];

    private static long[]? Sum(IEnumerable<long[]?> prices)
    {
        var sum = Nothing;
        foreach (var price in prices)
        {
            if (price is null)
                return null;
            if (price.Length > 0)
                sum = sum.Length == 0 ? price : [.. sum.Zip(price, (x, y) => x + y)];
        }
        return sum;
    }

    /// <summary>One component taken away: the rules and tables that bind it to those that are still there, and what is
    /// left to be paid for each choice of them.</summary>
    private sealed record Taken(
        int Component,
        List<(int A, int B, long[]?[,] Price)> Rules,
        List<Table> From,
        Table Left
    );

    /// <summary>The least costly ends with their cost, and whether no other ends cost the same; null where none can
    /// stand together or the tables would grow too large.</summary>
    public (int[] Ends, long[] Cost, bool Unique)? Find()
    {
        var left = Enumerable.Range(0, _domains.Length).Where(c => _problem.Today[c] >= 0).ToHashSet();
        if (left.Count == 0 || left.Any(c => _domains[c].Length == 0))
            return null;
        var tables = new List<Table>();
        var taken = new Stack<Taken>();
        while (left.Count > 0)
        {
            var next = left.MinBy(c => (_partners[c].Count, c));
            left.Remove(next);
            if (TakeAway(next, left, tables) is not { } step)
                return null;
            tables.RemoveAll(step.From.Contains);
            tables.Add(step.Left);
            taken.Push(step);
        }
        var ends = _problem.Today.ToArray();
        var cost = new long[_own.First(o => o is [_, ..])[0].Length];
        foreach (var table in tables)
        {
            if (table.Costs[0] is not { } part)
                return null;
            Add(cost, part);
        }
        var unique = true;
        while (taken.TryPop(out var step))
        {
            unique &= !step.Left.Tied[step.Left.Place(ends)];
            ends[step.Component] = BestOf(step.Component, step.Rules, step.From, ends).End;
        }
        return (ends, cost, unique);
    }

    private static void Add(long[] sum, long[] cost)
    {
        for (var i = 0; i < sum.Length; i++)
            sum[i] += cost[i];
    }

    private Taken? TakeAway(int component, HashSet<int> left, List<Table> tables)
    {
        var scope = _partners[component].Order().ToArray();
        var domains = scope.Select(s => _domains[s]).ToArray();
        var size = 1;
        foreach (var domain in domains)
            if ((size *= domain.Length) * _domains[component].Length > LargestTable)
                return null;
        var rules = _rules
            .Where(r => (r.A == component && left.Contains(r.B)) || (r.B == component && left.Contains(r.A)))
            .ToList();
        var from = tables.Where(t => t.Scope.Contains(component)).ToList();
        var (costs, tied) = (new long[]?[size], new bool[size]);
        var ends = new int[_domains.Length];
        for (var place = 0; place < size; place++)
        {
            for (int i = scope.Length - 1, rest = place; i >= 0; rest /= domains[i].Length, i--)
                ends[scope[i]] = domains[i][rest % domains[i].Length];
            (_, costs[place], tied[place]) = BestOf(component, rules, from, ends);
        }
        foreach (var s in scope)
        {
            _partners[s].Remove(component);
            foreach (var other in scope)
                if (other != s)
                    _partners[s].Add(other);
        }
        return new Taken(component, rules, from, new Table(scope, domains, costs, tied));
    }

    private (int End, long[]? Cost, bool Tied) BestOf(
        int component,
        List<(int A, int B, long[]?[,] Price)> rules,
        List<Table> from,
        int[] ends
    )
    {
        var (best, at, tied) = ((long[]?)null, -1, false);
        for (var i = 0; i < _domains[component].Length; i++)
        {
            var (cost, below) = ((long[]?)_own[component][i].Clone(), false);
            foreach (var rule in rules)
            {
                var price =
                    rule.A == component
                        ? rule.Price[i, Array.IndexOf(_domains[rule.B], ends[rule.B])]
                        : rule.Price[Array.IndexOf(_domains[rule.A], ends[rule.A]), i];
                if (price is null)
                {
                    cost = null;
                    break;
                }
                if (price.Length > 0)
                    Add(cost!, price);
            }
            if (cost is null)
                continue;
            ends[component] = _domains[component][i];
            foreach (var table in from)
            {
                var place = table.Place(ends);
                if (table.Costs[place] is not { } part)
                {
                    cost = null;
                    break;
                }
                Add(cost, part);
                below |= table.Tied[place];
            }
            if (cost is null)
                continue;
            var order = best is null ? -1 : CostLayout.Compare(cost, best);
            if (order == 0)
                tied = true;
            if (order < 0)
                (best, at, tied) = (cost, _domains[component][i], below);
        }
        return (at, best, tied);
    }
}
