using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Waves;

namespace TideStep.Core.Paths;

/// <summary>Finds the joint moves of a state: related components taken together in one outage, where no sequence of
/// smaller moves leads to the same (3-planning, Moves and methods).
/// A set of jumps grows only by what mends the first thing wrong with it: every set that can't be taken apart contains
/// such a mending, so none is missed.</summary>
internal sealed class JointMoves(PathProblem problem)
{
    private readonly Dictionary<string, bool> _apart = [];
    private readonly JointHops _hops = new(problem);

    // Where the search is narrowed to some of what is allowed, a move can still be taken apart by all that is.
    private readonly JointMoves? _whole = problem.Whole is { } whole ? new JointMoves(whole) : null;

    /// <summary>How many sets of jumps were looked at.</summary>
    public long Looked { get; private set; }

    /// <summary>Jumps in the making: the state that they lead to and who moves.</summary>
    internal sealed record Group(
        int[] End,
        ImmutableArray<Option> Jumps,
        ImmutableSortedSet<int> Components,
        ImmutableList<Issue> Aside
    );

    /// <summary>What is wrong with a set of jumps: a jump's demand on another component, or a pair in the state that it
    /// leads to.</summary>
    internal readonly record struct Issue(Option? Jump, int Other, int Pair, int A, int B);

    /// <summary>Whether a limit was met, so that a joint move may have been missed.</summary>
    public bool GaveUp { get; private set; }

    /// <summary>Whether a jump by its method can be part of a joint move.</summary>
    public static bool MayJoin(Option option) => option.Method is Method.Offline or Method.SideBySide;

    /// <summary>What any joint move costs at least in outage seconds: of two related components in one outage, or of
    /// one by two jumps. Null where none is possible.</summary>
    public static long? LeastOutage(PathProblem problem)
    {
        var joining = problem
            .Options.Select(o =>
                o.SelectMany(x => x).Where(x => (x.Refused is null || problem.DependsOnOthers) && MayJoin(x)).ToList()
            )
            .ToArray();
        if (problem.DependsOnOthers && joining.Any(j => j.Count > 0))
            return 0;
        long OutageOf(int c) => joining[c].Min(o => (long)o.Figures.Outage.TotalSeconds);
        var alone = Enumerable
            .Range(0, joining.Length)
            .Where(c => joining[c].Any(o => joining[c].Any(next => next.From == o.To)))
            .Select(c => 2 * OutageOf(c));
        var together = problem
            .Index.Pairs.Where(p => joining[p.A].Count > 0 && joining[p.B].Count > 0)
            .Select(p => 2 * (OutageOf(p.A) + OutageOf(p.B)));
        // What demands another component has a relation to it; so there is no third way.
        return alone.Concat(together).Cast<long?>().Min();
    }

    /// <summary>The joint moves from a state that can't be taken apart.</summary>
    /// <param name="state">The versions now.</param>
    /// <param name="worth">Whether a set that leads to a state and costs at least so much is still worth a
    /// look.</param>
    public IEnumerable<MoveOption> From(int[] state, Func<int[], LeastOfJoint, bool> worth)
    {
        foreach (var group in Groups(state, null, worth, 0))
            if (group.Jumps.Length > 1 && IsPossible(state, group) && !(_whole ?? this).CanBeTakenApart(state, group))
                foreach (var jumps in _hops.Ways(group.Jumps))
                    if (Priced(state, group with { Jumps = jumps }) is { } move)
                        yield return move;
    }

    /// <summary>The sets of several jumps in which at most so many things are wrong, each with what is; for finding
    /// reasons.</summary>
    public IEnumerable<Group> Relaxed(int[] state, int wrong) =>
        Groups(state, null, (_, _) => true, wrong).Where(g => g.Jumps.Length > 1);

    private List<Group> Groups(int[] state, JointBox? box, Func<int[], LeastOfJoint, bool> worth, int aside)
    {
        var found = new List<Group>();
        var seen = new HashSet<string>();
        for (var c = 0; c < state.Length; c++)
            if (state[c] >= 0)
                foreach (var option in Next(state, new Group(state, [], [], []), c, box))
                    Grow(state, Add(new Group(state, [], [], []), option), box, worth, aside, seen, found);
        return found;
    }

