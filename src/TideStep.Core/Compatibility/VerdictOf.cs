using System.Collections.Immutable;
using System.Numerics;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Compatibility;

/// <summary>The verdict of a pair by the rules of both products (3-planning, Verdict of a pair).</summary>
public static class VerdictOf
{
    /// <summary>Asks both products about a pair; the kind is named from the first one's end.</summary>
    public static PairVerdict Pair(Product a, Versions.Version va, Product b, Versions.Version vb, RelationKind kind)
    {
        var (mine, theirs) = Ends(kind);
        return Of(Ask(a, va, b, vb, mine), Ask(b, vb, a, va, theirs));
    }

    /// <summary>The verdict of two products' answers: the worse of the two.</summary>
    internal static PairVerdict Of(Answer first, Answer second)
    {
        if (first.Verdict is null && second.Verdict is null)
            return first.Knows || second.Knows ? new PairVerdict(Verdict.Untested, false, [], false) : new PairVerdict(Verdict.Supported, true, [], false);
        var worst = (Verdict)Math.Max((int)(first.Verdict ?? 0), (int)(second.Verdict ?? 0));
        var rules = first.Verdict == worst && second.Verdict == worst ? Together(first.Rules, second.Rules) : first.Verdict == worst ? first.Rules : second.Rules;
        return new PairVerdict(worst, false, rules, rules.OfType<RangeRule>().Any(r => r.MayRest));
    }

    // Of two peers of one product the same rule may be asked from both ends.
    private static ImmutableArray<CompatibilityRule> Together(ImmutableArray<CompatibilityRule> one, ImmutableArray<CompatibilityRule> other)
    {
        var all = one.ToBuilder();
        foreach (var rule in other)
        {
            var known = false;
            foreach (var its in one) known |= ReferenceEquals(its, rule);
            if (!known) all.Add(rule);
        }
        return all.ToImmutable();
    }

    /// <summary>The same verdict with a smallest choice of rules that gives it: with these alone it is the same, and without any one of them it is not. Where a gap gave it, one rule is named that makes it a gap.</summary>
    public static PairVerdict Cited(Product a, Versions.Version va, Product b, Versions.Version vb, RelationKind kind)
    {
        var whole = Pair(a, va, b, vb, kind);
        var (mine, theirs) = Ends(kind);
        bool Speaks(CompatibilityRule rule) => (rule.End == mine && rule.Other == b.Id) || (rule.End == theirs && rule.Other == a.Id);
        var kept = (a.Id == b.Id ? a.Rules : a.Rules.AddRange(b.Rules)).Where(Speaks).ToHashSet();
        // What decided stays longest, so that it is what is cited.
        var order = kept.OrderBy(r => whole.Rules.Contains(r)).ThenByDescending(r => r.Id, StringComparer.Ordinal).ToList();
        // A rule can be needed only beside another that goes later (limits of distance), so it is gone over till nothing more can go.
        for (var before = -1; before != kept.Count;)
        {
            before = kept.Count;
            foreach (var rule in order)
            {
                if (!kept.Remove(rule)) continue;
                var without = Pair(a with { Rules = [.. a.Rules.Where(kept.Contains)] }, va, b with { Rules = [.. b.Rules.Where(kept.Contains)] }, vb, kind);
                if (without.Verdict != whole.Verdict || without.NoData != whole.NoData) kept.Add(rule);
            }
        }
        return whole with { Rules = [.. a.Rules.Concat(b.Rules).Distinct().Where(kept.Contains)] };
    }

    /// <summary>The ends of a relation: the declaring component's, and the other's.</summary>
    public static (RelationEnd Mine, RelationEnd Theirs) Ends(RelationKind kind) => kind switch
    {
        RelationKind.DependsOn => (RelationEnd.DependsOn, RelationEnd.Serves),
        RelationKind.StandsOn => (RelationEnd.StandsOn, RelationEnd.Carries),
        RelationKind.Inside => (RelationEnd.Inside, RelationEnd.Hosts),
        _ => (RelationEnd.Peer, RelationEnd.Peer),
    };

