using System.Collections.Immutable;
using TideStep.Core.Catalogue;

namespace TideStep.Core.Compatibility;

/// <summary>What the rules say of one pair of versions in a relation, with the rules that gave it.</summary>
/// <param name="Verdict">The worse of the two products' answers.</param>
/// <param name="NoData">Supported only because neither product says anything of the other.</param>
/// <param name="Rules">The rules that decided; empty where a gap or the lack of data did.</param>
/// <param name="MayRest">Whether a transitional verdict may stand at a resting place.</param>
public sealed record PairVerdict(Verdict Verdict, bool NoData, ImmutableArray<CompatibilityRule> Rules, bool MayRest)
{
    /// <summary>Where the other component runs nothing or could not be read: that, in words.</summary>
    public string? Lacks { get; init; }

    /// <summary>The rules in words, or what their lack means.</summary>
    public string Why =>
        Lacks is not null ? Lacks
        : NoData ? "neither product says anything of the other"
        : Rules.IsEmpty ? "the products' rules about each other do not cover these versions"
        : Verdict == Verdict.Untested && Rules.All(r => r.Verdict != Verdict.Untested)
            ? $"the products' rules about each other do not cover these versions; there is {Named}"
        : Named;

    private string Named =>
        string.Join(
            "; ",
            Rules.Select(r =>
                r.Source is { } source
                    ? $"{r.Id}, {source.Title}{(source.Date is { } d ? $" of {d:yyyy-MM-dd}" : "")}"
                    : r.Id
            )
        );
}
