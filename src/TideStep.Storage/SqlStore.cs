using System.Data.Common;
using System.Globalization;
using System.Text.Json;
using Dapper;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Storage;

/// <summary>The stores over SQL, once for every database; a database brings how it reads, writes, numbers rows and
/// locks one.</summary>
public abstract partial class SqlStore : IJournal, IDocumentStore, IAsyncDisposable
{
    /// <summary>Runs a unit of work that is durable, all of it or nothing, when the task ends.</summary>
    /// <param name="work">What is done; where it throws nothing of it stays.</param>
    /// <param name="ct">Cancels before it begins, never in the middle.</param>
    /// <param name="single">Whether the work is one statement, which leaves nothing behind when it fails or finds
    /// nothing to do.</param>
    protected abstract Task<T> WriteAsync<T>(Func<DbConnection, T> work, CancellationToken ct, bool single = false);

    protected abstract Task<T> ReadAsync<T>(Func<DbConnection, T> work, CancellationToken ct);

    /// <summary>What locks the row that a select found until the end of the unit of work, in this database's
    /// words.</summary>
    protected abstract string ForUpdate { get; }

    protected abstract string Identity { get; }

    public abstract ValueTask DisposeAsync();

    private const string RunColumns = "id, plan, parent, opened_at, epoch, owner, ended";
    private const string DocumentColumns = "kind, id, revision, digest, body, at, author";

    /// <summary>Brings the schema to its newest version by the numbered scripts.</summary>
    protected void Migrate(DbConnection connection)
    {
        connection.Execute("create table if not exists schema_versions (number bigint primary key, at text not null)");
        var done = connection.Query<long>("select number from schema_versions").ToHashSet();
        var assembly = typeof(SqlStore).Assembly;
        long newest = 0;
        foreach (
            var name in assembly
                .GetManifestResourceNames()
                .Where(n => n.EndsWith(".sql", StringComparison.Ordinal))
                .Order(StringComparer.Ordinal)
        )
        {
            var number = long.Parse(name.Split('.')[^2].Split('-')[0], CultureInfo.InvariantCulture);
            newest = Math.Max(newest, number);
            if (done.Contains(number))
                continue;
            using var reader = new StreamReader(assembly.GetManifestResourceStream(name)!);
            connection.Execute(reader.ReadToEnd().Replace("{identity}", Identity));
            connection.Execute(
                "insert into schema_versions (number, at) values (@number, @at)",
                new { number, at = Text(DateTimeOffset.UtcNow) }
            );
        }
        if (done.Count > 0 && done.Max() > newest)
            throw new StoreUnavailableException(
                $"the database was written by a newer Tide Step: its schema is {done.Max()}, this program knows "
                    + $"{newest}; start that program, or give this one a backup of before"
            );
    }

    private static string Text(DateTimeOffset at) =>
        at.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ss.fffffffZ", CultureInfo.InvariantCulture);

    private static DateTimeOffset Time(string text) => DateTimeOffset.Parse(text, CultureInfo.InvariantCulture);

    public Task CreateRunAsync(StoredRun run, RunEvent opened, DateTimeOffset at, CancellationToken ct) =>
        WriteAsync(c => Create(c, run, opened, at), ct);

    public Task<IReadOnlyList<(string Subject, string Run)>> CreateReservedRunAsync(
        StoredRun run,
        RunEvent opened,
        DateTimeOffset at,
        IReadOnlyCollection<string> subjects,
        CancellationToken ct
    ) =>
        WriteAsync(
            c =>
            {
                var held = Reserve(c, run.Id, subjects);
                if (held.Count == 0)
                    Create(c, run, opened, at);
                return held;
            },
            ct
        );

    private static int Create(DbConnection c, StoredRun run, RunEvent opened, DateTimeOffset at)
    {
        c.Execute(
            "insert into runs (id, plan, parent, opened_at) values (@Id, @Plan, @Parent, @at)",
            new
            {
                run.Id,
                run.Plan,
                run.Parent,
                at = Text(at),
            }
        );
        Insert(c, run.Id, 1, 0, at, opened);
        return 0;
    }

