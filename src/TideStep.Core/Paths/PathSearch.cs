using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Paths;

/// <summary>Finds the best path by a best-first search over states (A*: Hart, Nilsson and Raphael 1968) with the
/// criteria as one ordered cost.
/// The estimate is the sum of what each component must still pay by itself, which never exceeds the truth, so the first
/// end reached is best.</summary>
internal sealed class PathSearch(PathProblem problem, bool joint = false, long[]? bound = null, int? most = null)
{
    internal sealed class Label
    {
        public required int[] State { get; init; }
        public required long[] Cost { get; init; }
        public required long[] Estimate { get; init; }
        public bool Closed { get; init; }
        public ImmutableSortedSet<int> Relied { get; init; } = [];
        public Label? Parent { get; init; }
        public MoveOption? By { get; init; }
        public int Length { get; init; }
        public bool IsEnd { get; init; }
        public bool HasJoint { get; init; }
        public bool Replaced { get; set; }
    }

    private readonly CostLayout _layout = new(problem);
    private readonly RemainingCost _remaining = new(problem, new CostLayout(problem), joint);
    private readonly JointMoves _joint = new(problem);
    private readonly Dictionary<string, Label> _best = [];
    private readonly PriorityQueue<Label, Label> _queue = new(Comparer<Label>.Create(CompareLabels));
    private readonly Dictionary<(int Pair, int A, int B), int> _untested = [];

    public CostLayout Layout => _layout;

    /// <summary>The state nearest to the goal that was reached.</summary>
    public Label? Nearest { get; private set; }

    /// <summary>Whether the search came to its end within its limit.</summary>
    public bool Exhausted { get; private set; } = true;

    private static int CompareLabels(Label? a, Label? b)
    {
        var order = CostLayout.Compare(a!.Estimate, b!.Estimate);
        // shallower first, so that ties are complete before they are passed on
        return order != 0 ? order : CostLayout.Compare(a.Cost, b.Cost);
    }

    /// <summary>The last label of the best path, or null where there is none.</summary>
    public Label? Find()
    {
        var start = problem.Today.ToArray();
        if (Estimate(start, new long[_layout.Length]) is not { } estimate)
            return null;
        Push(
            new Label
            {
                State = start,
                Cost = new long[_layout.Length],
                Estimate = estimate,
            }
        );
        Label? best = null;
        var looked = 0;
        while (_queue.TryDequeue(out var label, out _))
        {
            if (label.Replaced)
                continue;
            if (best is not null && CostLayout.Compare(label.Estimate, best.Cost) > 0)
                break;
            if (label.IsEnd)
            {
                if (best is null || CompareText(label, best) < 0)
                    best = label;
                continue;
            }
            // A move that is tried, and a set of jumps that is looked at, cost about the same.
            if (++looked > _most || _tried + _joint.Looked > TriesForEachState * (long)_most || !problem.Request.Goes)
            {
                Exhausted = false;
                break;
            }
            if (Nearest is null || CostLayout.Compare(Distance(label), Distance(Nearest)) < 0)
                Nearest = label;
            TryEnd(label);
            for (var c = 0; c < label.State.Length; c++)
                if (label.State[c] >= 0 && !problem.Pinned.Contains(c))
                    foreach (var option in problem.Options[c][label.State[c]])
                        if (PathProblem.DemandsHold(option, label.State))
                            TryMove(label, option.AsMove);
            if (joint)
                foreach (var move in _joint.From(label.State, (end, outage) => IsWorth(label, end, outage)))
                    TryMove(label, move);
        }
        return best;
    }

    /// <summary>The labels of a path that was found by other means.</summary>
    public static Label Follow(PathProblem problem, List<MoveOption> moves, long[] cost)
    {
        var label = new Label
        {
            State = problem.Today.ToArray(),
            Cost = cost,
            Estimate = cost,
        };
        foreach (var move in moves)
        {
            var state = (int[])label.State.Clone();
            foreach (var jump in move.Jumps)
                state[jump.Component] = jump.To;
            label = new Label
            {
                State = state,
                Cost = cost,
                Estimate = cost,
                Parent = label,
                By = move,
                Length = label.Length + 1,
                IsEnd = true,
            };
        }
        return label;
    }

    /// <summary>What any path costs at least.</summary>
    public long[] LeastCost() => Estimate(problem.Today, new long[_layout.Length]) ?? new long[_layout.Length];

    /// <summary>Whether a joint move could be part of a path no worse than the one found: not where every outage lasts
    /// and a path without any is best before them.</summary>
    /// <param name="best">The path found, or null.</param>
    /// <param name="known">What any path is known to cost at least, or null.</param>
    public bool JointCouldHelp(Label? best, long[]? known)
    {
        if (JointMoves.LeastOutage(problem) is not { } outage)
            return false;
        if (best is null || (known ?? Estimate(problem.Today, new long[_layout.Length])) is not { } bound)
            return true;
        var least = (long[])bound.Clone();
        least[_layout.Time] = 0; // a joint move shares its settle time
        least[_layout.Outage] = Math.Max(least[_layout.Outage], outage);
        return CostLayout.Compare(least, best.Cost) <= 0;
    }

