using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Waves;

namespace TideStep.Core.Paths;

/// <summary>What is said of the pairs of related components in a state.</summary>
internal sealed partial class PathProblem
{
    // Pairs of the same two products in the same relation share what is found out of them, where their versions are the
    // same.
    private PairVerdict?[][,] SharedVerdicts()
    {
        var shared =
            new Dictionary<
                (Product?, Product?, RelationKind),
                (int A, int B, PairVerdict?[,] Known, Lazy<PairJudge> Judge)
            >();
        var all = new PairVerdict?[Index.Pairs.Length][,];
        for (var p = 0; p < all.Length; p++)
        {
            var (a, b, kind) = Index.Pairs[p];
            if (
                shared.TryGetValue((Products[a], Products[b], kind), out var known)
                && Versions[known.A].SequenceEqual(Versions[a])
                && Versions[known.B].SequenceEqual(Versions[b])
            )
            {
                (all[p], _judges[p]) = (known.Known, known.Judge);
                continue;
            }
            all[p] = new PairVerdict?[Versions[a].Length, Versions[b].Length];
            _judges[p] = new Lazy<PairJudge>(() =>
                new PairJudge(Products[a]!, Versions[a], Products[b]!, Versions[b], kind)
            );
            shared.TryAdd((Products[a], Products[b], kind), (a, b, all[p], _judges[p]));
        }
        return all;
    }

    /// <summary>The verdict of a pair in a state of steady versions.</summary>
    public PairVerdict VerdictAt(int pair, int a, int b) => _verdicts[pair][a, b] ??= _judges[pair].Value.At(a, b);

    /// <summary>The same with the fewest rules that give it, for people to read.</summary>
    public PairVerdict Cited(PairVerdict verdict, int pair, int a, int b)
    {
        if (verdict.Lacks is not null)
            return verdict;
        var key = (_verdicts[pair], a, b);
        if (!_cited.TryGetValue(key, out var cited))
            _cited[key] = cited = VerdictOf.Cited(
                Products[Index.Pairs[pair].A]!,
                Versions[Index.Pairs[pair].A][a],
                Products[Index.Pairs[pair].B]!,
                Versions[Index.Pairs[pair].B][b],
                Index.Pairs[pair].Kind
            );
        return cited.Verdict == verdict.Verdict ? cited : verdict;
    }

    // Pairs that share what is found out of them share this as well.
    private readonly Dictionary<(PairVerdict?[,] Of, int A, int B), PairVerdict> _cited = [];

    /// <summary>Whether a pair says anything in a state: both sides run something, or one needs the other, which runs
    /// nothing or is not known, and its product has a rule about that.</summary>
    public bool Meets(int pair, int[] state)
    {
        var (a, b) = (Index.Pairs[pair].A, Index.Pairs[pair].B);
        if (state[a] < 0 || IsAbsent(a, state[a]))
            return false;
        return (state[b] >= 0 && !IsAbsent(b, state[b])) || Misses(pair, state[a]);
    }

    // Whether a version of the first component is untested without the second (3-planning, State).
    private bool Misses(int pair, int version)
    {
        if (!Index.NeedsOther(Index.Pairs[pair]))
            return false;
        ref var known = ref _misses[pair][version];
        return known ??= (IsMixed(Index.Pairs[pair].A, version) ? Found[Index.Pairs[pair].A] : [version]).Any(v =>
            HasRuleFor(pair, v)
        );
    }

    private bool HasRuleFor(int pair, int version)
    {
        var (a, b, kind) = Index.Pairs[pair];
        var (mine, product) = (VerdictOf.Ends(kind).Mine, Products[a]!);
        return product.Rules.Any(r =>
            r.End == mine
            && r.Other == Index.Components[b].Product
            && r.This.Contains(Versions[a][version], product.IsRelease)
        );
    }

    /// <summary>What is said of a pair in a state; a mixed component is judged by the worst of its versions.</summary>
    public JudgedPair Judge(int pair, int[] state)
    {
        var (a, b) = (state[Index.Pairs[pair].A], state[Index.Pairs[pair].B]);
        ref var judged = ref b < 0 ? ref _judgedAlone[pair][a] : ref _judged[pair][a, b];
        return judged ??= JudgeAnew(pair, a, b);
    }

    private JudgedPair JudgeAnew(int pair, int stateA, int stateB)
    {
        var (a, b) = (Index.Pairs[pair].A, Index.Pairs[pair].B);
        var missing = stateB < 0 || IsAbsent(b, stateB);
        PairVerdict? worst = null,
            worstNew = null;
        var (transitional, relied, blocked) = (false, false, false);
        foreach (var va in IsMixed(a, stateA) ? Found[a] : [stateA])
        foreach (
            var vb in missing ? [stateB]
            : IsMixed(b, stateB) ? Found[b]
            : [stateB]
        )
        {
            if (missing && !HasRuleFor(pair, va))
                continue;
            var verdict = missing ? Without(pair, va, stateB < 0) : VerdictAt(pair, va, vb);
            if (worst is null || worst.Verdict < verdict.Verdict)
                worst = verdict;
            transitional |= verdict.Verdict == Verdict.Transitional;
            var named = verdict.Verdict >= Verdict.Untested && AllowedByName(pair, va, vb);
            relied |= verdict.Verdict >= Verdict.Untested && !named && !(IsAsToday(a, va) && IsToday(b, vb));
            if (IsInherited(pair, va, vb, verdict.Verdict))
                continue;
            if (worstNew is null || worstNew.Verdict < verdict.Verdict)
                worstNew = verdict;
            blocked |=
                verdict.Verdict == Verdict.Unsupported
                || (verdict.Verdict == Verdict.Untested && !named && !Request.Goal.AllowUntested);
        }
        // Without the other, and without a rule about it, nothing is said.
        if (worst is null)
            return new JudgedPair(new PairVerdict(Verdict.Supported, true, [], false), true, false, false);
        var shown = worstNew ?? worst;
        if (
            _aside is not null
            && worstNew is { Verdict: >= Verdict.Transitional }
            && _aside.Contains(PathReasons.OfPair(this, pair, stateA, stateB, worstNew).What)
        )
            return new JudgedPair(shown with { Verdict = Verdict.Supported }, false, false, false);
        return new JudgedPair(shown, worstNew is null, transitional, relied) { Blocked = blocked };
    }