    /// <summary>What one product's rules say: its verdict where any covers the pair, whether it has rules about the other at all, and which gave it.</summary>
    internal readonly record struct Answer(Verdict? Verdict, bool Knows, ImmutableArray<CompatibilityRule> Rules);

    private static Answer Ask(Product own, Versions.Version version, Product other, Versions.Version its, RelationEnd end)
    {
        var knows = false;
        var holding = new List<CompatibilityRule>();
        foreach (var rule in own.Rules)
        {
            if (rule.End != end || rule.Other != other.Id) continue;
            knows = true;
            if (rule.This.Contains(version, own.IsRelease) && rule.At.Contains(its, other.IsRelease)) holding.Add(rule);
        }
        return Say(holding, knows, version, its);
    }

    /// <summary>The answer of the rules that cover a pair.</summary>
    internal static Answer Say(List<CompatibilityRule> holding, bool knows, Versions.Version version, Versions.Version its)
    {
        List<DistanceRule>? distances = null;
        foreach (var rule in holding) if (rule is DistanceRule distance) (distances ??= []).Add(distance);
        var measured = distances is null ? [] : Distance(distances, version, its).ToList();
        // Unsupported counts before supported, and that before transitional.
        Verdict? best = null;
        foreach (var rule in holding) if (rule is not DistanceRule) best = Stronger(best, rule.Verdict);
        foreach (var (verdict, _) in measured) best = Stronger(best, verdict);
        if (best is not { } said) return new Answer(null, knows, []);
        var rules = ImmutableArray.CreateBuilder<CompatibilityRule>();
        foreach (var rule in holding) if (rule is not DistanceRule && rule.Verdict == said) rules.Add(rule);
        foreach (var (verdict, rule) in measured) if (verdict == said) rules.Add(rule);
        return new Answer(said, true, rules.ToImmutable());
    }

    private static Verdict Stronger(Verdict? one, Verdict other)
    {
        static int Weight(Verdict verdict) => verdict switch { Verdict.Unsupported => 0, Verdict.Supported => 1, Verdict.Transitional => 2, _ => 3 };
        return one is { } known && Weight(known) <= Weight(other) ? known : other;
    }

    // By major and by minor are asked apart and the worse counts.
    private static IEnumerable<(Verdict, CompatibilityRule)> Distance(List<DistanceRule> rules, Versions.Version version, Versions.Version its)
    {
        if (version.Major is not { } major || its.Major is not { } theirs) return [];
        var majors = rules.Where(r => r.ByMajor).ToList();
        var minors = rules.Where(r => !r.ByMajor).ToList();
        var answers = new List<(Verdict Verdict, CompatibilityRule Rule)>();
        if (majors.Count > 0) answers.Add(Measure(majors, major - theirs));
        if (minors.Count > 0 && major == theirs) answers.Add(Measure(minors, version.Minor!.Value - its.Minor!.Value));
        else if (minors.Count > 0 && majors.Count == 0) answers.Add((Verdict.Unsupported, minors[0]));
        var worst = answers.Max(a => a.Verdict);
        return answers.Where(a => a.Verdict == worst).Select(a => (a.Verdict, a.Rule));
    }

    private static (Verdict, CompatibilityRule) Measure(List<DistanceRule> rules, BigInteger difference)
    {
        if (difference.IsZero) return (Verdict.Supported, rules[0]);
        int Limit(DistanceRule rule) => difference.Sign < 0 ? rule.OlderBy : rule.NewerBy;
        var holding = rules.Where(r => BigInteger.Abs(difference) <= Limit(r)).ToList();
        if (holding.Count == 0) return (Verdict.Unsupported, rules[0]);
        var chosen = holding.OrderBy(Limit).ThenByDescending(r => r.Verdict).First();
        return (chosen.Verdict, chosen);
    }
}
