using System.Data.Common;
using Dapper;
using Microsoft.Data.Sqlite;
using Npgsql;

namespace TideStep.Storage;

/// <summary>Copies of a whole database, in the form of an SQLite file whatever it comes from and goes to: for backups,
/// and to move from one kind of database to the other.</summary>
public static class StoreCopy
{
    private static readonly string[] Tables =
    [
        "settings",
        "counters",
        "plans",
        "documents",
        "document_heads",
        "runs",
        "journal",
        "archived_runs",
        "reservations",
        "outputs",
        "answers",
        "notices",
        "run_lines",
        "run_snapshots",
        "run_traces",
        "access",
        "record",
    ];

    /// <summary>How far epochs are raised where a copy takes the place of what it was copied from: above all that were
    /// given after the copy was made, so that nobody who still holds one can write.</summary>
    private const long EpochsAbove = 1_000_000;

    /// <summary>Opens an SQLite file to look at it, also while a service works on it.</summary>
    /// <exception cref="StoreUnavailableException">There is none, or it can't be opened.</exception>
    public static DbConnection OpenFile(string path)
    {
        if (!File.Exists(path))
            throw new StoreUnavailableException($"there is no database {path}");
        return Opened(
            new SqliteConnection(
                new SqliteConnectionStringBuilder
                {
                    DataSource = path,
                    Mode = SqliteOpenMode.ReadOnly,
                    Pooling = false,
                }.ToString()
            )
        );
    }

    /// <summary>Opens a PostgreSQL database to look at it.</summary>
    /// <exception cref="StoreUnavailableException">It can't be reached.</exception>
    public static DbConnection OpenServer(string connectionText)
    {
        try
        {
            return Opened(new NpgsqlConnection(connectionText));
        }
        catch (ArgumentException e)
        {
            throw new StoreUnavailableException($"--database is no connection text: {e.Message}", e);
        }
    }

    private static DbConnection Opened(DbConnection connection)
    {
        try
        {
            connection.Open();
            return connection;
        }
        catch (DbException e)
        {
            connection.Dispose();
            throw new StoreUnavailableException($"the database can't be opened: {e.Message}", e);
        }
    }

    /// <summary>Writes a copy as it stands at one moment, whatever is written meanwhile.</summary>
    /// <param name="from">The database.</param>
    /// <param name="path">A file that is not there yet.</param>
    /// <exception cref="StoreUnavailableException">It is no database of this schema.</exception>
    public static async Task WriteAsync(DbConnection from, string path)
    {
        SqlStore.RefuseOtherSchema(from);
        if (from is SqliteConnection)
        {
            from.Execute("vacuum into @path", new { path });
            return;
        }
        await using (new SqliteStore(path)) { } // makes the schema
        File.Delete(SqliteStore.LockOf(path));
        using var to = OpenToWrite(path);
        using var moment = from.BeginTransaction(System.Data.IsolationLevel.RepeatableRead);
        using var whole = to.BeginTransaction();
        foreach (var table in Tables)
            Copy(from, to, table);
        whole.Commit();
        to.Execute("pragma journal_mode = delete"); // one file is all of it
    }

    /// <summary>Puts a copy where an empty database is, under epochs above all of before.</summary>
    /// <param name="path">The copy.</param>
    /// <param name="connectionText">A PostgreSQL database that holds nothing of Tide Step yet.</param>
    /// <exception cref="StoreUnavailableException">It holds something, or can't be reached.</exception>
    public static async Task ToServerAsync(string path, string connectionText)
    {
        await using (new PostgresStore(connectionText)) { } // makes the schema
        using var to = OpenServer(connectionText);
        using var whole = to.BeginTransaction();
        if (to.ExecuteScalar<long>("select (select count(*) from runs) + (select count(*) from documents)") > 0)
            throw new StoreUnavailableException("the database holds something already: name one that is empty");
        using var from = OpenFile(path);
        foreach (var table in Tables)
            Copy(from, to, table);
        to.Execute(
            "select setval(pg_get_serial_sequence('journal', 'position'), (select max(position) from journal)) "
                + "where exists (select 1 from journal)"
        );
        Above(to);
        whole.Commit();
    }

    /// <summary>Puts a copy into a file that is not there yet, under epochs above all of before.</summary>
    public static void ToFile(string path, string target)
    {
        File.Copy(path, target, overwrite: false);
        using var to = OpenToWrite(target);
        Above(to);
    }

    private static void Above(DbConnection to) =>
        to.Execute("update counters set value = value + @EpochsAbove where name = 'epoch'", new { EpochsAbove });

    private static SqliteConnection OpenToWrite(string path) =>
        (SqliteConnection)Opened(new SqliteConnection($"Data Source={path};Pooling=False"));

    private static void Copy(DbConnection from, DbConnection to, string table)
    {
        to.Execute($"delete from {table}");
        using var reader = from.ExecuteReader($"select * from {table}");
        var columns = Enumerable.Range(0, reader.FieldCount).Select(reader.GetName).ToList();
        // The numbers of rows stay what they are: marks on far sides and positions of readers name them.
        var own = to is NpgsqlConnection && table == "journal" ? " overriding system value" : "";
        using var insert = to.CreateCommand();
        insert.CommandText =
            $"insert into {table} ({string.Join(", ", columns)}){own} values "
            + $"({string.Join(", ", columns.Select((_, i) => $"@p{i}"))})";
        foreach (var i in Enumerable.Range(0, columns.Count))
        {
            var parameter = insert.CreateParameter();
            parameter.ParameterName = $"@p{i}";
            insert.Parameters.Add(parameter);
        }
        while (reader.Read())
        {
            for (var i = 0; i < columns.Count; i++)
                insert.Parameters[i].Value = reader.GetValue(i);
            insert.ExecuteNonQuery();
        }
    }
}