    private bool IsToday(int c, int version) => version < 0 ? Today[c] < 0 : IsAsToday(c, version);

    private PairVerdict Without(int pair, int version, bool unknown)
    {
        var (a, b, _) = Index.Pairs[pair];
        var needed = Index.Components[b].Id;
        return new PairVerdict(Verdict.Untested, false, [], false)
        {
            Lacks =
                $"{needed} {(unknown ? "could not be read" : "runs nothing")}, and {Index.Components[a].Product} "
                + $"{Versions[a][version].Label} has rules about {Index.Components[b].Product}",
        };
    }

    private bool IsInherited(int pair, int va, int vb, Verdict verdict)
    {
        var (a, b) = (Index.Pairs[pair].A, Index.Pairs[pair].B);
        var (todayA, todayB) = (IsToday(a, va), IsToday(b, vb));
        if (todayA && todayB)
            return true;
        if (
            _stood[a] >= 0
            && _stood[b] >= 0
            && (va == _stood[a] || vb == _stood[b])
            && verdict <= (va == _stood[a] && vb == _stood[b] ? verdict : VerdictAt(pair, _stood[a], _stood[b]).Verdict)
        )
            return true;
        if (!todayA && !todayB)
            return false;
        return TodaysWorst(pair) is { } today && verdict <= today;
    }

    // Of a component found mixed the worst of today's pairs counts; null where today's pair says nothing.
    private Verdict? TodaysWorst(int pair)
    {
        if (!Meets(pair, Today))
            return null;
        var (a, b) = (Index.Pairs[pair].A, Index.Pairs[pair].B);
        if (Today[b] < 0 || IsAbsent(b, Today[b]))
            return Verdict.Untested;
        return Found[a].SelectMany(x => Found[b].Select(y => VerdictAt(pair, x, y).Verdict)).Max();
    }

    /// <summary>Whether a single jump's demands on other components hold in a state; one that runs nothing or that
    /// could not be read meets none.</summary>
    public static bool DemandsHold(Option option, int[] state)
    {
        foreach (var demand in option.Requires)
            if (!demand.IsMet(state[demand.Component]))
                return false;
        foreach (var demand in option.Together)
            if (!demand.IsMet(state[demand.Component]))
                return false;
        return true;
    }

    /// <summary>Whether a pair may stand in a state on the way.</summary>
    public bool MayStand(int pair, int[] state)
    {
        if (!Meets(pair, state))
            return true;
        if (state[Index.Pairs[pair].B] < 0)
            return MayStandAnew(pair, state);
        ref var known = ref _mayStand[pair][state[Index.Pairs[pair].A], state[Index.Pairs[pair].B]];
        return known ??= MayStandAnew(pair, state);
    }

    /// <summary>Whether a pair may stand in the last state of a path that moves anything.</summary>
    public bool MayStandAtEnd(int pair, int[] state) =>
        MayStand(pair, state)
        && Reach?.Reaches(pair, state) != false
        && !(Meets(pair, state) && Judge(pair, state) is { Inherited: false, Verdict.Verdict: Verdict.Transitional });

    /// <summary>The problem of which this one allows only a part; null where this one is whole. What a joint move can
    /// be taken apart into is judged by it.</summary>
    public PathProblem? Whole { get; init; }

    /// <summary>What is known of the versions that two components can come to together; null where nobody
    /// asked.</summary>
    public PairReach? Reach { get; set; }

    private bool MayStandAnew(int pair, int[] state) => !Judge(pair, state).Blocked;

    /// <summary>Whether a path relies on a pair by standing so: untested, or worse where it is carried on; pairs in
    /// which both are as today and those allowed by name do not count (3-planning, Verdict).</summary>
    public bool ReliesOn(int pair, int[] state) => Meets(pair, state) && Judge(pair, state).Relied;

    /// <summary>Whether exactly one component of a pair is where it is today; then it is relied on once, whatever
    /// versions it passes.</summary>
    public bool IsHalfToday(int pair, int[] state) =>
        IsToday(Index.Pairs[pair].A, state[Index.Pairs[pair].A])
        != IsToday(Index.Pairs[pair].B, state[Index.Pairs[pair].B]);

    /// <summary>Whether an untested pair is allowed by name.</summary>
    public bool AllowedByName(int pair, int[] state) =>
        AllowedByName(pair, state[Index.Pairs[pair].A], state[Index.Pairs[pair].B]);

    private bool AllowedByName(int pair, int va, int vb)
    {
        var (a, b) = (Index.Pairs[pair].A, Index.Pairs[pair].B);
        return Request.Goal.Allowed.Any(allowed =>
            Fits(allowed.Component, allowed.Version, a) && Fits(allowed.With, allowed.At, b)
            || Fits(allowed.Component, allowed.Version, b) && Fits(allowed.With, allowed.At, a)
        );

        bool Fits(string component, string range, int c) =>
            Index.Components[c].Id == component
            && (c == a ? va : vb) is >= 0 and var version
            && Core.Versions.VersionRange.TryParse(range, Products[c]!.Scheme, out _) is { } read
            && read.Contains(Versions[c][version], Products[c]!.IsRelease);
    }
}
