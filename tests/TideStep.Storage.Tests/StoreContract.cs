using Dapper;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Storage.Tests;

/// <summary>What every store must do; run once for each database.</summary>
public abstract partial class StoreContract : IAsyncLifetime
{
    private SqlStore _store = null!;

    private protected SqlStore Store => _store;

    protected abstract SqlStore Open();

    /// <summary>Does something to the database by hand.</summary>
    protected abstract void Change(string sql);

    public ValueTask InitializeAsync()
    {
        _store = Open();
        return ValueTask.CompletedTask;
    }

    public virtual async ValueTask DisposeAsync()
    {
        if (_store is not null)
            await _store.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    private static readonly DateTimeOffset Now = Nights.At(-7, 1);

    private protected async Task<(string Run, long Epoch)> RunAsync(string? parent = null)
    {
        var run = "r" + Guid.NewGuid().ToString("N")[..8];
        await _store.CreateRunAsync(
            new StoredRun(run, "sha256:x", parent, Now, 0, null, null),
            new Opened("sha256:x", "label", "Wren", parent),
            Now,
            default
        );
        return (run, await _store.TakeOwnershipAsync(run, "one", default));
    }

    [Fact]
    public async Task Entries_come_back_as_they_were_appended()
    {
        var (run, epoch) = await RunAsync();
        await _store.AppendAsync(
            run,
            epoch,
            1,
            [new Started("Wren"), new Intended("s", "a1", 1, "n1", true)],
            Now.AddSeconds(1),
            default
        );
        var journal = await _store.ReadAsync(run, 0, default);
        Assert.Equal([1, 2, 3], journal.Select(e => e.Sequence));
        Assert.Equal(new Intended("s", "a1", 1, "n1", true), journal[2].Event);
        Assert.Equal(Now.AddSeconds(1), journal[2].At);
        Assert.Equal(epoch, journal[2].Epoch);
        Assert.Single(await _store.ReadAsync(run, 2, default));
    }

    [Fact]
    public async Task A_second_owner_shuts_the_first_one_out()
    {
        var (run, first) = await RunAsync();
        var second = await _store.TakeOwnershipAsync(run, "two", default);
        Assert.True(second > first);
        await Assert.ThrowsAsync<StaleOwnerException>(() =>
            _store.AppendAsync(run, first, 1, [new Held()], Now, default)
        );
        await _store.AppendAsync(run, second, 1, [new Held()], Now, default);
        Assert.Equal(2, (await _store.ReadAsync(run, 0, default)).Count);
    }

    [Fact]
    public async Task An_append_out_of_sequence_is_refused_whole()
    {
        var (run, epoch) = await RunAsync();
        await Assert.ThrowsAsync<StaleOwnerException>(() =>
            _store.AppendAsync(run, epoch, 5, [new Held(), new Held()], Now, default)
        );
        Assert.Single(await _store.ReadAsync(run, 0, default));
    }

    [Fact]
    public async Task A_row_of_the_list_is_kept_once_and_never_goes_back()
    {
        var (run, epoch) = await RunAsync();
        async Task<(long Last, StoredRunLine? Line)> KeptAsync() =>
            (await _store.LinesAsync(1_000_000, null, null, default))
                .Where(l => l.Run.Id == run)
                .Select(l => (l.Last, l.Line))
                .Single();
        Assert.Equal((1, null), await KeptAsync());
        await _store.SaveLineAsync(new StoredRunLine(run, 1, "{}", "first"), default);
        await _store.AppendAsync(run, epoch, 1, [new Held()], Now, default);
        Assert.Equal((2, new StoredRunLine(run, 1, "{}", "first")), await KeptAsync());
        await _store.SaveLineAsync(new StoredRunLine(run, 2, "{}", "second"), default);
        await _store.SaveLineAsync(new StoredRunLine(run, 1, "{}", "first"), default);
        Assert.Equal("second", (await KeptAsync()).Line!.Words);
        // A row that was damaged where it is kept is put right by one of the same entry.
        await _store.SaveLineAsync(new StoredRunLine(run, 2, "{}", "mended"), default);
        Assert.Equal("mended", (await KeptAsync()).Line!.Words);
        await _store.ForgetRowsAsync(default);
        Assert.Null((await KeptAsync()).Line);
    }

    [Fact]
    public async Task Pages_of_runs_leave_none_out_where_many_were_opened_at_the_same_moment()
    {
        var made = new HashSet<string>();
        for (var i = 0; i < 7; i++)
            made.Add((await RunAsync()).Run);
        async Task<List<string>> AllAsync(Func<string?, Task<IEnumerable<string>>> page)
        {
            var all = new List<string>();
            while (true)
            {
                var next = (await page(all.LastOrDefault())).ToList();
                all.AddRange(next);
                if (next.Count < 2)
                    return all;
            }
        }
        foreach (
            var all in new[]
            {
                await AllAsync(async a => (await _store.RunsAsync(false, 2, a, default)).Select(r => r.Id)),
                await AllAsync(async a => (await _store.LinesAsync(2, a, null, default)).Select(l => l.Run.Id)),
                await AllAsync(async a => (await _store.TracedAsync(2, a, "s", default)).Select(l => l.Run.Id)),
            }
        )
        {
            Assert.Equal(all.Distinct(), all);
            Assert.Superset(made, all.ToHashSet());
        }
    }

    [Fact]
    public async Task What_a_run_left_is_kept_in_its_shape_and_never_goes_back()
    {
        var (run, epoch) = await RunAsync();
        async Task<long?> TracedAsync(string shape) =>
            (await _store.TracedAsync(1_000_000, null, shape, default)).Single(t => t.Run.Id == run).Traced;
        async Task<string?> BodyAsync() =>
            (await _store.FindTracesAsync([run, "no such run"], default)).Select(t => t.Body).SingleOrDefault();
        Assert.Null(await TracedAsync("one"));
        Assert.Null(await BodyAsync());
        await _store.AppendAsync(run, epoch, 1, [new Held()], Now, default);
        await _store.SaveTraceAsync(new StoredRunTrace(run, 2, "one", "later"), default);
        await _store.SaveTraceAsync(new StoredRunTrace(run, 1, "one", "earlier"), default);
        Assert.Equal((2, null), (await TracedAsync("one"), await TracedAsync("two")));
        Assert.Equal("later", await BodyAsync());
        await _store.ForgetRowsAsync(default);
        Assert.Null(await BodyAsync());
        // Of an archived run what was kept with its report is all there is.
        var archive = new StoredArchive(run, Now, "{}", "", "{}", "", "for good");
        await _store.ArchiveAsync(archive, default);
        Assert.Equal((2, "for good"), (await TracedAsync("two"), await BodyAsync()));
        Assert.Equal(archive, await _store.FindArchiveAsync(run, default));
    }

    [Fact]
    public async Task A_notice_is_kept_once_and_given_to_one_at_a_time()
    {
        var (run, epoch) = await RunAsync();
        var from = await _store.NoticesReadAsync(default);
        await _store.AppendAsync(run, epoch, 1, [new Started("Wren")], Now, default);
        var entries = (await _store.ReadAllAsync(0, 1_000_000, default)).Where(e => e.Entry.Run == run).ToList();
        Assert.Equal([1, 2], entries.Select(e => e.Entry.Sequence));
        var notice = new StoredNotice(
            $"{run}-2",
            run,
            "desk",
            "started",
            "{}",
            Now,
            StoredNotice.Waiting,
            0,
            Now,
            null
        );
        var read = Math.Max(from, entries[^1].Position);
        for (var twice = 0; twice < 2; twice++)
            await _store.QueueAsync([notice], read, default);
        await _store.QueueAsync([], 0, default); // never back
        Assert.Equal(read, await _store.NoticesReadAsync(default));
        async Task<int> ClaimAsync(DateTimeOffset now) =>
            (await _store.ClaimAsync(now, now.AddMinutes(1), 1000, default)).Count(n => n.Run == run);
        Assert.Equal(0, await ClaimAsync(Now.AddSeconds(-1)));
        Assert.Equal((1, 0), (await ClaimAsync(Now), await ClaimAsync(Now.AddSeconds(59))));
        Assert.Equal(1, await ClaimAsync(Now.AddMinutes(1)));
        await _store.TriedAsync(notice.Id, StoredNotice.Sent, 2, Now, null, default);
        Assert.Equal(0, await ClaimAsync(Now.AddHours(1)));
        Assert.Equal(
            (StoredNotice.Sent, 2),
            (await _store.NoticesAsync(10, run, null, default)).Select(n => (n.State, n.Attempts)).Single()
        );
    }

    [Fact]
    public async Task Epochs_rise_over_all_runs()
    {
        var (_, one) = await RunAsync();
        var (_, two) = await RunAsync();
        Assert.True(two > one);
    }

    [Fact]
    public async Task Many_writers_at_once_lose_nothing()
    {
        var runs = new List<(string Run, long Epoch)>();
        for (var i = 0; i < 8; i++)
            runs.Add(await RunAsync());
        await Task.WhenAll(
            runs.Select(r =>
                Task.Run(async () =>
                {
                    for (var i = 1; i <= 25; i++)
                        await _store.AppendAsync(r.Run, r.Epoch, i, [new BlockEntered(i)], Now, default);
                })
            )
        );
        foreach (var (run, _) in runs)
            Assert.Equal(26, (await _store.ReadAsync(run, 0, default)).Count);
        // Where the journal ends is what is kept of it; what was refused moved nothing, alone or beside others.
        async Task<long> EndAsync() => (await _store.ReadAllAsync(0, 1_000_000, default)).Max(e => e.Position);
        Assert.Equal(await EndAsync(), await _store.LastPositionAsync(default));
        await Task.WhenAll(
            runs.Select(
                (r, i) =>
                    Task.Run(async () =>
                    {
                        if (i < 4)
                            await Assert.ThrowsAsync<StaleOwnerException>(() =>
                                _store.AppendAsync(r.Run, r.Epoch, 27, [new Held(), new Held()], Now, default)
                            );
                        else
                            await _store.AppendAsync(r.Run, r.Epoch, 26, [new Held()], Now, default);
                    })
            )
        );
        await Assert.ThrowsAsync<StaleOwnerException>(() =>
            _store.AppendAsync(runs[0].Run, runs[0].Epoch, 99, [new Held()], Now, default)
        );
        Assert.Equal(await EndAsync(), await _store.LastPositionAsync(default));
    }

    [Fact]
    public async Task Of_documents_made_from_the_same_revision_at_the_same_time_one_is_kept()
    {
        var id = "d" + Guid.NewGuid();
        StoredDocument Of(string body) =>
            new("readings", id, 0, Core.Documents.Json.DigestOfText(body), body, Now, "Wren");
        Assert.True(await _store.SaveAfterAsync(Of("first"), 0, default));
        Assert.False(await _store.SaveAfterAsync(Of("late"), 0, default));
        var kept = await Task.WhenAll(
            Enumerable.Range(0, 8).Select(i => Task.Run(() => _store.SaveAfterAsync(Of($"second {i}"), 1, default)))
        );
        Assert.Single(kept, k => k);
        var last = (await _store.FindAsync("readings", id, default))!;
        Assert.Equal((2, $"second {Array.IndexOf(kept, true)}"), (last.Revision, last.Body));
        Assert.Equal(
            [(2, last.Digest, last.Body.Length), (1, Of("first").Digest, 5)],
            (await _store.RevisionsAsync("readings", id, 10, default)).Select(r => (r.Revision, r.Digest, r.Length))
        );
        Assert.Equal(2, Assert.Single(await _store.RevisionsAsync("readings", id, 1, default)).Revision);
        Assert.Empty(await _store.RevisionsAsync("estate", id, 10, default));
    }

    [Fact]
    public async Task An_ended_run_is_open_no_more()
    {
        var (run, epoch) = await RunAsync();
        Assert.Contains(await _store.RunsAsync(true, 1000, null, default), r => r.Id == run);
        await _store.AppendAsync(run, epoch, 1, [new Ended(RunEnd.Completed)], Now, default);
        Assert.DoesNotContain(await _store.RunsAsync(true, 1000, null, default), r => r.Id == run);
        await Assert.ThrowsAsync<StaleOwnerException>(() => _store.TakeOwnershipAsync(run, "late", default));
    }

    [Fact]
    public async Task An_ended_run_is_held_only_by_who_says_that_it_has_ended()
    {
        var (run, epoch) = await RunAsync();
        await Assert.ThrowsAsync<StaleOwnerException>(() =>
            _store.TakeOwnershipAsync(run, "early", default, ended: true)
        );
        await _store.AppendAsync(run, epoch, 1, [new Ended(RunEnd.Completed)], Now, default);
        var later = await _store.TakeOwnershipAsync(run, "afterwards", default, ended: true);
        Assert.True(later > epoch);
        await Assert.ThrowsAsync<StaleOwnerException>(() =>
            _store.AppendAsync(run, epoch, 2, [new PointGivenUp("p", "gone")], Now, default)
        );
        await _store.AppendAsync(
            run,
            later,
            2,
            [new PointGivingUp("p", "Ida Moss", null, "g1"), new PointGivenUp("p", "gone")],
            Now,
            default
        );
        Assert.DoesNotContain(await _store.RunsAsync(true, 1000, null, default), r => r.Id == run);
        Assert.Equal(4, (await _store.ReadAsync(run, 0, default)).Count);
    }

    [Fact]
    public async Task Reservations_are_all_or_none()
    {
        var (a, b) = ("ra" + Guid.NewGuid(), "rb" + Guid.NewGuid());
        var (x, y, z) = (a + "x", a + "y", a + "z");
        Assert.Empty(await _store.ReserveAsync(a, [x, y], default));
        Assert.Equal([(y, a)], await _store.ReserveAsync(b, [y, z], default));
        Assert.Empty(await _store.ReserveAsync("rc" + a, [z], default));
        await _store.ReleaseAsync(a, default);
        Assert.Empty(await _store.ReserveAsync(b, [y], default));
    }

    [Fact]
    public async Task What_a_run_held_that_has_ended_is_free_also_where_it_was_not_given_back()
    {
        var (run, epoch) = await RunAsync();
        Assert.Empty(await _store.ReserveAsync(run, [run + "x"], default));
        Assert.Equal([(run + "x", run)], await _store.ReserveAsync("other" + run, [run + "x"], default));
        await _store.AppendAsync(run, epoch, 1, [new Ended(RunEnd.Completed)], Now, default);
        Assert.Empty(await _store.ReserveAsync("other" + run, [run + "x"], default));
    }

    [Fact]
    public async Task A_run_is_made_with_its_reservations_or_not_at_all()
    {
        var (a, b) = ("ra" + Guid.NewGuid().ToString("N"), "rb" + Guid.NewGuid().ToString("N"));
        StoredRun Run(string id) => new(id, "plan", null, Now, 0, null, null);
        Assert.Empty(
            await _store.CreateReservedRunAsync(Run(a), new Opened("plan", "", "Wren", null), Now, [a + "x"], default)
        );
        Assert.Equal(
            [(a + "x", a)],
            await _store.CreateReservedRunAsync(
                Run(b),
                new Opened("plan", "", "Wren", null),
                Now,
                [a + "x", a + "y"],
                default
            )
        );
        Assert.Null(await _store.FindRunAsync(b, default));
        Assert.Empty(await _store.ReserveAsync("rc" + a, [a + "y"], default));
        Assert.Single(await _store.ReadAsync(a, 0, default));
    }

    [Fact]
    public async Task Documents_keep_every_revision_and_the_same_text_makes_none()
    {
        var id = Guid.NewGuid().ToString("N");
        StoredDocument Of(string body) => new("product", id, 0, "d" + body, body, Now, "Wren");
        await _store.SaveAsync([Of("one")], default);
        await _store.SaveAsync([Of("one")], default);
        Assert.Equal(2, (await _store.SaveAsync([Of("two")], default))[0].Revision);
        Assert.Equal("two", (await _store.FindAsync("product", id, default))!.Body);
        Assert.Equal("one", (await _store.FindAsync("product", id, 1, default))!.Body);
        Assert.Single(await _store.LatestAsync("product", default), d => d.Id == id);
    }

    [Fact]
    public async Task A_setting_is_made_once()
    {
        var name = Guid.NewGuid().ToString();
        Assert.Equal("first", await _store.SettingAsync(name, () => "first", default));
        Assert.Equal("first", await _store.SettingAsync(name, () => "second", default));
    }

    [Fact]
    public async Task Plans_outputs_and_answers_come_back()
    {
        var key = Guid.NewGuid().ToString();
        await _store.SavePlanAsync(new StoredPlan("sha256:" + key, "marram", "upgrade", "{}", Now, "Wren"), default);
        Assert.Equal("marram", (await _store.FindPlanAsync("sha256:" + key, default))!.Estate);
        // What only begins alike is none of them, whatever order the database gives to digits and letters.
        await _store.SavePlanAsync(new StoredPlan($"sha256:{key}Z", "marram", "upgrade", "{}", Now, "Wren"), default);
        await _store.SavePlanAsync(new StoredPlan("sha25~" + key, "marram", "upgrade", "{}", Now, "Wren"), default);
        Assert.Equal(
            ["sha256:" + key, $"sha256:{key}Z"],
            (await _store.PlansLikeAsync($"sha256:{key}", default)).Select(p => p.Digest)
        );
        Assert.Equal(2, (await _store.PlansLikeAsync($"sha256:{key[..20]}", default)).Count);
        Assert.Empty(await _store.PlansLikeAsync($"sha256:{key[..20]}%", default));
        await _store.SavePlanAsync(
            new StoredPlan($"sha256:{key}L", "marram", "upgrade", "{}", Now.AddHours(1), "Wren"),
            default
        );
        async Task<bool> MadeAsync(DateTimeOffset? since, DateTimeOffset? before) =>
            (await _store.PlansAsync(1000, null, default, (since, before))).Any(p => p.Digest == $"sha256:{key}L");
        Assert.True(await MadeAsync(Now.AddHours(1), null));
        Assert.False(await MadeAsync(Now.AddHours(1).AddSeconds(1), null));
        Assert.True(await MadeAsync(null, Now.AddHours(1).AddSeconds(1)));
        Assert.False(await MadeAsync(Now, Now.AddHours(1)));
        await _store.SaveOutputAsync(key, "a1", "half", default);
        await _store.SaveOutputAsync(key, "a1", "whole", default);
        Assert.Equal("whole", await _store.FindOutputAsync(key, "a1", default));
        await _store.SaveAnswerAsync(key, "print", "body", Now, default);
        Assert.Equal(("print", "body"), await _store.FindAnswerAsync(key, default));
        Assert.Null(await _store.FindAnswerAsync("none", default));
    }
}

public sealed class SqliteStoreTests : StoreContract
{
    private readonly string _folder = Directory.CreateTempSubdirectory("tidestep-store").FullName;

