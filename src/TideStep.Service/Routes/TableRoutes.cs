using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Compatibility;
using TideStep.Core.Documents;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Service.Access;
using TideStep.Storage;
using TideStep.Tables;

namespace TideStep.Service.Routes;

/// <summary>How a table of a file is to be made into rules (see <see cref="TableReading"/>).</summary>
/// <param name="Table">Which table of the file, from 1.</param>
/// <param name="Words">Words of the table with the verdicts that they mean.</param>
/// <param name="Confirm">Whether the rules are put into the product's document, as a new revision; else they are only
/// shown.</param>
/// <param name="Revision">The revision of the product's document that the rules were shown for; a document that was
/// changed since is refused.</param>
public sealed record RulesRequest(
    UploadedFile File,
    string Product,
    string Relation,
    string Other,
    int Table = 1,
    string? This = null,
    string? At = null,
    string? Verdict = null,
    Dictionary<string, Verdict>? Words = null,
    string? Source = null,
    bool Confirm = false,
    long? Revision = null
);

/// <summary>A table as far as it helps to say what its columns mean.</summary>
public sealed record TableShown(
    int Number,
    int Rows,
    ImmutableArray<string> Heading,
    ImmutableArray<ImmutableArray<string>> First
);

/// <summary>Rules shown, or put into the document.</summary>
/// <param name="Revision">The revision of the product's document that they are for, or that they were written
/// as.</param>
public sealed record RulesAnswer(RuleDraft Draft, bool Written, long Revision);

/// <summary>Routes of rules out of somebody's table.</summary>
public static class TableRoutes
{
    private const int RowsShown = 12;

    public static void MapTables(this RouteGroupBuilder api)
    {
        api.MapPost("/catalogue/tables", (UploadedFile file) =>
            {
                var read = TableFile.Read(file.Name, new MemoryStream(file.Content));
                return read.Value is { } tables
                    ? Results.Ok(
                        tables.Select(
                            (t, i) =>
                                new TableShown(
                                    i + 1,
                                    t.Rows.Length,
                                    t.Rows.FirstOrDefault([]),
                                    [.. t.Rows.Skip(1).Take(RowsShown)]
                                )
                        )
                    )
                    : Answers.Problems(422, "no table was read", read.Problems);
            })
            .Produces<TableShown[]>()
            .WithSummary("The tables of a CSV, XLSX, Markdown or HTML file, with their headings");
        api.MapPost(
                "/catalogue/rules",
                async (
                    HttpContext http,
                    RulesRequest request,
                    EstateDesk desk,
                    IDocumentStore store,
                    CancellationToken ct
                ) =>
                {
                    var table = TableFile.Numbered(
                        TableFile.Read(request.File.Name, new MemoryStream(request.File.Content)),
                        request.Table
                    );
                    if (table.Value is null)
                        return Answers.Problems(422, "no table was read", table.Problems);
                    var words = (request.Words ?? []).ToImmutableDictionary(
                        w => w.Key.Trim().ToLowerInvariant(),
                        w => w.Value
                    );
                    var read = RuleDraft.Of(
                        await desk.CatalogueAsync(ct),
                        request.Product,
                        request.Relation,
                        request.Other,
                        table.Value,
                        new TableReading(request.This, request.At, request.Verdict, words),
                        request.Source
                    );
                    if (read.Value is not { } draft)
                        return Answers.Problems(422, "the table makes no rules", read.Problems);
                    if (await store.FindAsync("product", draft.Product, ct) is not { } document)
                        return Answers.Problem(404, new Problem($"there is no document of {draft.Product}"));
                    if (request.Revision is { } shown && shown != document.Revision)
                        return Answers.Problem(
                            409,
                            new Problem(
                                $"the document of {draft.Product} was changed since the rules were shown",
                                $"It is revision {document.Revision} now; they were shown for {shown}.",
                                "Look at them again."
                            )
                        );
                    if (!request.Confirm)
                        return Results.Ok(new RulesAnswer(draft, false, document.Revision));
                    var text = draft.Into(document.Body, draft.Product);
                    if (text.Value is null)
                        return Answers.Problems(422, "nothing was written", text.Problems);
                    var (saved, problems) = await desk.ImportAsync(
                        [new IncomingDocument(draft.Product, text.Value)],
                        AccessRules.ActorOf(http),
                        ct
                    );
                    return problems.IsEmpty
                        ? Results.Ok(new RulesAnswer(draft, true, saved[0].Revision))
                        : Answers.Problems(422, "nothing was written", problems);
                }
            )
            .Produces<RulesAnswer>()
            .WithSummary(
                "The rules that a table says of two products, shown, or confirmed and put into the product's document"
            );
    }
}
