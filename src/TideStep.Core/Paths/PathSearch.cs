using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Paths;

/// <summary>Finds the best path by a best-first search over states (A*: Hart, Nilsson and Raphael 1968) with the
/// criteria as one ordered cost.
/// The estimate is the sum of what each component must still pay by itself, which never exceeds the truth. What later
/// costs depend on besides the versions is kept apart: a way to a state is given up only for one that is no worse
/// whatever follows (dominance between labels; Martins 1984).</summary>
internal sealed class PathSearch(PathProblem problem, bool joint = false, long[]? bound = null, int? most = null)
{
    internal sealed class Label
    {
        public required int[] State { get; init; }
        public required long[] Cost { get; init; }
        public required long[] Estimate { get; init; }
        public bool Closed { get; init; }
        public ImmutableSortedSet<int> Relied { get; init; } = [];

        /// <summary>How often moves of each kind were made, where turns matter.</summary>
        public ImmutableSortedDictionary<int, int> Turns { get; init; } = ImmutableSortedDictionary<int, int>.Empty;
        public Label? Parent { get; init; }
        public MoveOption? By { get; init; }
        public int Length { get; init; }
        public bool Replaced { get; set; }
    }

    private readonly CostLayout _layout = new(problem);
    private readonly RemainingCost _remaining = new(problem, new CostLayout(problem), joint);
    private readonly JointMoves _joint = new(problem);
    private readonly Dictionary<string, List<Label>> _labels = [];
    private readonly PriorityQueue<Label, Label> _queue = new(Comparer<Label>.Create(CompareLabels));
    private readonly Dictionary<(int Pair, int A, int B), int> _relied = [];
    private readonly MoveTurns _turns = new(problem);

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
        while (_queue.TryDequeue(out var label, out _))
        {
            if (label.Replaced)
                continue;
            if (best is not null && CostLayout.Compare(label.Estimate, best.Cost) > 0)
                break;
            // A move that is tried, and a set of jumps that is looked at, cost about the same.
            if (++_looked > _most || _tried + _joint.Looked > TriesForEachState * (long)_most || !problem.Request.Goes)
            {
                Exhausted = false;
                break;
            }
            if (Nearest is null || CostLayout.Compare(Distance(label), Distance(Nearest)) < 0)
                Nearest = label;
            if (End(label) is { } end && IsWithin(end) && (best is null || IsBefore(end, best)))
                best = end;
            Continue(label);
        }
        Exhausted &= !_joint.GaveUp;
        return best;
    }

    private bool IsWithin(Label end) => bound is null || CostLayout.Compare(end.Cost, bound) <= 0;

    private void Continue(Label label)
    {
        for (var c = 0; c < label.State.Length; c++)
            if (label.State[c] >= 0 && !problem.Pinned.Contains(c))
                foreach (var option in problem.Options[c][label.State[c]])
                    if (PathProblem.DemandsHold(option, label.State))
                        if (problem.In(option, label.State) is { Refused: null } now)
                            TryMove(label, now.AsMove);
        if (joint)
            foreach (var move in _joint.From(label.State, (end, least) => IsWorth(label, end, least)))
                TryMove(label, move);
    }

    private static bool IsBefore(Label one, Label other) =>
        CostLayout.Compare(one.Cost, other.Cost) is var order && (order != 0 ? order < 0 : CompareText(one, other) < 0);

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
    private int _looked;

    private void TryMove(Label label, MoveOption move)
    {
        _tried++;
        if (After(label, move) is { } next && (bound is null || CostLayout.Compare(next.Estimate, bound) <= 0))
            Push(next);
    }

    /// <summary>What a path costs; null where it is none by these criteria.</summary>
    /// <param name="moves">The moves in their order, each as the problem's options have it in its state.</param>
    public long[]? CostOf(IEnumerable<MoveOption> moves)
    {
        var at = new Label
        {
            State = problem.Today.ToArray(),
            Cost = new long[_layout.Length],
            Estimate = new long[_layout.Length],
        };
        foreach (var move in moves)
            if (After(at, move) is { } next)
                at = next;
            else
                return null;
        return End(at)?.Cost;
    }

    // The state after a move with what it has cost till then; null where it may not stand or leads nowhere.
    private Label? After(Label label, MoveOption move)
    {
        var state = (int[])label.State.Clone();
        foreach (var jump in move.Jumps)
            state[jump.Component] = jump.To;
        if (ReliedAfter(label.Relied, move, state) is not { } relied)
            return null;
        var cost = (long[])label.Cost.Clone();
        cost[CostLayout.Untested] = relied.Count;
        cost[_layout.Losing] += move.Losing;
        cost[_layout.Outage] += move.OutageSeconds;
        cost[_layout.Closing] += move.Closing;
        cost[_layout.Jumps] += move.Jumps.Length;
        cost[_layout.Time] += move.Seconds;
        if (label.Closed)
            cost[_layout.AfterClosing] += move.Jumps.Length;
        if (HoldsTransitional(state))
            cost[_layout.Transitional]++;
        cost[_layout.OutOfTurn] += _turns.OutOfTurn(label.Turns, move);
        if (Estimate(state, cost) is not { } estimate)
            return null;
        return new Label
        {
            State = state,
            Cost = cost,
            Estimate = estimate,
            Closed = label.Closed || move.Closing > 0,
            Relied = relied,
            Turns = _turns.After(label.Turns, move),
            Parent = label,
            By = move,
            Length = label.Length + 1,
        };
    }

    // What is relied on after a move, or null where a pair may not stand.
    private ImmutableSortedSet<int>? ReliedAfter(ImmutableSortedSet<int> relied, MoveOption move, int[] state)
    {
        foreach (var jump in move.Jumps)
        foreach (var pair in problem.PairsOf[jump.Component])
        {
            if (!problem.MayStand(pair, state))
                return null;
            if (problem.ReliesOn(pair, state))
                relied = relied.Add(NumberOf(pair, state));
        }
        return relied;
    }

    // A joint move in the making is given up when even the least that it still leads to costs more than what is known.
    private bool IsWorth(Label label, int[] end, LeastOfJoint least)
    {
        if (bound is null)
            return true;
        var cost = (long[])label.Cost.Clone();
        cost[_layout.Losing] += least.Losing;
        cost[_layout.Outage] += least.OutageSeconds;
        cost[_layout.Closing] += least.Closing;
        cost[_layout.Jumps] += least.Jumps;
        cost[_layout.Time] += least.Seconds;
        return Estimate(end, cost) is { } estimate && CostLayout.Compare(estimate, bound) <= 0;
    }

    // The label as an end, with the criteria that only an end has; null where it is none.
    private Label? End(Label label)
    {
        for (var c = 0; c < label.State.Length; c++)
            if (!MayEnd(c, label.State[c]))
                return null;
        // After the last move no pair is transitional, inherited ones aside; where nothing moves, what stands stays as
        // it is.
        if (label.By is not null)
            for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
                if (!problem.MayStandAtEnd(pair, label.State))
                    return null;
        return new Label
        {
            State = label.State,
            Cost = CostAtEnd(label),
            Estimate = label.Estimate,
            Parent = label.Parent,
            By = label.By,
            Length = label.Length,
        };
    }

    private bool MayEnd(int c, int version) =>
        version >= 0
            ? RemainingCost.MayEnd(problem, c, version)
            : problem.TargetOf[c] is null && problem.Request.Goal.SupportedAt is null;

    private long[] CostAtEnd(Label label)
    {
        var cost = (long[])label.Cost.Clone();
        for (var t = 0; t < problem.Targets.Count; t++)
            if (problem.Targets[t] is { AnyWillDo: false } target && label.State[target.Component] is >= 0 and var at)
                cost[_layout.GoalAt(t)] = Ranking.Distance(target.BestFirst, problem.Versions[target.Component][at]);
        for (var c = 0; c < label.State.Length; c++)
            if (problem.TargetOf[c] is null && label.State[c] >= 0 && !problem.IsAsToday(c, label.State[c]))
                cost[_layout.OthersMoved]++;
        foreach (var c in _layout.Others)
            if (label.State[c] != problem.Today[c])
                cost[_layout.OtherRank(c)] = Ranking.Distance(BestOf(c), problem.Versions[c][label.State[c]]);
        return cost;
    }

    private readonly List<Release>?[] _bestOf = new List<Release>?[problem.Today.Length];

    private List<Release> BestOf(int c) =>
        _bestOf[c] ??= Ranking.BestFirst(
            problem.Products[c]!,
            _ => true,
            problem.Request.Day,
            problem.Request.Goal.Newest
        );

    private long[]? Estimate(int[] state, long[] cost)
    {
        var estimate = (long[])cost.Clone();
        for (var c = 0; c < state.Length; c++)
        {
            if (state[c] < 0)
            {
                if (!MayEnd(c, state[c]))
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
        var key = string.Create(label.State.Length, label.State, (text, state) =>
        {
            for (var c = 0; c < state.Length; c++)
                text[c] = (char)(state[c] + 2);
        });
        if (!_labels.TryGetValue(key, out var here))
            _labels[key] = here = [];
        foreach (var known in here)
            if (Dominates(known, label))
                return;
        here.RemoveAll(known => known.Replaced = Dominates(label, known));
        here.Add(label);
        _queue.Enqueue(label, label);
    }

    // Whether a way to a state is no worse than another one to the same, whatever follows.
    private bool Dominates(Label one, Label other)
    {
        if (one.Relied.Count > other.Relied.Count || !one.Relied.IsSubsetOf(other.Relied))
            return false;
        for (var i = _layout.Losing; i < _layout.AfterClosing; i++)
            if (one.Cost[i] != other.Cost[i])
                return one.Cost[i] < other.Cost[i];
        if (one.Closed && !other.Closed)
            return false;
        foreach (var i in (int[])[_layout.AfterClosing, _layout.Transitional])
            if (one.Cost[i] != other.Cost[i])
                return one.Cost[i] < other.Cost[i];
        // From here on what was done in turn counts, and the text only where all else is the same for ever.
        if (one.Cost[_layout.OutOfTurn] > other.Cost[_layout.OutOfTurn])
            return false;
        if (!MoveTurns.Same(one.Turns, other.Turns))
            return false;
        return one.Cost[_layout.OutOfTurn] < other.Cost[_layout.OutOfTurn] || CompareText(one, other) <= 0;
    }

    private bool HoldsTransitional(int[] state)
    {
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
            if (problem.Meets(pair, state) && problem.Judge(pair, state).Transitional)
                return true;
        return false;
    }

    // With one component as today it is relied on once, whatever versions the pair passes.
    private int NumberOf(int pair, int[] state)
    {
        var key = problem.IsHalfToday(pair, state)
            ? (pair, -1, -1)
            : (pair, state[problem.Index.Pairs[pair].A], state[problem.Index.Pairs[pair].B]);
        return _relied.TryGetValue(key, out var number) ? number : _relied[key] = _relied.Count;
    }

    /// <summary>How many pairs a path relies on (criterion 1).</summary>
    public int ReliedOn(List<MoveOption> moves)
    {
        var (state, relied) = (problem.Today.ToArray(), new HashSet<int>());
        foreach (var move in moves)
        {
            foreach (var jump in move.Jumps)
                state[jump.Component] = jump.To;
            for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
                if (problem.ReliesOn(pair, state))
                    relied.Add(NumberOf(pair, state));
        }
        return relied.Count;
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
