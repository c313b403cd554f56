using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>Orders jumps where every pair asks only that some come before others: then the orders allowed are those of
/// a graph without cycles, and taking the smallest text
/// that is free at each place gives the first of them by criterion 12 (topological sorting; Kahn 1962). Where a pair
/// can't do without one state that is merely tolerated, its two jumps around it
/// are made one right after the other: each such pair needs a state of its own, so that no order has fewer. It takes
/// only orders with no other tolerated state and no move out of turn but those
/// that what must come before what forces, and with as little as can be after the first closing jump; where there are
/// none it gives none, and a search has to look.</summary>
internal sealed class PrecedenceOrder(
    PathProblem problem,
    ImmutableSortedDictionary<int, ImmutableArray<Option>> chains
)
{
    private readonly List<(int Component, int Jump)> _nodes =
    [
        .. chains.SelectMany(c => Enumerable.Range(1, c.Value.Length).Select(j => (c.Key, j))),
    ];
    private readonly Dictionary<int, int> _firstOf = [];
    private List<int>[] _after = [];

    /// <summary>How many jumps come after the first closing one.</summary>
    public int AfterClosing { get; private set; }

    /// <summary>How many states hold a pair that is merely tolerated.</summary>
    public int Transitional => _hops.Count;

    /// <summary>How many pairs of moves of one product are out of turn; all of them are forced by what must come before
    /// what.</summary>
    public int OutOfTurn { get; private set; }

    private const int MostHops = 4;

    // Jumps that follow each other at once, and which of the two may lead.
    private readonly List<(int A, int B, bool ALeads, bool BLeads)> _hops = [];

    /// <summary>The moves in their best order, or null where it can't be told this way.</summary>
    public List<MoveOption>? Best()
    {
        if (
            !Link()
            || StandsTolerated()
            || _hops.Count > MostHops
            || _hops.SelectMany(h => (int[])[h.A, h.B]).Distinct().Count() < 2 * _hops.Count
        )
            return null;
        var last = AfterClosingJumps();
        // A closing jump that is made right before one that need not come after it would make that one count.
        if (_hops.Any(h => last[h.A] != last[h.B]))
            return null;
        // States that are merely tolerated could leave less after a closing jump, which counts before them.
        if (
            AfterClosing > 0
            && new PrecedenceOrder(problem, chains) { _tolerant = true } is var tolerant
            && !(tolerant.Link() && tolerant.AfterClosingJumps().Length > 0 && tolerant.AfterClosing == AfterClosing)
        )
            return null;
        var turns = InTurn();
        (List<MoveOption> Moves, int OutOfTurn)? best = null;
        foreach (var second in Leads(0, []))
        {
            var (after, forced) = Turned(turns, last, second);
            if (Dealt(last, second, after) is not { } moves)
                return null; // not in turn by edges alone
            if (
                best is not { } known
                || forced < known.OutOfTurn
                || (forced == known.OutOfTurn && PathSearch.CompareText(moves, known.Moves) < 0)
            )
                best = (moves, forced);
        }
        OutOfTurn = best?.OutOfTurn ?? 0;
        return best?.Moves;
    }

    // Every choice of which of two jumps leads: the jump that follows at once, by the one that it follows.
    private IEnumerable<Dictionary<int, int>> Leads(int hop, Dictionary<int, int> chosen)
    {
        if (hop == _hops.Count)
        {
            yield return chosen;
            yield break;
        }
        var (a, b, aLeads, bLeads) = _hops[hop];
        if (aLeads)
            foreach (var all in Leads(hop + 1, new(chosen) { [a] = b }))
                yield return all;
        if (bLeads)
            foreach (var all in Leads(hop + 1, new(chosen) { [b] = a }))
                yield return all;
    }

    private bool _tolerant;

    private bool Link()
    {
        for (var n = 0; n < _nodes.Count; n++)
            _firstOf.TryAdd(_nodes[n].Component, n);
        _after = [.. _nodes.Select(_ => new List<int>())];
        foreach (var (c, chain) in chains)
            for (var j = 1; j < chain.Length; j++)
                Before(Node(c, j), Node(c, j + 1));
        return chains.Keys.All(WithTheStill) && Pairs();
    }

    private int Node(int component, int jump) => _firstOf[component] + jump - 1;

    private void Before(int earlier, int later) => _after[earlier].Add(later);

    private int At(int component, int place) => place == 0 ? problem.Today[component] : chains[component][place - 1].To;

    private bool Stands(int pair, int[] state) =>
        !problem.Meets(pair, state)
        || (problem.MayStand(pair, state) && (_tolerant || !problem.Judge(pair, state).Transitional));

    // A transitional pair of today makes every state count; that is weighed by a search.
    private bool StandsTolerated() =>
        Enumerable
            .Range(0, problem.Index.Pairs.Length)
            .Any(p => problem.Meets(p, problem.Today) && problem.Judge(p, problem.Today).Transitional);

    // Every version on a component's way must suit those that do not move.
    private bool WithTheStill(int c)
    {
        var state = problem.Today.ToArray();
        foreach (var option in chains[c])
        {
            if (
                option
                    .Requires.Concat(option.Together)
                    .Any(d =>
                        !chains.ContainsKey(d.Component)
                        && problem.Today[d.Component] >= 0
                        && !d.Allowed[problem.Today[d.Component]]
                    )
            )
                return false;
            state[c] = option.To;
            foreach (var pair in problem.PairsOf[c])
                if (
                    !chains.ContainsKey(
                        problem.Index.Pairs[pair].A == c ? problem.Index.Pairs[pair].B : problem.Index.Pairs[pair].A
                    ) && !Stands(pair, state)
                )
                    return false;
        }
        return true;
    }

    private bool Pairs()
    {
        var pairs = new Dictionary<(int A, int B), List<int>>();
        foreach (var c in chains.Keys)
        {
            foreach (var pair in problem.PairsOf[c])
                Of(problem.Index.Pairs[pair].A, problem.Index.Pairs[pair].B)?.Add(pair);
            foreach (var demand in chains[c].SelectMany(o => o.Requires.Concat(o.Together)))
                Of(c, demand.Component);
        }
        foreach (var ((a, b), own) in pairs)
        {
            var state = problem.Today.ToArray();
            bool StandsAt(int i, int j)
            {
                (state[a], state[b]) = (At(a, i), At(b, j));
                return own.All(p => Stands(p, state));
            }
            bool Tolerates(int i, int j)
            {
                (state[a], state[b]) = (At(a, i), At(b, j));
                return own.All(p => !problem.Meets(p, state) || problem.MayStand(p, state));
            }
            bool MayStep(int i, int j, bool isFirst)
            {
                var (option, other, at) = isFirst ? (chains[a][i], b, At(b, j)) : (chains[b][j], a, At(a, i));
                return option.Requires.Concat(option.Together).All(d => d.Component != other || d.Allowed[at]);
            }
            var found = PairLattice.Precedences(chains[a].Length, chains[b].Length, StandsAt, MayStep);
            if (
                found is null
                && !_tolerant
                && PairLattice.HopOf(chains[a].Length, chains[b].Length, StandsAt, Tolerates, MayStep) is { } hop
            )
            {
                _hops.Add((Node(a, hop.First), Node(b, hop.Second), hop.FirstLeads, hop.SecondLeads));
                found = hop.Precedences;
            }
            if (found is null)
                return false;
            foreach (var (earlierIsFirst, earlier, later) in found)
                Before(
                    earlierIsFirst ? Node(a, earlier) : Node(b, earlier),
                    earlierIsFirst ? Node(b, later) : Node(a, later)
                );
        }
        return true;

        List<int>? Of(int x, int y)
        {
            if (x == y || !chains.ContainsKey(x) || !chains.ContainsKey(y))
                return null;
            var key = (Math.Min(x, y), Math.Max(x, y));
            return pairs.TryGetValue(key, out var list) ? list : pairs[key] = [];
        }
    }

    // Closing jumps and all that must come after one: whatever the order, so many less one come after the first.
    private bool[] AfterClosingJumps()
    {
        var after = new bool[_nodes.Count];
        var queue = new Queue<int>(
            Enumerable.Range(0, _nodes.Count).Where(n => chains[_nodes[n].Component][_nodes[n].Jump - 1].Closes)
        );
        foreach (var n in queue)
            after[n] = true;
        while (queue.TryDequeue(out var n))
            foreach (var next in _after[n])
                if (!after[next])
                {
                    after[next] = true;
                    queue.Enqueue(next);
                }
        AfterClosing = Math.Max(0, after.Count(a => a) - 1);
        return after;
    }

    // The jumps of one product at sites of different turns: the one that has its turn before the other.
    private List<(int Sooner, int Later)> InTurn()
    {
        var found = new List<(int, int)>();
        foreach (var product in chains.Keys.GroupBy(c => problem.Index.Components[c].Product))
        {
            var turns = product
                .Select(c =>
                    (
                        Component: c,
                        Turn: problem.Index.Components[c].Site is { } site
                            ? problem.Index.Estate.Sites[site].Turn
                            : null
                    )
                )
                .Where(t => t.Turn is not null)
                .ToList();
            foreach (var (sooner, turn) in turns)
            foreach (var (later, _) in turns.Where(t => t.Turn > turn))
                for (var i = 1; i <= chains[sooner].Length; i++)
                for (var j = 1; j <= chains[later].Length; j++)
                    found.Add((Node(sooner, i), Node(later, j)));
        }
        return found;
    }

    // What must come after what once turns are kept wherever they can be. A pair whose later jump must come first is
    // out of turn in every order; so no order has fewer.
    private (ILookup<int, int> After, int Forced) Turned(
        List<(int Sooner, int Later)> turns,
        bool[] last,
        Dictionary<int, int> second
    )
    {
        var unit = Units(second);
        var hard = _after
            .SelectMany((nexts, n) => nexts.Select(next => (From: unit[n], To: unit[next])))
            .Where(e => e.From != e.To)
            .Distinct()
            .ToList();
        if (turns.Count == 0)
            return (hard.ToLookup(e => e.From, e => e.To), 0);
        var after = hard.ToLookup(e => e.From, e => e.To);
        var reached = new Dictionary<int, HashSet<int>>();
        var (all, forced) = (new HashSet<(int From, int To)>(hard), 0);
        foreach (var (sooner, later) in turns)
        {
            var (from, to) = (unit[later], unit[sooner]);
            if (from == to ? second.ContainsKey(later) : (!last[later] && last[sooner]) || From(from).Contains(to))
                forced++;
            else if (from != to)
                all.Add((to, from));
        }
        return (all.ToLookup(e => e.From, e => e.To), forced);

        HashSet<int> From(int n)
        {
            if (reached.TryGetValue(n, out var known))
                return known;
            var (found, queue) = (new HashSet<int>(), new Queue<int>([n]));
            while (queue.TryDequeue(out var at))
                foreach (var next in after[at])
                    if (found.Add(next))
                        queue.Enqueue(next);
            return reached[n] = found;
        }
    }

    // Two jumps that follow each other at once are dealt as one: both wait for what either waits for.
    private int[] Units(Dictionary<int, int> second)
    {
        var unit = Enumerable.Range(0, _nodes.Count).ToArray();
        foreach (var (leads, follows) in second)
            unit[follows] = leads;
        return unit;
    }

    private List<MoveOption>? Dealt(bool[] last, Dictionary<int, int> second, ILookup<int, int> after)
    {
        var unit = Units(second);
        var waits = new int[_nodes.Count];
        foreach (var next in after.SelectMany(a => a))
            waits[next]++;
        foreach (var (leads, follows) in second)
            if (_after[follows].Contains(leads))
                return null;
        var text = Comparer<int>.Create(
            (x, y) =>
                Versions.VersionPart.CompareCodePoints(MoveOf(x).Written, MoveOf(y).Written) is var order and not 0
                    ? order
                    : x.CompareTo(y)
        );
        var (soon, late) = (new SortedSet<int>(text), new SortedSet<int>(text));
        for (var n = 0; n < waits.Length; n++)
            if (unit[n] == n && waits[n] == 0)
                (last[n] ? late : soon).Add(n);
        var moves = new List<MoveOption>();
        var before = last.Count(l => !l);
        while (soon.Count + late.Count > 0)
        {
            var from = moves.Count < before ? soon : late;
            if (from.Count == 0)
                return null;
            var n = from.Min;
            from.Remove(n);
            moves.Add(MoveOf(n));
            if (second.TryGetValue(n, out var follows))
                moves.Add(MoveOf(follows));
            foreach (var next in after[n])
                if (--waits[next] == 0)
                    (last[next] ? late : soon).Add(next);
        }
        return moves.Count == _nodes.Count ? moves : null;
    }

    private MoveOption MoveOf(int n) => chains[_nodes[n].Component][_nodes[n].Jump - 1].AsMove;
}
