using System.Net;
using System.Net.Http.Json;
using TideStep.Tests;
using Xunit;

namespace TideStep.EndToEnd;

/// <summary>A service that is asked to end, and one that has no room left.</summary>
public sealed class EndingTests
{
    // What its unit gives it before it is ended by force.
    private static readonly TimeSpan Allowed = TimeSpan.FromSeconds(10);

    [Fact]
    public async Task Asked_to_end_it_ends_whatever_is_under_way_and_goes_on_from_there()
    {
        await using var stack = await DemoStack.StartAsync(pace: 200);
        var run = await stack.OpenAsync();
        await stack.Good("run", "start", run);
        await stack.UntilAsync(run, r => r["blocks"]!.ToJsonString().Contains("\"working\"", StringComparison.Ordinal));
        // Somebody watches, somebody sends a large file slowly, a survey waits for nodes that are silent.
        using var watched = await stack.Service.GetAsync(
            $"/api/runs/{run}/changes",
            HttpCompletionOption.ResponseHeadersRead
        );
        Assert.Equal(HttpStatusCode.OK, watched.StatusCode);
        var sent = SendAsync(stack.Service);
        await stack.StillAsync(true);
        var survey = stack.Service.PostAsJsonAsync("/api/surveys", new { });
        Assert.Equal(0, await stack.EndServiceAsync(Allowed));
        await Assert.ThrowsAnyAsync<Exception>(() => sent);
        await Task.WhenAny(survey);
        await stack.StillAsync(false);
        await stack.StartServiceAsync();
        await stack.UntilAsync(run, r => (string)r["status"]! == "completed");
    }

    [Fact]
    public async Task Without_room_nothing_is_lost_and_everybody_is_told()
    {
        Assert.SkipUnless(Environment.IsPrivilegedProcess, "a file system of its own takes root");
        await using var stack = await DemoStack.StartAsync(tiny: true, room: "96m");
        var (first, second) = (await stack.OpenAsync("tiny/goal.yaml"), await stack.OpenAsync("tiny/goal.yaml"));
        await stack.Good("run", "start", first);
        await File.AppendAllTextAsync(stack.Demo("tiny/estate.yaml"), "# changed since\n");
        var ballast = Fill(stack.Data);
        var ready = await stack.Service.GetAsync("/health/ready");
        Assert.Equal(HttpStatusCode.InsufficientStorage, ready.StatusCode);
        Assert.Contains("Make room in", await ready.Content.ReadAsStringAsync());
        // What is kept is still shown.
        Assert.Contains(first, await stack.Good("run", "list"));
        foreach (
            var said in new[]
            {
                await stack.Cli("run", "hold", first),
                await stack.Cli("run", "start", second),
                await stack.Cli("survey", "take"),
                await stack.Cli("estate", "import", stack.Demo("tiny/estate.yaml")),
            }
        )
            Assert.True(said.Status != 0 && said.Error.Contains("room", StringComparison.Ordinal), $"{said}");
        File.Delete(ballast);
        await stack.UntilAsync(first, r => (string)r["status"]! == "completed");
        Assert.Equal(HttpStatusCode.OK, (await stack.Service.GetAsync("/health/ready")).StatusCode);
        await stack.Good("estate", "import", stack.Demo("tiny/estate.yaml"));
    }

    private static async Task<HttpResponseMessage> SendAsync(HttpClient http)
    {
        using var begin = new HttpRequestMessage(HttpMethod.Post, "/api/artefacts/uploads");
        begin.Headers.Add("Tus-Resumable", "1.0.0");
        begin.Headers.Add("Upload-Length", "1000000");
        begin.Headers.Add("Upload-Metadata", $"filename {Convert.ToBase64String("slow.img"u8)}");
        var begun = await http.SendAsync(begin);
        Assert.Equal(HttpStatusCode.Created, begun.StatusCode);
        var body = new StreamContent(new Trickle());
        body.Headers.ContentType = new("application/offset+octet-stream");
        using var send = new HttpRequestMessage(HttpMethod.Patch, begun.Headers.Location) { Content = body };
        send.Headers.Add("Tus-Resumable", "1.0.0");
        send.Headers.Add("Upload-Offset", "0");
        return await http.SendAsync(send);
    }

    // Writes until nothing more goes in.
    private static string Fill(string folder)
    {
        var path = Path.Combine(folder, "ballast");
        using var file = new FileStream(path, FileMode.Create, FileAccess.Write, FileShare.None, 1);
        foreach (var size in new[] { 1 << 20, 1 << 12, 1 })
            try
            {
                while (true)
                    file.Write(new byte[size]);
            }
            catch (IOException)
            { /* full for pieces of this size */
            }
        return path;
    }

    /// <summary>A stream that never ends and gives a byte from time to time.</summary>
    private sealed class Trickle : Stream
    {
        public override bool CanRead => true;
        public override bool CanSeek => false;
        public override bool CanWrite => false;
        public override long Length => throw new NotSupportedException();
        public override long Position
        {
            get => throw new NotSupportedException();
            set => throw new NotSupportedException();
        }

        public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken ct = default)
        {
            await Task.Delay(50, ct);
            buffer.Span[0] = 1;
            return 1;
        }

        public override Task<int> ReadAsync(byte[] buffer, int offset, int count, CancellationToken ct) =>
            ReadAsync(buffer.AsMemory(offset, count), ct).AsTask();

        public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

        public override void Flush() { }

        public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

        public override void SetLength(long value) => throw new NotSupportedException();

        public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    }
}
