namespace TideStep.Core.Paths;

/// <summary>The versions at which each component may end in any path: what the goal and the pairs leave when every
/// version without a partner is taken away again and again
/// (arc consistency, AC-3: Mackworth 1977). Where nothing is left for a component there is no path, by single or by
/// joint moves.</summary>
internal sealed class EndDomains
{
    private readonly PathProblem _problem;
    private readonly bool[][] _may;

    public EndDomains(PathProblem problem)
    {
        _problem = problem;
        _may = new bool[problem.Today.Length][];
        for (var c = 0; c < _may.Length; c++)
            _may[c] = Reachable(c);
        // A goal that holds today needs no move, whatever today's pairs are: those are inherited and stay in.
        Any = Propagate(Enumerable.Range(0, problem.Index.Pairs.Length));
    }

    private bool Propagate(IEnumerable<int> pairs)
    {
        var queue = new Queue<int>(pairs);
        var state = _problem.Today.ToArray();
        while (queue.TryDequeue(out var pair))
        {
            var (a, b, _) = _problem.Index.Pairs[pair];
            if (_problem.Today[a] < 0)
                continue;
            if (_problem.Today[b] < 0)
            {
                if (NarrowAlone(pair, a, state))
                    foreach (var touched in _problem.PairsOf[a])
                        if (touched != pair)
                            queue.Enqueue(touched);
                state[a] = _problem.Today[a];
                continue;
            }
            foreach (var (mine, other) in ((int, int)[])[(a, b), (b, a)])
                if (Narrow(pair, mine, other, state))
                    foreach (var touched in _problem.PairsOf[mine])
                        if (touched != pair)
                            queue.Enqueue(touched);
            (state[a], state[b]) = (_problem.Today[a], _problem.Today[b]);
        }
        return Enumerable
            .Range(0, _may.Length)
            .All(c => _problem.Today[c] < 0 ? MayStayUnknown(c) : _may[c].Contains(true));
    }

    // What could not be read meets no goal.
    private bool MayStayUnknown(int c) => _problem.TargetOf[c] is null && _problem.Request.Goal.SupportedAt is null;

    /// <summary>Whether every component has a version left to end at.</summary>
    public bool Any { get; }

    /// <summary>Whether some choice of ends lets every pair stand: tried component by component, the one with the
    /// fewest ends left first, with what that leaves the others kept consistent
    /// (maintaining arc consistency; Sabin and Freuder 1994). Null where the limit was met before an answer.</summary>
    public bool? CanAllStand(int limit = 20_000)
    {
        var budget = limit;
        return Any ? Try(this, ref budget) : false;
    }

    private static bool? Try(EndDomains domains, ref int budget)
    {
        if (--budget < 0)
            return null;
        var next = Enumerable
            .Range(0, domains._may.Length)
            .Where(c => domains._may[c].Count(m => m) > 1)
            .OrderBy(c => domains._may[c].Count(m => m))
            .FirstOrDefault(-1);
        if (next < 0)
            return true;
        for (var v = 0; v < domains._may[next].Length; v++)
        {
            if (!domains._may[next][v])
                continue;
            var narrowed = new EndDomains(domains, next, v);
            if (narrowed.Any && Try(narrowed, ref budget) is var found and not false)
                return found;
        }
        return false;
    }

    /// <summary>The same with one component's end settled.</summary>
    private EndDomains(EndDomains wider, int component, int end)
    {
        _problem = wider._problem;
        _may = [.. wider._may.Select(m => (bool[])m.Clone())];
        for (var v = 0; v < _may[component].Length; v++)
            _may[component][v] = v == end;
        Any = Propagate(_problem.PairsOf[component]);
    }

    /// <summary>Whether a component may end at a version.</summary>
    public bool May(int component, int version) => _may[component][version];

    private bool[] Reachable(int c)
    {
        var may = new bool[_problem.Versions[c].Length];
        if (_problem.Today[c] < 0)
            return may;
        var (seen, queue) = (new HashSet<int> { _problem.Today[c] }, new Queue<int>([_problem.Today[c]]));
        while (queue.TryDequeue(out var v))
        {
            may[v] = RemainingCost.MayEnd(_problem, c, v);
            if (!_problem.Pinned.Contains(c))
                foreach (var option in _problem.Options[c][v])
                    if (seen.Add(option.To))
                        queue.Enqueue(option.To);
        }
        return may;
    }

    // Beside a component that could not be read.
    private bool NarrowAlone(int pair, int mine, int[] state)
    {
        var narrowed = false;
        for (var v = 0; v < _may[mine].Length; v++)
        {
            if (!_may[mine][v])
                continue;
            state[mine] = v;
            if (_problem.MayStandAtEnd(pair, state))
                continue;
            _may[mine][v] = false;
            narrowed = true;
        }
        return narrowed;
    }

    private bool Narrow(int pair, int mine, int other, int[] state)
    {
        var narrowed = false;
        for (var v = 0; v < _may[mine].Length; v++)
        {
            if (!_may[mine][v])
                continue;
            state[mine] = v;
            var partner = false;
            for (var w = 0; w < _may[other].Length && !partner; w++)
            {
                if (!_may[other][w])
                    continue;
                state[other] = w;
                partner = _problem.MayStandAtEnd(pair, state);
            }
            if (partner)
                continue;
            _may[mine][v] = false;
            narrowed = true;
        }
        return narrowed;
    }
}
