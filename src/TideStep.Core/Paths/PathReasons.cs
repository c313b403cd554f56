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
    private readonly bool _joints =
        problem.Request.Joint && problem.Options.Any(c => c.Any(v => v.Any(JointMoves.MayJoin)));
    private readonly List<Reason> _reasons = [];
    private readonly Dictionary<string, int> _numberOf = [];

    /// <summary>The smallest set found; empty where none of up to twelve reasons makes a path.</summary>
    public List<Reason> Find()
    {
        var stuck = problem
            .Targets.Where(t => problem.Stuck[t.Component] is not null)
            .Select(t => new Reason(
                "requirement",
                $"{problem.Index.Components[t.Component].Id}: {problem.Stuck[t.Component]}",
                "Survey it again, or settle what it runs."
            ))
            .ToList();
        if (stuck.Count > 0)
            return stuck;
        var unsettled = problem
            .Targets.Select(t => t.Component)
            .Where(c => problem.Unsettled[c] is not null && problem.Options[c][problem.Today[c]].Count == 0)
            .Select(c => new Reason(
                "jump",
                $"{problem.Index.Components[c].Id} is at {problem.LabelOf(c, problem.Today[c])}"
                    + (
                        problem.Unsettled[c]!.Idle.Count > 0
                            ? $" ("
                                + string.Join(
                                    ", ",
                                    problem.Unsettled[c]!.Idle.Select(i => $"{i.Member.Id}: {i.Installed} installed")
                                )
                                + $")"
                            : ""
                    )
                    + $", and no jump settles that",
                "Start or restore what runs nothing, or bring the members to one version by hand, and survey again."
            ))
            .ToList();
        if (unsettled.Count > 0)
            return unsettled;
        return ByEnds() ?? ByStates();
    }

    /// <summary>The smallest set by trying sets of one size after another over the states; empty where none was found
    /// within the limits.</summary>
    internal List<Reason> ByStates()
    {
        for (var size = 1; size <= SizeLimit; size++)
            if (_tried + _joint.Looked > TryLimit || problem.Request.Watch is { Stopped: true })
                break;
            else if (Search(size) is { } set)
                return [.. InOrder(set.Select(i => _reasons[i]))];
        return [];
    }

    /// <summary>Where no set was found that makes a path: as many reasons as any such set has at least, of which the
    /// ends need these; empty where that is not known.</summary>
    public List<Reason> AtLeast { get; private set; } = [];

    private Reason Pin(int c) =>
        new("pin", $"{problem.Index.Components[c].Id} is pinned and would have to move", "Take the pin away.");

    private static long WeightOf(Reason reason) => (long)Math.Pow(SizeLimit + 1, Array.IndexOf(Kinds, reason.Kind));

    /// <summary>The smallest set that lets the ends stand together, where setting it aside makes a path: then no
    /// smaller one does, for every path has ends.
    /// Null where it makes none, or where the ends can stand as it is and only their order is in the way.</summary>
    private List<Reason>? ByEnds()
    {
        var ways = Enumerable.Range(0, problem.Today.Length).Select(WaysOf).ToArray();
        // Of sets alike the one that leads nearest to what the goal would have best.
        long[] Priced(IReadOnlyCollection<Reason> reasons, long rank = 0) =>
            [reasons.Count, reasons.Sum(WeightOf), rank];
        long RankOf(int c, int v) =>
            problem.TargetOf[c] is { AnyWillDo: false } target && !problem.IsMixed(c, v)
                ? Ranking.Distance(target.BestFirst, problem.Versions[c][v])
                : 0;
        var reach = new PairReach(problem, WeightOf);
        long[]? PriceOf(int pair, int[] state) =>
            reach.Price(pair, state) switch
            {
                null => null,
                (0, _) => EndChoice.Nothing,
                var (count, weight) => [count, weight, 0],
            };
        var chosen = new EndChoice(
            problem,
            (c, v) => RemainingCost.MayEnd(problem, c, v) && ways[c].ContainsKey(v),
            (c, v) => Priced(ways[c][v], RankOf(c, v)),
            PriceOf
        ).Find();
        if (chosen is not var (ends, cost, _) || cost[0] is 0 or > SizeLimit)
            return null;
        List<Reason> reasons =
        [
            .. Enumerable
                .Range(0, ends.Length)
                .Where(c => ends[c] >= 0)
                .SelectMany(c => ways[c][ends[c]])
                .Concat(Enumerable.Range(0, problem.Index.Pairs.Length).SelectMany(p => reach.Reasons(p, ends)))
                .DistinctBy(r => r.What),
        ];
        var pinned = problem.Pinned.Where(p => reasons.All(r => r != Pin(p))).ToHashSet();
        var without = new PathProblem(
            problem.Request with
            {
                WithReasons = false,
            },
            problem.Targets,
            pinned,
            relaxed: false,
            reasons.Select(r => r.What).ToHashSet()
        );
        if (PathFinder.LeadsAnywhere(without))
            return [.. InOrder(reasons)];
        AtLeast = [.. InOrder(reasons)];
        return null;
    }

    // For every version the smallest set of what stands in the way of a component by itself: what is refused or
    // missing, and its pin.
    private Dictionary<int, IReadOnlyCollection<Reason>> WaysOf(int c)
    {
        var found = new Dictionary<int, IReadOnlyCollection<Reason>>();
        if (problem.Today[c] < 0)
            return found;
        var queue = new PriorityQueue<(int Version, HashSet<Reason> Set), (int, long)>();
        queue.Enqueue((problem.Today[c], []), (0, 0));
        while (queue.TryDequeue(out var at, out _))
        {
            if (!found.TryAdd(at.Version, at.Set))
                continue;
            foreach (var option in OptionsFrom(c, at.Version))
            {
                HashSet<Reason> set = [.. at.Set];
                if (option.Refused is { } refused)
                    set.Add(refused);
                if (problem.Pinned.Contains(c))
                    set.Add(Pin(c));
                queue.Enqueue((option.To, set), (set.Count, set.Sum(WeightOf)));
            }
        }
        return found;
    }

    private static IEnumerable<Reason> InOrder(IEnumerable<Reason> reasons) =>
        reasons.OrderBy(r => Array.IndexOf(Kinds, r.Kind)).ThenBy(r => r.What, StringComparer.Ordinal);

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
            if (rank.Kinds >= bestKinds)
                break;
            if (!seen.Add(string.Join(',', label.State) + "|" + string.Join(',', label.Set)))
                continue;
            if (++looked > StateLimit || _tried + _joint.Looked > TryLimit || !problem.Request.Goes)
                break;
            var atEnd = End(label);
            if (atEnd is not null && atEnd.Count <= size && Weight(atEnd) < bestKinds)
                (best, bestKinds) = (atEnd, Weight(atEnd));
            for (var c = 0; c < label.State.Length; c++)
                if (label.State[c] >= 0)
                    foreach (var option in OptionsFrom(c, label.State[c]))
                        if (Take(label, option) is { } next && next.Set.Count <= size)
                            queue.Enqueue(next, (Weight(next.Set), next.Jumps));
            if (_joints)
                foreach (var group in _joint.Relaxed(label.State, size - label.Set.Count))
                {
                    var set = label.Set.Union(group.Aside.Select(i => NumberOf(ReasonOf(i, group.End, label.State))));
                    if (set.Count <= size)
                        queue.Enqueue(
                            new Label(group.End, set, label.Jumps + group.Jumps.Length),
                            (Weight(set), label.Jumps + group.Jumps.Length)
                        );
                }
        }
        return best;
    }

    // Later kinds weigh more than any number of earlier ones of a set of this size.
    private long Weight(IEnumerable<int> set) =>
        set.Sum(i => (long)Math.Pow(SizeLimit + 1, Array.IndexOf(Kinds, _reasons[i].Kind)));

    private IEnumerable<Option> OptionsFrom(int c, int version) =>
        Missing(problem, c, version, problem.Options[c][version]) is { } missing
            ? problem.Options[c][version].Append(missing)
            : problem.Options[c][version];

    /// <summary>The jump that the catalogue lacks from a version to the next release; null where there is
    /// one.</summary>
    internal static Option? Missing(PathProblem problem, int c, int version, List<Option> there)
    {
        if (problem.IsMixed(c, version) || problem.Products[c] is not { } product)
            return null;
        // A missing jump counts only from one release to the next.
        var next = product
            .Releases.Select(r => r.Version)
            .Where(v => problem.LeadsDown[c] ? v < problem.Versions[c][version] : v > problem.Versions[c][version])
            .Order()
            .ToList();
        if (next.Count == 0)
            return null;
        var to = Array.IndexOf(problem.Versions[c], problem.LeadsDown[c] ? next[^1] : next[0]);
        if (there.Any(o => o.To == to))
            return null;
        var id = problem.Index.Components[c].Id;
        var missing = new Reason(
            "jump",
            $"the catalogue has no jump for {id} from {problem.Versions[c][version]} to {problem.Versions[c][to]}",
            "A jump that the product's maker supports, or a fresh installation beside."
        );
        var jump = new Jump(
            "missing",
            Versions.VersionRange.Any,
            problem.Versions[c][to],
            problem.LeadsDown[c],
            [],
            [],
            [],
            RestartScope.Service,
            null,
            [],
            [],
            [],
            [],
            [],
            [],
            null
        );
        return new Option(
            c,
            version,
            to,
            jump,
            new MethodFigures(Method.Offline, default, default, default, default, null),
            0,
            0,
            [],
            [],
            null,
            [],
            missing
        )
        {
            Written = $"{id}@{problem.Versions[c][to].Label}",
        };
    }

    private Label? Take(Label label, Option option)
    {
        _tried++;
        var set = label.Set;
        if (option.Refused is { } refused)
            set = set.Add(NumberOf(refused));
        if (problem.Pinned.Contains(option.Component))
            set = set.Add(NumberOf(Pin(option.Component)));
        foreach (var (other, allowed) in option.Requires.Concat(option.Together))
            if (label.State[other] >= 0 && !allowed[label.State[other]])
                set = set.Add(NumberOf(Unmet(problem, option, other, label.State[other])));
        var state = (int[])label.State.Clone();
        state[option.Component] = option.To;
        foreach (var pair in problem.PairsOf[option.Component])
            if (
                problem.Meets(pair, state)
                && problem.Judge(pair, state) is { Inherited: false, Verdict.Verdict: > Verdict.Transitional } judged
                && !(
                    judged.Verdict.Verdict == Verdict.Untested
                    && (problem.Request.Goal.AllowUntested || problem.AllowedByName(pair, state))
                )
            )
                set = set.Add(NumberOf(PairReason(pair, state, judged.Verdict)));
        return new Label(state, set, label.Jumps + 1);
    }

    private System.Collections.Immutable.ImmutableSortedSet<int>? End(Label label)
    {
        for (var c = 0; c < label.State.Length; c++)
            if (
                label.State[c] < 0 ? problem.TargetOf[c] is not null : !RemainingCost.MayEnd(problem, c, label.State[c])
            )
                return null;
        var set = label.Set;
        for (var pair = 0; pair < problem.Index.Pairs.Length; pair++)
            if (
                problem.Meets(pair, label.State)
                && problem.Judge(pair, label.State)
                    is { Inherited: false, Verdict.Verdict: Verdict.Transitional } judged
            )
                set = set.Add(NumberOf(PairReason(pair, label.State, judged.Verdict)));
        return set;
    }

    /// <summary>A demand that another component's version does not meet.</summary>
    internal static Reason Unmet(PathProblem problem, Option option, int other, int version) =>
        new(
            "requirement",
            $"{option.Written} by jump {option.Jump.Id} requires another version of "
                + $"{problem.Index.Components[other].Id} than {problem.Versions[other][version]}",
            $"Bring {problem.Index.Components[other].Id} into the required range first."
        );

    private Reason ReasonOf(JointMoves.Issue issue, int[] end, int[] state) =>
        issue.Jump is { } jump
            ? Unmet(problem, jump, issue.Other, state[issue.Other])
            : PairReason(issue.Pair, end, problem.Judge(issue.Pair, end).Verdict);

    private Reason PairReason(int pair, int[] state, Compatibility.PairVerdict verdict) =>
        OfPair(problem, pair, state, verdict);

    /// <summary>A pair as a reason, whichever the versions that it is judged at.</summary>
    internal static Reason OfPair(PathProblem problem, int pair, int[] state, Compatibility.PairVerdict verdict) =>
        OfPair(problem, pair, state[problem.Index.Pairs[pair].A], state[problem.Index.Pairs[pair].B], verdict);

    internal static Reason OfPair(PathProblem problem, int pair, int va, int vb, Compatibility.PairVerdict verdict)
    {
        var (a, b, kind) = problem.Index.Pairs[pair];
        string At(int c) => $"{problem.Index.Components[c].Id} at {problem.LabelOf(c, c == a ? va : vb)}";
        var words = kind switch
        {
            Estates.RelationKind.DependsOn => "depends on",
            Estates.RelationKind.StandsOn => "stands on",
            Estates.RelationKind.Inside => "is inside",
            _ => "is a peer of",
        };
        var gap = verdict.Verdict == Verdict.Untested;
        var judged = verdict.Verdict switch
        {
            Verdict.Untested => "untested",
            Verdict.Transitional => "transitional, not fit to stay",
            _ => "unsupported",
        };
        return new Reason(
            gap ? "gap" : "rule",
            $"{At(a)} {words} {At(b)}: {judged} ({verdict.Why})",
            gap ? "Test the pair and allow it by name." : "Another release, or the product's maker's word."
        );
    }

    private int NumberOf(Reason reason)
    {
        if (_numberOf.TryGetValue(reason.What, out var number))
            return number;
        _reasons.Add(reason);
        return _numberOf[reason.What] = _reasons.Count - 1;
    }
}
