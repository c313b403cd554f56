using System.Data;
using System.Data.Common;
using System.Globalization;
using System.Text.Json;
using Dapper;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Storage;

/// <summary>The stores over SQL, once for every database; a database brings how it reads, writes, numbers rows and
/// locks one.</summary>
public abstract partial class SqlStore : IAsyncDisposable
{
    /// <summary>Runs a unit of work that is durable, all of it or nothing, when the task ends.</summary>
    /// <param name="work">What is done; where it throws nothing of it stays.</param>
    /// <param name="ct">Cancels before it begins, never in the middle.</param>
    /// <param name="single">Whether the work is one statement, which leaves nothing behind when it fails or finds
    /// nothing to do.</param>
    protected abstract Task<T> WriteAsync<T>(Func<DbConnection, T> work, CancellationToken ct, bool single = false);

    protected abstract Task<T> ReadAsync<T>(Func<DbConnection, T> work, CancellationToken ct);

    /// <summary>What locks the row that a select found until the end of the unit of work, in this database's
    /// words.</summary>
    protected abstract string ForUpdate { get; }

    protected abstract string Identity { get; }

    /// <summary>That a column is one of a list of texts, in this database's words.</summary>
    protected abstract string Among(string column, string list);

    /// <summary>Writes something that changes nothing.</summary>
    /// <exception cref="StoreUnavailableException">Nothing can be written.</exception>
    public Task TryWriteAsync(CancellationToken ct) =>
        WriteAsync(c => c.Execute("update counters set value = value where name = 'epoch'"), ct);

    public abstract ValueTask DisposeAsync();

    /// <summary>Brings the schema to its newest version by the numbered scripts.</summary>
    protected void Migrate(DbConnection connection)
    {
        connection.Execute("create table if not exists schema_versions (number bigint primary key, at text not null)");
        var done = connection.Query<long>("select number from schema_versions").ToHashSet();
        if (done.Count > 0 && done.Max() is var theirs && theirs > Newest)
            throw new StoreUnavailableException(
                $"the database was written by a newer Tide Step: its schema is {theirs}, this program knows {Newest}; "
                    + $"start that program, or give this one a backup of before"
            );
        foreach (var (number, script) in Scripts.Where(s => !done.Contains(s.Number)))
        {
            connection.Execute(script.Replace("{identity}", Identity, StringComparison.Ordinal));
            if (number == SealsSince)
                SealAll(connection);
            connection.Execute(
                "insert into schema_versions (number, at) values (@number, @at)",
                new { number, at = Text(DateTimeOffset.UtcNow) }
            );
        }
        // Numbers that rows were given already are never given again, whatever became of the counter.
        var there = connection.Query<string>("select name from counters").ToHashSet();
        foreach (var (counter, most) in Counted.Where(c => !there.Contains(c.Counter)))
            connection.Execute(
                $"insert into counters (name, value) select '{counter}', coalesce(max({most.Column}), 0) "
                    + $"from {most.Table}"
            );
        connection.Execute("update counters set value = cast(value as bigint)");
        connection.Execute(
            "update counters set value = (select max(cast(epoch as bigint)) from runs) where name = 'epoch' "
                + "and value < (select coalesce(max(cast(epoch as bigint)), 0) from runs)"
        );
        connection.Execute(
            "update counters set value = (select coalesce(max(position), 0) from journal) where name = 'notices' and "
                + "value > (select coalesce(max(position), 0) from journal)"
        );
    }

    // Counters, and what the highest is that they were given for.
    private static readonly (string Counter, (string Table, string Column) Most)[] Counted =
    [
        ("epoch", ("runs", "epoch")),
        ("notices", ("journal", "position")),
    ];

    /// <summary>The newest schema that this program knows.</summary>
    public static long Newest => Scripts[^1].Number;

    private static readonly IReadOnlyList<(long Number, string Text)> Scripts =
    [
        .. typeof(SqlStore)
            .Assembly.GetManifestResourceNames()
            .Where(n => n.EndsWith(".sql", StringComparison.Ordinal))
            .Order(StringComparer.Ordinal)
            .Select(n =>
            {
                using var reader = new StreamReader(typeof(SqlStore).Assembly.GetManifestResourceStream(n)!);
                return (long.Parse(n.Split('.')[^2].Split('-')[0], CultureInfo.InvariantCulture), reader.ReadToEnd());
            }),
    ];

    private static string Text(DateTimeOffset at) =>
        at.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ss.fffffffZ", CultureInfo.InvariantCulture);

    private static DateTimeOffset Time(string text) => DateTimeOffset.Parse(text, CultureInfo.InvariantCulture);

    // Of a row that is damaged anyhow: lists go on.
    private static DateTimeOffset TimeOrNever(string text) =>
        DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, out var at) ? at : DateTimeOffset.MinValue;

    private static bool Unreadable(Exception e) =>
        e
            is DataException
                or FormatException
                or InvalidCastException
                or InvalidOperationException
                or OverflowException
                or JsonException
                or NotSupportedException
                or ArgumentException;

    /// <summary>Reads rows; what is in none of the shapes that were written is damage, not an error of
    /// ours.</summary>
    private static T Whole<T>(string what, Func<T> read)
    {
        try
        {
            return read();
        }
        catch (Exception e) when (Unreadable(e))
        {
            throw new DamagedRecordException($"{what} can't be read: {e.Message}", e);
        }
    }

    public Task<string> SettingAsync(string name, Func<string> make, CancellationToken ct) =>
        WriteAsync(
            c =>
            {
                c.Execute(
                    "insert into settings (name, value) values (@name, @value) on conflict (name) do nothing",
                    new { name, value = make() }
                );
                return c.QuerySingle<string>("select value from settings where name = @name", new { name });
            },
            ct
        );

    public Task<(string Request, string Body)?> FindAnswerAsync(string key, CancellationToken ct) =>
        ReadAsync(
            c =>
                c.QuerySingleOrDefault<(string, string)?>(
                    "select request, body from answers where key = @key",
                    new { key }
                ),
            ct
        );

    public Task SaveAnswerAsync(string key, string request, string body, DateTimeOffset at, CancellationToken ct) =>
        WriteAsync(
            c =>
                c.Execute(
                    "insert into answers (key, request, body, at) values (@key, @request, @body, @at) on "
                        + "conflict (key) do nothing",
                    new
                    {
                        key,
                        request,
                        body,
                        at = Text(at),
                    }
                ),
            ct
        );
}
