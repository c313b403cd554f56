using System.Net;
using System.Security.Cryptography;
using TideStep.Core.Documents;
using TideStep.Engine.Artefacts;
using TideStep.Storage;

namespace TideStep.Engine.Tests;

/// <summary>The library of artefacts, on a real store and a real folder.</summary>
public sealed class ArtefactTests : IAsyncDisposable
{
    private readonly string _folder = Directory.CreateTempSubdirectory("tidestep-artefacts").FullName;
    private readonly SqliteStore _store;
    private readonly ArtefactLibrary _library;
    private readonly Uploads _uploads;

    public ArtefactTests()
    {
        _store = new SqliteStore(Path.Combine(_folder, "t.db"));
        _library = new ArtefactLibrary(Path.Combine(_folder, "data", "artefacts"), _store, TimeProvider.System);
        _uploads = new Uploads(_library, TimeProvider.System);
    }

    private static string Sum(byte[] bytes) => Convert.ToHexStringLower(SHA256.HashData(bytes));

    private static Incoming File(string name, byte[]? whole = null) =>
        new(name, "upload", "Wren", whole is null ? null : Sum(whole));

    // A line that breaks after so many bytes.
    private sealed class Broken(byte[] bytes, int after) : MemoryStream(bytes)
    {
        public override ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken ct = default) =>
            Position >= after
                ? throw new IOException("the line broke")
                : base.ReadAsync(buffer[..(int)Math.Min(buffer.Length, after - Position)], ct);
    }

    [Fact]
    public async Task An_upload_that_breaks_off_goes_on_from_where_it_was()
    {
        var bytes = RandomNumberGenerator.GetBytes(200_000);
        var begun = (await _uploads.BeginAsync(bytes.Length, File("relay.deb", bytes), default)).Value!;
        Assert.Equal((70_000, null), await _uploads.AppendAsync(begun.Id, 0, new Broken(bytes, 70_000), default));
        Assert.Equal(-1, (await _uploads.AppendAsync(begun.Id, 0, new MemoryStream(bytes), default)).Offset);
        Assert.Empty(await _library.AllAsync(default));
        // Somebody comes back and begins again: what is here is taken up.
        var again = (await _uploads.BeginAsync(bytes.Length, File("relay.deb", bytes), default)).Value!;
        Assert.Equal((begun.Id, 70_000), (again.Id, _uploads.Find(again.Id)!.Value.Offset));
        var (offset, taken) = await _uploads.AppendAsync(again.Id, 70_000, new MemoryStream(bytes[70_000..]), default);
        Assert.Equal((200_000, true), (offset, taken!.Ok));
        var artefact = Assert.Single(await _library.AllAsync(default));
        Assert.Equal(
            ("relay.deb", Sum(bytes), "package", "Wren"),
            (artefact.Name, artefact.Sha256, artefact.Kind, artefact.By)
        );
        Assert.Null(_uploads.Find(again.Id));
    }

    [Fact]
    public async Task What_is_not_what_it_must_be_is_refused_and_nothing_is_kept()
    {
        var upload = (await _uploads.BeginAsync(3, File("relay.deb", [9, 9, 9]), default)).Value!;
        var (_, taken) = await _uploads.AppendAsync(upload.Id, 0, new MemoryStream([1, 2, 3]), default);
        Assert.Contains("checksum", Assert.Single(taken!.Problems).What);
        Assert.Empty(await _library.AllAsync(default));
        Assert.False((await _uploads.BeginAsync(long.MaxValue / 2, File("large"), default)).Ok);
    }

    [Theory]
    [InlineData("../escape")]
    [InlineData("a/b")]
    [InlineData(".hidden")]
    [InlineData("a\nb")]
    [InlineData("a'b")]
    [InlineData("")]
    [InlineData("a b")]
    public async Task A_name_is_a_name_and_no_path(string name)
    {
        Assert.False((await _uploads.BeginAsync(1, File(name), default)).Ok);
        Assert.Null(await _library.FindAsync(name, default));
    }

    [Fact]
    public async Task A_file_that_was_changed_in_the_folder_is_no_longer_whole()
    {
        Directory.CreateDirectory(_library.Folder);
        await System.IO.File.WriteAllTextAsync(_library.PathOf("by-hand.deb"), "first");
        Assert.Equal("found in the folder", Assert.Single(await _library.AllAsync(default)).Origin);
        Assert.True((await _library.HeldAsync(default))["by-hand.deb"].Whole);
        await System.IO.File.WriteAllTextAsync(_library.PathOf("by-hand.deb"), "other");
        System.IO.File.SetLastWriteTimeUtc(_library.PathOf("by-hand.deb"), DateTime.UtcNow.AddMinutes(5));
        Assert.False((await _library.HeldAsync(default))["by-hand.deb"].Whole);
        Assert.True(await _library.RemoveAsync("by-hand.deb", default));
        Assert.False(await _library.RemoveAsync("by-hand.deb", default));
    }

    [Fact]
    public async Task A_folder_is_taken_in_and_what_can_not_be_named_is_told()
    {
        var from = Directory.CreateDirectory(Path.Combine(_folder, "from")).FullName;
        await System.IO.File.WriteAllTextAsync(Path.Combine(from, "good.tar"), "x");
        await System.IO.File.WriteAllTextAsync(Path.Combine(from, "not so good.tar"), "x");
        var (taken, problems) = await _library.TakeFolderAsync(from, "Wren", default);
        Assert.Equal(["good.tar"], taken.Select(t => t.Name));
        Assert.Contains("not so good.tar", Assert.Single(problems).What);
        Assert.Single((await _library.TakeFolderAsync(from + "x", "Wren", default)).Problems);
    }

    [Fact]
    public async Task Nothing_is_taken_that_is_no_file_or_is_the_services_own()
    {
        var data = Path.Combine(_folder, "data");
        Directory.CreateDirectory(Path.Combine(data, "secrets"));
        await System.IO.File.WriteAllTextAsync(Path.Combine(data, "secrets", "db"), "secret");
        var from = Directory.CreateDirectory(Path.Combine(_folder, "from")).FullName;
        System.IO.File.CreateSymbolicLink(Path.Combine(from, "link"), Path.Combine(data, "secrets", "db"));
        using (var made = System.Diagnostics.Process.Start("mkfifo", Path.Combine(from, "pipe")))
            await made.WaitForExitAsync();
        var (taken, problems) = await _library.TakeFolderAsync(from, "Wren", default);
        Assert.Empty(taken);
        Assert.Equal(2, problems.Count);
        Assert.Contains("is a link to", problems[0].What);
        Assert.Contains("a pipe or a device", problems[1].What);
        // By whatever way it is named.
        Directory.CreateSymbolicLink(Path.Combine(_folder, "way"), data);
        foreach (
            var own in new[]
            {
                data,
                Path.Combine(data, "secrets"),
                Path.Combine(_folder, "way", "secrets"),
                Path.Combine(from, "..", "data", "secrets"),
            }
        )
        {
            (taken, problems) = await _library.TakeFolderAsync(own, "Wren", default);
            Assert.Empty(taken);
            Assert.Contains("the service's own data folder", Assert.Single(problems).What);
        }
    }

    // A line on which nothing comes any more.
    private sealed class Silent : MemoryStream
    {
        public TaskCompletionSource Asked { get; } = new();

        public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken ct = default)
        {
            Asked.TrySetResult();
            await Task.Delay(Timeout.Infinite, ct);
            return 0;
        }
    }

    [Fact]
    public async Task A_silent_upload_blocks_no_other_and_gives_way_to_who_comes_again()
    {
        var bytes = new byte[1000];
        var (slow, quick) = (
            (await _uploads.BeginAsync(bytes.Length, File("slow.img", bytes), default)).Value!,
            (await _uploads.BeginAsync(bytes.Length, File("quick.img", bytes), default)).Value!
        );
        var line = new Silent();
        var waiting = _uploads.AppendAsync(slow.Id, 0, line, default);
        await line.Asked.Task;
        Assert.Equal(1000, (await _uploads.AppendAsync(quick.Id, 0, new MemoryStream(bytes), default)).Offset);
        Assert.False(waiting.IsCompleted);
        var (offset, again) = await _uploads.AppendAsync(slow.Id, 0, new MemoryStream(bytes), default);
        Assert.Equal((1000, true), (offset, again!.Ok));
        Assert.Equal((0, null), await waiting);
    }

    // Serves a file that breaks off, in so many bytes at a time, and heeds ranges.
    private sealed class BreakingServer(byte[] bytes, int each, Func<int, string> tag) : HttpMessageHandler
    {
        public List<long?> From { get; } = [];

        protected override Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken ct)
        {
            var mark = $"\"{tag(From.Count)}\"";
            var from =
                request.Headers.Range?.Ranges.First().From is { } asked
                && request.Headers.IfRange?.EntityTag?.Tag == mark
                    ? asked
                    : (long?)null;
            From.Add(from);
            var start = (int)(from ?? 0);
            var answer = new HttpResponseMessage(from is null ? HttpStatusCode.OK : HttpStatusCode.PartialContent)
            {
                Content = new StreamContent(new MemoryStream(bytes[start..Math.Min(bytes.Length, start + each)])),
            };
            answer.Content.Headers.ContentLength = bytes.Length - start;
            answer.Headers.ETag = new(mark);
            return Task.FromResult(answer);
        }
    }

    [Fact]
    public async Task A_fetch_that_breaks_off_goes_on_as_long_as_it_is_the_same_file()
    {
        var bytes = RandomNumberGenerator.GetBytes(100_000);
        var server = new BreakingServer(bytes, 40_000, _ => "one");
        await using (var fetching = new Fetching(_library, new HttpClient(server), new AtOnce()))
        {
            Assert.Null(
                fetching.Begin(
                    "http://files.example/engine.deb",
                    new Incoming("engine.deb", "http://files.example/engine.deb", "Wren", Sum(bytes))
                )
            );
            Assert.Equal(
                ("done", null),
                await fetching.EndOfAsync("engine.deb", default) is var ended ? (ended!.State, ended.Why) : default
            );
        }
        Assert.Equal([null, 40_000, 80_000], server.From);
        // Another file by the same name: what was fetched of the first is of no use.
        server = new BreakingServer(bytes, 60_000, call => call == 0 ? "one" : "two");
        await using (var fetching = new Fetching(_library, new HttpClient(server), new AtOnce()))
        {
            fetching.Begin("http://files.example/other.deb", new Incoming("other.deb", "x", "Wren", Sum(bytes)));
            Assert.Equal("done", (await fetching.EndOfAsync("other.deb", default))!.State);
            Assert.NotNull(fetching.Begin("ftp://files.example/x", new Incoming("x", "x", "Wren", null)));
        }
        Assert.Equal([null, null, 60_000], server.From);
    }

    // Waits take no time.
    private sealed class AtOnce : TimeProvider
    {
        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period) =>
            System.CreateTimer(
                callback,
                state,
                dueTime == Timeout.InfiniteTimeSpan ? dueTime : TimeSpan.Zero,
                Timeout.InfiniteTimeSpan
            );
    }

    public async ValueTask DisposeAsync()
    {
        await _store.DisposeAsync();
        Directory.Delete(_folder, true);
    }
}