    private void Grow(
        int[] state,
        Group group,
        JointBox? box,
        Func<int[], LeastOfJoint, bool> worth,
        int aside,
        HashSet<string> seen,
        List<Group> found
    )
    {
        Looked++;
        if (found.Count > MostGroups || !problem.Request.Goes)
        {
            GaveUp = true;
            return;
        }
        if (box is not null && group.Jumps.Length > box.Jumps)
            return;
        if (!seen.Add(KeyOf(group)))
            return;
        if (!worth(group.End, _hops.LeastOf(group.Jumps, problem.DependsOnOthers)))
            return;
        var issues = Issues(state, group);
        var open = issues.Cast<Issue?>().FirstOrDefault(i => !group.Aside.Contains(i!.Value));
        if (open is { } issue)
        {
            foreach (
                var c in issue.Jump is not null
                    ? [issue.Other]
                    : new[] { problem.Index.Pairs[issue.Pair].A, problem.Index.Pairs[issue.Pair].B }
            )
            foreach (var option in Next(state, group, c, box))
                Grow(state, Add(group, option), box, worth, aside, seen, found);
            if (group.Aside.Count < aside)
                Grow(state, group with { Aside = group.Aside.Add(issue) }, box, worth, aside, seen, found);
            return;
        }
        found.Add(group with { Aside = [.. group.Aside.Where(issues.Contains)] });
        // Whole as it is; but a jump that needs a version which is left behind here can only come along, not after.
        foreach (var c in NeedsWhatIsLeft(state, group))
        foreach (var option in Next(state, group, c, box))
            Grow(state, Add(group, option), box, worth, aside, seen, found);
    }

    private const int MostGroups = 20_000;

    private static Group Add(Group group, Option option)
    {
        var end = (int[])group.End.Clone();
        end[option.Component] = option.To;
        return new Group(end, group.Jumps.Add(option), group.Components.Add(option.Component), group.Aside);
    }

    private static string KeyOf(Group group) =>
        string.Join(
            ' ',
            group
                .Jumps.Select((j, i) => (j, i))
                .OrderBy(p => p.j.Component)
                .ThenBy(p => p.i)
                .Select(p => $"{p.j.Component}:{p.j.From}:{p.j.To}:{(int)p.j.Method}:{p.j.Jump.Id}")
        )
        + "|"
        + string.Join(
            ' ',
            group
                .Aside.Select(i => $"{i.Jump?.Written}{i.Jump?.Jump.Id}:{i.Other}:{i.Pair}:{i.A}:{i.B}")
                .Order(StringComparer.Ordinal)
        );

    // No component comes to a version twice, nor goes in two jumps where one that demands no more leads as far: what
    // has fewer jumps takes such a set apart.
    private IEnumerable<Option> Next(int[] state, Group group, int c, JointBox? box)
    {
        if (group.End[c] < 0 || problem.Pinned.Contains(c) || problem.IsMixed(c, state[c]))
            yield break;
        foreach (var option in _hops.From(c, group.End[c]))
            if (box?.Allows(option) != false && !IsRoundabout(state, group, option))
                yield return option;
    }

    private bool IsRoundabout(int[] state, Group group, Option option)
    {
        if (!group.Components.Contains(option.Component))
            return false;
        if (option.To == state[option.Component])
            return true;
        var at = state[option.Component];
        foreach (var jump in group.Jumps)
        {
            if (jump.Component != option.Component)
                continue;
            if (jump.To == option.To || _hops.LeadsFreely(option.Component, at, option.To))
                return true;
            at = jump.To;
        }
        return false;
    }

    private List<Issue> Issues(int[] state, Group group)
    {
        var issues = new List<Issue>();
        foreach (var jump in group.Jumps)
        {
            foreach (var demand in jump.Requires.Concat(jump.Together))
                if (
                    demand.Component is var other
                    && !demand.IsMet(state[other])
                    && !(group.Components.Contains(other) && demand.IsMet(group.End[other]))
                )
                    issues.Add(new Issue(jump, other, -1, state[other], group.End[other]));
        }
        foreach (var c in group.Components)
        foreach (var pair in problem.PairsOf[c])
            if (
                !problem.MayStand(pair, group.End)
                && new Issue(
                    null,
                    -1,
                    pair,
                    group.End[problem.Index.Pairs[pair].A],
                    group.End[problem.Index.Pairs[pair].B]
                )
                    is var issue
                && !issues.Contains(issue)
            )
                issues.Add(issue);
        return issues;
    }

