using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Versions;

namespace TideStep.Core.Compatibility;

/// <summary>A table of texts as it was read from a file; its first row is the heading.</summary>
public sealed record TextTable(string File, ImmutableArray<ImmutableArray<string>> Rows);

/// <summary>How a table is to be understood.</summary>
/// <param name="This">The heading of the column with this product's versions; the first column where null.</param>
/// <param name="At">The heading of the column with the other product's versions; null where each further column is one
/// of them.</param>
/// <param name="Verdict">The heading of the column with the verdicts, beside <paramref name="At"/>.</param>
/// <param name="Words">Words of the table and the verdicts that they mean, besides the usual ones.</param>
public sealed record TableReading(
    string? This,
    string? At,
    string? Verdict,
    ImmutableDictionary<string, Verdict> Words
);

/// <summary>A rule that a table says, for a person to confirm.</summary>
/// <param name="Rows">The rows of the table that it comes from, counted from 1 with the heading.</param>
public sealed record ProposedRule(string This, string At, Verdict Verdict, ImmutableArray<int> Rows)
{
    /// <summary>The rule as a line of a product's document.</summary>
    public string Line(string relation, string other, string? source) =>
        $"- {{this: \"{This}\", {relation}: {other}, at: \"{At}\", "
        + $"verdict: {Verdict.ToString().ToLowerInvariant()}{(source is null ? "" : Cited(source))}}}";

    private static string Cited(string source) =>
        $", source: {{title: \"{source.Replace("\\", "\\\\").Replace("\"", "\\\"")}\"}}";
}

/// <summary>Makes rules out of somebody's table: one column of versions against a row of them, or a list of pairs.
/// Versions of one verdict are drawn together; a place left blank says nothing.</summary>
public static class TableImport
{
    /// <summary>Words that tables use, by what they mean.</summary>
    private static readonly Dictionary<string, Verdict> Usual = new(StringComparer.OrdinalIgnoreCase)
    {
        ["supported"] = Verdict.Supported,
        ["yes"] = Verdict.Supported,
        ["y"] = Verdict.Supported,
        ["x"] = Verdict.Supported,
        ["ok"] = Verdict.Supported,
        ["✓"] = Verdict.Supported,
        ["✔"] = Verdict.Supported,
        ["true"] = Verdict.Supported,
        ["unsupported"] = Verdict.Unsupported,
        ["not supported"] = Verdict.Unsupported,
        ["no"] = Verdict.Unsupported,
        ["n"] = Verdict.Unsupported,
        ["-"] = Verdict.Unsupported,
        ["–"] = Verdict.Unsupported,
        ["✗"] = Verdict.Unsupported,
        ["false"] = Verdict.Unsupported,
        ["transitional"] = Verdict.Transitional,
        ["during upgrade"] = Verdict.Transitional,
        ["upgrade only"] = Verdict.Transitional,
        ["temporary"] = Verdict.Transitional,
        ["untested"] = Verdict.Untested,
        ["unknown"] = Verdict.Untested,
        ["?"] = Verdict.Untested,
    };

    private sealed record Said(string This, string At, Verdict Verdict, int Row);

