using System.Data.Common;
using Dapper;
using Npgsql;

namespace TideStep.Storage;

/// <summary>The stores in PostgreSQL, for several service instances; every unit of work is a transaction.</summary>
public sealed class PostgresStore : SqlStore
{
    private const long MigrationLock = 7420151;

    private readonly NpgsqlDataSource _source;

    public PostgresStore(string connectionText)
    {
        try
        {
            _source = NpgsqlDataSource.Create(connectionText);
            using var connection = _source.OpenConnection();
            using var transaction = connection.BeginTransaction();
            connection.Execute("select pg_advisory_xact_lock(@key)", new { key = MigrationLock });
            Migrate(connection);
            transaction.Commit();
        }
        catch (NpgsqlException e)
        {
            throw new StoreUnavailableException($"the database can't be reached: {e.Message}", e);
        }
        catch (ArgumentException e)
        {
            throw new StoreUnavailableException($"--database is no connection text: {e.Message}", e);
        }
    }

    protected override string ForUpdate => " for update";

    protected override string Among(string column, string list) => $"{column} = any(@{list})";

    protected override string Identity => "bigint generated always as identity primary key";

    protected override Task<T> WriteAsync<T>(Func<DbConnection, T> work, CancellationToken ct, bool single = false) =>
        AskAsync(
            connection =>
            {
                using var transaction = connection.BeginTransaction();
                var value = work(connection);
                transaction.Commit();
                return value;
            },
            ct
        );

    protected override Task<T> ReadAsync<T>(Func<DbConnection, T> work, CancellationToken ct) => AskAsync(work, ct);

    private Task<T> AskAsync<T>(Func<NpgsqlConnection, T> work, CancellationToken ct) =>
        Task.Run(
            () =>
            {
                try
                {
                    using var connection = _source.OpenConnection();
                    return work(connection);
                }
                catch (NpgsqlException e) when (OfTheServer(e))
                {
                    throw new StoreUnavailableException($"the database does not answer as it should: {e.Message}", e)
                    {
                        Full = e.SqlState == PostgresErrorCodes.DiskFull,
                    };
                }
            },
            ct
        );

    // What is wrong with the server, or on the way to it, rather than with what was asked: classes of states as its
    // documentation has them (connection, resources, intervention, system; and one that only reads).
    private static bool OfTheServer(NpgsqlException e) =>
        e is not PostgresException
        || e.SqlState is { Length: 5 } state
            && (state[..2] is "08" or "53" or "57" or "58" || state == PostgresErrorCodes.ReadOnlySqlTransaction);

    public override ValueTask DisposeAsync() => _source.DisposeAsync();
}