    // Those with a jump that needs a version which is left behind, or that is tied to a jump made here.
    private IEnumerable<int> NeedsWhatIsLeft(int[] state, Group group)
    {
        foreach (var left in group.Components)
        foreach (
            var c in problem
                .PairsOf[left]
                .Select(p => problem.Index.Pairs[p].A == left ? problem.Index.Pairs[p].B : problem.Index.Pairs[p].A)
                .Distinct()
        )
            if (
                problem
                    .Options[c]
                    .Any(options =>
                        options.Any(o =>
                            MayJoin(o)
                            && (
                                o.Requires.Concat(o.Together)
                                    .Any(d => d.Component == left && d.IsMet(state[left]) && !d.IsMet(group.End[left]))
                                || o.Together.Any(d => d.Component == left && !d.IsMet(state[left]))
                            )
                        )
                    )
            )
                yield return c;
    }

    /// <summary>What a joint move costs and who goes out with it; null where two peers would be out together.</summary>
    private MoveOption? Priced(int[] state, Group group)
    {
        var index = problem.IndexIn(state);
        var whole = group.Jumps.Where(j => j.Jump.Restarts == RestartScope.Node).Select(j => j.Component).ToHashSet();
        // Where nothing ran, nobody goes out for the first installation, and it is not out itself.
        var serving = group.Components.Where(c => !problem.IsAbsent(c, state[c]));
        var cascade = Service.Cascade(index, serving, whole.Contains);
        if (Service.PeersTogether(index, cascade) is not null)
            return null;
        var (length, first, settle) = (TimeSpan.Zero, TimeSpan.Zero, TimeSpan.Zero);
        var installed = new HashSet<int>();
        foreach (var jump in group.Jumps)
        {
            length += jump.Figures.Outage;
            if (jump.Method == Method.SideBySide)
            {
                if (installed.Add(jump.Component))
                    first += jump.Figures.Install;
                else
                    length += jump.Figures.Install;
            }
            if (jump.Figures.Settle > settle)
                settle = jump.Figures.Settle;
        }
        ImmutableArray<Option> jumps =
        [
            .. group.Jumps.Select((j, i) => (j, i)).OrderBy(p => p.j.Component).ThenBy(p => p.i).Select(p => p.j),
        ];
        return new MoveOption(
            jumps,
            (long)(length + first + settle).TotalSeconds,
            (long)length.TotalSeconds * cascade.Count,
            [.. cascade],
            string.Join('+', jumps.Select(j => j.Written))
        );
    }

    // Whether moves of fewer jumps each, that only pass onwards within the same versions, lead to the same state.
    private bool CanBeTakenApart(int[] state, Group group)
    {
        var box = new JointBox(problem, state, group.Jumps);
        var key = $"{string.Join(',', state)} {string.Join(',', group.End)} {box.Key}";
        if (_apart.TryGetValue(key, out var known))
            return known;
        var seen = new HashSet<string>();
        var queue = new Stack<int[]>([state]);
        while (queue.TryPop(out var now))
        {
            if (!seen.Add(string.Join(',', now)))
                continue;
            if (now.AsSpan().SequenceEqual(group.End))
                return _apart[key] = true;
            if (box.Jumps > 1)
                foreach (var part in Groups(now, box, (_, _) => true, 0))
                    if (part.Jumps.Length > 1 && part.Jumps.All(j => box.KeepsTied(j, now)) && IsPossible(now, part))
                        queue.Push(part.End);
            foreach (var c in group.Components)
            foreach (var option in problem.Options[c][now[c]])
                if (
                    box.Allows(option)
                    && box.KeepsTied(option, now)
                    && PathProblem.DemandsHold(option, now)
                    && problem.In(option, now).Refused is null
                )
                {
                    var next = (int[])now.Clone();
                    next[c] = option.To;
                    if (problem.PairsOf[c].All(p => problem.MayStand(p, next)))
                        queue.Push(next);
                }
        }
        return _apart[key] = false;
    }

    private bool IsPossible(int[] state, Group group) => Priced(state, group) is not null;
}
