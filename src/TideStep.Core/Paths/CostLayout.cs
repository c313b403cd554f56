using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Paths;

/// <summary>Where each criterion lies in a cost, a list of numbers compared from left to right (3-planning, Best path,
/// criteria 1 to 11).</summary>
internal sealed class CostLayout
{
    public CostLayout(PathProblem problem)
    {
        Targets = problem.Targets.Count;
        // Criteria 3 to 7 can be put in another order: the ones named come first, in the order named.
        var order = problem
            .Request.Goal.Order.Select(w => Array.IndexOf(GoalDocument.OrderWords, w))
            .Concat([0, 1, 2, 3, 4])
            .Distinct()
            .ToArray();
        for (var place = 0; place < 5; place++)
            _middle[order[place]] = MiddleFrom + place;
        Others =
        [
            .. Enumerable
                .Range(0, problem.Index.Components.Length)
                .Where(c => problem.TargetOf[c] is null or { AnyWillDo: true }),
        ];
        _otherPlace = [.. Enumerable.Repeat(-1, problem.Index.Components.Length)];
        for (var i = 0; i < Others.Length; i++)
            _otherPlace[Others[i]] = Transitional + 1 + i;
        Length = Transitional + 2 + Others.Length;
    }

    private readonly int[] _middle = new int[5];
    private readonly int[] _otherPlace;

    public int Targets { get; }
    public int[] Others { get; }
    public int Length { get; }

    public static int Untested => 0;

    public int GoalAt(int target) => 1 + target;

    public int OthersMoved => _middle[0];
    public int Outage => _middle[1];
    public int Closing => _middle[2];
    public int Jumps => _middle[3];
    public int Time => _middle[4];
    public int AfterClosing => MiddleFrom + 5;
    public int Transitional => AfterClosing + 1;

    public int OtherRank(int component) => _otherPlace[component];

    public int OutOfTurn => Length - 1;

    /// <summary>Where criterion 2a lies: jumps that lose data.</summary>
    public int Losing => 1 + Targets;

    /// <summary>The places of a jump's own costs: criteria 3 to 7 as they are ordered.</summary>
    public int MiddleFrom => 2 + Targets;

    public static int Compare(long[] a, long[] b)
    {
        for (var i = 0; i < a.Length; i++)
            if (a[i] != b[i])
                return a[i] < b[i] ? -1 : 1;
        return 0;
    }
}

/// <summary>For each component and version the least that still has to be paid on the way to the goal, whatever the
/// others do.</summary>
internal sealed class RemainingCost
{
    private readonly long[]?[][] _least;
    private readonly CostLayout _layout;
    private readonly bool _joint;

    public RemainingCost(PathProblem problem, CostLayout layout, bool joint)
    {
        (_layout, _joint) = (layout, joint);
        _least = new long[]?[problem.Index.Components.Length][];
        for (var c = 0; c < _least.Length; c++)
            _least[c] = Of(problem, c);
    }

    /// <summary>The least remaining cost of a component at a version; null where its goal can't be reached from
    /// there.</summary>
    public long[]? Least(int component, int version) => _least[component][version];

    /// <summary>Whether a component may end at a version.</summary>
    public static bool MayEnd(PathProblem problem, int c, int version)
    {
        if (problem.IsMixed(c, version))
            return problem.MayStayUnsettled(c)
                && (
                    problem.Request.Goal.SupportedAt is not { } day || problem.Found[c].All(v => IsSupported(c, v, day))
                );
        if (problem.TargetOf[c] is { } target)
            return !problem.IsAbsent(c, version)
                && target.Range.Contains(problem.Versions[c][version], problem.Products[c]!.IsRelease);
        if (problem.Request.Goal.SupportedAt is { } date)
            return problem.IsAbsent(c, version) || IsSupported(c, version, date);
        return true;

        bool IsSupported(int c, int version, DateOnly day) =>
            problem.Products[c]!.ReleaseOf(problem.Versions[c][version]) is { } release
            && (release.Ends is null || release.Ends >= day);
    }

    private long[]?[] Of(PathProblem problem, int c)
    {
        var versions = problem.Versions[c];
        var least = new long[]?[versions.Length];
        var target = problem.TargetOf[c] is { } t ? problem.Targets.IndexOf(t) : -1;
        for (var v = 0; v < versions.Length; v++)
        {
            if (!MayEnd(problem, c, v))
                continue;
            var end = new long[_layout.Length];
            if (target >= 0 && !problem.Targets[target].AnyWillDo && !problem.IsMixed(c, v))
                end[_layout.GoalAt(target)] = Ranking.Distance(problem.Targets[target].BestFirst, versions[v]);
            if (target < 0 && !problem.IsAsToday(c, v))
                end[_layout.OthersMoved] = 1;
            least[v] = end;
        }
        // No jump costs less than nothing, so a few rounds settle it.
        for (var changed = true; changed; )
        {
            changed = false;
            for (var v = 0; v < versions.Length; v++)
                foreach (var option in problem.Options[c][v])
                {
                    if (least[option.To] is not { } rest || problem.Pinned.Contains(c))
                        continue;
                    var cost = (long[])rest.Clone();
                    cost[_layout.Losing] += option.Loses ? 1 : 0;
                    cost[_layout.Closing] += option.Closes ? 1 : 0;
                    cost[_layout.Jumps]++;
                    // Where who is in service depends on others, these can come to less than they are now. In a joint
                    // move the longest settle time is shared.
                    if (!problem.DependsOnOthers)
                    {
                        cost[_layout.Outage] += option.OutageSeconds;
                        cost[_layout.Time] +=
                            option.Seconds
                            - (_joint && JointMoves.MayJoin(option) ? (long)option.Figures.Settle.TotalSeconds : 0);
                    }
                    if (least[v] is { } known && CostLayout.Compare(known, cost) <= 0)
                        continue;
                    least[v] = cost;
                    changed = true;
                }
        }
        return least;
    }
}
