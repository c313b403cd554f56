using System.Collections.Immutable;
using System.CommandLine;
using TideStep.Cli.Tables;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep catalogue import</c>: rules out of somebody's table, shown first and written only when told where to.</summary>
public static class ImportCommand
{
    private static readonly Argument<string> Table = new("file") { Description = "the table: .csv, .tsv, .xlsx, .md or .html" };
    private static readonly Option<string> Catalogue = new("--catalogue") { Description = "the folder of product documents", Required = true };
    private static readonly Option<string> Product = new("--product") { Description = "the product whose versions are in the first column", Required = true };
    private static readonly Option<string> Other = new("--other") { Description = "the product at the other end", Required = true };
    private static readonly Option<string> Relation = new("--relation") { Description = "depends-on, stands-on, inside or peer", DefaultValueFactory = _ => "depends-on" };
    private static readonly Option<int> Number = new("--table") { Description = "which table or sheet of the file", DefaultValueFactory = _ => 1 };
    private static readonly Option<string?> This = new("--this") { Description = "the column of this product's versions (default: the first)" };
    private static readonly Option<string?> At = new("--at") { Description = "for a list of pairs: the column of the other's versions" };
    private static readonly Option<string?> Verdict = new("--verdict") { Description = "for a list of pairs: the column of the verdicts" };
    private static readonly Option<string[]> Word = new("--word") { Description = "what a word of the table means, as in certified=supported", AllowMultipleArgumentsPerToken = true };
    private static readonly Option<string?> Source = new("--source") { Description = "the title of the document that the table is from" };
    private static readonly Option<string?> Into = new("--into") { Description = "confirm the rules: write them into this product document" };

    public static Command Create(Context context) => context.Command("import", "Rules out of a table of which versions may meet; they are shown, and written only with --into", (result, output, _) =>
    {
        var catalogue = Files.Products(result.GetValue(Catalogue)!);
        var (product, other) = (Known(catalogue, result.GetValue(Product)!), Known(catalogue, result.GetValue(Other)!));
        var relation = result.GetValue(Relation)!;
        if (!Matrix.Relations.TryGetValue(relation, out var kind)) throw new MisusedException([new Problem($"'{relation}' is no relation", null, Nearest.Hint(relation, Matrix.Relations.Keys))]);
        var read = TableImport.Read(TableFile.Read(result.GetValue(Table)!, result.GetValue(Number)), new TableReading(result.GetValue(This), result.GetValue(At), result.GetValue(Verdict), Words(result.GetValue(Word) ?? [])), product, other);
        if (read.Value is null) throw new MisusedException(read.Problems);
        var lines = read.Value!.Select(r => r.Line(relation, other.Id, result.GetValue(Source))).ToList();
        var changes = TableImport.Changes(product, other, kind, AsRules(product, lines));
        output.Write(new { product = product.Id, relation, other = other.Id, rules = read.Value, changes = changes.Select(c => new { @this = c.This, at = c.At, before = c.Before, after = c.After }) }, () =>
        {
            output.Heading($"{lines.Count} rules of {product.Id}, from {result.GetValue(Table)}:");
            foreach (var line in lines) output.Line($"  {line}");
            output.Line(changes.IsEmpty ? "They change no verdict." : $"They change {changes.Length} of {product.Releases.Length * other.Releases.Length} verdicts:");
            foreach (var change in changes.Take(20)) output.Line($"  {product.Id} {change.This} with {other.Id} {change.At}: {change.Before.ToString().ToLowerInvariant()} becomes {change.After.ToString().ToLowerInvariant()}");
            if (changes.Length > 20) output.Line($"  and {changes.Length - 20} more");
        }, read.Value!.Select(r => new { r.This, r.At, verdict = r.Verdict.ToString().ToLowerInvariant(), rows = string.Join(' ', r.Rows) }));
        if (result.GetValue(Into) is { } into) Write(into, product.Id, lines, output);
        else if (output.ForPeople) output.Line("Nothing was written; confirm with --into DOCUMENT.");
        return Task.FromResult(Exit.Done);
    }, Table, Catalogue, Product, Other, Relation, Number, This, At, Verdict, Word, Source, Into);

    private static Product Known(ProductCatalogue catalogue, string id) => catalogue.Find(id) ?? throw new MisusedException([new Problem($"the catalogue has no product '{id}'", null, Nearest.Hint(id, catalogue.Products.Select(p => p.Id)))]);

    private static ImmutableDictionary<string, Core.Catalogue.Verdict> Words(string[] given) => given.ToImmutableDictionary(w => w[..Math.Max(0, w.LastIndexOf('='))].Trim().ToLowerInvariant(), w =>
        Enum.TryParse<Core.Catalogue.Verdict>(w[(w.LastIndexOf('=') + 1)..].Trim(), ignoreCase: true, out var verdict) ? verdict : throw new MisusedException([new Problem($"--word: '{w}' does not say what a word means", null, "Write it like certified=supported.")]));

    // The lines are read as the product's document will be, so that what is shown is what will hold.
    private static IEnumerable<CompatibilityRule> AsRules(Product product, List<string> lines) =>
        ProductDocument.Read($"tidestep: product/1\nproduct: {{id: {product.Id}}}\nreleases: {{{string.Join(", ", product.Releases.Select(r => $"\"{r.Label}\": {{}}"))}}}\nrules:\n{string.Join("\n", lines)}\n", "the table").Value?.Rules ?? [];

    private static void Write(string path, string product, List<string> lines, Output output)
    {
        var problems = new List<Problem>();
        var text = Files.Text(path, problems);
        if (problems.Count > 0) throw new MisusedException(problems);
        var before = ProductDocument.Read(text, path);
        if (before.Value is not { } known) throw new MisusedException(before.Problems);
        if (known.Id != product) throw new MisusedException([new Problem($"{path} describes {known.Id}, not {product}", null, "Name the document of that product.")]);
        var rows = text.TrimEnd('\n').Split('\n').ToList();
        if (known.Rules.IsEmpty) rows.AddRange(["rules:", .. lines.Select(l => "  " + l)]);
        else
        {
            var last = known.Rules.Max(r => r.Place!.Line) - 1;
            var indent = rows[last][..^rows[last].TrimStart().Length];
            rows.InsertRange(last + 1, lines.Select(l => indent + l));
        }
        var written = string.Join("\n", rows) + "\n";
        var after = ProductDocument.Read(written, path);
        if (after.Value?.Rules.Length != known.Rules.Length + lines.Count) throw new MisusedException(after.Problems.IsEmpty ? [new Problem($"the rules of {path} are not written a line each", null, "Put the rules shown into it by hand.")] : after.Problems);
        File.WriteAllText(path + ".new", written);
        File.Move(path + ".new", path, overwrite: true);
        output.Line($"{lines.Count} rules were written into {path}.");
    }
}