    /// <summary>The rules that a table says; words, versions and headings that are not understood are problems with
    /// their row and column.</summary>
    public static Checked<IReadOnlyList<ProposedRule>> Read(
        TextTable table,
        TableReading reading,
        Product product,
        Product other
    )
    {
        var findings = new Findings();
        if (table.Rows.Length < 2 || table.Rows[0].Length < 2)
            findings.Add(
                "the table has no heading with rows below it",
                new Place(table.File, 1, 1),
                "Its first row must name the columns."
            );
        if (findings.Any)
            return new Checked<IReadOnlyList<ProposedRule>>(null, findings.All);
        var heading = table.Rows[0];
        int? Column(string? name, string what)
        {
            if (name is null)
                return null;
            var at = heading.ToList().FindIndex(h => string.Equals(h.Trim(), name, StringComparison.OrdinalIgnoreCase));
            if (at < 0)
                findings.Add(
                    $"there is no column '{name}' for {what}",
                    new Place(table.File, 1, 1),
                    Nearest.Hint(name, heading)
                );
            return at < 0 ? null : at;
        }
        var (mine, theirs, verdict) = (
            Column(reading.This, "this product's versions") ?? 0,
            Column(reading.At, "the other's versions"),
            Column(reading.Verdict, "the verdicts")
        );
        if (reading.At is null != reading.Verdict is null)
            findings.Add(
                "a list of pairs needs a column for the other's versions and one for the verdicts",
                new Place(table.File, 1, 1),
                "Name both, or neither for a table of one against the other."
            );
        if (findings.Any)
            return new Checked<IReadOnlyList<ProposedRule>>(null, findings.All);
        var said = new List<Said>();
        for (var r = 1; r < table.Rows.Length; r++)
        {
            var row = table.Rows[r];
            string Cell(int column) => column < row.Length ? row[column].Trim() : "";
            Place At(int column) => new(table.File, r + 1, column + 1);
            if (Cell(mine).Length == 0)
                continue;
            var own = Version(product, Cell(mine), At(mine));
            foreach (
                var column in theirs is { } list
                    ? [list]
                    : Enumerable.Range(0, heading.Length).Where(c => c != mine && heading[c].Trim().Length > 0)
            )
            {
                var word = Cell(verdict ?? column);
                if (word.Length == 0)
                    continue;
                var its = theirs is null
                    ? Version(other, heading[column].Trim(), new Place(table.File, 1, column + 1))
                    : Version(other, Cell(column), At(column));
                if (
                    reading.Words.TryGetValue(word.ToLowerInvariant(), out var means)
                    || Usual.TryGetValue(word, out means)
                )
                {
                    if (own is not null && its is not null)
                        said.Add(new Said(own, its, means, r + 1));
                }
                else
                    findings.Add(
                        $"'{word}' is no verdict",
                        At(verdict ?? column),
                        $"Say what it means, as in --word \"{word}=supported\"."
                    );
            }
        }
        return new Checked<IReadOnlyList<ProposedRule>>(
            findings.Any ? null : Drawn(said, product, other),
            [.. findings.All.DistinctBy(p => (p.What, p.At))]
        );

        string? Version(Product of, string label, Place at)
        {
            // A dotted version reads over signs, so that what is written as a range must not be taken for one.
            var ranged = label.AsSpan().IndexOfAny("<>=*|") >= 0;
            if (!ranged && of.Scheme.TryParse(label) is { } version && of.ReleaseOf(version) is { } release)
                return release.Label;
            if (
                VersionRange.TryParse(label, of.Scheme, out _) is { } range
                && of.Releases.Any(r => range.Contains(r.Version, of.IsRelease))
            )
                return range.Text;
            findings.Add(
                $"'{label}' is no release of {of.Id}, and no range with one",
                at,
                Nearest.Hint(label, of.Releases.Select(r => r.Label))
            );
            return null;
        }
    }

    // First the other's versions of one row and verdict are put together, then the rows that say the same of the same.
    private static IReadOnlyList<ProposedRule> Drawn(List<Said> said, Product product, Product other)
    {
        string Joined(Product of, IEnumerable<string> texts) =>
            string.Join(
                " || ",
                texts
                    .Distinct()
                    .OrderBy(t =>
                        of.Scheme.TryParse(t) is { } v
                            ? of.Releases.ToList().FindIndex(r => r.Version.Equals(v))
                            : int.MaxValue
                    )
                    .ThenBy(t => t, StringComparer.Ordinal)
            );
        return
        [
            .. said.GroupBy(s => (s.This, s.Verdict))
                .Select(g =>
                    (g.Key.This, g.Key.Verdict, At: Joined(other, g.Select(s => s.At)), Rows: g.Select(s => s.Row))
                )
                .GroupBy(g => (g.At, g.Verdict))
                .Select(g => new ProposedRule(
                    Joined(product, g.Select(x => x.This)),
                    g.Key.At,
                    g.Key.Verdict,
                    [.. g.SelectMany(x => x.Rows).Distinct().Order()]
                ))
                .OrderBy(r => r.Rows[0])
                .ThenBy(r => r.Verdict)
                .ThenBy(r => r.At, StringComparer.Ordinal),
        ];
    }

    /// <summary>What the rules would change: places of the two products' matrix, with the verdict before and
    /// after.</summary>
    public static ImmutableArray<(string This, string At, Verdict Before, Verdict After)> Changes(
        Product product,
        Product other,
        Estates.RelationKind kind,
        IEnumerable<CompatibilityRule> added
    )
    {
        var more = product with { Rules = [.. product.Rules, .. added] };
        return
        [
            .. product
                .Releases.SelectMany(a =>
                    other.Releases.Select(b =>
                        (
                            a.Label,
                            b.Label,
                            VerdictOf.Pair(
                                product,
                                a.Version,
                                other.Id == product.Id ? product : other,
                                b.Version,
                                kind
                            ),
                            VerdictOf.Pair(more, a.Version, other.Id == product.Id ? more : other, b.Version, kind)
                        )
                    )
                )
                .Where(c => c.Item3.Verdict != c.Item4.Verdict || c.Item3.NoData != c.Item4.NoData)
                .Select(c => (c.Item1, c.Item2, c.Item3.Verdict, c.Item4.Verdict)),
        ];
    }
}