    protected override SqlStore Open() => new SqliteStore(Path.Combine(_folder, "t.db"));

    protected override void Change(string sql)
    {
        using var c = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={Path.Combine(_folder, "t.db")}");
        c.Execute(sql);
    }

    public override async ValueTask DisposeAsync()
    {
        await base.DisposeAsync();
        Directory.Delete(_folder, true);
    }

    [Fact]
    public void A_second_process_on_the_same_file_is_refused() =>
        Assert.Throws<StoreUnavailableException>(() => new SqliteStore(Path.Combine(_folder, "t.db")));
}

public sealed class PostgresStoreTests : StoreContract
{
    protected override SqlStore Open()
    {
        var text = Environment.GetEnvironmentVariable("TIDESTEP_TEST_POSTGRES");
        Assert.SkipWhen(
            text is null,
            "no PostgreSQL server was given in TIDESTEP_TEST_POSTGRES; scripts/test.sh starts one"
        );
        return new PostgresStore(text!);
    }

    protected override void Change(string sql)
    {
        using var c = StoreCopy.OpenServer(Environment.GetEnvironmentVariable("TIDESTEP_TEST_POSTGRES")!);
        c.Execute(sql);
    }

    // Of every table: how many rows there are, and the journal's last number.
    private static List<long> Rows(System.Data.Common.DbConnection c) =>
        [
            .. new[]
            {
                "runs",
                "journal",
                "documents",
                "document_heads",
                "plans",
                "outputs",
                "answers",
                "counters",
            }.Select(t => c.ExecuteScalar<long>($"select count(*) from {t}")),
            c.ExecuteScalar<long?>("select max(position) from journal") ?? 0,
        ];

