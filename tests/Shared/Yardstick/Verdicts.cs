namespace TideStep.Tests.Yardstick;

/// <summary>What the rules say of a pair of versions, by 3-planning (Verdict of a pair), told anew.</summary>
internal static class Verdicts
{
    public static Said Of(Drawn d, int a, int va, Touch touch, int b, int vb)
    {
        var (mine, its) = (d.Components[a].Product, d.Components[b].Product);
        var (one, knowsOne) = Answer(d, mine, va, touch, false, its, vb);
        var (two, knowsTwo) = Answer(d, its, vb, touch, touch != Touch.Peer, mine, va);
        if (one is null && two is null)
            return knowsOne || knowsTwo ? Said.Untested : Said.Supported;
        return (Said)Math.Max((int)(one ?? Said.Supported), (int)(two ?? Said.Supported));
    }

    /// <summary>Whether a version has a rule about a product in a relation, whatever it says.</summary>
    public static bool Speaks(Drawn d, int product, int version, Touch touch, int other) =>
        d.Products[product].Rules.Any(r => r.Touch == touch && !r.FromOther && r.Other == other && r.This[version]);

    private static (Said?, bool) Answer(Drawn d, int own, int v, Touch touch, bool fromOther, int other, int w)
    {
        var rules = d.Products[own]
            .Rules.Where(r => r.Touch == touch && r.FromOther == fromOther && r.Other == other)
            .ToList();
        var said = rules.Where(r => r.Distance is null && r.This[v] && r.At[w]).Select(r => r.Says).ToList();
        if (ByDistance(d, rules, own, v, other, w) is { } far)
            said.Add(far);
        foreach (var strongest in new[] { Said.Unsupported, Said.Supported, Said.Transitional })
            if (said.Contains(strongest))
                return (strongest, true);
        return (null, rules.Count > 0);
    }

    private static Said? ByDistance(Drawn d, List<DrawnRule> rules, int own, int v, int other, int w)
    {
        var (mine, its) = (d.Products[own].Versions[v], d.Products[other].Versions[w]);
        var major = rules.Where(r => r.Distance is { ByMajor: true }).ToList();
        var minor = rules.Where(r => r.Distance is { ByMajor: false }).ToList();
        var answers = new List<Said>();
        if (major.Count > 0)
            answers.Add(Within(major, mine.Major - its.Major));
        if (minor.Count > 0 && mine.Major == its.Major)
            answers.Add(Within(minor, mine.Minor - its.Minor));
        else if (minor.Count > 0 && major.Count == 0)
            answers.Add(Said.Unsupported);
        return answers.Count == 0 ? null : answers.Max();
    }

    private static Said Within(List<DrawnRule> rules, int difference)
    {
        if (difference == 0)
            return Said.Supported;
        var limits = rules
            .Select(r => (Limit: difference < 0 ? r.Distance!.Value.Older : r.Distance!.Value.Newer, r.Says))
            .Where(r => r.Limit >= Math.Abs(difference))
            .ToList();
        return limits.Count == 0
            ? Said.Unsupported
            : limits.Where(l => l.Limit == limits.Min(x => x.Limit)).Max(l => l.Says);
    }
}
