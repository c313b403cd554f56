using Dapper;

namespace TideStep.Storage;

public abstract partial class SqlStore : IRunLines
{
    public Task<IReadOnlyList<(StoredRun Run, long Last, StoredRunLine? Line)>> LinesAsync(
        int limit,
        string? after,
        DateTimeOffset? before,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<(StoredRun, long, StoredRunLine?)>)
                    [
                        .. c.Query<LineRow>(
                                $"""
                                select r.id, r.plan, r.parent, r.opened_at, cast(r.epoch as bigint) as epoch, r.owner,
                                    r.ended,
                                    r.seal,
                                    cast(r.length as bigint) as last,
                                    cast(case when a.run is null then l.sequence else r.length end as bigint)
                                        as sequence,
                                    coalesce(a.line, l.body) as body, coalesce(a.words, l.words) as words
                                from runs r left join run_lines l on l.run = r.id
                                    left join archived_runs a on a.run = r.id
                                where {Behind(after)} {(before is null ? "" : "and r.opened_at < @before")}
                                {NewestRunsFirst}
                                """,
                                new
                                {
                                    limit,
                                    after,
                                    before = before is { } b ? Text(b) : null,
                                }
                            )
                            .Select(r => r.ToLine()),
                    ],
            ct
        );

    public Task SaveLineAsync(StoredRunLine line, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    """
                    insert into run_lines (run, sequence, body, words) values (@Run, @Sequence, @Body, @Words)
                    on conflict (run) do update set sequence = excluded.sequence, body = excluded.body,
                        words = excluded.words
                    where excluded.sequence >= run_lines.sequence
                    """,
                    line
                ),
            ct
        );

    public Task<int> ForgetRowsAsync(CancellationToken ct) =>
        WriteAsync(
            c => new[] { "run_lines", "run_traces", "run_snapshots" }.Sum(t => c.Execute($"delete from {t}")),
            ct
        );

    private sealed class LineRow
    {
        public string Id { get; set; } = "";
        public string Plan { get; set; } = "";
        public string? Parent { get; set; }
        public string Opened_at { get; set; } = "";
        public long Epoch { get; set; }
        public string? Owner { get; set; }
        public string? Ended { get; set; }
        public string Seal { get; set; } = "";
        public long? Last { get; set; }
        public long? Sequence { get; set; }
        public string? Body { get; set; }
        public string? Words { get; set; }

        public (StoredRun, long, long?) ToTraced() => (ToRun(), Last ?? 0, Sequence);

        private StoredRun ToRun() => new RunRow(Id, Plan, Parent, Opened_at, Epoch, Owner, Ended, Seal).ToRun();

        public (StoredRun, long, StoredRunLine?) ToLine() =>
            (ToRun(), Last ?? 0, Sequence is { } sequence ? new StoredRunLine(Id, sequence, Body!, Words!) : null);
    }
}
