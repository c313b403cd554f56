using System.Collections.Immutable;
using TideStep.Core.Documents;

namespace TideStep.Core.Catalogue;

/// <summary>A part of a product that became another or several others.</summary>
public sealed record PartMove(string Was, ImmutableArray<string> Is);

/// <summary>One thing that a release brings, removes, deprecates or changes, or a problem known of it.</summary>
/// <param name="Kind">brings, removes, deprecates, changes or problem.</param>
public sealed record ReleaseNote(string Release, string Kind, string What);

/// <summary>What lies between two releases of a product: its parts, and everything that the releases on the way say of
/// themselves.</summary>
/// <remarks>A part follows its <c>was</c> through the releases between: one part that comes from another renames it,
/// several split it.</remarks>
public sealed record ReleaseChanges(
    string Product,
    string From,
    string To,
    ImmutableArray<string> Added,
    ImmutableArray<string> Dropped,
    ImmutableArray<PartMove> Renamed,
    ImmutableArray<PartMove> Split,
    ImmutableArray<ReleaseNote> Notes
)
{
    /// <summary>The changes from one release up to another; unknown ones are named with the nearest.</summary>
    public static Checked<ReleaseChanges> Of(ProductCatalogue catalogue, string product, string from, string to)
    {
        var findings = new Findings();
        if (catalogue.Find(product) is not { } its)
            return new Checked<ReleaseChanges>(
                null,
                [
                    new Problem(
                        $"the catalogue has no product '{product}'",
                        null,
                        Nearest.Hint(product, catalogue.Products.Select(p => p.Id))
                    ),
                ]
            );
        Release? Find(string label)
        {
            if (its.Scheme.TryParse(label) is { } version && its.ReleaseOf(version) is { } release)
                return release;
            findings.Add(
                $"{product} has no release '{label}'",
                null,
                Nearest.Hint(label, its.Releases.Select(r => r.Label))
            );
            return null;
        }
        var (first, last) = (Find(from), Find(to));
        if (first is not null && last is not null && first.Version >= last.Version)
            findings.Add($"{last.Label} does not come after {first.Label}", null, "Name the earlier release first.");
        if (findings.Any)
            return new Checked<ReleaseChanges>(null, findings.All);
        ImmutableArray<Release> between =
        [
            .. its
                .Releases.Where(r => r.Version > first!.Version && r.Version <= last!.Version)
                .OrderBy(r => r.Version),
        ];
        // Each part of today with the parts that have come of it so far.
        var become = first!.Parts.ToDictionary(p => p, p => ImmutableArray.Create(p));
        foreach (var release in between.Where(r => !r.Parts.IsEmpty))
        foreach (var was in become.Keys.ToList())
            become[was] =
            [
                .. release
                    .Parts.Where(p => become[was].Contains(release.Origins.GetValueOrDefault(p, p)))
                    .Order(StringComparer.Ordinal),
            ];
        var now = between.LastOrDefault(r => !r.Parts.IsEmpty)?.Parts ?? first.Parts;
        var known = become.Values.SelectMany(v => v).ToHashSet();
        return new Checked<ReleaseChanges>(
            new ReleaseChanges(
                product,
                first.Label,
                last!.Label,
                [.. now.Where(p => !known.Contains(p)).Order(StringComparer.Ordinal)],
                [.. become.Where(b => b.Value.IsEmpty).Select(b => b.Key).Order(StringComparer.Ordinal)],
                [
                    .. become
                        .Where(b => b.Value.Length == 1 && b.Value[0] != b.Key)
                        .OrderBy(b => b.Key, StringComparer.Ordinal)
                        .Select(b => new PartMove(b.Key, b.Value)),
                ],
                [
                    .. become
                        .Where(b => b.Value.Length > 1)
                        .OrderBy(b => b.Key, StringComparer.Ordinal)
                        .Select(b => new PartMove(b.Key, b.Value)),
                ],
                [.. between.SelectMany(Said)]
            ),
            []
        );
    }

    private static IEnumerable<ReleaseNote> Said(Release release) =>
        release
            .Brings.Select(w => new ReleaseNote(release.Label, "brings", w))
            .Concat(release.Removes.Select(w => new ReleaseNote(release.Label, "removes", w)))
            .Concat(release.Deprecates.Select(w => new ReleaseNote(release.Label, "deprecates", w)))
            .Concat(release.Changes.Select(w => new ReleaseNote(release.Label, "changes", w)))
            .Concat(
                release.Problems.Select(p => new ReleaseNote(
                    release.Label,
                    "problem",
                    p.Prevent is null ? p.What : $"{p.What}; prevented by: {p.Prevent}"
                ))
            );
}