    public Task<long> TakeOwnershipAsync(string run, string owner, CancellationToken ct, bool ended = false) =>
        WriteAsync(
            c =>
            {
                c.Execute("update counters set value = value + 1 where name = 'epoch'");
                var epoch = c.ExecuteScalar<long>("select value from counters where name = 'epoch'");
                if (
                    c.Execute(
                        $"update runs set epoch = @epoch, owner = @owner where id = @run and ended is "
                            + $"{(ended ? "not null" : "null")}",
                        new
                        {
                            epoch,
                            owner,
                            run,
                        }
                    ) == 0
                )
                    throw new StaleOwnerException($"run {run} is not there or has {(ended ? "not " : "")}ended");
                return epoch;
            },
            ct
        );

    public Task<IReadOnlyList<JournalEntry>> AppendAsync(
        string run,
        long epoch,
        long expected,
        IReadOnlyList<RunEvent> events,
        DateTimeOffset at,
        CancellationToken ct
    )
    {
        var entries = events.Select((e, i) => new JournalEntry(run, expected + 1 + i, epoch, at, e)).ToList();
        var bodies = events.Select(e => JsonSerializer.Serialize(e, Json.Options)).ToList();
        var time = Text(at);
        return WriteAsync(
            c =>
            {
                for (var i = 0; i < entries.Count; i++)
                    if (!AppendOne(c, run, epoch, entries[i].Sequence, time, bodies[i]))
                        throw new StaleOwnerException(
                            $"run {run}: epoch {epoch} and entry {entries[i].Sequence} do not follow what the "
                                + $"journal holds; another owner has it"
                        );
                if (events.OfType<Ended>().LastOrDefault() is { } ended)
                    c.Execute(
                        "update runs set ended = @end where id = @run",
                        new { end = RunReport.EndWord(ended.End), run }
                    );
                return (IReadOnlyList<JournalEntry>)entries;
            },
            ct,
            single: entries.Count == 1 && events[0] is not Ended
        );
    }

    /// <summary>Checks epoch and sequence in the statement that inserts; false where they do not fit. The unique key
    /// refuses whatever comes at the same moment.</summary>
    protected const string AppendText = """
        insert into journal (run, sequence, epoch, at, event)
        select @run, @sequence, @epoch, @at, @body
        where (select epoch from runs where id = @run) = @epoch
            and (select max(sequence) from journal where run = @run) = @sequence - 1
        """;

    /// <summary>Appends one entry if its epoch is the run's and its number the next.</summary>
    protected virtual bool AppendOne(DbConnection c, string run, long epoch, long sequence, string at, string body)
    {
        c.QuerySingleOrDefault<long?>($"select epoch from runs where id = @run{ForUpdate}", new { run });
        return c.Execute(
                AppendText,
                new
                {
                    run,
                    sequence,
                    epoch,
                    at,
                    body,
                }
            ) == 1;
    }

    private static void Insert(DbConnection c, string run, long sequence, long epoch, DateTimeOffset at, RunEvent e) =>
        c.Execute(
            "insert into journal (run, sequence, epoch, at, event) values (@run, @sequence, @epoch, @at, @body)",
            new
            {
                run,
                sequence,
                epoch,
                at = Text(at),
                body = JsonSerializer.Serialize(e, Json.Options),
            }
        );

    public Task<IReadOnlyList<JournalEntry>> ReadAsync(string run, long after, CancellationToken ct) =>
        ReadAsync(
            c =>
                (IReadOnlyList<JournalEntry>)
                    [
                        .. c.Query<(long Sequence, long Epoch, string At, string Body)>(
                                "select sequence, epoch, at, event from journal where run = @run and "
                                    + "sequence > @after order by sequence",
                                new { run, after }
                            )
                            .Select(
                                (r, i) =>
                                    r.Sequence == after + 1 + i
                                        ? EntryOf(run, r.Sequence, r.Epoch, r.At, r.Body)
                                        : throw new DamagedRecordException(
                                            $"entry {after + 1 + i} of run {run} is missing"
                                        )
                            ),
                    ],
            ct
        );

    /// <exception cref="DamagedRecordException">It can't be read.</exception>
    private static JournalEntry EntryOf(string run, long sequence, long epoch, string at, string body)
    {
        try
        {
            return new JournalEntry(
                run,
                sequence,
                epoch,
                Time(at),
                JsonSerializer.Deserialize<RunEvent>(body, Json.Options)!
            );
        }
        catch (Exception e) when (e is JsonException or FormatException or NotSupportedException or ArgumentException)
        {
            throw new DamagedRecordException($"entry {sequence} of run {run} can't be read: {e.Message}", e);
        }
    }

