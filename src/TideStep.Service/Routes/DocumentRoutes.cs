using TideStep.Core.Documents;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>Documents to import, all or none.</summary>
public sealed record ImportRequest(IReadOnlyList<IncomingDocument> Documents)
{
    /// <summary>The revision that a single document was made from; refused where another has come since.</summary>
    public long? After { get; init; }
}

/// <summary>A document in a list, as its last revision is.</summary>
/// <param name="Length">How many characters it has.</param>
public sealed record DocumentLine(
    string Kind,
    string Id,
    long Revision,
    string Digest,
    DateTimeOffset At,
    string By,
    long Length
)
{
    /// <summary>Why it can't be used; null where it can.</summary>
    public string? Damaged { get; init; }
}

/// <summary>Everything that is wrong with documents; nothing where they could be kept.</summary>
public sealed record DocumentFindings(IReadOnlyList<Problem> Problems);

/// <summary>Routes of documents: what is kept, what would be wrong, import.</summary>
public static class DocumentRoutes
{
    // Those that people write and the service keeps.
    private static readonly string[] Kinds = ["estate", "product", "notices"];

    private const int MostRevisions = 200;

    public static void MapDocuments(this RouteGroupBuilder api)
    {
        api.MapGet("/documents", async (IDocumentStore store, CancellationToken ct) =>
            {
                var lines = new List<DocumentLine>();
                foreach (var kind in Kinds)
                foreach (var d in await store.LatestAsync(kind, ct))
                    lines.Add(
                        new DocumentLine(d.Kind, d.Id, d.Revision, d.Digest, d.At, d.Author, d.Body.Length)
                        {
                            Damaged = d.Damaged,
                        }
                    );
                return lines;
            })
            .WithSummary("The documents that are kept, as their last revisions are");
        api.MapPost(
                "/documents",
                async (HttpContext http, ImportRequest request, EstateDesk desk, CancellationToken ct) =>
                {
                    var by = AccessRules.ActorOf(http);
                    var (saved, problems) = await desk.ImportAsync(request.Documents, by, request.After, ct);
                    if (problems is [{ Conflict: true }])
                        return Answers.Problem(409, problems[0]);
                    return problems.IsEmpty
                        ? Results.Ok(saved.Select(s => new SavedView(s.Kind, s.Id, s.Revision, s.Digest)))
                        : Answers.Problems(
                            422,
                            $"nothing was imported: {problems.Length} problem{(problems.Length == 1 ? "" : "s")}",
                            problems
                        );
                }
            )
            .Produces<SavedView[]>()
            .WithSummary("Import documents, all or none; earlier revisions are kept");
        api.MapPost("/documents/check", async (ImportRequest request, EstateDesk desk, CancellationToken ct) =>
                new DocumentFindings(await desk.CheckAsync(request.Documents, ct))
            )
            .WithSummary("Everything that would keep documents from being imported; nothing is kept");
        api.MapGet(
                "/documents/{kind}/{id}",
                async (string kind, string id, long? revision, IDocumentStore store, CancellationToken ct) =>
                    (revision is { } r ? await store.FindAsync(kind, id, r, ct) : await store.FindAsync(kind, id, ct))
                        is { } found
                        ? Results.Ok(found)
                        : Answers.Problem(
                            404,
                            new Problem(
                                $"there is no {kind} '{id}'{(revision is null ? "" : $" of revision {revision}")}"
                            )
                        )
            )
            .Produces<StoredDocument>()
            .WithSummary("A document as it was imported, the last revision or a named one");
        api.MapGet(
                "/documents/{kind}/{id}/revisions",
                async (string kind, string id, IDocumentStore store, CancellationToken ct) =>
                    await store.RevisionsAsync(kind, id, MostRevisions, ct)
            )
            .WithSummary("The revisions of a document, newest first, without what they say");
    }
}
