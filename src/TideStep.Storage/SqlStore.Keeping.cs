using System.Data.Common;
using Dapper;

namespace TideStep.Storage;

public abstract partial class SqlStore : IKeeping
{
    public Task<int> ForgetAnswersAsync(DateTimeOffset before, int most, CancellationToken ct) =>
        ForgetAsync("answers", "key in (select key from answers where at < @before limit @most)", before, most, ct);

    public Task<int> ForgetNoticesAsync(DateTimeOffset before, int most, CancellationToken ct) =>
        ForgetAsync(
            "notices",
            $"id in (select id from notices where at < @before and state <> '{StoredNotice.Waiting}' limit @most)",
            before,
            most,
            ct
        );

    // The last word on a run is the time of its last entry.
    private const string EndedBefore =
        "r.ended is not null and (select j.at from journal j where j.run = r.id and j.sequence = r.length) < @before";

    public Task<int> ForgetOutputsAsync(DateTimeOffset before, int most, CancellationToken ct) =>
        ForgetAsync(
            "outputs",
            $"""
            (run, attempt) in (select o.run, o.attempt from outputs o join runs r on r.id = o.run
                where {EndedBefore} or exists (select 1 from archived_runs a where a.run = r.id) limit @most)
            """,
            before,
            most,
            ct
        );

    private Task<int> ForgetAsync(string table, string which, DateTimeOffset before, int most, CancellationToken ct) =>
        WriteAsync(c => c.Execute($"delete from {table} where {which}", new { before = Text(before), most }), ct);

    public Task<int> ForgetRevisionsAsync(string kind, DateTimeOffset before, int most, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                // From the first on, so that what is left begins later and has no gap; never the last.
                var old = c.Query<(string Id, long Revision)>(
                        """
                        select d.id, d.revision from documents d
                            join document_heads h on h.kind = d.kind and h.id = d.id
                        where d.kind = @kind and d.at < @before and d.revision < h.revision
                            and not exists (select 1 from documents e where e.kind = d.kind and e.id = d.id
                                and e.revision < d.revision and e.at >= @before)
                        order by d.id, d.revision limit @most
                        """,
                        new
                        {
                            kind,
                            before = Text(before),
                            most,
                        }
                    )
                    .ToList();
                foreach (var (id, revision) in old)
                {
                    c.Execute(
                        "delete from documents where kind = @kind and id = @id and revision = @revision",
                        new
                        {
                            kind,
                            id,
                            revision,
                        }
                    );
                    c.Execute(
                        "update document_heads set first = @next where kind = @kind and id = @id "
                            + "and first <= @revision",
                        new
                        {
                            kind,
                            id,
                            revision,
                            next = revision + 1,
                        }
                    );
                }
                return old.Count;
            },
            ct
        );

    public Task<IReadOnlyList<string>> EndedBeforeAsync(
        DateTimeOffset before,
        string after,
        int most,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<string>)
                    [
                        .. c.Query<string>(
                            $"""
                            select r.id from runs r where r.id > @after and {EndedBefore}
                                and not exists (select 1 from archived_runs a where a.run = r.id)
                            order by r.id limit @most
                            """,
                            new
                            {
                                before = Text(before),
                                after,
                                most,
                            }
                        ),
                    ],
            ct
        );

    public Task ArchiveAsync(StoredArchive archive, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                var row = ArchiveRow.Of(archive);
                return c.Execute(
                    """
                    insert into archived_runs (run, at, report, words_of_report, line, words, trace, seal)
                    values (@Run, @At, @Report, @Words_of_report, @Line, @Words, @Trace, @Seal)
                    on conflict (run) do nothing
                    """,
                    row with
                    {
                        Seal = row.SealOf(),
                    }
                );
            },
            ct
        );

    private sealed record ArchiveRow(
        string Run,
        string At,
        string Report,
        string Words_of_report,
        string Line,
        string Words,
        string Trace,
        string Seal
    )
    {
        public static ArchiveRow Of(StoredArchive a) =>
            new(a.Run, Text(a.At), a.Report, a.WordsOfReport, a.Line, a.Words, a.Trace, "");

        // Those of before traces were kept have their seal without one.
        public string SealOf() =>
            Trace.Length == 0
                ? Storage.Seal.Of("archive", Run, At, Report, Words_of_report, Line, Words)
                : Storage.Seal.Of("archive", Run, At, Report, Words_of_report, Line, Words, Trace);

        public StoredArchive ToArchive() =>
            Seal == SealOf()
                ? new(Run, Time(At), Report, Words_of_report, Line, Words, Trace)
                : throw new DamagedRecordException($"the archive of run {Run} is not what was written");
    }

    public Task<StoredArchive?> FindArchiveAsync(string run, CancellationToken ct) =>
        ReadAsync(c => ArchiveOf(c, run)?.ToArchive(), ct);

    private const string ArchiveColumns = "run, at, report, words_of_report, line, words, trace, seal";

    private static ArchiveRow? ArchiveOf(DbConnection c, string run) =>
        c.QuerySingleOrDefault<ArchiveRow>($"select {ArchiveColumns} from archived_runs where run = @run", new { run });

    public Task<int> ForgetEntriesAsync(int most, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    """
                    delete from journal where position in (select j.position from archived_runs a
                        join journal j on j.run = a.run limit @most)
                    """,
                    new { most }
                ),
            ct
        );
}
