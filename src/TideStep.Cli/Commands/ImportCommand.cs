using System.Collections.Immutable;
using System.CommandLine;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;
using TideStep.Tables;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep catalogue import</c>: rules out of somebody's table, shown first and written only when told
/// where to.</summary>
public static class ImportCommand
{
    private static readonly Argument<string> Table = new("file")
    {
        Description = "the table: .csv, .tsv, .xlsx, .md or .html",
    };
    private static readonly Option<string> Catalogue = new("--catalogue")
    {
        Description = "the folder of product documents",
        Required = true,
    };
    private static readonly Option<string> Product = new("--product")
    {
        Description = "the product whose versions are in the first column",
        Required = true,
    };
    private static readonly Option<string> Other = new("--other")
    {
        Description = "the product at the other end",
        Required = true,
    };
    private static readonly Option<string> Relation = new("--relation")
    {
        Description = "depends-on, stands-on, inside or peer",
        DefaultValueFactory = _ => "depends-on",
    };
    private static readonly Option<int> Number = new("--table")
    {
        Description = "which table or sheet of the file",
        DefaultValueFactory = _ => 1,
    };
    private static readonly Option<string?> This = new("--this")
    {
        Description = "the column of this product's versions (default: the first)",
    };
    private static readonly Option<string?> At = new("--at")
    {
        Description = "for a list of pairs: the column of the other's versions",
    };
    private static readonly Option<string?> Verdict = new("--verdict")
    {
        Description = "for a list of pairs: the column of the verdicts",
    };
    private static readonly Option<string[]> Word = new("--word")
    {
        Description = "what a word of the table means, as in certified=supported",
        AllowMultipleArgumentsPerToken = true,
    };
    private static readonly Option<string?> Source = new("--source")
    {
        Description = "the title of the document that the table is from",
    };
    private static readonly Option<string?> Into = new("--into")
    {
        Description = "confirm the rules: write them into this product document",
    };

    public static Command Create(Context context) =>
        context.Command(
            "import",
            "Rules out of a table of which versions may meet; they are shown, and written only with --into",
            (result, output, _) =>
            {
                var table = Good(TableFile.Numbered(TableFile.Read(result.GetValue(Table)!), result.GetValue(Number)));
                var reading = new TableReading(
                    result.GetValue(This),
                    result.GetValue(At),
                    result.GetValue(Verdict),
                    Words(result.GetValue(Word) ?? [])
                );
                var draft = Good(
                    RuleDraft.Of(
                        Files.Products(result.GetValue(Catalogue)!),
                        result.GetValue(Product)!,
                        result.GetValue(Relation)!,
                        result.GetValue(Other)!,
                        table,
                        reading,
                        result.GetValue(Source)
                    )
                );
                output.Write(
                    new
                    {
                        draft.Product,
                        draft.Relation,
                        draft.Other,
                        draft.Rules,
                        draft.Changes,
                    },
                    () =>
                    {
                        output.Heading(
                            $"{draft.Lines.Length} rules of {draft.Product}, from {result.GetValue(Table)}:"
                        );
                        foreach (var line in draft.Lines)
                            output.Line($"  {line}");
                        output.Line(
                            draft.Changes.IsEmpty
                                ? "They change no verdict."
                                : $"They change {draft.Changes.Length} of {draft.Verdicts} verdicts:"
                        );
                        foreach (var change in draft.Changes.Take(20))
                            output.Line(
                                $"  {draft.Product} {change.This} with {draft.Other} {change.At}: "
                                    + $"{change.Before.ToString().ToLowerInvariant()} becomes "
                                    + $"{change.After.ToString().ToLowerInvariant()}"
                            );
                        if (draft.Changes.Length > 20)
                            output.Line($"  and {draft.Changes.Length - 20} more");
                    },
                    draft.Rules.Select(r => new
                    {
                        r.This,
                        r.At,
                        verdict = r.Verdict.ToString().ToLowerInvariant(),
                        rows = string.Join(' ', r.Rows),
                    })
                );
                if (result.GetValue(Into) is { } into)
                    Write(into, draft, output);
                else if (output.ForPeople)
                    output.Line("Nothing was written; confirm with --into DOCUMENT.");
                return Task.FromResult(Exit.Done);
            },
            Table,
            Catalogue,
            Product,
            Other,
            Relation,
            Number,
            This,
            At,
            Verdict,
            Word,
            Source,
            Into
        );

    private static T Good<T>(Checked<T> read)
        where T : class => read.Value ?? throw new MisusedException(read.Problems);

    private static ImmutableDictionary<string, Core.Catalogue.Verdict> Words(string[] given) =>
        given.ToImmutableDictionary(
            w => w[..Math.Max(0, w.LastIndexOf('='))].Trim().ToLowerInvariant(),
            w =>
                Enum.TryParse<Core.Catalogue.Verdict>(
                    w[(w.LastIndexOf('=') + 1)..].Trim(),
                    ignoreCase: true,
                    out var verdict
                )
                    ? verdict
                    : throw new MisusedException([
                        new Problem(
                            $"--word: '{w}' does not say what a word means",
                            null,
                            "Write it like certified=supported."
                        ),
                    ])
        );

    private static void Write(string path, RuleDraft draft, Output output)
    {
        var problems = new List<Problem>();
        var text = Files.Text(path, problems);
        if (problems.Count > 0)
            throw new MisusedException(problems);
        File.WriteAllText(path + ".new", Good(draft.Into(text, path)));
        File.Move(path + ".new", path, overwrite: true);
        output.Line($"{draft.Lines.Length} rules were written into {path}.");
    }
}
