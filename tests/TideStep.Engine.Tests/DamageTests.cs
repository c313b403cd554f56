using System.Globalization;
using Dapper;
using Microsoft.Data.Sqlite;
using TideStep.Core.Runs;
using TideStep.Engine.Plans;
using TideStep.Engine.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Tests;

/// <summary>What is kept is damaged by hand, a character or a row at a time: it is named, it sets aside what it belongs
/// to, and everything else works.</summary>
public sealed class DamageTests : DeskBed
{
    // Of these a cell is changed or a row taken away. What is not here is rebuilt by itself, or says nothing that
    // anything hangs on.
    // An output may be missing: it had its time.
    private static readonly (string Table, string[] Columns)[] Guarded =
    [
        ("journal", ["run", "sequence", "epoch", "at", "event", "digest"]),
        ("runs", ["id", "plan", "parent", "opened_at", "epoch", "owner", "ended", "length", "head", "seal"]),
        ("documents", ["kind", "id", "revision", "digest", "body", "at", "author", "seal"]),
        ("document_heads", ["kind", "id", "revision", "first"]),
        ("plans", ["digest", "estate", "kind", "body", "at", "author", "seal"]),
        ("outputs", ["run", "attempt", "body", "seal"]),
    ];

    private string File => Path.Combine(_folder, "t.db");

    private static SqliteConnection Connect(string file)
    {
        var connection = new SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        return connection;
    }

    // An ended run, one that halted and one that was only opened, with outputs, surveys and a second revision.
    private async Task<(string Ended, string Halted, string Open)> FillAsync()
    {
        var ended = await OpenAsync();
        Assert.Empty(await _runs.StartAsync(ended, "Wren", default));
        Assert.Equal(RunEnd.Completed, (await EndOf(ended)).End);
        await _store.SaveOutputAsync(ended, "a1", "what it said", default);
        foreach (var node in new[] { "n1", "n2" })
            _far.SetRunning(node, "app", "6");
        await _estates.SurveyAsync("Wren", default);
        var halted = await OpenAsync();
        _far.Outcome = (_, _) => 1;
        Assert.Empty(await _runs.StartAsync(halted, "Wren", default));
        Assert.Equal(RunStatus.Halted, (await EndOf(halted)).Status);
        var open = await OpenAsync();
        await new RunList(_runs, _store).OfAsync(10, null, null, null, null, default);
        await _runs.DisposeAsync();
        await _store.DisposeAsync();
        return (ended, halted, open);
    }

    // One character of one cell, or one row; what the database itself refuses is drawn again.
    private static string Damaged(SqliteConnection c, Random random)
    {
        while (true)
        {
            var (table, columns) = Guarded[random.Next(Guarded.Length)];
            var row = c.QueryFirstOrDefault<long?>(
                $"select rowid from {table} order by rowid limit 1 "
                    + $"offset {random.Next(c.ExecuteScalar<int>($"select count(*) from {table}"))}"
            );
            var column = columns[random.Next(columns.Length)];
            var was = row is null
                ? null
                : Convert.ToString(
                    c.ExecuteScalar<object>($"select {column} from {table} where rowid = {row}"),
                    CultureInfo.InvariantCulture
                );
            try
            {
                if (
                    random.Next(4) == 0
                    && table != "outputs"
                    && c.Execute($"delete from {table} where rowid = {row}") == 1
                )
                    return $"delete {table} {row}";
                if (
                    row is not null
                    && c.Execute(
                        $"update {table} set {column} = @now where rowid = {row}",
                        new { now = was is { Length: > 0 } ? Flipped(was, random) : "x" }
                    ) == 1
                )
                    return $"{table}.{column} {row}";
            }
            catch (SqliteException)
            { /* a key that is there already */
            }
        }
    }

    private static string Flipped(string was, Random random)
    {
        var at = random.Next(was.Length);
        var other = (char)(was[at] ^ (1 << random.Next(5)));
        return was[..at] + other + was[(at + 1)..];
    }

    [Fact]
    public async Task Every_character_and_row_that_is_damaged_is_named()
    {
        await FillAsync();
        Open(); // as it is when a test ends
        using var c = Connect(File);
        Assert.DoesNotContain(SqlStore.Check(c), d => !d.Rebuilt);
        var (random, kinds) = (new Random(1), new HashSet<string>());
        for (var i = 0; i < 1000; i++)
        {
            using var damage = c.BeginTransaction();
            var what = Damaged(c, random);
            Assert.True(SqlStore.Check(c).Any(d => !d.Rebuilt), $"{what} was not named");
            kinds.Add(what.Split(' ')[0] is "delete" ? string.Join(' ', what.Split(' ')[..2]) : what.Split(' ')[0]);
            damage.Rollback();
        }
        // Everything that is guarded was drawn: each column, and rows of each table.
        Assert.Equal(
            Guarded
                .SelectMany(g => g.Columns.Select(n => $"{g.Table}.{n}").Append($"delete {g.Table}"))
                .Where(k => k != "delete outputs")
                .Order(),
            kinds.Order()
        );
    }

    [Fact]
    public async Task Whatever_is_damaged_the_service_starts_lists_its_runs_and_carries_the_others()
    {
        var (ended, halted, open) = await FillAsync();
        var whole = Path.Combine(_folder, "whole.db");
        System.IO.File.Copy(File, whole);
        var (random, aside, carried) = (new Random(2), 0, 0);
        for (var i = 0; i < 150; i++)
        {
            foreach (var rest in new[] { "-wal", "-shm" })
                System.IO.File.Delete(File + rest);
            System.IO.File.Copy(whole, File, overwrite: true);
            string what;
            using (var c = Connect(File))
                what = Damaged(c, random);
            Open();
            await _runs.ResumeAsync(default);
            var lines = await new RunList(_runs, _store).OfAsync(10, null, null, null, null, default);
            await new PlanList(_store).OfAsync(10, null, default, default);
            // Who is not set aside stands where it stood.
            foreach (var line in lines.Where(l => l.SetAside is null))
            {
                if (line.Run == ended)
                    Assert.True(RunStatus.Completed == line.Status, what);
                if (line.Run == halted)
                    Assert.True(RunStatus.Halted == line.Status, what);
                if (line.Run == open)
                    Assert.True(RunStatus.Ready == line.Status, what);
            }
            aside += lines.Any(l => l.SetAside is not null) ? 1 : 0;
            carried += _runs.ExecutorOf(halted) is not null ? 1 : 0;
            await _runs.DisposeAsync();
            await _store.DisposeAsync();
        }
        Assert.True(aside > 20 && carried > 20, $"{aside} set aside, {carried} carried");
        Open();
    }
}
