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
            return first.Knows || second.Knows
                ? new PairVerdict(Verdict.Untested, false, [], false)
                : new PairVerdict(Verdict.Supported, true, [], false);
        var worst = (Verdict)Math.Max((int)(first.Verdict ?? 0), (int)(second.Verdict ?? 0));
        var rules =
            first.Verdict == worst && second.Verdict == worst ? Together(first.Rules, second.Rules)
            : first.Verdict == worst ? first.Rules
            : second.Rules;
        return new PairVerdict(worst, false, rules, rules.OfType<RangeRule>().Any(r => r.MayRest));
    }

    // Of two peers of one product the same rule may be asked from both ends.
    private static ImmutableArray<CompatibilityRule> Together(
        ImmutableArray<CompatibilityRule> one,
        ImmutableArray<CompatibilityRule> other
    )
    {
        var all = one.ToBuilder();
        foreach (var rule in other)
        {
            var known = false;
            foreach (var its in one)
                known |= ReferenceEquals(its, rule);
            if (!known)
                all.Add(rule);
        }
        return all.ToImmutable();
    }

    /// <summary>The same verdict with a smallest choice of rules that gives it: with these alone it is the same, and
    /// without any one of them it is not. Where a gap gave it, one rule is named that makes it a gap.</summary>
    public static PairVerdict Cited(Product a, Versions.Version va, Product b, Versions.Version vb, RelationKind kind)
    {
        var whole = Pair(a, va, b, vb, kind);
        var (mine, theirs) = Ends(kind);
        bool Speaks(CompatibilityRule rule) =>
            (rule.End == mine && rule.Other == b.Id) || (rule.End == theirs && rule.Other == a.Id);
        var kept = (a.Id == b.Id ? a.Rules : a.Rules.AddRange(b.Rules)).Where(Speaks).ToHashSet();
        // One rule alone, or none, is its own smallest choice.
        if (kept.Count <= 1)
            return whole with { Rules = [.. kept] };
        // What decided stays longest, so that it is what is cited.
        var order = kept.OrderBy(r => whole.Rules.Contains(r))
            .ThenByDescending(r => r.Id, StringComparer.Ordinal)
            .ToList();
        // A rule can be needed only beside another that goes later (limits of distance), so it is gone over till
        // nothing more can go.
        for (var before = -1; before != kept.Count; )
        {
            before = kept.Count;
            foreach (var rule in order)
            {
                if (!kept.Remove(rule))
                    continue;
                var without = Pair(
                    a with
                    {
                        Rules = [.. a.Rules.Where(kept.Contains)],
                    },
                    va,
                    b with
                    {
                        Rules = [.. b.Rules.Where(kept.Contains)],
                    },
                    vb,
                    kind
                );
                if (without.Verdict != whole.Verdict || without.NoData != whole.NoData)
                    kept.Add(rule);
            }
        }
        return whole with { Rules = [.. a.Rules.Concat(b.Rules).Distinct().Where(kept.Contains)] };
    }

    /// <summary>The ends of a relation: the declaring component's, and the other's.</summary>
    public static (RelationEnd Mine, RelationEnd Theirs) Ends(RelationKind kind) =>
        kind switch
        {
            RelationKind.DependsOn => (RelationEnd.DependsOn, RelationEnd.Serves),
            RelationKind.StandsOn => (RelationEnd.StandsOn, RelationEnd.Carries),
            RelationKind.Inside => (RelationEnd.Inside, RelationEnd.Hosts),
            _ => (RelationEnd.Peer, RelationEnd.Peer),
        };

    /// <summary>What one product's rules say: its verdict where any covers the pair, whether it has rules about the
    /// other at all, and which gave it.</summary>
    internal readonly record struct Answer(Verdict? Verdict, bool Knows, ImmutableArray<CompatibilityRule> Rules);

    private static Answer Ask(
        Product own,
        Versions.Version version,
        Product other,
        Versions.Version its,
        RelationEnd end
    )
    {
        var knows = false;
        var holding = new List<CompatibilityRule>();
        foreach (var rule in own.Rules)
        {
            if (rule.End != end || rule.Other != other.Id)
                continue;
            knows = true;
            if (rule.This.Contains(version, own.IsRelease) && rule.At.Contains(its, other.IsRelease))
                holding.Add(rule);
        }
        return Say(holding, knows, version, its);
    }

    /// <summary>The answer of the rules that cover a pair.</summary>
    internal static Answer Say(
        List<CompatibilityRule> holding,
        bool knows,
        Versions.Version version,
        Versions.Version its
    )
    {
        List<DistanceRule>? distances = null;
        foreach (var rule in holding)
            if (rule is DistanceRule distance)
                (distances ??= []).Add(distance);
        List<(Verdict Verdict, CompatibilityRule Rule)>? measured = null;
        if (distances is not null)
            Distance(distances, version, its, measured = []);
        // Unsupported counts before supported, and that before transitional.
        Verdict? best = null;
        foreach (var rule in holding)
            if (rule is not DistanceRule)
                best = Stronger(best, rule.Verdict);
        if (measured is not null)
            foreach (var (verdict, _) in measured)
                best = Stronger(best, verdict);
        if (best is not { } said)
            return new Answer(null, knows, []);
        var count = 0;
        foreach (var rule in holding)
            if (rule is not DistanceRule && rule.Verdict == said)
                count++;
        if (measured is not null)
            foreach (var (verdict, _) in measured)
                if (verdict == said)
                    count++;
        var (rules, at) = (new CompatibilityRule[count], 0);
        foreach (var rule in holding)
            if (rule is not DistanceRule && rule.Verdict == said)
                rules[at++] = rule;
        if (measured is not null)
            foreach (var (verdict, rule) in measured)
                if (verdict == said)
                    rules[at++] = rule;
        return new Answer(
            said,
            true,
            System.Runtime.InteropServices.ImmutableCollectionsMarshal.AsImmutableArray(rules)
        );
    }

    private static Verdict Stronger(Verdict? one, Verdict other)
    {
        static int Weight(Verdict verdict) =>
            verdict switch
            {
                Verdict.Unsupported => 0,
                Verdict.Supported => 1,
                Verdict.Transitional => 2,
                _ => 3,
            };
        return one is { } known && Weight(known) <= Weight(other) ? known : other;
    }

    // By major and by minor are asked apart and the worse counts.
    private static void Distance(
        List<DistanceRule> rules,
        Versions.Version version,
        Versions.Version its,
        List<(Verdict Verdict, CompatibilityRule Rule)> into
    )
    {
        if (version.Major is not { } major || its.Major is not { } theirs)
            return;
        var byMajor = Measure(rules, true, major - theirs);
        var byMinor =
            major == theirs ? Measure(rules, false, version.Minor!.Value - its.Minor!.Value)
            : byMajor is null && rules.Find(r => !r.ByMajor) is { } apart ? (Verdict.Unsupported, apart)
            : ((Verdict, CompatibilityRule)?)null;
        if (byMajor is { } one && (byMinor is not { } other || one.Item1 >= other.Item1))
            into.Add(one);
        if (byMinor is { } two && (byMajor is not { } another || two.Item1 >= another.Item1))
            into.Add(two);
    }

    private static (Verdict, CompatibilityRule)? Measure(List<DistanceRule> rules, bool byMajor, BigInteger difference)
    {
        DistanceRule? first = null,
            chosen = null;
        var (limitOfChosen, size) = (0, BigInteger.Abs(difference));
        foreach (var rule in rules)
        {
            if (rule.ByMajor != byMajor)
                continue;
            first ??= rule;
            var limit = difference.Sign < 0 ? rule.OlderBy : rule.NewerBy;
            if (
                size > limit
                || (
                    chosen is not null
                    && (limit > limitOfChosen || (limit == limitOfChosen && rule.Verdict <= chosen.Verdict))
                )
            )
                continue;
            (chosen, limitOfChosen) = (rule, limit);
        }
        if (first is null)
            return null;
        return difference.IsZero ? (Verdict.Supported, first)
            : chosen is null ? (Verdict.Unsupported, first)
            : (chosen.Verdict, chosen);
    }
}
