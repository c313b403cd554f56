using TideStep.Core.Catalogue;

namespace TideStep.Core.Paths;

/// <summary>Finds a smallest set of reasons which, set aside together, make a path (3-planning, Best path).</summary>
internal sealed class PathReasons(PathProblem problem)
{
    /// <summary>Kinds in the order in which sets of one size are preferred.</summary>
    private static readonly string[] Kinds = ["gap", "pin", "guard", "peers", "requirement", "rule", "jump"];

    private const int SizeLimit = 12;
    private const int StateLimit = 120_000;

    /// <summary>How many moves may be tried for all sizes together, so that an answer comes in seconds.</summary>
    private const long TryLimit = 500_000;
    private long _tried;

    private sealed record Label(int[] State, System.Collections.Immutable.ImmutableSortedSet<int> Set, int Jumps);

    private readonly JointMoves _joint = new(problem);
    private readonly bool _joints = problem.Request.Joint && problem.Options.Any(c => c.Any(v => v.Any(JointMoves.MayJoin)));
    private readonly List<Reason> _reasons = [];
    private readonly Dictionary<string, int> _numberOf = [];

    /// <summary>The smallest set found; empty where none of up to twelve reasons makes a path.</summary>
    public List<Reason> Find()
    {
        var stuck = problem.Targets.Where(t => problem.Stuck[t.Component] is not null).Select(t => new Reason("requirement", $"{problem.Index.Components[t.Component].Id}: {problem.Stuck[t.Component]}", "Survey it again, or settle what it runs.")).ToList();
        if (stuck.Count > 0) return stuck;
        var unsettled = problem.Targets.Select(t => t.Component).Where(c => problem.Unsettled[c] is not null && problem.Options[c][problem.Today[c]].Count == 0)
            .Select(c => new Reason("jump", $"{problem.Index.Components[c].Id} is at {problem.LabelOf(c, problem.Today[c])}{(problem.Unsettled[c]!.Idle.Count > 0 ? $" ({string.Join(", ", problem.Unsettled[c]!.Idle.Select(i => $"{i.Member.Id}: {i.Installed} installed"))})" : "")}, and no jump settles that", "Start or restore what runs nothing, or bring the members to one version by hand, and survey again.")).ToList();
        if (unsettled.Count > 0) return unsettled;
        for (var size = 1; size <= SizeLimit; size++)
            if (_tried + _joint.Looked > TryLimit) break;
            else if (Search(size) is { } set) return [.. set.Select(i => _reasons[i]).OrderBy(r => Array.IndexOf(Kinds, r.Kind)).ThenBy(r => r.What, StringComparer.Ordinal)];
        return [];
    }

    private IEnumerable<int>? Search(int size)
    {
        var queue = new PriorityQueue<Label, (long Kinds, int Jumps)>();
        var seen = new HashSet<string>();
        IEnumerable<int>? best = null;
        var bestKinds = long.MaxValue;
        queue.Enqueue(new Label(problem.Today.ToArray(), [], 0), (0, 0));
        var looked = 0;
        while (queue.TryDequeue(out var label, out var rank))
        {
            if (rank.Kinds >= bestKinds) break;
            if (!seen.Add(string.Join(',', label.State) + "|" + string.Join(',', label.Set))) continue;
            if (++looked > StateLimit || _tried + _joint.Looked > TryLimit) break;
            var atEnd = End(label);
            if (atEnd is not null && atEnd.Count <= size && Weight(atEnd) < bestKinds) (best, bestKinds) = (atEnd, Weight(atEnd));
            for (var c = 0; c < label.State.Length; c++)
                if (label.State[c] >= 0)
                    foreach (var option in OptionsFrom(c, label.State[c]))
                        if (Take(label, option) is { } next && next.Set.Count <= size) queue.Enqueue(next, (Weight(next.Set), next.Jumps));
            if (_joints)
                foreach (var group in _joint.Relaxed(label.State, size - label.Set.Count))
                {
                    var set = label.Set.Union(group.Aside.Select(i => NumberOf(ReasonOf(i, group.End, label.State))));
                    if (set.Count <= size) queue.Enqueue(new Label(group.End, set, label.Jumps + group.Jumps.Length), (Weight(set), label.Jumps + group.Jumps.Length));
                }
        }
        return best;
    }

    // Later kinds weigh more than any number of earlier ones of a set of this size.
    private long Weight(IEnumerable<int> set) => set.Sum(i => (long)Math.Pow(SizeLimit + 1, Array.IndexOf(Kinds, _reasons[i].Kind)));

