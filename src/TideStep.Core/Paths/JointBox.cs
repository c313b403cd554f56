using System.Collections.Immutable;

namespace TideStep.Core.Paths;

/// <summary>What a joint move may be taken apart into (3-planning, Moves and methods): moves of fewer jumps each, in
/// which every component only passes versions on its way onwards from its first to its last, or, where it turns back,
/// those that it passes there in their sequence; and in which jumps tied by <c>together</c> stay together.</summary>
internal sealed class JointBox
{
    private readonly int[] _start;
    private readonly Dictionary<int, int[]> _passed = [];

    public JointBox(PathProblem problem, int[] start, ImmutableArray<Option> jumps)
    {
        (_start, Jumps) = (start, jumps.Length - 1);
        foreach (var chain in jumps.GroupBy(j => j.Component))
            _passed[chain.Key] = [start[chain.Key], .. chain.Select(j => j.To)];
        Key = string.Join(';', _passed.OrderBy(p => p.Key).Select(p => $"{p.Key}:{string.Join('>', p.Value)}"));
        _absent = [.. _passed.Keys.Where(c => problem.IsAbsent(c, start[c]))];
    }

    private readonly HashSet<int> _absent;

    /// <summary>How many jumps a part may have at most.</summary>
    public int Jumps { get; }

    /// <summary>What tells two boxes of one state apart.</summary>
    public string Key { get; }

    /// <summary>Whether a jump stays on its component's way.</summary>
    public bool Allows(Option option)
    {
        if (!_passed.TryGetValue(option.Component, out var passed))
            return false;
        // What runs nothing stands above all versions in number and below them in sense: its way leads upwards from it.
        var way = _absent.Contains(option.Component) ? passed[1..] : passed;
        if (IsOnwards(way, 1))
            return option.To <= way[^1]
                && (passed.Length != way.Length && option.From == passed[0] || option.To > option.From);
        if (IsOnwards(way, -1))
            return option.To >= way[^1]
                && (passed.Length != way.Length && option.From == passed[0] || option.To < option.From);
        for (var i = 0; i < passed.Length; i++)
            if (passed[i] == option.From && Array.IndexOf(passed, option.To, i + 1) >= 0)
                return true;
        return false;
    }

    private static bool IsOnwards(int[] way, int direction)
    {
        for (var i = 1; i < way.Length; i++)
            if ((way[i] - way[i - 1]) * direction <= 0)
                return false;
        return true;
    }

    /// <summary>Whether a jump that is tied to another by <c>together</c> is still tied to it when it is made now: its
    /// partner was not in the range at the start of the joint move, and is not yet.</summary>
    public bool KeepsTied(Option option, int[] now)
    {
        foreach (var demand in option.Together)
            if (!demand.IsMet(_start[demand.Component]) && demand.IsMet(now[demand.Component]))
                return false;
        return true;
    }
}
