using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace TideStep.Storage;

/// <summary>A statement that stays prepared for one connection: of the few that every append needs the way through a
/// command and a reader costs as much as the statement itself.</summary>
internal sealed class SqliteStatement : IDisposable
{
    private const uint KeptLong = 1; // SQLITE_PREPARE_PERSISTENT
    private readonly sqlite3 _database;
    private readonly sqlite3_stmt _statement;

    /// <exception cref="SqliteException">The text is no statement here.</exception>
    public SqliteStatement(SqliteConnection connection, string text)
    {
        _database = connection.Handle!;
        Expect(raw.sqlite3_prepare_v3(_database, text, KeptLong, out _statement), raw.SQLITE_OK);
    }

    /// <summary>Does it; parameters are numbered from 1 in the order in which their names first stand in the
    /// text.</summary>
    /// <returns>How many rows were written.</returns>
    /// <exception cref="SqliteException">What the database says against it.</exception>
    public int Write(params ReadOnlySpan<object> parameters)
    {
        Bind(parameters);
        try
        {
            Expect(raw.sqlite3_step(_statement), raw.SQLITE_DONE);
        }
        finally
        {
            raw.sqlite3_reset(_statement);
        }
        return raw.sqlite3_changes(_database);
    }

    /// <summary>The number in the first column of its first row; 0 where that holds none.</summary>
    /// <exception cref="SqliteException">What the database says against it.</exception>
    public long Number()
    {
        try
        {
            Expect(raw.sqlite3_step(_statement), raw.SQLITE_ROW);
            return raw.sqlite3_column_int64(_statement, 0);
        }
        finally
        {
            raw.sqlite3_reset(_statement);
        }
    }

    /// <summary>The text in the first column of its first row; null where there is no row.</summary>
    /// <inheritdoc cref="Write"/>
    public string? Text(params ReadOnlySpan<object> parameters)
    {
        Bind(parameters);
        try
        {
            var said = raw.sqlite3_step(_statement);
            if (said == raw.SQLITE_DONE)
                return null;
            Expect(said, raw.SQLITE_ROW);
            return raw.sqlite3_column_text(_statement, 0).utf8_to_string();
        }
        finally
        {
            raw.sqlite3_reset(_statement);
        }
    }

    private void Bind(ReadOnlySpan<object> parameters)
    {
        for (var i = 0; i < parameters.Length; i++)
            Expect(
                parameters[i] is long number
                    ? raw.sqlite3_bind_int64(_statement, i + 1, number)
                    : raw.sqlite3_bind_text(_statement, i + 1, (string)parameters[i]),
                raw.SQLITE_OK
            );
    }

    private void Expect(int said, int expected)
    {
        if (said != expected)
            throw new SqliteException(
                $"SQLite error {said}: '{raw.sqlite3_errmsg(_database).utf8_to_string()}'.",
                said & 0xff,
                raw.sqlite3_extended_errcode(_database)
            );
    }

    public void Dispose() => _statement.Dispose();
}
