using System.Text.Json;
using Dapper;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Storage;

public abstract partial class SqlStore : INoticeStore
{
    private const string NoticeColumns = "id, run, rule, moment, body, at, state, attempts, next_at, said";
    private const string ReadNotices =
        "select id, run, rule, moment, body, at, state, cast(attempts as bigint) as attempts, next_at, said "
        + "from notices";

    private sealed record NoticeRow(
        string Id,
        string Run,
        string Rule,
        string Moment,
        string Body,
        string At,
        string State,
        long Attempts,
        string Next_at,
        string? Said
    )
    {
        // By its properties a row is read whatever types an empty answer has.
        public NoticeRow()
            : this("", "", "", "", "", "", "", 0, "", null) { }

        public StoredNotice ToNotice() =>
            new(Id, Run, Rule, Moment, Body, TimeOrNever(At), State, (int)Attempts, TimeOrNever(Next_at), Said);
    }

    public Task<IReadOnlyList<(long Position, JournalEntry Entry)>> ReadAllAsync(
        long after,
        int limit,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<(long, JournalEntry)>)
                    [
                        .. c.Query<(long Position, string Run, long Sequence, long Epoch, string At, string Body)>(
                                "select position, run, cast(sequence as bigint) as sequence, "
                                    + "cast(epoch as bigint) as epoch, at, event from journal where "
                                    + "position > @after order by position limit @limit",
                                new { after, limit }
                            )
                            .SelectMany(r => Readable(r.Position, r.Run, r.Sequence, r.Epoch, r.At, r.Body)),
                    ],
            ct
        );

    public Task<long> NoticesReadAsync(CancellationToken ct) =>
        ReadAsync(c => c.ExecuteScalar<long>("select value from counters where name = 'notices'"), ct);

    public Task QueueAsync(IReadOnlyCollection<StoredNotice> notices, long readTo, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                foreach (var n in notices)
                    c.Execute(
                        $"insert into notices ({NoticeColumns}) values (@Id, @Run, @Rule, @Moment, @Body, "
                            + $"@at, @State, @Attempts, @next, @Said) on conflict (id) do nothing",
                        new
                        {
                            n.Id,
                            n.Run,
                            n.Rule,
                            n.Moment,
                            n.Body,
                            at = Text(n.At),
                            n.State,
                            n.Attempts,
                            next = Text(n.NextAt),
                            n.Said,
                        }
                    );
                return c.Execute(
                    "update counters set value = @readTo where name = 'notices' and value < @readTo",
                    new { readTo }
                );
            },
            ct
        );

    public Task<IReadOnlyList<StoredNotice>> ClaimAsync(
        DateTimeOffset now,
        DateTimeOffset until,
        int limit,
        CancellationToken ct
    ) =>
        WriteAsync(
            c =>
            {
                var due = c.Query<NoticeRow>(
                        $"{ReadNotices} where state = @waiting and next_at <= @now "
                            + $"order by next_at, id limit @limit{ForUpdate}",
                        new
                        {
                            waiting = StoredNotice.Waiting,
                            now = Text(now),
                            limit,
                        }
                    )
                    .ToList();
                foreach (var row in due)
                    c.Execute(
                        "update notices set next_at = @until where id = @Id",
                        new { until = Text(until), row.Id }
                    );
                return (IReadOnlyList<StoredNotice>)[.. due.Select(r => r.ToNotice())];
            },
            ct
        );

    public Task TriedAsync(
        string id,
        string state,
        int attempts,
        DateTimeOffset nextAt,
        string? said,
        CancellationToken ct
    ) =>
        WriteAsync(
            c =>
                c.Execute(
                    "update notices set state = @state, attempts = @attempts, next_at = @next, said = @said "
                        + "where id = @id",
                    new
                    {
                        id,
                        state,
                        attempts,
                        next = Text(nextAt),
                        said,
                    }
                ),
            ct
        );

    public Task<IReadOnlyList<StoredNotice>> NoticesAsync(
        int limit,
        string? run,
        string? after,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredNotice>)
                    [
                        .. c.Query<NoticeRow>(
                                $"{ReadNotices} where 1 = 1 {(run is null ? "" : "and run = @run ")}"
                                    + (
                                        after is null
                                            ? ""
                                            : "and (at, id) < (select f.at, f.id from notices f where f.id = @after) "
                                    )
                                    + "order by at desc, id desc limit @limit",
                                new
                                {
                                    run,
                                    after,
                                    limit,
                                }
                            )
                            .Select(r => r.ToNotice()),
                    ],
            ct
        );

    // A run whose entries can't be read is set aside; the others are told of.
    private static IEnumerable<(long Position, JournalEntry Entry)> Readable(
        long position,
        string run,
        long sequence,
        long epoch,
        string at,
        string body
    )
    {
        JournalEntry entry;
        try
        {
            entry = EntryOf(run, sequence, epoch, at, body);
        }
        catch (DamagedRecordException)
        {
            yield break;
        }
        yield return (position, entry);
    }
}
