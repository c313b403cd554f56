using System.Data.Common;
using Dapper;

namespace TideStep.Storage;

public abstract partial class SqlStore : IAccessStore
{
    private const string ReadAccess = "select kind, id, cast(revision as bigint) as revision, body, seal from access";

    private sealed record AccessRow(string Kind, string Id, long Revision, string Body, string Seal)
    {
        public AccessRow()
            : this("", "", 0, "", "") { }

        public StoredAccess ToAccess() =>
            ToStored() is { Damaged: false } whole
                ? whole
                : throw new DamagedRecordException($"{Kind} {Id} was changed");

        public StoredAccess ToStored() =>
            new StoredAccess(Kind, Id, Revision, Body) is var its && Seal == SealOf(its)
                ? its
                : its with
                {
                    Damaged = true,
                };
    }

    private static string SealOf(StoredAccess row) => Seal.Of(row.Kind, row.Id, $"{row.Revision}", row.Body);

    public Task<IReadOnlyList<StoredAccess>> AccessAsync(string kind, CancellationToken ct) =>
        ReadAsync(
            c =>
                (IReadOnlyList<StoredAccess>)
                    [
                        .. c.Query<AccessRow>($"{ReadAccess} where kind = @kind order by id", new { kind })
                            .Select(r => r.ToStored()),
                    ],
            ct
        );

    public Task<StoredAccess?> FindAccessAsync(string kind, string id, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QuerySingleOrDefault<AccessRow>($"{ReadAccess} where kind = @kind and id = @id", new { kind, id })
                    ?.ToAccess(),
            ct
        );

    public Task<bool> SaveAccessAsync(StoredAccess row, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    row.Revision == 1
                        ? """
                        insert into access (kind, id, revision, body, seal)
                        values (@Kind, @Id, @Revision, @Body, @seal) on conflict (kind, id) do nothing
                        """
                        : """
                        update access set revision = @Revision, body = @Body, seal = @seal
                        where kind = @Kind and id = @Id and revision = @Revision - 1
                        """,
                    new
                    {
                        row.Kind,
                        row.Id,
                        row.Revision,
                        row.Body,
                        seal = SealOf(row),
                    }
                ) == 1,
            ct
        );

    public Task ForgetAccessAsync(string kind, string id, CancellationToken ct) =>
        WriteAsync(c => c.Execute("delete from access where kind = @kind and id = @id", new { kind, id }), ct);

    private static IEnumerable<Damage> Access(DbConnection c) =>
        c.Query<AccessRow>($"{ReadAccess} order by kind, id")
            .ToList()
            .SelectMany(row => Try($"{row.Kind} {row.Id}", () =>
                {
                    row.ToAccess();
                    return [];
                }));
}
