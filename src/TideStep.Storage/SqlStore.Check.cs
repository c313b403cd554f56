using System.Data.Common;
using System.Text.Json;
using Dapper;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Storage;

/// <summary>Something that is kept and is not what was written.</summary>
/// <param name="Of">What it belongs to, as in <c>run r1</c>, <c>plan sha256:...</c>, <c>document estate/estate</c>,
/// <c>notices</c>, <c>database</c>.</param>
/// <param name="What">What is wrong with it.</param>
/// <param name="Rebuilt">Whether it is a copy that is made anew by itself.</param>
public sealed record Damage(string Of, string What, bool Rebuilt = false);

public abstract partial class SqlStore
{
    private const int MostMissing = 20; // more are told together

    /// <summary>Walks everything that is kept; changes nothing.</summary>
    /// <param name="c">A connection to a database of this program's schema; reading is enough.</param>
    /// <exception cref="StoreUnavailableException">The schema is an older or a newer one.</exception>
    public static IEnumerable<Damage> Check(DbConnection c)
    {
        RefuseOtherSchema(c);
        return
        [
            .. Try("runs", () => Runs(c)),
            .. Try("plans", () => Plans(c)),
            .. Try("documents", () => Documents(c)),
            .. Try("outputs", () => Outputs(c)),
            .. Try("notices", () => Texts(c, "notices", "id", "body", "at", "next_at")),
            .. Try("answers", () => Texts(c, "answers", "key", "body", "at")),
            .. Try("list of runs", () => Texts(c, "run_lines", "run", "body").Select(d => d with { Rebuilt = true })),
            .. Try("traces of runs", () => Traces(c)),
            .. Try("snapshots of runs", () => Snapshots(c)),
            .. Try("reservations", () => Reservations(c)),
            .. Try("counters", () => Counters(c)),
            .. Try("people and programs", () => Access(c)),
            .. Try("record", () => Record(c)),
        ];
    }

    internal static void RefuseOtherSchema(DbConnection c)
    {
        if (SchemaOf(c) is var schema && schema != Newest)
            throw new StoreUnavailableException(
                schema > Newest
                    ? $"the database was written by a newer Tide Step: its schema is {schema}, this program "
                        + $"knows {Newest}"
                    : $"the database's schema is {schema}, this program's {Newest}: start the service once, which "
                        + $"brings it up to date"
            );
    }

    private static long SchemaOf(DbConnection c)
    {
        try
        {
            return c.ExecuteScalar<long?>("select max(number) from schema_versions") ?? 0;
        }
        catch (DbException e)
        {
            throw new StoreUnavailableException($"this is no database of Tide Step: {e.Message}", e);
        }
    }

    // What can't even be read is named, and the rest is looked at all the same.
    private static List<Damage> Try(string of, Func<IEnumerable<Damage>> look)
    {
        try
        {
            return [.. look()];
        }
        catch (Exception e) when (e is DbException or DamagedRecordException)
        {
            return [new Damage(of, $"can't be read: {e.Message}")];
        }
        catch (Exception e) when (Unreadable(e))
        {
            return [new Damage(of, $"can't be read: {e.Message}")];
        }
    }

    private static IEnumerable<Damage> Runs(DbConnection c)
    {
        foreach (var id in c.Query<string>("select id from runs order by id").ToList())
        foreach (var damage in Try($"run {id}", () => Run(c, id)))
            yield return damage;
        foreach (
            var (run, entries) in c.Query<(string, long)>(
                "select run, count(*) from journal where run not in (select id from runs) group by run"
            )
        )
            yield return new Damage($"run {run}", $"its row is missing; {entries} of its entries are there");
    }

    private static IEnumerable<Damage> Run(DbConnection c, string id)
    {
        var run = c.QuerySingle<RunRow>($"select {RawRunColumns} from runs where id = @id", new { id }).ToRun();
        if (run.Damaged is { } damaged)
            yield return new Damage($"run {id}", damaged);
        if (c.ExecuteScalar<long>("select count(*) from plans where digest = @Plan", new { run.Plan }) == 0)
            yield return new Damage($"run {id}", $"its plan {run.Plan} is missing");
        if (ArchiveOf(c, id) is { } archive)
        {
            archive.ToArchive();
            yield break;
        }
        var entries = Entries(c, id, 0);
        if (
            entries is not [{ Event: Opened opened }, ..]
            || opened.Plan != run.Plan
            || opened.Parent != run.Parent
            // A child's row was written with a moment of its own once, some microseconds before its first entry's.
            || (run.Parent is null ? entries[0].At != run.OpenedAt : entries[0].At < run.OpenedAt)
        )
            yield return new Damage($"run {id}", "its row is not the one of its journal");
        var ended = entries.Select(e => e.Event).OfType<Ended>().LastOrDefault() is { } end
            ? RunReport.EndWord(end.End)
            : null;
        if (ended != run.Ended)
            yield return new Damage($"run {id}", $"its row says {run.Ended ?? "open"}, its journal {ended ?? "open"}");
        if (entries.Max(e => e.Epoch) is var epoch && epoch > run.Epoch)
            yield return new Damage($"run {id}", $"its row has epoch {run.Epoch}, its journal {epoch}");
    }

