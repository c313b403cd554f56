using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>Orders jumps where every pair asks only that some come before others: then the orders allowed are those of a graph without cycles, and taking the smallest text
/// that is free at each place gives the first of them by criterion 12 (topological sorting; Kahn 1962). It takes only orders with no state that is merely tolerated and no move out of turn,
/// and with as little as can be after the first closing jump; where there are none it gives none, and a search has to look.</summary>
internal sealed class PrecedenceOrder(PathProblem problem, ImmutableSortedDictionary<int, ImmutableArray<Option>> chains)
{
    private readonly List<(int Component, int Jump)> _nodes = [.. chains.SelectMany(c => Enumerable.Range(1, c.Value.Length).Select(j => (c.Key, j)))];
    private readonly Dictionary<int, int> _firstOf = [];
    private List<int>[] _after = [];

    /// <summary>How many jumps come after the first closing one.</summary>
    public int AfterClosing { get; private set; }

    /// <summary>The moves in their best order, or null where it can't be told this way.</summary>
    public List<MoveOption>? Best()
    {
        if (!Link() || StandsTolerated()) return null;
        var last = AfterClosingJumps();
        // States that are merely tolerated could leave less after a closing jump, which counts before them.
        if (AfterClosing > 0 && new PrecedenceOrder(problem, chains) { _tolerant = true } is var tolerant && !(tolerant.Link() && tolerant.AfterClosingJumps().Length > 0 && tolerant.AfterClosing == AfterClosing)) return null;
        Turns();
        return Dealt(last);
    }

    private bool _tolerant;

    private bool Link()
    {
        for (var n = 0; n < _nodes.Count; n++) _firstOf.TryAdd(_nodes[n].Component, n);
        _after = [.. _nodes.Select(_ => new List<int>())];
        foreach (var (c, chain) in chains) for (var j = 1; j < chain.Length; j++) Before(Node(c, j), Node(c, j + 1));
        return chains.Keys.All(WithTheStill) && Pairs();
    }

    private int Node(int component, int jump) => _firstOf[component] + jump - 1;

    private void Before(int earlier, int later) => _after[earlier].Add(later);

    private int At(int component, int place) => place == 0 ? problem.Today[component] : chains[component][place - 1].To;

    private bool Stands(int pair, int[] state) =>
        !problem.Meets(pair, state) || (problem.MayStand(pair, state) && (_tolerant || problem.Judge(pair, state).Verdict.Verdict != Catalogue.Verdict.Transitional));

    // A transitional pair of today makes every state count; that is weighed by a search.
    private bool StandsTolerated() =>
        Enumerable.Range(0, problem.Index.Pairs.Length).Any(p => problem.Meets(p, problem.Today) && problem.Judge(p, problem.Today).Verdict.Verdict == Catalogue.Verdict.Transitional);

    // Every version on a component's way must suit those that do not move.
    private bool WithTheStill(int c)
    {
        var state = problem.Today.ToArray();
        foreach (var option in chains[c])
        {
            if (option.Requires.Concat(option.Together).Any(d => !chains.ContainsKey(d.Component) && problem.Today[d.Component] >= 0 && !d.Allowed[problem.Today[d.Component]])) return false;
            state[c] = option.To;
            foreach (var pair in problem.PairsOf[c])
                if (!chains.ContainsKey(problem.Index.Pairs[pair].A == c ? problem.Index.Pairs[pair].B : problem.Index.Pairs[pair].A) && !Stands(pair, state)) return false;
        }
        return true;
    }

