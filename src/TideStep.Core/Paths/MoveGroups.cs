using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>Orders jumps group by group where groups do not touch: each group's best order is found by itself, and the
/// groups are dealt into one another by criterion 12.
/// Components are of one group where a pair or a demand between them can fail or be transitional, or where they are of
/// one product at sites of different turns;
/// all that can be transitional are of one group. Closing jumps make what comes after them count, so with any of them
/// all is one group.</summary>
internal sealed class MoveGroups(
    PathProblem problem,
    ImmutableSortedDictionary<int, ImmutableArray<Option>> chains,
    int most
)
{
    public int Looked { get; private set; }
    public bool CutOff { get; private set; }
    public bool Proved { get; private set; } = true;
    public SortedSet<int> Blocking { get; } = [];
    public long AfterClosing { get; private set; }
    public long Transitional { get; private set; }
    public long OutOfTurn { get; private set; }

    private readonly Dictionary<int, int> _leader = chains.Keys.ToDictionary(c => c);
    private readonly HashSet<int> _tolerated = [];

    /// <summary>The moves in their best order, or null where no order is allowed or none was found.</summary>
    public List<MoveOption>? Best()
    {
        Join();
        return InGroups() ?? (_retry ? InGroups() : null);
    }

    private bool _retry;

    private List<MoveOption>? InGroups()
    {
        _retry = false;
        var orders = new List<(List<MoveOption> Moves, bool Tolerated)>();
        foreach (var group in chains.Keys.GroupBy(Leader))
        {
            var order = new MoveOrder(
                problem,
                chains.Where(c => group.Contains(c.Key)).ToImmutableSortedDictionary(),
                Math.Max(1, most - Looked)
            );
            var moves = order.Best();
            (Looked, CutOff, Proved) = (Looked + order.Looked, CutOff || order.CutOff, Proved && order.Proved);
            if (moves is null)
            {
                Blocking.UnionWith(order.Blocking);
                return null;
            }
            orders.Add((moves, group.Any(_tolerated.Contains)));
            // What stays tolerated to the end makes every later move count, of whichever group: then all is one.
            if (
                orders[^1].Tolerated
                && orders.Count + chains.Keys.Select(Leader).Distinct().Count() > 2
                && Tolerated(moves) is var states
                && states[^1]
                && states.Contains(false)
            )
            {
                foreach (var c in chains.Keys.Skip(1))
                    Unite(c, chains.Keys.First());
                _retry = true;
                return null;
            }
        }
        return Counted(Dealt(orders));
    }

    private int Leader(int c) => _leader[c] == c ? c : _leader[c] = Leader(_leader[c]);

    private void Unite(int a, int b) => _leader[Leader(a)] = Leader(b);

    private void Join()
    {
        if (chains.Values.Any(c => c.Any(o => o.Closes)))
        {
            foreach (var c in chains.Keys.Skip(1))
                Unite(c, chains.Keys.First());
            return;
        }
        foreach (var a in chains.Keys)
        {
            foreach (var pair in problem.PairsOf[a])
            {
                var b = problem.Index.Pairs[pair].A == a ? problem.Index.Pairs[pair].B : problem.Index.Pairs[pair].A;
                var (fails, tolerated) = Touch(pair);
                if (tolerated)
                    _tolerated.Add(a);
                if ((fails || tolerated) && chains.ContainsKey(b))
                    Unite(a, b);
            }
            foreach (var demand in chains[a].SelectMany(o => o.Requires.Concat(o.Together)))
                if (chains.ContainsKey(demand.Component) && Passed(demand.Component).Any(v => !demand.Allowed[v]))
                    Unite(a, demand.Component);
            foreach (var b in chains.Keys)
                if (
                    b > a
                    && problem.Index.Components[a].Product == problem.Index.Components[b].Product
                    && TurnOf(a) is { } one
                    && TurnOf(b) is { } two
                    && one != two
                )
                    Unite(a, b);
        }
        foreach (var c in _tolerated)
            Unite(c, _tolerated.First());
    }

    private IEnumerable<int> Passed(int c) =>
        chains.TryGetValue(c, out var chain) ? chain.Select(o => o.To).Prepend(problem.Today[c]) : [problem.Today[c]];

    // Whether a pair can fail, or be only tolerated, at any of the versions that its components pass.
    private (bool Fails, bool Tolerated) Touch(int pair)
    {
        var (a, b, _) = problem.Index.Pairs[pair];
        var state = problem.Today.ToArray();
        var (fails, tolerated) = (false, false);
        foreach (var va in Passed(a))
        foreach (var vb in Passed(b))
        {
            (state[a], state[b]) = (va, vb);
            if (!problem.Meets(pair, state))
                continue;
            fails |= !problem.MayStand(pair, state);
            tolerated |= problem.Judge(pair, state).Transitional;
        }
        return (fails, tolerated);
    }

    private int? TurnOf(int component) =>
        problem.Index.Components[component].Site is { } site ? problem.Index.Estate.Sites[site].Turn : null;

    // The smallest text first; while a group is in a state that is only tolerated no other group's move is made, for it
    // would count as well.
    private List<MoveOption> Dealt(List<(List<MoveOption> Moves, bool Tolerated)> orders)
    {
        var holds = orders.Select(o => o.Tolerated ? Tolerated(o.Moves) : null).ToList();
        var (at, dealt) = (new int[orders.Count], new List<MoveOption>());
        while (true)
        {
            var next = -1;
            for (var g = 0; g < orders.Count; g++)
            {
                if (at[g] == orders[g].Moves.Count)
                    continue;
                if (holds[g] is { } its && its[at[g]] && !its[^1])
                {
                    next = g;
                    break;
                }
                if (
                    next < 0
                    || Versions.VersionPart.CompareCodePoints(
                        orders[g].Moves[at[g]].Written,
                        orders[next].Moves[at[next]].Written
                    ) < 0
                )
                    next = g;
            }
            if (next < 0)
                return dealt;
            dealt.Add(orders[next].Moves[at[next]++]);
        }
    }

    // For each state that a group passes whether one of its pairs is transitional there; never told where another pair
    // is anyway.
    private List<bool> Tolerated(List<MoveOption> moves)
    {
        var state = problem.Today.ToArray();
        var standing = Enumerable
            .Range(0, problem.Index.Pairs.Length)
            .Any(p =>
                !chains.ContainsKey(problem.Index.Pairs[p].A)
                && !chains.ContainsKey(problem.Index.Pairs[p].B)
                && problem.Meets(p, state)
                && problem.Judge(p, state).Transitional
            );
        var states = new List<bool> { !standing && HoldsTransitional(state) };
        foreach (var move in moves)
        {
            foreach (var jump in move.Jumps)
                state[jump.Component] = jump.To;
            states.Add(!standing && HoldsTransitional(state));
        }
        return states;
    }

    private bool HoldsTransitional(int[] state)
    {
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
            if (problem.Meets(pair, state) && problem.Judge(pair, state).Transitional)
                return true;
        return false;
    }

    private List<MoveOption> Counted(List<MoveOption> moves)
    {
        var (state, closed) = (problem.Today.ToArray(), false);
        for (var i = 0; i < moves.Count; i++)
        {
            var jump = moves[i].Jumps[0];
            if (closed)
                AfterClosing++;
            closed |= jump.Closes;
            state[jump.Component] = jump.To;
            if (HoldsTransitional(state))
                Transitional++;
            if (TurnOf(jump.Component) is { } turn)
                OutOfTurn += moves
                    .Take(i)
                    .Count(m =>
                        problem.Index.Components[m.Jumps[0].Component].Product
                            == problem.Index.Components[jump.Component].Product
                        && TurnOf(m.Jumps[0].Component) > turn
                    );
        }
        return moves;
    }
}