    private long[] Distance(Label label) =>
        [.. label.Estimate.Zip(label.Cost, (e, c) => e - c).Take(_layout.AfterClosing)];

    private const int TriesForEachState = 8;
    private readonly int _most = most ?? problem.Request.StateLimit;
    private long _tried;

    private void TryMove(Label label, MoveOption move)
    {
        _tried++;
        var state = (int[])label.State.Clone();
        foreach (var jump in move.Jumps)
            state[jump.Component] = jump.To;
        var relied = label.Relied;
        foreach (var jump in move.Jumps)
        foreach (var pair in problem.PairsOf[jump.Component])
        {
            if (!problem.Meets(pair, state))
                continue;
            var (verdict, inherited) = problem.Judge(pair, state);
            if (inherited || verdict.Verdict <= Verdict.Transitional)
                continue;
            if (verdict.Verdict == Verdict.Unsupported)
                return;
            if (problem.AllowedByName(pair, state))
                continue;
            if (!problem.Request.Goal.AllowUntested)
                return;
            relied = relied.Add(NumberOf(pair, state));
        }
        var cost = (long[])label.Cost.Clone();
        cost[CostLayout.Untested] = relied.Count;
        foreach (var jump in move.Jumps)
            if (
                problem.TargetOf[jump.Component] is null
                && jump.From == problem.Today[jump.Component]
                && !problem.Found[jump.Component].Contains(jump.To)
            )
                cost[_layout.OthersMoved]++;
        cost[_layout.Outage] += move.OutageSeconds;
        cost[_layout.Closing] += move.Closing;
        cost[_layout.Jumps] += move.Jumps.Length;
        cost[_layout.Time] += move.Seconds;
        if (label.Closed)
            cost[_layout.AfterClosing] += move.Jumps.Length;
        if (HoldsTransitional(state))
            cost[_layout.Transitional]++;
        cost[_layout.OutOfTurn] += OutOfTurn(label, move);
        if (Estimate(state, cost) is { } estimate && (bound is null || CostLayout.Compare(estimate, bound) <= 0))
            Push(
                new Label
                {
                    State = state,
                    Cost = cost,
                    Estimate = estimate,
                    Closed = label.Closed || move.Closing > 0,
                    Relied = relied,
                    Parent = label,
                    By = move,
                    Length = label.Length + 1,
                    HasJoint = label.HasJoint || move.IsJoint,
                }
            );
    }

    // A joint move in the making is given up when even the least that it still leads to costs more than what is known.
    private bool IsWorth(Label label, int[] end, long outageSeconds)
    {
        if (bound is null)
            return true;
        var cost = (long[])label.Cost.Clone();
        cost[_layout.Outage] += outageSeconds;
        return Estimate(end, cost) is { } estimate && CostLayout.Compare(estimate, bound) <= 0;
    }

    private void TryEnd(Label label)
    {
        for (var c = 0; c < label.State.Length; c++)
            if (label.State[c] >= 0 && !RemainingCost.MayEnd(problem, c, label.State[c]))
                return;
        // After the last move no pair is transitional, inherited ones aside; where nothing moves, what stands stays as
        // it is.
        if (label.By is not null)
            for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
                if (
                    problem.Meets(pair, label.State)
                    && problem.Judge(pair, label.State) is { Inherited: false, Verdict.Verdict: Verdict.Transitional }
                )
                    return;
        var cost = (long[])label.Cost.Clone();
        for (var t = 0; t < problem.Targets.Count; t++)
            if (problem.Targets[t] is { AnyWillDo: false } target && label.State[target.Component] is >= 0 and var at)
                cost[_layout.GoalAt(t)] = Ranking.Distance(target.BestFirst, problem.Versions[target.Component][at]);
        foreach (var c in _layout.Others)
            if (label.State[c] != problem.Today[c])
                cost[_layout.OtherRank(c)] = Ranking.Distance(
                    Ranking.BestFirst(
                        problem.Products[c]!,
                        _ => true,
                        problem.Request.Day,
                        problem.Request.Goal.Newest
                    ),
                    problem.Versions[c][label.State[c]]
                );
        Push(
            new Label
            {
                State = label.State,
                Cost = cost,
                Estimate = cost,
                Closed = label.Closed,
                Relied = label.Relied,
                Parent = label.Parent,
                By = label.By,
                Length = label.Length,
                HasJoint = label.HasJoint,
                IsEnd = true,
            }
        );
    }

    private long[]? Estimate(int[] state, long[] cost)
    {
        var estimate = (long[])cost.Clone();
        for (var c = 0; c < state.Length; c++)
        {
            if (state[c] < 0)
            {
                if (problem.TargetOf[c] is not null)
                    return null;
                continue;
            }
            if (_remaining.Least(c, state[c]) is not { } least)
                return null;
            for (var i = 1; i < _layout.AfterClosing; i++)
                estimate[i] += least[i];
        }
        return estimate;
    }