    private IEnumerable<Option> OptionsFrom(int c, int version)
    {
        foreach (var option in problem.Options[c][version]) yield return option;
        if (problem.IsMixed(c, version) || problem.Products[c] is not { } product) yield break;
        // A missing jump counts only from one release to the next.
        var next = product.Releases.Select(r => r.Version).Where(v => problem.LeadsDown[c] ? v < problem.Versions[c][version] : v > problem.Versions[c][version]).Order().ToList();
        if (next.Count == 0) yield break;
        var to = Array.IndexOf(problem.Versions[c], problem.LeadsDown[c] ? next[^1] : next[0]);
        if (problem.Options[c][version].Any(o => o.To == to)) yield break;
        var id = problem.Index.Components[c].Id;
        var missing = new Reason("jump", $"the catalogue has no jump for {id} from {problem.Versions[c][version]} to {problem.Versions[c][to]}", "A jump that the product's maker supports, or a fresh installation beside.");
        var jump = new Jump("missing", Versions.VersionRange.Any, problem.Versions[c][to], problem.LeadsDown[c], [], [], [], RestartScope.Service, null, [], [], [], [], [], [], null);
        yield return new Option(c, version, to, jump, new MethodFigures(Method.Offline, default, default, default, default, null), 0, 0, [], [], null, [], missing) { Written = $"{id}@{problem.Versions[c][to].Label}" };
    }

    private Label? Take(Label label, Option option)
    {
        _tried++;
        var set = label.Set;
        if (option.Refused is { } refused) set = set.Add(NumberOf(refused));
        if (problem.Pinned.Contains(option.Component))
            set = set.Add(NumberOf(new Reason("pin", $"{problem.Index.Components[option.Component].Id} is pinned and would have to move", "Take the pin away.")));
        foreach (var (other, allowed) in option.Requires.Concat(option.Together))
            if (label.State[other] >= 0 && !allowed[label.State[other]]) set = set.Add(NumberOf(Unmet(option, other, label.State[other])));
        var state = (int[])label.State.Clone();
        state[option.Component] = option.To;
        foreach (var pair in problem.PairsOf[option.Component])
            if (problem.Meets(pair, state) && problem.Judge(pair, state) is { Inherited: false, Verdict.Verdict: > Verdict.Transitional } judged
                && !(judged.Verdict.Verdict == Verdict.Untested && (problem.Request.Goal.AllowUntested || problem.AllowedByName(pair, state))))
                set = set.Add(NumberOf(PairReason(pair, state, judged.Verdict)));
        return new Label(state, set, label.Jumps + 1);
    }

    private System.Collections.Immutable.ImmutableSortedSet<int>? End(Label label)
    {
        for (var c = 0; c < label.State.Length; c++)
            if (label.State[c] < 0 ? problem.TargetOf[c] is not null : !RemainingCost.MayEnd(problem, c, label.State[c])) return null;
        var set = label.Set;
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
            if (problem.Meets(pair, label.State) && problem.Judge(pair, label.State) is { Inherited: false, Verdict.Verdict: Verdict.Transitional } judged)
                set = set.Add(NumberOf(PairReason(pair, label.State, judged.Verdict)));
        return set;
    }

    private Reason Unmet(Option option, int other, int version) =>
        new("requirement", $"{option.Written} by jump {option.Jump.Id} requires another version of {problem.Index.Components[other].Id} than {problem.Versions[other][version]}", $"Bring {problem.Index.Components[other].Id} into the required range first.");

    private Reason ReasonOf(JointMoves.Issue issue, int[] end, int[] state) =>
        issue.Jump is { } jump ? Unmet(jump, issue.Other, state[issue.Other]) : PairReason(issue.Pair, end, problem.Judge(issue.Pair, end).Verdict);

    private Reason PairReason(int pair, int[] state, Compatibility.PairVerdict verdict)
    {
        var (a, b, kind) = problem.Index.Pairs[pair];
        string At(int c) => $"{problem.Index.Components[c].Id} at {problem.Versions[c][state[c]]}";
        var words = kind switch { Estates.RelationKind.DependsOn => "depends on", Estates.RelationKind.StandsOn => "stands on", Estates.RelationKind.Inside => "is inside", _ => "is a peer of" };
        var gap = verdict.Verdict == Verdict.Untested;
        var judged = verdict.Verdict switch { Verdict.Untested => "untested", Verdict.Transitional => "transitional, not fit to stay", _ => "unsupported" };
        return new Reason(gap ? "gap" : "rule", $"{At(a)} {words} {At(b)}: {judged} ({verdict.Why})", gap ? "Test the pair and allow it by name." : "Another release, or the product's maker's word.");
    }

    private int NumberOf(Reason reason)
    {
        if (_numberOf.TryGetValue(reason.What, out var number)) return number;
        _reasons.Add(reason);
        return _numberOf[reason.What] = _reasons.Count - 1;
    }
}
