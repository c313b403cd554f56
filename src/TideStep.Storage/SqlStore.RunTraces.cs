using System.Data.Common;
using Dapper;

namespace TideStep.Storage;

public abstract partial class SqlStore : IRunTraces
{
    // What an archived run left is what it left for good.
    public Task<IReadOnlyList<(StoredRun Run, long Last, long? Traced)>> TracedAsync(
        int limit,
        string? after,
        string shape,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<(StoredRun, long, long?)>)
                    [
                        .. c.Query<LineRow>(
                                $"""
                                select r.id, r.plan, r.parent, r.opened_at, cast(r.epoch as bigint) as epoch, r.owner,
                                    r.ended, r.seal, cast(r.length as bigint) as last,
                                    cast(case when a.run is null then t.sequence else r.length end as bigint)
                                        as sequence
                                from runs r left join run_traces t on t.run = r.id and t.shape = @shape
                                    left join archived_runs a on a.run = r.id
                                where {Behind(after)} {NewestRunsFirst}
                                """,
                                new
                                {
                                    limit,
                                    after,
                                    shape,
                                }
                            )
                            .Select(r => r.ToTraced()),
                    ],
            ct
        );

    private sealed record TraceRow(string Run, long Sequence, string Shape, string Body, string Seal)
    {
        // By its properties a row is read whatever types an empty answer has.
        public TraceRow()
            : this("", 0, "", "", "") { }

        public string SealOf() => Storage.Seal.Of("trace", Run, $"{Sequence}", Shape, Body);
    }

    private static IEnumerable<Damage> Traces(DbConnection c) =>
        c.Query<string>("select run from run_traces order by run")
            .ToList()
            .Select(run =>
                c.QuerySingle<TraceRow>($"select {TraceColumns} from run_traces where run = @run", new { run })
            )
            .Where(t => t.Seal != t.SealOf())
            .Select(t => new Damage($"trace of run {t.Run}", "it is not what was written", Rebuilt: true));

    private const string TraceColumns = "run, cast(sequence as bigint) as sequence, shape, body, seal";

    public Task<IReadOnlyList<(string Run, string Body)>> FindTracesAsync(
        IReadOnlyCollection<string> runs,
        CancellationToken ct
    ) =>
        ReadAsync(
            c =>
                (IReadOnlyList<(string, string)>)
                    [
                        .. c.Query<ArchiveRow>(
                                $"select {ArchiveColumns} from archived_runs where {Among("run", nameof(runs))}",
                                new { runs = runs.ToArray() }
                            )
                            .Where(a => a.Trace.Length > 0 && a.Seal == a.SealOf())
                            .Select(a => (a.Run, a.Trace))
                            .Concat(
                                c.Query<TraceRow>(
                                        $"select {TraceColumns} from run_traces where {Among("run", nameof(runs))}",
                                        new { runs = runs.ToArray() }
                                    )
                                    .Where(t => t.Seal == t.SealOf())
                                    .Select(t => (t.Run, t.Body))
                            )
                            .DistinctBy(t => t.Item1),
                    ],
            ct
        );

    public Task SaveTraceAsync(StoredRunTrace trace, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                var row = new TraceRow(trace.Run, trace.Sequence, trace.Shape, trace.Body, "");
                return c.Execute(
                    """
                    insert into run_traces (run, sequence, shape, body, seal)
                    values (@Run, @Sequence, @Shape, @Body, @Seal)
                    on conflict (run) do update set sequence = excluded.sequence, shape = excluded.shape,
                        body = excluded.body, seal = excluded.seal
                    where excluded.sequence >= run_traces.sequence
                    """,
                    row with
                    {
                        Seal = row.SealOf(),
                    }
                );
            },
            ct
        );
}
