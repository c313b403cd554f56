using System.Collections.Immutable;
using TideStep.Core.Catalogue;

namespace TideStep.Core.Paths;

/// <summary>What a set of jumps in one outage costs at least, by whichever ways.</summary>
internal readonly record struct LeastOfJoint(int Jumps, int Losing, int Closing, long OutageSeconds, long Seconds);

/// <summary>The jumps that can be part of a joint move, those that lead from and to the same versions with the same
/// demands told once: whether a set of them is possible and can be taken apart is the same by each.</summary>
internal sealed class JointHops(PathProblem problem)
{
    private sealed record Hop(Option First, List<Option> Ways)
    {
        public int Losing { get; } = Ways.Min(o => o.Loses ? 1 : 0);
        public int Closing { get; } = Ways.Min(o => o.Closes ? 1 : 0);
        public long Outage { get; } = Ways.Min(o => (long)o.Figures.Outage.TotalSeconds);
        public long Settle { get; } = Ways.Min(o => (long)o.Figures.Settle.TotalSeconds);
    }

    private readonly List<Hop>?[][] _hops = [.. problem.Versions.Select(v => new List<Hop>?[v.Length])];
    private readonly Dictionary<Option, Hop> _hopOf = new(ReferenceEqualityComparer.Instance);

    /// <summary>The jumps from a version, one for all that lead to the same with the same demands.</summary>
    public IEnumerable<Option> From(int component, int version) => HopsFrom(component, version).Select(h => h.First);

    /// <summary>Whether one jump without any demand leads from a version to another.</summary>
    public bool LeadsFreely(int component, int from, int to) =>
        HopsFrom(component, from)
            .Any(h => h.First.To == to && h.First.Requires.Count == 0 && h.First.Together.Count == 0);

    private List<Hop> HopsFrom(int component, int version)
    {
        if (_hops[component][version] is { } known)
            return known;
        var hops = new List<Hop>();
        var joining = problem
            .Options[component][version]
            .Where(o => JointMoves.MayJoin(o) && (o.Refused is null || problem.DependsOnOthers))
            .ToList();
        while (joining.Count > 0)
        {
            var alike = joining.Where(o => o.To == joining[0].To && SameDemands(o, joining[0])).ToList();
            joining.RemoveAll(alike.Contains);
            var ways = alike.Where(o => !alike.Any(other => !ReferenceEquals(o, other) && IsBetter(other, o))).ToList();
            var hop = new Hop(ways[0], ways);
            _hopOf[hop.First] = hop;
            hops.Add(hop);
        }
        return _hops[component][version] = hops;
    }

    private static bool SameDemands(Option one, Option other) =>
        Same(one.Requires, other.Requires) && Same(one.Together, other.Together);

    private static bool Same(List<Demand> one, List<Demand> other) =>
        one.Count == other.Count
        && one.Zip(other)
            .All(p => p.First.Component == p.Second.Component && p.First.Allowed.SequenceEqual(p.Second.Allowed));

    // Whether a jump is better in any set than another one to the same version. One by 'side-by-side' takes its
    // component's first install, so it is weighed against its like only.
    private static bool IsBetter(Option one, Option other)
    {
        if (one.Method != other.Method && one.Method != Method.Offline)
            return false;
        if (
            Value(one.Loses) > Value(other.Loses)
            || Value(one.Closes) > Value(other.Closes)
            || one.Figures.Outage > other.Figures.Outage
            || one.Figures.Install > other.Figures.Install
            || one.Figures.Settle > other.Figures.Settle
            || (one.Jump.Restarts == RestartScope.Node && other.Jump.Restarts != RestartScope.Node)
        )
            return false;
        // Both settle times may be hidden behind a longer one; then the text decides.
        if (
            one.Loses != other.Loses
            || one.Closes != other.Closes
            || one.Figures.Outage < other.Figures.Outage
            || one.Figures.Install < other.Figures.Install
        )
            return true;
        return one.Method != other.Method
            ? one.Method < other.Method
            : Versions.VersionPart.CompareCodePoints(one.Jump.Id, other.Jump.Id) < 0;
    }

    private static int Value(bool flag) => flag ? 1 : 0;

    /// <summary>A set of jumps by every choice of ways.</summary>
    public IEnumerable<ImmutableArray<Option>> Ways(ImmutableArray<Option> jumps)
    {
        IEnumerable<ImmutableArray<Option>> all =
        [
            [],
        ];
        foreach (var jump in jumps)
        {
            var ways = _hopOf[jump].Ways;
            all = all.SelectMany(set => ways.Select(set.Add));
        }
        return all;
    }

    /// <summary>What a set of jumps costs at least.</summary>
    /// <param name="jumps">The jumps.</param>
    /// <param name="anyOutage">Whether some of them may take nobody out.</param>
    public LeastOfJoint LeastOf(ImmutableArray<Option> jumps, bool anyOutage)
    {
        var (losing, closing, length, settle) = (0, 0, 0L, 0L);
        var components = new HashSet<int>();
        foreach (var jump in jumps)
        {
            var hop = _hopOf[jump];
            (losing, closing, length) = (losing + hop.Losing, closing + hop.Closing, length + hop.Outage);
            settle = Math.Max(settle, hop.Settle);
            components.Add(jump.Component);
        }
        return new LeastOfJoint(
            jumps.Length,
            losing,
            closing,
            anyOutage ? 0 : length * components.Count,
            anyOutage ? 0 : length + settle
        );
    }
}
