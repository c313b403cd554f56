using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Estates;

namespace TideStep.Core.Runs;

/// <summary>What may be planned next after a run: a component, what it runs, where it could go, and why.</summary>
public sealed record NextStep(string Component, string Runs, string To, string Why);

/// <summary>What comes after a run (N211): partners that still run what was left behind, neighbours whose support ends,
/// later releases of what was moved. Pure; it proposes, and a path says whether it can be.</summary>
public static class WhatComesNext
{
    /// <summary>How long before the end of its support a neighbour is named, in days.</summary>
    private const int Soon = 180;

    /// <summary>What comes next, the partners first; only what the catalogue allows beside what stands now.</summary>
    /// <param name="state">A run that has ended.</param>
    /// <param name="index">The estate, its readings and the catalogue; what the run read after its work counts before
    /// them.</param>
    /// <param name="day">The day that support is reckoned for.</param>
    public static ImmutableArray<NextStep> Of(RunState state, EstateIndex index, DateOnly day)
    {
        if (state.End is not RunEnd.Completed || state.Plan.Kind != Plans.Plan.Upgrade)
            return [];
        var moved = state
            .Plan.Moves.SelectMany(m => m.Jumps)
            .GroupBy(j => j.Component)
            .ToDictionary(g => g.Key, g => g.Last());
        var standing = index
            .Components.Select(c => index.Catalogue.Find(c.Product) is { } p ? RunsNow(state, index, c, p) : null)
            .ToArray();
        var (partners, others) = (new List<NextStep>(), new List<NextStep>());
        for (var c = 0; c < standing.Length; c++)
        {
            var component = index.Components[c];
            if (standing[c] is not { } runs || index.Catalogue.Find(component.Product) is not { } product)
                continue;
            if (moved.ContainsKey(component.Id))
                Offer(c, product, runs, later =>
                    $"{Line(later)} is out{(later.Since is { } since ? $" since {since:yyyy-MM-dd}" : "")}"
                );
            else if (Partner(moved.Values, component, product, runs) is { } partner)
            {
                if (product.ReleaseOf(partner.To) is { } release && Fits(index, c, product, runs, release, standing))
                    partners.Add(
                        new(component.Id, runs.Label, partner.To.Label, $"its partner {partner.Of} runs it now")
                    );
            }
            else if (
                IsNear(index, component, moved.Keys)
                && product.ReleaseOf(runs) is { Ends: { } ends }
                && ends.DayNumber - day.DayNumber < Soon
            )
                Offer(c, product, runs, _ => $"its support {(ends < day ? "ended" : "ends")} on {ends:yyyy-MM-dd}");
        }
        return [.. partners, .. others];

        void Offer(int c, Product product, Versions.Version runs, Func<Release, string> why)
        {
            if (Best(index, c, product, runs, standing, day) is { } best)
                others.Add(new NextStep(index.Components[c].Id, runs.Label, best.Label, why(best)));
        }
    }

    // Of the same platform, beneath what was moved, or related to it.
    private static bool IsNear(EstateIndex index, Component component, IEnumerable<string> moved)
    {
        var its = moved.Select(index.Estate.Find).OfType<Component>().ToList();
        return its.Any(m => m.Platform is { } platform && platform == component.Platform)
            || its.Any(m => m.Relations.Any(r => r.To == component.Id))
            || component.Relations.Any(r => its.Any(m => m.Id == r.To));
    }

    private static (string Of, Versions.Version To)? Partner(
        IEnumerable<Plans.PlannedJump> moved,
        Component component,
        Product product,
        Versions.Version runs
    ) =>
        moved
            .Where(j => j.Product == component.Product)
            .Select(j => (j.Component, To: product.Scheme.TryParse(j.To)))
            .Where(j => j.To is not null && j.To > runs)
            .Select(j => ((string, Versions.Version)?)(j.Component, j.To!))
            .FirstOrDefault();

    // The highest release above that is out, supported and may stand beside its neighbours: one with long support
    // before others, none that is only shown beforehand.
    private static Release? Best(
        EstateIndex index,
        int c,
        Product product,
        Versions.Version runs,
        Versions.Version?[] standing,
        DateOnly day
    ) =>
        product
            .Releases.Where(r =>
                r.Line != ReleaseLine.Preview && r.Version > runs && !(r.Since > day) && !(r.Ends < day)
            )
            .OrderBy(r => r.Line)
            .ThenByDescending(r => r.Version)
            .FirstOrDefault(r => Fits(index, c, product, runs, r, standing));

    // Jumps lead there, and no pair with a neighbour is worse than supported and than it is now.
    private static bool Fits(
        EstateIndex index,
        int c,
        Product product,
        Versions.Version runs,
        Release release,
        Versions.Version?[] standing
    )
    {
        return Leads(product, runs, release.Version)
            && index
                .Pairs.Where(p => p.A == c || p.B == c)
                .All(p =>
                    Judge(p, release.Version) is var then && (then <= Verdict.Supported || then <= Judge(p, runs))
                );

        Verdict Judge(EstatePair pair, Versions.Version own)
        {
            var other = pair.A == c ? pair.B : pair.A;
            if (
                standing[other] is not { } its
                || index.Catalogue.Find(index.Components[other].Product) is not { } beside
            )
                return Verdict.Supported;
            var judged =
                pair.A == c
                    ? VerdictOf.Pair(product, own, beside, its, pair.Kind)
                    : VerdictOf.Pair(beside, its, product, own, pair.Kind);
            return judged.Verdict;
        }
    }

    private static bool Leads(Product product, Versions.Version from, Versions.Version to)
    {
        var (reached, open) = (new HashSet<string> { from.Label }, new Queue<Versions.Version>([from]));
        while (open.TryDequeue(out var at))
        {
            if (at.Equals(to))
                return true;
            foreach (var jump in product.Jumps.Where(j => !j.Down && j.LeadsFrom(at, product.IsRelease)))
                if (reached.Add(jump.To.Label))
                    open.Enqueue(jump.To);
        }
        return false;
    }

    private static string Line(Release release) =>
        release.Line == ReleaseLine.LongSupport ? $"{release.Label}, with long support," : release.Label;

    // What most of its members run.
    private static Versions.Version? RunsNow(RunState state, EstateIndex index, Component component, Product product) =>
        component
            .Members.Select(m =>
                state.After.GetValueOrDefault(m.Id) is { } after && RunningText.IsVersion(after)
                    ? after
                    : index.Readings.Of(m).Running
            )
            .OfType<string>()
            .GroupBy(v => v)
            .OrderByDescending(g => g.Count())
            .Select(g => product.Scheme.TryParse(g.Key))
            .FirstOrDefault();
}
