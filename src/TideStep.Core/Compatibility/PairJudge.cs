using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Compatibility;

/// <summary>The verdicts of two products over many versions of each: every rule is asked once for each version, not
/// once for each pair.</summary>
internal sealed class PairJudge
{
    private readonly record struct Covering(CompatibilityRule Rule, bool[] This, bool[] At);

    private readonly Versions.Version[] _these;
    private readonly Versions.Version[] _ats;
    private readonly List<Covering> _mine;
    private readonly List<Covering> _theirs;

    public PairJudge(Product a, Versions.Version[] these, Product b, Versions.Version[] ats, RelationKind kind)
    {
        var (mine, theirs) = VerdictOf.Ends(kind);
        (_these, _ats) = (these, ats);
        _mine = Covers(a, these, b, ats, mine);
        _theirs = Covers(b, ats, a, these, theirs);
    }

    private static List<Covering> Covers(
        Product own,
        Versions.Version[] these,
        Product other,
        Versions.Version[] ats,
        RelationEnd end
    ) =>
        [
            .. own
                .Rules.Where(r => r.End == end && r.Other == other.Id)
                .Select(r => new Covering(
                    r,
                    [.. these.Select(v => r.This.Contains(v, own.IsRelease))],
                    [.. ats.Select(v => r.At.Contains(v, other.IsRelease))]
                )),
        ];

    /// <summary>The verdict of two versions by their places.</summary>
    public PairVerdict At(int a, int b) =>
        VerdictOf.Of(
            VerdictOf.Say(Holding(_mine, a, b), _mine.Count > 0, _these[a], _ats[b]),
            VerdictOf.Say(Holding(_theirs, b, a), _theirs.Count > 0, _ats[b], _these[a])
        );

    // Read and left before the next is asked for.
    private readonly List<CompatibilityRule> _holding = [];

    private List<CompatibilityRule> Holding(List<Covering> rules, int one, int other)
    {
        var holding = _holding;
        holding.Clear();
        foreach (var rule in rules)
            if (rule.This[one] && rule.At[other])
                holding.Add(rule.Rule);
        return holding;
    }
}
