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
    protected override string Identity => "bigint generated always as identity primary key";

    protected override Task<T> WriteAsync<T>(Func<DbConnection, T> work, CancellationToken ct, bool single = false) =>
        Task.Run(
            () =>
            {
                try
                {
                    using var connection = _source.OpenConnection();
                    using var transaction = connection.BeginTransaction();
                    var value = work(connection);
                    transaction.Commit();
                    return value;
                }
                catch (NpgsqlException e) when (e is not PostgresException)
                {
                    throw new StoreUnavailableException($"the database can't be reached: {e.Message}", e);
                }
            },
            ct
        );

    protected override Task<T> ReadAsync<T>(Func<DbConnection, T> work, CancellationToken ct) =>
        Task.Run(
            () =>
            {
                using var connection = _source.OpenConnection();
                return work(connection);
            },
            ct
        );

    public override ValueTask DisposeAsync() => _source.DisposeAsync();
}
