namespace TideStep.Core.Paths;

/// <summary>The versions at which each component may end in any path: what the goal and the pairs leave when every version without a partner is taken away again and again
/// (arc consistency, AC-3: Mackworth 1977). Where nothing is left for a component there is no path, by single or by joint moves.</summary>
internal sealed class EndDomains
{
    private readonly PathProblem _problem;
    private readonly bool[][] _may;

    public EndDomains(PathProblem problem)
    {
        _problem = problem;
        _may = new bool[problem.Today.Length][];
        for (var c = 0; c < _may.Length; c++) _may[c] = Reachable(c);
        // A goal that holds today needs no move, whatever today's pairs are: those are inherited and stay in.
        var queue = new Queue<int>(Enumerable.Range(0, problem.Index.Pairs.Length));
        var state = problem.Today.ToArray();
        while (queue.TryDequeue(out var pair))
        {
            var (a, b, _) = problem.Index.Pairs[pair];
            if (problem.Today[a] < 0 || problem.Today[b] < 0) continue;
            foreach (var (mine, other) in new[] { (a, b), (b, a) })
                if (Narrow(pair, mine, other, state))
                    foreach (var touched in problem.PairsOf[mine]) if (touched != pair) queue.Enqueue(touched);
            (state[a], state[b]) = (problem.Today[a], problem.Today[b]);
        }
        Any = Enumerable.Range(0, _may.Length).All(c => problem.Today[c] < 0 || _may[c].Contains(true));
    }

    /// <summary>Whether every component has a version left to end at.</summary>
    public bool Any { get; }

    /// <summary>Whether a component may end at a version.</summary>
    public bool May(int component, int version) => _may[component][version];

    private bool[] Reachable(int c)
    {
        var may = new bool[_problem.Versions[c].Length];
        if (_problem.Today[c] < 0) return may;
        var (seen, queue) = (new HashSet<int> { _problem.Today[c] }, new Queue<int>([_problem.Today[c]]));
        while (queue.TryDequeue(out var v))
        {
            may[v] = RemainingCost.MayEnd(_problem, c, v);
            if (!_problem.Pinned.Contains(c)) foreach (var option in _problem.Options[c][v]) if (seen.Add(option.To)) queue.Enqueue(option.To);
        }
        return may;
    }

    private bool Narrow(int pair, int mine, int other, int[] state)
    {
        var narrowed = false;
        for (var v = 0; v < _may[mine].Length; v++)
        {
            if (!_may[mine][v]) continue;
            state[mine] = v;
            var partner = false;
            for (var w = 0; w < _may[other].Length && !partner; w++)
            {
                if (!_may[other][w]) continue;
                state[other] = w;
                partner = _problem.MayStandAtEnd(pair, state);
            }
            if (partner) continue;
            _may[mine][v] = false;
            narrowed = true;
        }
        return narrowed;
    }
}