    private bool Pairs()
    {
        var pairs = new Dictionary<(int A, int B), List<int>>();
        foreach (var c in chains.Keys)
        {
            foreach (var pair in problem.PairsOf[c]) Of(problem.Index.Pairs[pair].A, problem.Index.Pairs[pair].B)?.Add(pair);
            foreach (var demand in chains[c].SelectMany(o => o.Requires.Concat(o.Together))) Of(c, demand.Component);
        }
        foreach (var ((a, b), own) in pairs)
        {
            var state = problem.Today.ToArray();
            bool StandsAt(int i, int j)
            {
                (state[a], state[b]) = (At(a, i), At(b, j));
                return own.All(p => Stands(p, state));
            }
            bool MayStep(int i, int j, bool isFirst)
            {
                var (option, other, at) = isFirst ? (chains[a][i], b, At(b, j)) : (chains[b][j], a, At(a, i));
                return option.Requires.Concat(option.Together).All(d => d.Component != other || d.Allowed[at]);
            }
            if (PairLattice.Precedences(chains[a].Length, chains[b].Length, StandsAt, MayStep) is not { } found) return false;
            foreach (var (earlierIsFirst, earlier, later) in found) Before(earlierIsFirst ? Node(a, earlier) : Node(b, earlier), earlierIsFirst ? Node(b, later) : Node(a, later));
        }
        return true;

        List<int>? Of(int x, int y)
        {
            if (x == y || !chains.ContainsKey(x) || !chains.ContainsKey(y)) return null;
            var key = (Math.Min(x, y), Math.Max(x, y));
            return pairs.TryGetValue(key, out var list) ? list : pairs[key] = [];
        }
    }

    // Closing jumps and all that must come after one: whatever the order, so many less one come after the first.
    private bool[] AfterClosingJumps()
    {
        var after = new bool[_nodes.Count];
        var queue = new Queue<int>(Enumerable.Range(0, _nodes.Count).Where(n => chains[_nodes[n].Component][_nodes[n].Jump - 1].Closes));
        foreach (var n in queue) after[n] = true;
        while (queue.TryDequeue(out var n))
            foreach (var next in _after[n]) if (!after[next]) { after[next] = true; queue.Enqueue(next); }
        AfterClosing = Math.Max(0, after.Count(a => a) - 1);
        return after;
    }

    // All moves of a product at the sites of one turn come before those of a later one.
    private void Turns()
    {
        foreach (var product in chains.Keys.GroupBy(c => problem.Index.Components[c].Product))
        {
            var turns = product.Select(c => (Component: c, Turn: problem.Index.Components[c].Site is { } site ? problem.Index.Estate.Sites[site].Turn : null)).Where(t => t.Turn is not null).GroupBy(t => t.Turn).OrderBy(t => t.Key).ToList();
            for (var t = 1; t < turns.Count; t++)
                foreach (var (earlier, _) in turns[t - 1])
                    foreach (var (later, _) in turns[t]) Before(Node(earlier, chains[earlier].Length), Node(later, 1));
        }
    }

    private List<MoveOption>? Dealt(bool[] last)
    {
        var waits = new int[_nodes.Count];
        foreach (var next in _after.SelectMany(a => a)) waits[next]++;
        var text = Comparer<int>.Create((x, y) => Versions.VersionPart.CompareCodePoints(MoveOf(x).Written, MoveOf(y).Written) is var order and not 0 ? order : x.CompareTo(y));
        var (soon, late) = (new SortedSet<int>(text), new SortedSet<int>(text));
        for (var n = 0; n < waits.Length; n++) if (waits[n] == 0) (last[n] ? late : soon).Add(n);
        var moves = new List<MoveOption>();
        var before = last.Count(l => !l);
        while (soon.Count + late.Count > 0)
        {
            var from = moves.Count < before ? soon : late;
            if (from.Count == 0) return null;
            var n = from.Min;
            from.Remove(n);
            moves.Add(MoveOf(n));
            foreach (var next in _after[n]) if (--waits[next] == 0) (last[next] ? late : soon).Add(next);
        }
        return moves.Count == _nodes.Count ? moves : null;
    }

    private MoveOption MoveOf(int n) => chains[_nodes[n].Component][_nodes[n].Jump - 1].AsMove;
}