    private static IEnumerable<Damage> Plans(DbConnection c) =>
        c.Query<string>("select digest from plans order by digest")
            .ToList()
            .SelectMany(digest => Try($"plan {digest}", () =>
                {
                    var plan = c.QuerySingle<PlanRow>(
                            $"select {PlanColumns} from plans where digest = @digest",
                            new { digest }
                        )
                        .ToPlan();
                    if (plan.Damaged is { } damaged)
                        return [new Damage($"plan {digest}", damaged)];
                    KeptShape.First.Read<Plan>(plan.Body);
                    return [];
                }));

    private static IEnumerable<Damage> Documents(DbConnection c)
    {
        foreach (
            var (kind, id, revision) in c.Query<(string, string, long)>(
                    "select kind, id, revision from documents order by kind, id, revision"
                )
                .ToList()
        )
        foreach (var damage in Try($"document {kind}/{id}", () => c.QuerySingle<DocumentRow>(
                        $"{WithHead} where kind = @kind and id = @id and revision = @revision",
                        new
                        {
                            kind,
                            id,
                            revision,
                        }
                    )
                    .ToDocument()
                    .Damaged
                    is { } damaged
                    ? [new Damage($"document {kind}/{id}", damaged)]
                    : []))
            yield return damage;
        // From the first that is still kept to the last one every revision is there.
        foreach (
            var (kind, id, first, last) in c.Query<(string, string, long, long)>(
                    "select kind, id, first, revision from document_heads order by kind, id"
                )
                .ToList()
        )
        {
            var there = c.Query<long>(
                    "select revision from documents where kind = @kind and id = @id",
                    new { kind, id }
                )
                .ToHashSet();
            if (last - first >= there.Count + MostMissing)
                yield return new Damage($"document {kind}/{id}", $"its revisions {first} to {last} are not all there");
            else
                for (var revision = first; revision <= last; revision++)
                    if (!there.Remove(revision))
                        yield return new Damage($"document {kind}/{id}", Missing(kind, id, revision));
            foreach (var more in there.Where(r => r < first || r > last))
                yield return new Damage($"document {kind}/{id}", $"nothing is known of revision {more}");
        }
        foreach (
            var (kind, id) in c.Query<(string, string)>(
                "select distinct kind, id from documents d where not exists (select 1 from document_heads h where "
                    + "d.kind = h.kind and d.id = h.id)"
            )
        )
            yield return new Damage($"document {kind}/{id}", Missing(kind, id, null));
    }

    private static IEnumerable<Damage> Outputs(DbConnection c) =>
        c.Query<(string Run, string Attempt)>("select run, attempt from outputs order by run, attempt")
            .ToList()
            .SelectMany(o => Try($"output {o.Run}/{o.Attempt}", () =>
                {
                    OutputOf(c, o.Run, o.Attempt);
                    return [];
                }));

    private static IEnumerable<Damage> Texts(
        DbConnection c,
        string table,
        string key,
        string json,
        params string[] times
    )
    {
        foreach (var id in c.Query<string>($"select {key} from {table} order by {key}").ToList())
        foreach (var damage in Try($"{table} {id}", () =>
            {
                using var read = JsonDocument.Parse(
                    c.QuerySingle<string>($"select {json} from {table} where {key} = @id", new { id })
                );
                foreach (var time in times)
                    Time(c.QuerySingle<string>($"select {time} from {table} where {key} = @id", new { id }));
                return [];
            }))
            yield return damage;
    }

    private static IEnumerable<Damage> Reservations(DbConnection c) =>
        c.Query<(string Subject, string Run, string? Ended)>(
                "select v.subject, v.run, r.ended from reservations v left join runs r on r.id = v.run "
                    + "where r.id is null or r.ended is not null"
            )
            .Select(r =>
                r.Ended is null
                    ? new Damage($"reservation {r.Subject}", $"run {r.Run}, which holds it, is not there")
                    : new Damage($"reservation {r.Subject}", $"run {r.Run}, which held it, has ended", Rebuilt: true)
            );

    private static IEnumerable<Damage> Counters(DbConnection c)
    {
        var epoch = c.ExecuteScalar<long?>("select value from counters where name = 'epoch'") ?? 0;
        if (epoch < c.ExecuteScalar<long?>("select max(epoch) from runs"))
            yield return new Damage("counters", "epochs were given that are above the last one", Rebuilt: true);
        var read = c.ExecuteScalar<long?>("select value from counters where name = 'notices'");
        if (read is null || read > (c.ExecuteScalar<long?>(LastText) ?? 0))
            yield return new Damage("counters", "how far notices were made is not known", Rebuilt: true);
    }
}