    public Task<IReadOnlyList<StoredRun>> RunsAsync(
        bool openOnly,
        int limit,
        DateTimeOffset? before,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredRun>)
                    [
                        .. c.Query<RunRow>(
                                $"select {RunColumns} from runs where opened_at < @before "
                                    + $"{(openOnly ? "and ended is null" : "")} order by opened_at desc, id limit "
                                    + $"@limit",
                                new { limit, before = before is { } b ? Text(b) : "9999" }
                            )
                            .Select(r => r.ToRun()),
                    ],
            ct
        );

    public Task<StoredRun?> FindRunAsync(string run, CancellationToken ct) =>
        ReadAsync(
            c => c.QuerySingleOrDefault<RunRow>($"select {RunColumns} from runs where id = @run", new { run })?.ToRun(),
            ct
        );

    private sealed record RunRow(
        string Id,
        string Plan,
        string? Parent,
        string Opened_at,
        long Epoch,
        string? Owner,
        string? Ended
    )
    {
        public StoredRun ToRun() => new(Id, Plan, Parent, Time(Opened_at), Epoch, Owner, Ended);
    }

    public virtual Task<long> LastPositionAsync(CancellationToken ct) =>
        ReadAsync(c => c.ExecuteScalar<long?>(LastText) ?? 0, ct);

    protected const string LastText = "select max(position) from journal";

    public Task SaveOutputAsync(string run, string attempt, string body, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    "insert into outputs (run, attempt, body) values (@run, @attempt, @body) on conflict "
                        + "(run, attempt) do update set body = excluded.body",
                    new
                    {
                        run,
                        attempt,
                        body,
                    }
                ),
            ct
        );

    public Task<string?> FindOutputAsync(string run, string attempt, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QuerySingleOrDefault<string>(
                    "select body from outputs where run = @run and attempt = @attempt",
                    new { run, attempt }
                ),
            ct
        );

    public Task<IReadOnlyList<(string Subject, string Run)>> ReserveAsync(
        string run,
        IReadOnlyCollection<string> subjects,
        CancellationToken ct
    ) => WriteAsync(c => Reserve(c, run, subjects), ct);

    private static IReadOnlyList<(string Subject, string Run)> Reserve(
        DbConnection c,
        string run,
        IReadOnlyCollection<string> subjects
    )
    {
        foreach (var subject in subjects.Order(StringComparer.Ordinal))
            c.Execute(
                "insert into reservations (subject, run) values (@subject, @run) on conflict (subject) do nothing",
                new { subject, run }
            );
        var held = c.Query<(string Subject, string Run)>(
                "select subject, run from reservations where run <> @run",
                new { run }
            )
            .Where(r => subjects.Contains(r.Subject))
            .OrderBy(r => r.Subject, StringComparer.Ordinal)
            .ToList();
        if (held.Count > 0)
            c.Execute("delete from reservations where run = @run", new { run });
        return held;
    }

    public Task ReleaseAsync(string run, CancellationToken ct) =>
        WriteAsync(c => c.Execute("delete from reservations where run = @run", new { run }), ct);

    public Task<bool> SaveAfterAsync(StoredDocument document, long revision, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    $"""
                    insert into documents ({DocumentColumns}) select @Kind, @Id, @next, @Digest, @Body, @at, @Author
                    where (select coalesce(max(revision), 0) from documents where kind = @Kind and id = @Id) = @revision
                    on conflict do nothing
                    """,
                    new
                    {
                        document.Kind,
                        document.Id,
                        next = revision + 1,
                        document.Digest,
                        document.Body,
                        at = Text(document.At),
                        document.Author,
                        revision,
                    }
                ) == 1,
            ct
        );

    public Task<IReadOnlyList<StoredDocument>> SaveAsync(
        IReadOnlyList<StoredDocument> documents,
        CancellationToken ct
    ) =>
        WriteAsync(
            c =>
            {
                var saved = new List<StoredDocument>();
                foreach (var document in documents)
                {
                    var last = c.QueryFirstOrDefault<DocumentRow>(
                            $"select {DocumentColumns} from documents where kind = @Kind and id = @Id order "
                                + $"by revision desc limit 1",
                            new { document.Kind, document.Id }
                        )
                        ?.ToDocument();
                    if (last?.Digest == document.Digest)
                    {
                        saved.Add(last);
                        continue;
                    }
                    var next = document with { Revision = (last?.Revision ?? 0) + 1 };
                    c.Execute(
                        $"insert into documents ({DocumentColumns}) values (@Kind, @Id, @Revision, @Digest, "
                            + $"@Body, @at, @Author)",
                        new
                        {
                            next.Kind,
                            next.Id,
                            next.Revision,
                            next.Digest,
                            next.Body,
                            at = Text(next.At),
                            next.Author,
                        }
                    );
                    saved.Add(next);
                }
                return (IReadOnlyList<StoredDocument>)saved;
            },
            ct
        );

    private sealed record DocumentRow(
        string Kind,
        string Id,
        long Revision,
        string Digest,
        string Body,
        string At,
        string Author
    )
    {
        public StoredDocument ToDocument() => new(Kind, Id, Revision, Digest, Body, Time(At), Author);
    }

    public Task<StoredDocument?> FindAsync(string kind, string id, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QueryFirstOrDefault<DocumentRow>(
                        $"select {DocumentColumns} from documents where kind = @kind and id = @id order by "
                            + $"revision desc limit 1",
                        new { kind, id }
                    )
                    ?.ToDocument(),
            ct
        );

    public Task<StoredDocument?> FindAsync(string kind, string id, long revision, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QueryFirstOrDefault<DocumentRow>(
                        $"select {DocumentColumns} from documents where kind = @kind and id = @id and "
                            + $"revision = @revision",
                        new
                        {
                            kind,
                            id,
                            revision,
                        }
                    )
                    ?.ToDocument(),
            ct
        );

    public Task<IReadOnlyList<StoredDocument>> LatestAsync(string kind, CancellationToken ct) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredDocument>)
                    [
                        .. c.Query<DocumentRow>(
                                $"select {DocumentColumns} from documents d where kind = @kind and revision = "
                                    + $"(select max(revision) from documents e where e.kind = d.kind and e.id = "
                                    + $"d.id) order by id",
                                new { kind }
                            )
                            .Select(r => r.ToDocument()),
                    ],
            ct
        );

    public Task SavePlanAsync(StoredPlan plan, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    "insert into plans (digest, estate, kind, body, at, author) values (@Digest, @Estate, "
                        + "@Kind, @Body, @at, @Author) on conflict (digest) do nothing",
                    new
                    {
                        plan.Digest,
                        plan.Estate,
                        plan.Kind,
                        plan.Body,
                        at = Text(plan.At),
                        plan.Author,
                    }
                ),
            ct
        );

    private sealed record PlanRow(string Digest, string Estate, string Kind, string Body, string At, string Author)
    {
        public StoredPlan ToPlan() => new(Digest, Estate, Kind, Body, Time(At), Author);
    }

    public Task<StoredPlan?> FindPlanAsync(string digest, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QuerySingleOrDefault<PlanRow>(
                        "select digest, estate, kind, body, at, author from plans where digest = @digest",
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
                        .. c.Query<PlanRow>(
                                // A range would be the collation's, and hexadecimal digits have many orders.
                                "select digest, estate, kind, body, at, author from plans "
                                    + "where substr(digest, 1, @many) = @beginning order by digest limit 2",
                                new { beginning, many = beginning.Length }
                            )
                            .Select(r => r.ToPlan()),
                    ],
            ct
        );

    public Task<IReadOnlyList<StoredPlan>> PlansAsync(int limit, CancellationToken ct) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredPlan>)
                    [
                        .. c.Query<PlanRow>(
                                "select digest, estate, kind, body, at, author from plans order by at desc "
                                    + "limit @limit",
                                new { limit }
                            )
                            .Select(r => r.ToPlan()),
                    ],
            ct
        );

    public Task<string> SettingAsync(string name, Func<string> make, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                c.Execute(
                    "insert into settings (name, value) values (@name, @value) on conflict (name) do nothing",
                    new { name, value = make() }
                );
                return c.QuerySingle<string>("select value from settings where name = @name", new { name });
            },
            ct
        );

    public Task<(string Request, string Body)?> FindAnswerAsync(string key, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QuerySingleOrDefault<(string, string)?>(
                    "select request, body from answers where key = @key",
                    new { key }
                ),
            ct
        );

    public Task SaveAnswerAsync(string key, string request, string body, DateTimeOffset at, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    "insert into answers (key, request, body, at) values (@key, @request, @body, @at) on "
                        + "conflict (key) do nothing",
                    new
                    {
                        key,
                        request,
                        body,
                        at = Text(at),
                    }
                ),
            ct
        );
}
