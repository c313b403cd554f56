using System.Collections.Immutable;
using TideStep.Core.Catalogue;
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

    /// <summary>What comes next, the partners first.</summary>
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
        var platforms = index
            .Components.Where(c => moved.ContainsKey(c.Id))
            .Select(c => c.Platform)
            .OfType<string>()
            .ToHashSet();
        var beneath = index
            .Components.Where(c => moved.ContainsKey(c.Id))
            .SelectMany(c => c.Relations)
            .Select(r => r.To)
            .ToHashSet();
        var found = new List<NextStep>();
        foreach (var component in index.Components)
        {
            if (
                index.Catalogue.Find(component.Product) is not { } product
                || RunsNow(state, index, component, product) is not { } runs
            )
                continue;
            if (moved.ContainsKey(component.Id))
            {
                if (Best(product, runs, day) is { } later)
                    found.Add(
                        new NextStep(
                            component.Id,
                            runs.Label,
                            later.Label,
                            $"{Line(later)} is out{(later.Since is { } since ? $" since {since:yyyy-MM-dd}" : "")}"
                        )
                    );
                continue;
            }
            var partner = moved
                .Values.Where(j => j.Product == component.Product)
                .Select(j => (j.Component, To: product.Scheme.TryParse(j.To)))
                .FirstOrDefault(j => j.To is not null && j.To > runs);
            if (partner.To is { } to)
                found.Insert(
                    found.Count(f => f.Why.StartsWith(Partner, StringComparison.Ordinal)),
                    new NextStep(component.Id, runs.Label, to.Label, $"{Partner}{partner.Component} runs it now")
                );
            else if (
                (component.Platform is { } platform && platforms.Contains(platform))
                || beneath.Contains(component.Id)
                || component.Relations.Any(r => moved.ContainsKey(r.To))
            )
                if (
                    product.ReleaseOf(runs) is { Ends: { } ends }
                    && ends.DayNumber - day.DayNumber < Soon
                    && Best(product, runs, day) is { } next
                )
                    found.Add(
                        new NextStep(
                            component.Id,
                            runs.Label,
                            next.Label,
                            ends < day
                                ? $"its support ended on {ends:yyyy-MM-dd}"
                                : $"its support ends on {ends:yyyy-MM-dd}"
                        )
                    );
        }
        return [.. found];
    }

    private const string Partner = "its partner ";

    // The highest release above that is out and supported: one with long support before others, none that is only shown
    // beforehand.
    private static Release? Best(Product product, Versions.Version runs, DateOnly day) =>
        product
            .Releases.Where(r =>
                r.Line != ReleaseLine.Preview && r.Version > runs && !(r.Since > day) && !(r.Ends < day)
            )
            .OrderBy(r => r.Line)
            .ThenByDescending(r => r.Version)
            .FirstOrDefault();

    private static string Line(Release release) =>
        release.Line == ReleaseLine.LongSupport ? $"{release.Label}, with long support," : release.Label;

    // What most of its members run.
    private static Versions.Version? RunsNow(RunState state, EstateIndex index, Component component, Product product) =>
        component
            .Members.Select(m =>
                state.After.GetValueOrDefault(m.Id) is { } after && after is not ("none" or "unreachable")
                    ? after
                    : index.Readings.Of(m).Running
            )
            .OfType<string>()
            .GroupBy(v => v)
            .OrderByDescending(g => g.Count())
            .Select(g => product.Scheme.TryParse(g.Key))
            .FirstOrDefault();
}
