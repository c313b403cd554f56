using System.Data.Common;
using Dapper;
using TideStep.Core.Documents;

namespace TideStep.Storage;

public abstract partial class SqlStore : IDocumentStore
{
    private const string DocumentColumns = "kind, id, revision, digest, body, at, author, seal";

    // Of what was last kept it stands apart which revision that was: a row that is taken away is missed.
    private const string WithHead =
        "select kind, id, cast(revision as bigint) as revision, digest, body, at, author, seal, "
        + "(select cast(h.revision as bigint) from document_heads h where h.kind = d.kind and h.id = d.id) as head "
        + "from documents d";

    private sealed record DocumentRow(
        string Kind,
        string Id,
        long Revision,
        string Digest,
        string Body,
        string At,
        string Author,
        string Seal,
        long? Head
    )
    {
        // By its properties a row is read whatever types an empty answer has.
        public DocumentRow()
            : this("", "", 0, "", "", "", "", "", null) { }

        public string SealOf() => Storage.Seal.Of("document", Kind, Id, $"{Revision}", Digest, Body, At, Author);

        public StoredDocument ToDocument() =>
            new(Kind, Id, Revision, Digest, Body, TimeOrNever(At), Author)
            {
                Damaged = Seal == SealOf() ? null : $"{Named(Kind, Id)}, revision {Revision}, is not what was written",
            };

        /// <summary>The same of what was read as the last one.</summary>
        public StoredDocument ToLast() =>
            Head == Revision ? ToDocument() : ToDocument() with { Damaged = Missing(Kind, Id, Head) };
    }

    private static string Named(string kind, string id) => $"the {kind}{(kind == id ? "" : $" '{id}'")}";

    private static string Missing(string kind, string id, long? revision) =>
        revision is null
            ? $"which revision of {Named(kind, id)} is the last one is not known any more"
            : $"revision {revision} of {Named(kind, id)} is missing";

    private static StoredDocument Undamaged(StoredDocument document) =>
        document.Damaged is { } damaged ? throw new DamagedRecordException(damaged) : document;

    public Task<bool> SaveAfterAsync(StoredDocument document, long revision, CancellationToken ct) =>
        WriteAsync(c => Raised(c, document, revision) && Inserted(c, document with { Revision = revision + 1 }), ct);

    // Whoever raises the number first keeps the revision. A number that was lost or damaged is put right by it.
    private static bool Raised(DbConnection c, StoredDocument document, long revision) =>
        c.Execute(
            "insert into document_heads (kind, id, revision) values (@Kind, @Id, @next) on conflict (kind, id) "
                + "do update set revision = excluded.revision where document_heads.revision <= @revision",
            new
            {
                document.Kind,
                document.Id,
                revision,
                next = revision + 1,
            }
        ) == 1;

    private static bool Inserted(DbConnection c, StoredDocument d)
    {
        var row = new DocumentRow(d.Kind, d.Id, d.Revision, d.Digest, d.Body, Text(d.At), d.Author, "", null);
        return c.Execute(
                $"insert into documents ({DocumentColumns}) values (@Kind, @Id, @Revision, @Digest, @Body, @At, "
                    + $"@Author, @Seal)",
                row with
                {
                    Seal = row.SealOf(),
                }
            ) == 1;
    }

    public Task<IReadOnlyList<StoredDocument>> SaveAsync(
        IReadOnlyList<StoredDocument> documents,
        CancellationToken ct
    ) => WriteAsync(c => (IReadOnlyList<StoredDocument>)[.. documents.Select(d => Saved(c, d))], ct);

    // What is damaged does not keep the next from being kept: its number comes after whatever is known of it.
    private StoredDocument Saved(DbConnection c, StoredDocument document)
    {
        var last = Last(c, document.Kind, document.Id);
        if (last is { Damaged: null } && last.Digest == document.Digest)
            return last;
        var head = c.QuerySingleOrDefault<long?>(
            $"select revision from document_heads where kind = @Kind and id = @Id{ForUpdate}",
            new { document.Kind, document.Id }
        );
        var next = document with { Revision = Math.Max(last?.Revision ?? 0, head ?? 0) + 1 };
        c.Execute(
            "insert into document_heads (kind, id, revision) values (@Kind, @Id, @Revision) "
                + "on conflict (kind, id) do update set revision = excluded.revision",
            new
            {
                next.Kind,
                next.Id,
                next.Revision,
            }
        );
        Inserted(c, next);
        return next;
    }

    private static StoredDocument? Last(DbConnection c, string kind, string id) =>
        c.QueryFirstOrDefault<DocumentRow>(
                $"{WithHead} where kind = @kind and id = @id order by revision desc limit 1",
                new { kind, id }
            )
            ?.ToLast();

    private static IEnumerable<string> Lost(DbConnection c, string kind) =>
        c.Query<string>(
            "select id from document_heads h where kind = @kind and not exists "
                + "(select 1 from documents d where d.kind = h.kind and d.id = h.id)",
            new { kind }
        );

    public Task<StoredDocument?> FindAsync(string kind, string id, CancellationToken ct) =>
        ReadAsync(c => Whole(Named(kind, id), () => Last(c, kind, id) is { } last ? Undamaged(last)
                    : Lost(c, kind).Contains(id)
                        ? throw new DamagedRecordException($"every revision of {Named(kind, id)} is missing")
                    : null), ct);

