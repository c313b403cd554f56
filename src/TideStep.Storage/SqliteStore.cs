using System.Data.Common;
using System.Threading.Channels;
using Microsoft.Data.Sqlite;

namespace TideStep.Storage;

/// <summary>The stores in one SQLite file (WAL, synchronous=FULL). One writer task commits all waiting units of work together, so that many appends share one flush.</summary>
public sealed class SqliteStore : SqlStore
{
    private const int GroupLimit = 512;

    private readonly string _connectionText;
    private readonly SqliteConnection _writer;
    private readonly Channel<Unit> _queue = Channel.CreateUnbounded<Unit>(new UnboundedChannelOptions { SingleReader = true });
    private readonly Task _writing;
    private readonly FileStream? _lock;

    private sealed record Unit(Func<DbConnection, object?> Work, TaskCompletionSource<object?> Done, bool Single);

    /// <summary>Opens or makes the file; a second process on the same file is refused.</summary>
    /// <exception cref="StoreUnavailableException">Another service has the file, or it can't be opened.</exception>
    public SqliteStore(string path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Path.GetFullPath(path))!);
        try { _lock = new FileStream(path + ".lock", FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None); }
        catch (IOException e) { throw new StoreUnavailableException($"another Tide Step service is using {path}; stop it, or give this one a data folder of its own", e); }
        _connectionText = new SqliteConnectionStringBuilder { DataSource = path, Pooling = true, DefaultTimeout = 30 }.ToString();
        try
        {
            _writer = Open();
            Execute("pragma journal_mode=wal");
            Execute("begin immediate");
            Migrate(_writer);
            Execute("commit");
        }
        catch (SqliteException e)
        {
            _lock.Dispose();
            throw new StoreUnavailableException($"the database {path} can't be opened: {e.Message}", e);
        }
        _writing = Task.Run(WriteLoopAsync);
    }

    protected override string ForUpdate => "";
    protected override string Identity => "integer primary key autoincrement";

    private SqliteConnection Open()
    {
        var connection = new SqliteConnection(_connectionText);
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = "pragma synchronous=full; pragma foreign_keys=on";
        command.ExecuteNonQuery();
        return connection;
    }

    private readonly Dictionary<string, SqliteCommand> _prepared = [];

    private SqliteCommand Prepared(string sql, params ReadOnlySpan<string> parameters)
    {
        if (_prepared.TryGetValue(sql, out var known)) return known;
        var command = _writer.CreateCommand();
        command.CommandText = sql;
        foreach (var name in parameters) command.Parameters.Add(new SqliteParameter { ParameterName = name, Value = DBNull.Value });
        return _prepared[sql] = command;
    }

    // The writer's own few statements are kept prepared: at a flush of some tens of microseconds parsing them again would cost as much as the flush.
    private void Execute(string sql) => Prepared(sql).ExecuteNonQuery();

    protected override bool AppendOne(DbConnection c, string run, long epoch, long sequence, string at, string body)
    {
        var command = Prepared(AppendText, "@run", "@sequence", "@epoch", "@at", "@body");
        (command.Parameters[0].Value, command.Parameters[1].Value, command.Parameters[2].Value, command.Parameters[3].Value, command.Parameters[4].Value) = (run, sequence, epoch, at, body);
        return command.ExecuteNonQuery() == 1;
    }

    protected override async Task<T> WriteAsync<T>(Func<DbConnection, T> work, CancellationToken ct, bool single = false)
    {
        ct.ThrowIfCancellationRequested();
        var unit = new Unit(c => work(c), new TaskCompletionSource<object?>(TaskCreationOptions.RunContinuationsAsynchronously), single);
        if (!_queue.Writer.TryWrite(unit)) throw new ObjectDisposedException(nameof(SqliteStore));
        return (T)(await unit.Done.Task)!;
    }

    protected override Task<T> ReadAsync<T>(Func<DbConnection, T> work, CancellationToken ct) => Task.Run(() =>
    {
        using var connection = new SqliteConnection(_connectionText);
        connection.Open();
        return work(connection);
    }, ct);

    private async Task WriteLoopAsync()
    {
        var units = new List<Unit>();
        while (await _queue.Reader.WaitToReadAsync())
        {
            units.Clear();
            while (units.Count < GroupLimit && _queue.Reader.TryRead(out var unit)) units.Add(unit);
            WriteGroup(units);
        }
    }

    private void WriteGroup(List<Unit> units)
    {
        var outcomes = new List<(Unit Unit, object? Value, Exception? Error)>(units.Count);
        try
        {
            Execute("begin immediate");
            foreach (var unit in units)
            {
                // A unit by itself is its own group: what it did is rolled back with the transaction.
                if (units.Count == 1)
                {
                    try { outcomes.Add((unit, unit.Work(_writer), null)); }
                    catch (Exception e) when (e is not SqliteException { SqliteErrorCode: 10 or 11 or 13 })
                    {
                        Execute("rollback");
                        unit.Done.TrySetException(e);
                        return;
                    }
                    break;
                }
                // A savepoint keeps one refused unit from taking the others of its group with it; one statement needs none.
                if (!unit.Single) Execute("savepoint unit");
                try
                {
                    outcomes.Add((unit, unit.Work(_writer), null));
                }
                catch (Exception e) when (e is not SqliteException { SqliteErrorCode: 10 or 11 or 13 })
                {
                    if (!unit.Single) Execute("rollback to unit");
                    outcomes.Add((unit, null, e));
                }
                if (!unit.Single) Execute("release unit");
            }
            Execute("commit");
        }
        catch (SqliteException e)
        {
            try { Execute("rollback"); } catch (SqliteException) { /* nothing was open */ }
            var error = new StoreUnavailableException($"the database can't be written: {e.Message}", e);
            foreach (var unit in units) unit.Done.TrySetException(error);
            return;
        }
        foreach (var (unit, value, error) in outcomes)
        {
            if (error is null) unit.Done.TrySetResult(value);
            else unit.Done.TrySetException(error);
        }
    }

    public override async ValueTask DisposeAsync()
    {
        _queue.Writer.TryComplete();
        await _writing;
        foreach (var command in _prepared.Values) await command.DisposeAsync();
        await _writer.DisposeAsync();
        SqliteConnection.ClearPool(new SqliteConnection(_connectionText));
        _lock?.Dispose();
    }
}
