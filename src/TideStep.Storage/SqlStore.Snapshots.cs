using System.Data.Common;
using Dapper;

namespace TideStep.Storage;

public abstract partial class SqlStore : ISnapshots
{
    private sealed record SnapshotRow(
        string Run,
        long Sequence,
        string Digest,
        string Plan,
        string Shape,
        string Body,
        string Seal
    )
    {
        // By its properties a row is read whatever types an empty answer has.
        public SnapshotRow()
            : this("", 0, "", "", "", "", "") { }

        public string SealOf() => Storage.Seal.Of("snapshot", Run, $"{Sequence}", Digest, Plan, Shape, Body);
    }

    public Task SaveSnapshotAsync(StoredSnapshot snapshot, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                // It hangs on the entry that it was taken after: of another journal it is of no use.
                var digest = c.QuerySingleOrDefault<string>(
                    "select digest from journal where run = @Run and sequence = @Sequence",
                    new { snapshot.Run, snapshot.Sequence }
                );
                if (digest is null)
                    return 0;
                var row = new SnapshotRow(
                    snapshot.Run,
                    snapshot.Sequence,
                    digest,
                    snapshot.Plan,
                    snapshot.Shape,
                    snapshot.Body,
                    ""
                );
                return c.Execute(
                    """
                    insert into run_snapshots (run, sequence, digest, plan, shape, body, seal)
                    values (@Run, @Sequence, @Digest, @Plan, @Shape, @Body, @Seal)
                    on conflict (run) do update set sequence = excluded.sequence, digest = excluded.digest,
                        plan = excluded.plan, shape = excluded.shape, body = excluded.body, seal = excluded.seal
                    """,
                    row with
                    {
                        Seal = row.SealOf(),
                    }
                );
            },
            ct
        );

    private static IEnumerable<Damage> Snapshots(DbConnection c) =>
        c.Query<string>("select run from run_snapshots order by run")
            .ToList()
            .Select(run =>
                c.QuerySingle<SnapshotRow>(
                    "select run, cast(sequence as bigint) as sequence, digest, plan, shape, body, seal "
                        + "from run_snapshots where run = @run",
                    new { run }
                )
            )
            .Where(s => s.Seal != s.SealOf())
            .Select(s => new Damage($"snapshot of run {s.Run}", "it is not what was written", Rebuilt: true));

    public Task<StoredSnapshot?> FindSnapshotAsync(string run, string shape, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QuerySingleOrDefault<SnapshotRow>(
                    """
                    select s.run, cast(s.sequence as bigint) as sequence, s.digest, s.plan, s.shape, s.body, s.seal
                    from run_snapshots s
                        join journal j on j.run = s.run and j.sequence = s.sequence and j.digest = s.digest
                    where s.run = @run and s.shape = @shape
                    """,
                    new { run, shape }
                )
                    is { } row
                && row.Seal == row.SealOf()
                    ? new StoredSnapshot(row.Run, row.Sequence, row.Plan, row.Shape, row.Body)
                    : null,
            ct
        );
}
