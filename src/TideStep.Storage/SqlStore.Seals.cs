using System.Data.Common;
using Dapper;

namespace TideStep.Storage;

public abstract partial class SqlStore
{
    // The schema that seals came with.
    private const long SealsSince = 4;
    private const int SealedAtOnce = 10_000;

    // What stands there when seals come is taken as what was written: nothing tells otherwise.
    private static void SealAll(DbConnection c)
    {
        foreach (var run in c.Query<RunRow>($"select {RunColumns} from runs").ToList())
            SealRun(c, run);
        foreach (
            var (kind, id, revision) in c.Query<(string, string, long)>("select kind, id, revision from documents")
                .ToList()
        )
        {
            var row = c.QuerySingle<DocumentRow>(
                $"{WithHead} where kind = @kind and id = @id and revision = @revision",
                new
                {
                    kind,
                    id,
                    revision,
                }
            );
            c.Execute(
                "update documents set seal = @seal where kind = @kind and id = @id and revision = @revision",
                new
                {
                    kind,
                    id,
                    revision,
                    seal = row.SealOf(),
                }
            );
        }
        foreach (var digest in c.Query<string>("select digest from plans").ToList())
        {
            var row = c.QuerySingle<PlanRow>($"select {PlanColumns} from plans where digest = @digest", new { digest });
            c.Execute("update plans set seal = @seal where digest = @digest", new { digest, seal = row.SealOf() });
        }
        c.Execute(
            "insert into document_heads (kind, id, revision, first) select kind, id, max(revision), min(revision) "
                + "from documents group by kind, id"
        );
        foreach (var (run, attempt) in c.Query<(string, string)>("select run, attempt from outputs").ToList())
        {
            var body = c.QuerySingle<string>(
                "select body from outputs where run = @run and attempt = @attempt",
                new { run, attempt }
            );
            c.Execute(
                "update outputs set seal = @seal where run = @run and attempt = @attempt",
                new
                {
                    run,
                    attempt,
                    seal = Seal.Of("output", run, attempt, body),
                }
            );
        }
    }

    private static void SealRun(DbConnection c, RunRow run)
    {
        var (last, digest) = (0L, "");
        while (true)
        {
            var rows = c.Query<EntryRow>(
                    "select sequence, epoch, at, event, digest from journal where run = @Id and sequence > @last "
                        + "order by sequence limit @SealedAtOnce",
                    new
                    {
                        run.Id,
                        last,
                        SealedAtOnce,
                    }
                )
                .ToList();
            foreach (var row in rows)
            {
                (last, digest) = (row.Sequence, Digest(digest, run.Id, row));
                c.Execute(
                    "update journal set digest = @digest where run = @Id and sequence = @last",
                    new
                    {
                        run.Id,
                        last,
                        digest,
                    }
                );
            }
            if (rows.Count < SealedAtOnce)
                break;
        }
        c.Execute(
            "update runs set length = @last, head = @digest, seal = @seal where id = @Id",
            new
            {
                run.Id,
                last,
                digest,
                seal = run.SealOf(),
            }
        );
    }
}