    public Task<long> RevisionAsync(string kind, string id, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.Query<long?>(
                        """
                        select cast(revision as bigint) from document_heads where kind = @kind and id = @id
                        union all
                        select max(cast(revision as bigint)) from documents where kind = @kind and id = @id
                        """,
                        new { kind, id }
                    )
                    .Max()
                ?? 0,
            ct
        );

    public Task<StoredDocument?> FindAsync(string kind, string id, long revision, CancellationToken ct) =>
        ReadAsync(c => Whole(Named(kind, id), () => c.QueryFirstOrDefault<DocumentRow>(
                        $"{WithHead} where kind = @kind and id = @id and revision = @revision",
                        new
                        {
                            kind,
                            id,
                            revision,
                        }
                    )
                        is { } row
                        ? Undamaged(row.ToDocument())
                        : null), ct);

    private sealed record RevisionRow(long Revision, string Digest, string At, string Author, long Length)
    {
        public RevisionRow()
            : this(0, "", "", "", 0) { }
    }

    public Task<IReadOnlyList<DocumentRevision>> RevisionsAsync(
        string kind,
        string id,
        int limit,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<DocumentRevision>)
                    [
                        .. c.Query<RevisionRow>(
                                "select cast(revision as bigint) as revision, digest, at, author, "
                                    + "cast(length(body) as bigint) as length from documents "
                                    + "where kind = @kind and id = @id order by revision desc limit @limit",
                                new
                                {
                                    kind,
                                    id,
                                    limit,
                                }
                            )
                            .Select(r => new DocumentRevision(r.Revision, r.Digest, Time(r.At), r.Author, r.Length)),
                    ],
            ct
        );

    public Task<IReadOnlyList<StoredDocument>> LatestAsync(string kind, CancellationToken ct) =>
        ReadAsync(
            c =>
                Whole($"documents of the kind {kind}", () =>
                    (IReadOnlyList<StoredDocument>)
                        [
                            .. c.Query<DocumentRow>(
                                    $"{WithHead} where kind = @kind and revision = (select max(revision) from "
                                        + $"documents e where e.kind = d.kind and e.id = d.id)",
                                    new { kind }
                                )
                                .Select(r => r.ToLast())
                                .Concat(
                                    Lost(c, kind)
                                        .Select(id => new StoredDocument(kind, id, 0, "", "", default, "")
                                        {
                                            Damaged = $"every revision of {Named(kind, id)} is missing",
                                        })
                                )
                                .OrderBy(d => d.Id, StringComparer.Ordinal),
                        ]
                ),
            ct
        );

    private const string PlanColumns = "digest, estate, kind, body, at, author, seal";

    public Task SavePlanAsync(StoredPlan plan, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                var row = new PlanRow(plan.Digest, plan.Estate, plan.Kind, plan.Body, Text(plan.At), plan.Author, "");
                return c.Execute(
                    $"insert into plans ({PlanColumns}) values (@Digest, @Estate, @Kind, @Body, @At, @Author, @Seal) "
                        + $"on conflict (digest) do nothing",
                    row with
                    {
                        Seal = row.SealOf(),
                    }
                );
            },
            ct
        );

    private sealed record PlanRow(
        string Digest,
        string Estate,
        string Kind,
        string Body,
        string At,
        string Author,
        string Seal
    )
    {
        public string SealOf() => Storage.Seal.Of("plan", Digest, Estate, Kind, Body, At, Author);

        // The digest is taken over the bytes that are kept: what was changed there is no plan that anybody agreed to.
        public StoredPlan ToPlan() =>
            new(Digest, Estate, Kind, Body, TimeOrNever(At), Author)
            {
                Damaged =
                    Json.DigestOfText(Body) != Digest ? $"plan {Digest} was changed where it is kept"
                    : Seal != SealOf() ? $"who made plan {Digest}, and when, was changed where it is kept"
                    : null,
            };
    }

    public Task<StoredPlan?> FindPlanAsync(string digest, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QuerySingleOrDefault<PlanRow>(
                        $"select {PlanColumns} from plans where digest = @digest",
                        new { digest }
                    )
                    ?.ToPlan(),
            ct
        );

    public Task<IReadOnlyList<StoredPlan>> PlansLikeAsync(string beginning, CancellationToken ct) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredPlan>)
                    [
                        // A range would be the collation's, and hexadecimal digits have many orders.
                        .. c.Query<PlanRow>(
                                $"select {PlanColumns} from plans where substr(digest, 1, @many) = @beginning "
                                    + $"order by digest limit 2",
                                new { beginning, many = beginning.Length }
                            )
                            .Select(r => r.ToPlan()),
                    ],
            ct
        );

    public Task<IReadOnlyList<StoredPlan>> PlansAsync(
        int limit,
        string? after,
        CancellationToken ct,
        (DateTimeOffset? Since, DateTimeOffset? Before) made = default
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredPlan>)
                    [
                        .. c.Query<PlanRow>(
                                $"select {PlanColumns} from plans where true"
                                    + (made.Since is null ? "" : " and at >= @since")
                                    + (made.Before is null ? "" : " and at < @before")
                                    + (
                                        after is null
                                            ? ""
                                            : " and (at, digest) < "
                                                + "(select f.at, f.digest from plans f where f.digest = @after)"
                                    )
                                    + " order by at desc, digest desc limit @limit",
                                new
                                {
                                    limit,
                                    after,
                                    since = made.Since is { } since ? Text(since) : null,
                                    before = made.Before is { } before ? Text(before) : null,
                                }
                            )
                            .Select(r => r.ToPlan()),
                    ],
            ct
        );
}
