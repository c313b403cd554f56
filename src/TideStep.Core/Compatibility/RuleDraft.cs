using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Compatibility;

/// <summary>A place of two products' matrix whose verdict would become another.</summary>
public sealed record VerdictChange(string This, string At, Verdict Before, Verdict After);

/// <summary>Rules out of somebody's table, as lines of the product's document, with what they would change; nothing
/// holds before a person confirms it.</summary>
/// <param name="Verdicts">How many places the matrix of the two products has.</param>
public sealed record RuleDraft(
    string Product,
    string Relation,
    string Other,
    ImmutableArray<ProposedRule> Rules,
    ImmutableArray<string> Lines,
    ImmutableArray<VerdictChange> Changes,
    int Verdicts
)
{
    /// <summary>What a table says of two products in a relation; everything that is not understood in it comes at
    /// once.</summary>
    public static Checked<RuleDraft> Of(
        ProductCatalogue catalogue,
        string product,
        string relation,
        string other,
        TextTable table,
        TableReading reading,
        string? source
    )
    {
        var findings = new Findings();
        Product? Known(string id)
        {
            if (catalogue.Find(id) is { } found)
                return found;
            findings.Add(
                $"the catalogue has no product '{id}'",
                null,
                Nearest.Hint(id, catalogue.Products.Select(p => p.Id))
            );
            return null;
        }
        var (mine, its) = (Known(product), Known(other));
        if (!Matrix.Relations.TryGetValue(relation, out var kind))
            findings.Add($"'{relation}' is no relation", null, Nearest.Hint(relation, Matrix.Relations.Keys));
        if (findings.Any)
            return new Checked<RuleDraft>(null, findings.All);
        var read = TableImport.Read(table, reading, mine!, its!);
        if (read.Value is not { } rules)
            return new Checked<RuleDraft>(null, read.Problems);
        var lines = rules.Select(r => r.Line(relation, other, source)).ToImmutableArray();
        var changes = TableImport
            .Changes(mine!, its!, kind, AsRules(mine!, lines))
            .Select(c => new VerdictChange(c.This, c.At, c.Before, c.After))
            .ToImmutableArray();
        return new Checked<RuleDraft>(
            new RuleDraft(
                product,
                relation,
                other,
                [.. rules],
                lines,
                changes,
                mine!.Releases.Length * its!.Releases.Length
            ),
            []
        );
    }

    // The lines are read as the product's document will be, so that what is shown is what will hold.
    private static IEnumerable<CompatibilityRule> AsRules(Product product, IEnumerable<string> lines) =>
        ProductDocument
            .Read(
                $"tidestep: product/1\nproduct: {{id: {product.Id}}}\n"
                    + $"releases: {{{string.Join(", ", product.Releases.Select(r => $"\"{r.Label}\": {{}}"))}}}\n"
                    + $"rules:\n{string.Join("\n", lines)}\n",
                "the table"
            )
            .Value?.Rules
        ?? [];

    /// <summary>The product's document with the rules after its own; what else stands in it stays as it is
    /// written.</summary>
    /// <param name="text">The document.</param>
    /// <param name="name">What to call it in messages.</param>
    public Checked<string> Into(string text, string name)
    {
        var before = ProductDocument.Read(text, name);
        if (before.Value is not { } known)
            return new Checked<string>(null, before.Problems);
        if (known.Id != Product)
            return new Checked<string>(
                null,
                [new Problem($"{name} describes {known.Id}, not {Product}", null, "Name the document of that product.")]
            );
        var rows = text.TrimEnd('\n').Split('\n').ToList();
        if (known.Rules.IsEmpty)
            rows.AddRange(["rules:", .. Lines.Select(l => "  " + l)]);
        else
        {
            var last = known.Rules.Max(r => r.Place!.Line) - 1;
            var indent = rows[last][..^rows[last].TrimStart().Length];
            rows.InsertRange(last + 1, Lines.Select(l => indent + l));
        }
        var written = string.Join("\n", rows) + "\n";
        var after = ProductDocument.Read(written, name);
        return after.Value?.Rules.Length == known.Rules.Length + Lines.Length
            ? new Checked<string>(written, [])
            : new Checked<string>(
                null,
                after.Problems.IsEmpty
                    ?
                    [
                        new Problem(
                            $"the rules of {name} are not written a line each",
                            null,
                            "Put the rules shown into it by hand."
                        ),
                    ]
                    : after.Problems
            );
    }
}