    private void Push(Label label)
    {
        var key = Key(label);
        if (_best.TryGetValue(key, out var known))
        {
            var order = CostLayout.Compare(label.Cost, known.Cost);
            if (order > 0 || (order == 0 && CompareText(label, known) >= 0))
                return;
            known.Replaced = true;
        }
        _best[key] = label;
        _queue.Enqueue(label, label);
    }

    // What later costs depend on: the versions, whether the return path is closed, the untested pairs already relied
    // on,
    // and for moves out of turn how many moves each site of a product has made.
    private string Key(Label label)
    {
        var text = new System.Text.StringBuilder(label.State.Length + 16);
        text.Append(
            label.IsEnd ? 'E'
            : label.Closed ? 'C'
            : 'O'
        );
        foreach (var v in label.State)
            text.Append((char)(v + 2));
        foreach (var u in label.Relied)
            text.Append('\uF000').Append((char)u);
        if (!label.IsEnd)
            foreach (var (turns, count) in MovesOf(label))
                text.Append('\uF001').Append(turns).Append((char)count);
        return text.ToString();
    }

    private IEnumerable<(string Turns, int Count)> MovesOf(Label label)
    {
        if (!_turnsMatter)
            return [];
        var counts = new SortedDictionary<string, int>(StringComparer.Ordinal);
        for (var at = label; at?.By is { } by; at = at.Parent)
        {
            // Of a move only the highest turn for each of its products matters later; of a single jump the version
            // tells how often it was made.
            if (!label.HasJoint && !HasSkips(by.Jumps[0].Component))
                continue;
            var turns = string.Join(
                ' ',
                by.Jumps.Where(j => TurnOf(j.Component) is not null)
                    .GroupBy(j => problem.Index.Components[j.Component].Product)
                    .OrderBy(g => g.Key, StringComparer.Ordinal)
                    .Select(g => $"{g.Key} {g.Max(j => TurnOf(j.Component))}")
            );
            if (turns.Length > 0)
                counts[turns] = counts.GetValueOrDefault(turns) + 1;
        }
        return counts.Select(c => (c.Key, c.Value));
    }

    private readonly bool _turnsMatter =
        problem.Index.Estate.Sites.Values.Select(s => s.Turn).OfType<int>().Distinct().Count() > 1;

    // Only where two ways of different length lead to one version does the number of moves say more than the version.
    private bool HasSkips(int component) =>
        problem.Options[component].Any(o => o.Select(x => x.To).Distinct().Count() > 1);

    private int? TurnOf(int component) =>
        problem.Index.Components[component].Site is { } site ? problem.Index.Estate.Sites[site].Turn : null;

    private int OutOfTurn(Label label, MoveOption move)
    {
        if (!_turnsMatter)
            return 0;
        var count = 0;
        for (var at = label; at?.By is { } by; at = at.Parent)
            if (
                move.Jumps.Any(j =>
                    TurnOf(j.Component) is { } turn
                    && by.Jumps.Any(b =>
                        problem.Index.Components[b.Component].Product == problem.Index.Components[j.Component].Product
                        && TurnOf(b.Component) > turn
                    )
                )
            )
                count++;
        return count;
    }

    private bool HoldsTransitional(int[] state)
    {
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
            if (problem.Meets(pair, state) && problem.Judge(pair, state).Verdict.Verdict == Verdict.Transitional)
                return true;
        return false;
    }

    private int NumberOf(int pair, int[] state)
    {
        var key = (pair, state[problem.Index.Pairs[pair].A], state[problem.Index.Pairs[pair].B]);
        return _untested.TryGetValue(key, out var number) ? number : _untested[key] = _untested.Count;
    }

    /// <summary>The moves of a path, first to last.</summary>
    public static List<MoveOption> Trail(Label label)
    {
        var trail = new List<MoveOption>(label.Length);
        for (var at = label; at?.By is not null; at = at.Parent)
            trail.Add(at.By);
        trail.Reverse();
        return trail;
    }

    // Criterion 12: the moves as text by code point, then the methods in their order, then the jumps' identifiers.
    private static int CompareText(Label a, Label b) => CompareText(Trail(a), Trail(b));

    public static int CompareText(List<MoveOption> x, List<MoveOption> y)
    {
        for (var i = 0; i < Math.Min(x.Count, y.Count); i++)
        {
            var order = Versions.VersionPart.CompareCodePoints(x[i].Written, y[i].Written);
            if (order != 0)
                return order;
        }
        if (x.Count != y.Count)
            return x.Count.CompareTo(y.Count);
        var (mine, theirs) = (x.SelectMany(m => m.Jumps).ToList(), y.SelectMany(m => m.Jumps).ToList());
        for (var i = 0; i < mine.Count; i++)
            if (mine[i].Method != theirs[i].Method)
                return mine[i].Method.CompareTo(theirs[i].Method);
        for (var i = 0; i < mine.Count; i++)
        {
            var order = Versions.VersionPart.CompareCodePoints(mine[i].Jump.Id, theirs[i].Jump.Id);
            if (order != 0)
                return order;
        }
        return 0;
    }
}
