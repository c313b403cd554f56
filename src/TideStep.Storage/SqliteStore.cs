using System.Data.Common;
using System.Threading.Channels;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace TideStep.Storage;

/// <summary>The stores in one SQLite file (WAL, synchronous=FULL). A unit of work that comes while nobody writes is
/// committed on its own thread; those that come meanwhile are committed together, so that many appends share one
/// flush.</summary>
public sealed class SqliteStore : SqlStore
{
    private const int GroupLimit = 512;

    private readonly string _connectionText;
    private readonly SqliteConnection _writer;
    private readonly Channel<Unit> _queue = Channel.CreateUnbounded<Unit>(
        new UnboundedChannelOptions { SingleReader = true }
    );
    private readonly Lock _gate = new();
    private readonly Task _writing;
    private int _waiting;
    private bool _closed;
    private readonly FileStream? _lock;

    private sealed record Unit(Func<DbConnection, object?> Work, TaskCompletionSource<object?> Done, bool Single);

    /// <summary>Opens or makes the file; a second process on the same file is refused.</summary>
    /// <exception cref="StoreUnavailableException">Another service has the file, or it can't be opened.</exception>
    public SqliteStore(string path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Path.GetFullPath(path))!);
        try
        {
            _lock = new FileStream(LockOf(path), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException e)
        {
            throw new StoreUnavailableException(
                $"another Tide Step service is using {path}; stop it, or give this one a data folder of its own",
                e
            );
        }
        _connectionText = new SqliteConnectionStringBuilder
        {
            DataSource = path,
            Pooling = true,
            DefaultTimeout = 30,
        }.ToString();
        try
        {
            _writer = Open();
            using (var command = _writer.CreateCommand())
            {
                command.CommandText = "pragma journal_mode=wal; pragma busy_timeout=30000";
                command.ExecuteNonQuery();
            }
            Execute("begin immediate");
            Migrate(_writer);
            Execute("commit");
            _last = Last();
        }
        catch (StoreUnavailableException)
        {
            if (_writer is not null)
                Execute("rollback");
            _writer?.Dispose();
            _lock.Dispose();
            throw;
        }
        catch (SqliteException e)
        {
            _lock.Dispose();
            throw new StoreUnavailableException($"the database {path} can't be opened: {e.Message}", e);
        }
        _writing = Task.Run(WriteLoopAsync);
    }

    /// <summary>The file beside a database's that the one service which works on it holds.</summary>
    public static string LockOf(string path) => path + ".lock";

    protected override string ForUpdate => "";

    protected override string Among(string column, string list) => $"{column} in @{list}";

    protected override string Identity => "integer primary key";

    private SqliteConnection Open()
    {
        var connection = new SqliteConnection(_connectionText);
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = "pragma synchronous=full; pragma foreign_keys=on";
        command.ExecuteNonQuery();
        return connection;
    }

    private readonly Dictionary<string, SqliteStatement> _prepared = [];

    private SqliteStatement Prepared(string sql) =>
        _prepared.TryGetValue(sql, out var known) ? known : _prepared[sql] = new SqliteStatement(_writer, sql);

    private void Execute(string sql) => Prepared(sql).Write();

    protected override string? HeadOf(DbConnection c, string run, long epoch, long expected) =>
        Prepared(HeadText).Text(run, epoch, expected);

    protected override void AppendOne(
        DbConnection c,
        string run,
        long epoch,
        long sequence,
        string at,
        string body,
        string digest
    ) => Prepared(AppendText).Write(run, sequence, epoch, at, body, digest);

    protected override void Advance(DbConnection c, string run, long length, string head) =>
        Prepared(AdvanceText).Write(length, head, run);

    protected override async Task<T> WriteAsync<T>(
        Func<DbConnection, T> work,
        CancellationToken ct,
        bool single = false
    )
    {
        ct.ThrowIfCancellationRequested();
        var unit = new Unit(
            c => work(c),
            new TaskCompletionSource<object?>(TaskCreationOptions.RunContinuationsAsynchronously),
            single
        );
        if (!WroteAtOnce(unit))
        {
            Interlocked.Increment(ref _waiting);
            if (!_queue.Writer.TryWrite(unit))
                throw new ObjectDisposedException(nameof(SqliteStore));
        }
        return (T)(await unit.Done.Task)!;
    }

    // Handing a unit to another thread and back costs as much as a flush. Where others wait for a thread it is handed
    // over all the same: what they have to write may go
    // with it. What waits already comes first: it was said before.
    private bool WroteAtOnce(Unit unit)
    {
        if (ThreadPool.PendingWorkItemCount > 0 || !_gate.TryEnter())
            return false;
        try
        {
            ObjectDisposedException.ThrowIf(_closed, this);
            if (Volatile.Read(ref _waiting) > 0)
                return false;
            WriteGroup([unit]);
            return true;
        }
        finally
        {
            _gate.Exit();
        }
    }

    protected override Task<T> ReadAsync<T>(Func<DbConnection, T> work, CancellationToken ct) =>
        Task.Run(
            () =>
            {
                try
                {
                    using var connection = new SqliteConnection(_connectionText);
                    connection.Open();
                    return work(connection);
                }
                catch (SqliteException e) when (e.SqliteErrorCode is raw.SQLITE_CORRUPT or raw.SQLITE_NOTADB)
                {
                    throw new DamagedRecordException($"the database's file is damaged: {e.Message}", e);
                }
                catch (SqliteException e) when (OfTheFile(e))
                {
                    throw Gone("read", e);
                }
            },
            ct
        );

    // What is wrong with the file or the disk under it, rather than with what was asked.
    private static bool OfTheFile(Exception e) =>
        e
            is SqliteException
            {
                SqliteErrorCode: raw.SQLITE_BUSY
                    or raw.SQLITE_LOCKED
                    or raw.SQLITE_NOMEM
                    or raw.SQLITE_READONLY
                    or raw.SQLITE_IOERR
                    or raw.SQLITE_CORRUPT
                    or raw.SQLITE_FULL
                    or raw.SQLITE_CANTOPEN
                    or raw.SQLITE_NOTADB
            };

    private static StoreUnavailableException Gone(string what, SqliteException e) =>
        new($"the database can't be {what}: {e.Message}", e) { Full = e.SqliteErrorCode == raw.SQLITE_FULL };

    // Nobody else writes to the file, so that what was last committed here is what it ends with.
    public override Task<long> LastPositionAsync(CancellationToken ct) => Task.FromResult(Volatile.Read(ref _last));

    private long Last() => Prepared(LastText).Number();

    private long _last;

    private async Task WriteLoopAsync()
    {
        var units = new List<Unit>();
        while (await _queue.Reader.WaitToReadAsync())
        {
            lock (_gate)
            {
                units.Clear();
                while (units.Count < GroupLimit && _queue.Reader.TryRead(out var unit))
                    units.Add(unit);
                WriteGroup(units);
                Interlocked.Add(ref _waiting, -units.Count);
            }
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
                    try
                    {
                        outcomes.Add((unit, unit.Work(_writer), null));
                    }
                    catch (Exception e) when (!OfTheFile(e))
                    {
                        Execute("rollback");
                        unit.Done.TrySetException(e);
                        return;
                    }
                    break;
                }
                // A savepoint keeps one refused unit from taking the others of its group with it; one statement needs
                // none.
                if (!unit.Single)
                    Execute("savepoint unit");
                try
                {
                    outcomes.Add((unit, unit.Work(_writer), null));
                }
                catch (Exception e) when (!OfTheFile(e))
                {
                    if (!unit.Single)
                        Execute("rollback to unit");
                    outcomes.Add((unit, null, e));
                }
                if (!unit.Single)
                    Execute("release unit");
            }
            var last = Last();
            Execute("commit");
            Volatile.Write(ref _last, last);
        }
        catch (SqliteException e)
        {
            try
            {
                Execute("rollback");
            }
            catch (SqliteException)
            { /* nothing was open */
            }
            var error = Gone("written", e);
            foreach (var unit in units)
                unit.Done.TrySetException(error);
            return;
        }
        foreach (var (unit, value, error) in outcomes)
        {
            if (error is null)
                unit.Done.TrySetResult(value);
            else
                unit.Done.TrySetException(error);
        }
    }

    public override async ValueTask DisposeAsync()
    {
        _queue.Writer.TryComplete();
        await _writing;
        lock (_gate)
            _closed = true;
        foreach (var statement in _prepared.Values)
            statement.Dispose();
        await _writer.DisposeAsync();
        SqliteConnection.ClearPool(new SqliteConnection(_connectionText));
        _lock?.Dispose();
    }
}
