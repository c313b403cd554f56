using System.Data;
using System.Data.Common;
using System.Text.Json;
using Dapper;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Storage;

public abstract partial class SqlStore : IJournal
{
    private const string RawRunColumns = "id, plan, parent, opened_at, epoch, owner, ended, seal";

    // A number that was damaged into a text is still one for a list; the seal tells.
    private const string RunColumns = "id, plan, parent, opened_at, cast(epoch as bigint) as epoch, owner, ended, seal";

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
        var (time, body) = (Text(at), RunEventText.Write(opened));
        var head = Seal.Entry("", run.Id, 1, 0, time, body);
        var row = new RunRow(run.Id, run.Plan, run.Parent, Text(run.OpenedAt), 0, null, null, "");
        c.Execute(
            "insert into runs (id, plan, parent, opened_at, length, head, seal) "
                + "values (@Id, @Plan, @Parent, @Opened_at, 1, @head, @seal)",
            new
            {
                row.Id,
                row.Plan,
                row.Parent,
                row.Opened_at,
                head,
                seal = row.SealOf(),
            }
        );
        c.Execute(
            "insert into journal (run, sequence, epoch, at, event, digest) values (@Id, 1, 0, @time, @body, @head)",
            new
            {
                run.Id,
                time,
                body,
                head,
            }
        );
        return 0;
    }

    public Task<long> TakeOwnershipAsync(string run, string owner, CancellationToken ct, bool ended = false) =>
        WriteAsync(
            c =>
            {
                if (Row(c, run, ForUpdate) is not { } row || row.Ended is not null != ended)
                    throw new StaleOwnerException($"run {run} is not there or has {(ended ? "not " : "")}ended");
                c.Execute("update counters set value = value + 1 where name = 'epoch'");
                var epoch = c.ExecuteScalar<long>("select value from counters where name = 'epoch'");
                Keep(c, row with { Epoch = epoch, Owner = owner });
                return epoch;
            },
            ct
        );

    private static RunRow? Row(DbConnection c, string run, string locked = "") =>
        c.QuerySingleOrDefault<RunRow>($"select {RunColumns} from runs where id = @run{locked}", new { run });

    private static void Keep(DbConnection c, RunRow row) =>
        c.Execute(
            "update runs set epoch = @Epoch, owner = @Owner, ended = @Ended, seal = @seal where id = @Id",
            new
            {
                row.Epoch,
                row.Owner,
                row.Ended,
                row.Id,
                seal = row.SealOf(),
            }
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
        var bodies = events.Select(RunEventText.Write).ToList();
        var time = Text(at);
        return WriteAsync(
            c =>
            {
                var head = HeadOf(c, run, epoch, expected)
                    ?? throw new StaleOwnerException(
                        $"run {run}: epoch {epoch} and entry {expected + 1} do not follow what the journal holds; "
                            + $"another owner has it"
                    );
                for (var i = 0; i < entries.Count; i++)
                {
                    head = Seal.Entry(head, run, entries[i].Sequence, epoch, time, bodies[i]);
                    AppendOne(c, run, epoch, entries[i].Sequence, time, bodies[i], head);
                }
                Advance(c, run, expected + entries.Count, head);
                if (events.OfType<Ended>().LastOrDefault() is { } ended)
                    Keep(c, Row(c, run)! with { Ended = RunReport.EndWord(ended.End) });
                return (IReadOnlyList<JournalEntry>)entries;
            },
            ct,
            single: entries.Count == 1 && events[0] is not Ended
        );
    }

    /// <summary>The digest of a run's last entry, where its epoch and its length are those; with
    /// <see cref="ForUpdate"/>, nobody changes that until the unit of work is done.</summary>
    protected const string HeadText = "select head from runs where id = @run and epoch = @epoch and length = @expected";

    protected const string AppendText =
        "insert into journal (run, sequence, epoch, at, event, digest) "
        + "values (@run, @sequence, @epoch, @at, @body, @digest)";

    protected const string AdvanceText = "update runs set length = @length, head = @head where id = @run";

    /// <summary>The digest that the next entry follows; null where epoch or length are others.</summary>
    protected virtual string? HeadOf(DbConnection c, string run, long epoch, long expected) =>
        c.QuerySingleOrDefault<string>(
            HeadText + ForUpdate,
            new
            {
                run,
                epoch,
                expected,
            }
        );

    protected virtual void AppendOne(
        DbConnection c,
        string run,
        long epoch,
        long sequence,
        string at,
        string body,
        string digest
    ) =>
        c.Execute(
            AppendText,
            new
            {
                run,
                sequence,
                epoch,
                at,
                body,
                digest,
            }
        );

    protected virtual void Advance(DbConnection c, string run, long length, string head) =>
        c.Execute(
            AdvanceText,
            new
            {
                run,
                length,
                head,
            }
        );

    public Task<IReadOnlyList<JournalEntry>> ReadAsync(string run, long after, CancellationToken ct) =>
        ReadAsync(c => Whole($"the entries of run {run}", () => Entries(c, run, after)), ct);

    private sealed record EntryRow(long Sequence, long Epoch, string At, string Event, string Digest)
    {
        // By its properties a row is read whatever types its columns have come to.
        public EntryRow()
            : this(0, 0, "", "", "") { }
    }

    // What is read after an entry hangs on the digest that stands there. The run's row is read first: entries that come
    // meanwhile are more than it says, never fewer.
    private static IReadOnlyList<JournalEntry> Entries(DbConnection c, string run, long after)
    {
        var (length, head, archived) = c.QuerySingleOrDefault<(long, string?, string?)>(
            "select length, head, (select at from archived_runs a where a.run = r.id) from runs r where id = @run",
            new { run }
        );
        if (archived is not null)
            throw new ArchivedRunException(run, archived[..10]);
        var rows = c.Query<EntryRow>(
            "select sequence, epoch, at, event, digest from journal where run = @run and sequence >= @after "
                + "order by sequence",
            new { run, after },
            buffered: false
        );
        var entries = new List<JournalEntry>();
        var (last, previous) = (after == 0 ? 0 : after - 1, "");
        foreach (var row in rows)
        {
            if (row.Sequence != last + 1)
                throw Missing(run, last + 1);
            if (row.Sequence != after && row.Digest != Digest(previous, run, row))
                throw new DamagedRecordException($"entry {row.Sequence} of run {run} is not what was written");
            if (row.Sequence == length && row.Digest != head)
                throw new DamagedRecordException($"entry {length} of run {run} is not the one that was written last");
            (last, previous) = (row.Sequence, row.Digest);
            if (row.Sequence > after)
                entries.Add(EntryOf(run, row.Sequence, row.Epoch, row.At, row.Event));
        }
        return last < length ? throw Missing(run, last + 1)
            : length < 1 && last > 0 ? throw new DamagedRecordException($"how long run {run} is is not known any more")
            : entries;
    }

    private static string Digest(string previous, string run, EntryRow row) =>
        Seal.Entry(previous, run, row.Sequence, row.Epoch, row.At, row.Event);

    private static DamagedRecordException Missing(string run, long entry) =>
        new($"entry {entry} of run {run} is missing");

    /// <exception cref="DamagedRecordException">It can't be read.</exception>
    private static JournalEntry EntryOf(string run, long sequence, long epoch, string at, string body)
    {
        try
        {
            return new JournalEntry(run, sequence, epoch, Time(at), RunEventText.Read(body));
        }
        catch (Exception e) when (e is JsonException or FormatException or NotSupportedException or ArgumentException)
        {
            throw new DamagedRecordException($"entry {sequence} of run {run} can't be read: {e.Message}", e);
        }
    }

    // By what stands in the rows, so that runs of the same moment, and damaged ones, have their place too.
    private const string NewestRunsFirst = "order by r.opened_at desc, r.id desc limit @limit";

    private static string Behind(string? after) =>
        after is null ? "1 = 1" : "(r.opened_at, r.id) < (select f.opened_at, f.id from runs f where f.id = @after)";

    public Task<IReadOnlyList<StoredRun>> RunsAsync(bool openOnly, int limit, string? after, CancellationToken ct) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredRun>)
                    [
                        .. c.Query<RunRow>(
                                $"select {RunColumns} from runs r where {Behind(after)} "
                                    + $"{(openOnly ? "and ended is null" : "")} {NewestRunsFirst}",
                                new { limit, after }
                            )
                            .Select(r => r.ToRun()),
                    ],
            ct
        );

    public Task<StoredRun?> FindRunAsync(string run, CancellationToken ct) => ReadAsync(c => Row(c, run)?.ToRun(), ct);

    private record RunRow(
        string Id,
        string Plan,
        string? Parent,
        string Opened_at,
        long Epoch,
        string? Owner,
        string? Ended,
        string Seal
    )
    {
        // By its properties a row is read whatever types an empty answer has.
        public RunRow()
            : this("", "", null, "", 0, null, null, "") { }

        /// <summary>What its seal has to be. Length and head change with every entry: the chain tells of
        /// them.</summary>
        public string SealOf() => Storage.Seal.Of("run", Id, Plan, Parent, Opened_at, $"{Epoch}", Owner, Ended);

        public StoredRun ToRun() =>
            new(Id, Plan, Parent, TimeOrNever(Opened_at), Epoch, Owner, Ended)
            {
                Damaged = Seal == SealOf() ? null : $"the row of run {Id} is not what was written",
            };
    }

    public virtual Task<long> LastPositionAsync(CancellationToken ct) =>
        ReadAsync(c => c.ExecuteScalar<long?>(LastText) ?? 0, ct);

    protected const string LastText = "select max(position) from journal";

    public Task SaveOutputAsync(string run, string attempt, string body, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    "insert into outputs (run, attempt, body, seal) values (@run, @attempt, @body, @seal) on conflict "
                        + "(run, attempt) do update set body = excluded.body, seal = excluded.seal",
                    new
                    {
                        run,
                        attempt,
                        body,
                        seal = Seal.Of("output", run, attempt, body),
                    }
                ),
            ct
        );

    public Task<string?> FindOutputAsync(string run, string attempt, CancellationToken ct) =>
        ReadAsync(c => OutputOf(c, run, attempt), ct);

    private static string? OutputOf(DbConnection c, string run, string attempt) =>
        c.QuerySingleOrDefault<(string Body, string Seal)?>(
            "select body, seal from outputs where run = @run and attempt = @attempt",
            new { run, attempt }
        ) switch
        {
            null => null,
            var (body, seal) when seal == Seal.Of("output", run, attempt, body) => body,
            _ => throw new DamagedRecordException(
                $"the output of attempt {attempt} in run {run} is not what was written"
            ),
        };

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
        // A service that was ended right after a run's end has not given back what that held.
        c.Execute("delete from reservations where run in (select id from runs where ended is not null)");
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
}
