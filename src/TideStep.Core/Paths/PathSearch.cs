using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Paths;

/// <summary>Finds the best path by a best-first search over states (A*: Hart, Nilsson and Raphael 1968) with the criteria as one ordered cost.
/// The estimate is the sum of what each component must still pay by itself, which never exceeds the truth, so the first end reached is best.</summary>
internal sealed class PathSearch(PathProblem problem)
{
    internal sealed class Label
    {
        public required int[] State { get; init; }
        public required long[] Cost { get; init; }
        public required long[] Estimate { get; init; }
        public bool Closed { get; init; }
        public ImmutableSortedSet<int> Relied { get; init; } = [];
        public Label? Parent { get; init; }
        public Option? By { get; init; }
        public int Length { get; init; }
        public bool IsEnd { get; init; }
        public bool Replaced { get; set; }
    }

    private readonly CostLayout _layout = new(problem);
    private readonly RemainingCost _remaining = new(problem, new CostLayout(problem));
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
        return order != 0 ? order : CostLayout.Compare(a.Cost, b.Cost); // shallower first, so that ties are complete before they are passed on
    }

    /// <summary>The last label of the best path, or null where there is none.</summary>
    public Label? Find()
    {
        var start = problem.Today.ToArray();
        if (Estimate(start, new long[_layout.Length]) is not { } estimate) return null;
        Push(new Label { State = start, Cost = new long[_layout.Length], Estimate = estimate });
        Label? best = null;
        var looked = 0;
        while (_queue.TryDequeue(out var label, out _))
        {
            if (label.Replaced) continue;
            if (best is not null && CostLayout.Compare(label.Estimate, best.Cost) > 0) break;
            if (label.IsEnd)
            {
                if (best is null || CompareText(label, best) < 0) best = label;
                continue;
            }
            if (++looked > problem.Request.StateLimit) { Exhausted = false; break; }
            if (Nearest is null || CostLayout.Compare(Distance(label), Distance(Nearest)) < 0) Nearest = label;
            TryEnd(label);
            for (var c = 0; c < label.State.Length; c++)
                if (label.State[c] >= 0 && !problem.Pinned.Contains(c))
                    foreach (var option in problem.Options[c][label.State[c]]) TryMove(label, option);
        }
        return best;
    }

    private long[] Distance(Label label) => [.. label.Estimate.Zip(label.Cost, (e, c) => e - c).Take(_layout.AfterClosing)];

    private void TryMove(Label label, Option option)
    {
        foreach (var (other, allowed) in option.Requires) if (label.State[other] >= 0 && !allowed[label.State[other]]) return;
        var state = (int[])label.State.Clone();
        state[option.Component] = option.To;
        var relied = label.Relied;
        foreach (var pair in problem.PairsOf[option.Component])
        {
            if (!problem.Meets(pair, state)) continue;
            var (verdict, inherited) = problem.Judge(pair, state);
            if (inherited || verdict.Verdict <= Verdict.Transitional) continue;
            if (verdict.Verdict == Verdict.Unsupported) return;
            if (problem.AllowedByName(pair, state)) continue;
            if (!problem.Request.Goal.AllowUntested) return;
            relied = relied.Add(NumberOf(pair, state));
        }
        var cost = (long[])label.Cost.Clone();
        cost[CostLayout.Untested] = relied.Count;
        var c = option.Component;
        if (problem.TargetOf[c] is null && label.State[c] == problem.Today[c] && !problem.Found[c].Contains(option.To)) cost[_layout.OthersMoved]++;
        cost[_layout.Outage] += option.OutageSeconds;
        cost[_layout.Closing] += option.Closes ? 1 : 0;
        cost[_layout.Jumps]++;
        cost[_layout.Time] += option.Seconds;
        if (label.Closed) cost[_layout.AfterClosing]++;
        if (HoldsTransitional(state)) cost[_layout.Transitional]++;
        cost[_layout.OutOfTurn] += OutOfTurn(label, option);
        if (Estimate(state, cost) is { } estimate)
            Push(new Label { State = state, Cost = cost, Estimate = estimate, Closed = label.Closed || option.Closes, Relied = relied, Parent = label, By = option, Length = label.Length + 1 });
    }

    private void TryEnd(Label label)
    {
        for (var c = 0; c < label.State.Length; c++) if (label.State[c] >= 0 && !RemainingCost.MayEnd(problem, c, label.State[c])) return;
        // After the last move no pair is transitional, inherited ones aside; where nothing moves, what stands stays as it is.
        if (label.By is not null)
            for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
                if (problem.Meets(pair, label.State) && problem.Judge(pair, label.State) is { Inherited: false, Verdict.Verdict: Verdict.Transitional }) return;
        var cost = (long[])label.Cost.Clone();
        for (var t = 0; t < problem.Targets.Count; t++)
            if (problem.Targets[t] is { AnyWillDo: false } target && label.State[target.Component] is >= 0 and var at) cost[_layout.GoalAt(t)] = Ranking.Distance(target.BestFirst, problem.Versions[target.Component][at]);
        foreach (var c in _layout.Others)
            if (label.State[c] != problem.Today[c])
                cost[_layout.OtherRank(c)] = Ranking.Distance(Ranking.BestFirst(problem.Products[c]!, _ => true, problem.Request.Day, problem.Request.Goal.Newest), problem.Versions[c][label.State[c]]);
        Push(new Label { State = label.State, Cost = cost, Estimate = cost, Closed = label.Closed, Relied = label.Relied, Parent = label.Parent, By = label.By, Length = label.Length, IsEnd = true });
    }

    private long[]? Estimate(int[] state, long[] cost)
    {
        var estimate = (long[])cost.Clone();
        for (var c = 0; c < state.Length; c++)
        {
            if (state[c] < 0)
            {
                if (problem.TargetOf[c] is not null) return null;
                continue;
            }
            if (_remaining.Least(c, state[c]) is not { } least) return null;
            for (var i = 1; i < _layout.AfterClosing; i++) estimate[i] += least[i];
        }
        return estimate;
    }

    private void Push(Label label)
    {
        var key = Key(label);
        if (_best.TryGetValue(key, out var known))
        {
            var order = CostLayout.Compare(label.Cost, known.Cost);
            if (order > 0 || (order == 0 && CompareText(label, known) >= 0)) return;
            known.Replaced = true;
        }
        _best[key] = label;
        _queue.Enqueue(label, label);
    }

    // What later costs depend on: the versions, whether the return path is closed, the untested pairs already relied on,
    // and for moves out of turn how many moves each site of a product has made.
    private string Key(Label label)
    {
        var text = new System.Text.StringBuilder(label.State.Length + 16);
        text.Append(label.IsEnd ? 'E' : label.Closed ? 'C' : 'O');
        foreach (var v in label.State) text.Append((char)(v + 2));
        foreach (var u in label.Relied) text.Append('\uF000').Append((char)u);
        if (!label.IsEnd) foreach (var (c, count) in MovesOf(label)) text.Append('\uF001').Append((char)c).Append((char)count);
        return text.ToString();
    }

    private IEnumerable<(int Component, int Count)> MovesOf(Label label)
    {
        if (!_turnsMatter) return [];
        var counts = new SortedDictionary<int, int>();
        for (var at = label; at?.By is { } by; at = at.Parent) counts[by.Component] = counts.GetValueOrDefault(by.Component) + 1;
        return counts.Where(c => TurnOf(c.Key) is not null && problem.Options[c.Key].Any(o => o.Count > 0) && HasSkips(c.Key)).Select(c => (c.Key, c.Value));
    }

    private readonly bool _turnsMatter = problem.Index.Estate.Sites.Values.Select(s => s.Turn).OfType<int>().Distinct().Count() > 1;

    // Only where two ways of different length lead to one version does the number of moves say more than the version.
    private bool HasSkips(int component) => problem.Options[component].Any(o => o.Select(x => x.To).Distinct().Count() > 1);

    private int? TurnOf(int component) => problem.Index.Components[component].Site is { } site ? problem.Index.Estate.Sites[site].Turn : null;

    private int OutOfTurn(Label label, Option option)
    {
        if (!_turnsMatter || TurnOf(option.Component) is not { } turn) return 0;
        var product = problem.Index.Components[option.Component].Product;
        var count = 0;
        for (var at = label; at?.By is { } by; at = at.Parent)
            if (problem.Index.Components[by.Component].Product == product && TurnOf(by.Component) > turn) count++;
        return count;
    }

    private bool HoldsTransitional(int[] state)
    {
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
            if (problem.Meets(pair, state) && problem.Judge(pair, state).Verdict.Verdict == Verdict.Transitional) return true;
        return false;
    }

    private int NumberOf(int pair, int[] state)
    {
        var key = (pair, state[problem.Index.Pairs[pair].A], state[problem.Index.Pairs[pair].B]);
        return _untested.TryGetValue(key, out var number) ? number : _untested[key] = _untested.Count;
    }

    /// <summary>The options of a path, first to last.</summary>
    public static List<Option> Trail(Label label)
    {
        var trail = new List<Option>(label.Length);
        for (var at = label; at?.By is not null; at = at.Parent) trail.Add(at.By);
        trail.Reverse();
        return trail;
    }

    // Criterion 12: the moves as text by code point, then the methods in their order, then the jumps' identifiers.
    private static int CompareText(Label a, Label b)
    {
        var (x, y) = (Trail(a), Trail(b));
        for (var i = 0; i < Math.Min(x.Count, y.Count); i++)
        {
            var order = Versions.VersionPart.CompareCodePoints(x[i].Written, y[i].Written);
            if (order != 0) return order;
        }
        if (x.Count != y.Count) return x.Count.CompareTo(y.Count);
        for (var i = 0; i < x.Count; i++) if (x[i].Method != y[i].Method) return x[i].Method.CompareTo(y[i].Method);
        for (var i = 0; i < x.Count; i++)
        {
            var order = Versions.VersionPart.CompareCodePoints(x[i].Jump.Id, y[i].Jump.Id);
            if (order != 0) return order;
        }
        return 0;
    }
}
