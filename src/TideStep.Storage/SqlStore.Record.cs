using System.Data.Common;
using System.Globalization;
using System.Text.Json;
using Dapper;
using TideStep.Core.Documents;

namespace TideStep.Storage;

public abstract partial class SqlStore
{
    private const string ReadRecord =
        "select cast(number as bigint) as number, at, who, about, body, seal, cut from record";

    private sealed record RecordRow(
        long Number,
        string At,
        string Who,
        string About,
        string Body,
        string Seal,
        string? Cut
    )
    {
        public RecordRow()
            : this(0, "", "", "", "", "", null) { }

        /// <summary>The seal that it must have behind a line with the seal <paramref name="previous"/>.</summary>
        public string SealAfter(string previous) =>
            Storage.Seal.Of(previous, Number.ToString(CultureInfo.InvariantCulture), At, Who, About, Body);

        /// <summary>The seal of a line that stands for those which were taken away: over the last one's too, from which
        /// the chain goes on.</summary>
        public string SealOfCut => Storage.Seal.Of($"{Number}", At, Body, Seal);

        public StoredRecordLine ToLine(string? damaged = null) =>
            new(Number, TimeOrNever(At), Who, About, Body) { Summary = Cut is not null, Damaged = damaged };
    }

    private sealed record RemovedLines(long Removed, string From, string To);

    public Task<long> AppendRecordAsync(StoredRecordLine line, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                // One writes at a time: the row of the counter is held until the line is there.
                c.Execute("insert into counters (name, value) values ('record', 0) on conflict (name) do nothing");
                c.Execute("update counters set value = value + 1 where name = 'record'");
                var last = c.QuerySingleOrDefault<RecordRow>($"{ReadRecord} order by number desc limit 1");
                var row = new RecordRow(
                    (last?.Number ?? 0) + 1,
                    Text(line.At),
                    line.Who,
                    line.About,
                    line.Body,
                    "",
                    null
                );
                c.Execute(
                    "insert into record (number, at, who, about, body, seal) "
                        + "values (@Number, @At, @Who, @About, @Body, @Seal)",
                    row with
                    {
                        Seal = row.SealAfter(last?.Seal ?? ""),
                    }
                );
                return row.Number;
            },
            ct
        );

    public Task<IReadOnlyList<StoredRecordLine>> RecordAsync(
        string? who,
        string? about,
        DateTimeOffset? since,
        long? before,
        int limit,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredRecordLine>)
                    [
                        .. c.Query<RecordRow>(
                                $"""
                                {ReadRecord} where true
                                {(who is null ? "" : "and who = @who")}
                                {(about is null ? "" : "and about = @about")}
                                {(since is null ? "" : "and at >= @since")}
                                {(before is null ? "" : "and number < @before")}
                                order by number desc limit @limit
                                """,
                                new
                                {
                                    who,
                                    about,
                                    since = since is { } s ? Text(s) : null,
                                    before,
                                    limit,
                                }
                            )
                            .Select(r => r.ToLine()),
                    ],
            ct
        );

    public Task<IReadOnlyList<StoredRecordLine>> RecordAfterAsync(long after, int limit, CancellationToken ct) =>
        ReadAsync(c => (IReadOnlyList<StoredRecordLine>)[.. Followed(c, after, limit)], ct);

    // Each line with what is wrong with it, beginning with the one before the first, from which the chain comes.
    private static IEnumerable<StoredRecordLine> Followed(DbConnection c, long after, int limit)
    {
        var rows = c.Query<RecordRow>(
                $"{ReadRecord} where number > @after order by number limit @limit",
                new { after, limit }
            )
            .ToList();
        var before = c.QuerySingleOrDefault<RecordRow>(
            $"{ReadRecord} where number <= @after order by number desc limit 1",
            new { after }
        );
        foreach (var row in rows)
        {
            yield return row.ToLine(WrongAfter(before, row));
            before = row;
        }
    }

    private static string? WrongAfter(RecordRow? before, RecordRow row)
    {
        if (row.Cut is { } cut)
            return before is not null ? "lines before it are still there"
                : cut == row.SealOfCut ? null
                : "what it says of the lines that were taken away is not what was written";
        if (row.Number != (before?.Number ?? 0) + 1)
            return $"the lines from {(before?.Number ?? 0) + 1} to {row.Number - 1} are missing";
        return row.Seal == row.SealAfter(before?.Seal ?? "")
            ? null
            : "it is not what was written, or does not follow the line before it";
    }

    public Task<int> ForgetRecordAsync(DateTimeOffset before, int most, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                c.Execute("update counters set value = value where name = 'record'");
                // The newest line always stays: the next follows it.
                var old = c.Query<RecordRow>(
                        $"""
                        {ReadRecord} where at < @before and number < (select max(number) from record)
                        order by number limit @most
                        """,
                        new { before = Text(before), most }
                    )
                    .ToList();
                var gone = old.Count(r => r.Cut is null);
                if (gone == 0)
                    return 0;
                var (first, last) = (old[0], old[^1]);
                var earlier = first.Cut is null
                    ? null
                    : JsonSerializer.Deserialize<RemovedLines>(first.Body, Json.Options);
                var row = last with
                {
                    Who = "",
                    About = "",
                    Body = JsonSerializer.Serialize(
                        new RemovedLines((earlier?.Removed ?? 0) + gone, earlier?.From ?? first.At, last.At),
                        Json.Options
                    ),
                };
                c.Execute("delete from record where number < @Number", last);
                c.Execute(
                    "update record set who = @Who, about = @About, body = @Body, cut = @Cut where number = @Number",
                    row with
                    {
                        Cut = row.SealOfCut,
                    }
                );
                return gone;
            },
            ct
        );

    private static IEnumerable<Damage> Record(DbConnection c)
    {
        const int atOnce = 1000;
        for (long after = 0; ; )
        {
            var lines = Followed(c, after, atOnce).ToList();
            foreach (var line in lines.Where(l => l.Damaged is not null))
                yield return new Damage($"record {line.Number}", line.Damaged!);
            if (lines.Count < atOnce)
                break;
            after = lines[^1].Number;
        }
        // Lines cut off at the end leave a chain that is whole; the counter tells how many there were.
        var said = c.ExecuteScalar<long?>("select value from counters where name = 'record'") ?? 0;
        var last = c.ExecuteScalar<long?>("select max(number) from record") ?? 0;
        if (said > last)
            yield return new Damage("record", $"the lines from {last + 1} to {said} are missing");
    }
}