    [Fact]
    public async Task A_copy_goes_into_a_file_and_from_there_into_an_empty_database()
    {
        var (run, epoch) = await RunAsync();
        await Store.AppendAsync(run, epoch, 1, [new Started("Wren"), new Held()], DateTimeOffset.UnixEpoch, default);
        var text = Environment.GetEnvironmentVariable("TIDESTEP_TEST_POSTGRES")!;
        var file = Path.Combine(Path.GetTempPath(), $"{Guid.NewGuid():N}.db");
        var name = $"copy_{Guid.NewGuid():N}";
        try
        {
            List<long> before;
            using (var from = StoreCopy.OpenServer(text))
            {
                await StoreCopy.WriteAsync(from, file);
                from.Execute($"create database {name}");
                before = Rows(from);
            }
            var other = new Npgsql.NpgsqlConnectionStringBuilder(text) { Database = name, Pooling = false }.ToString();
            await StoreCopy.ToServerAsync(file, other);
            using (var to = StoreCopy.OpenServer(other))
                Assert.Equal(before, Rows(to));
            // It is whole, it goes on where it was, and no epoch of before is given again.
            await using (var store = new PostgresStore(other))
            {
                Assert.Equal(3, (await store.ReadAsync(run, 0, default)).Count);
                var next = await store.TakeOwnershipAsync(run, "two", default);
                Assert.True(next > epoch + 1000);
                await store.AppendAsync(run, next, 3, [new WentOn("Wren")], DateTimeOffset.UnixEpoch, default);
                Assert.True(await store.LastPositionAsync(default) > before[^1]);
            }
            await Assert.ThrowsAsync<StoreUnavailableException>(() => StoreCopy.ToServerAsync(file, other));
        }
        finally
        {
            File.Delete(file);
            using var server = StoreCopy.OpenServer(text);
            server.Execute($"drop database if exists {name} with (force)");
        }
    }
}
