using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Net.ServerSentEvents;
using System.Net.Sockets;
using System.Text;
using System.Text.Json.Nodes;

namespace TideStep.Bench;

/// <summary>From an entry's append in the real service to its arrival at a thousand subscribers of its run, while the
/// run works on many members.</summary>
internal static class FeedBench
{
    private const int Subscribers = 1000;

    /// <summary>Every so many-th subscriber reads the times out of what it gets; the others only take it.</summary>
    private const int Reads = 20;
    private const int Members = 240;
    private const int AtOnce = 12;

    // How long what is sent after the first view is, each time.
    private static async Task<List<int>> PageAsync(HttpClient http, string run, CancellationToken ct)
    {
        var sizes = new List<int>();
        try
        {
            await using var stream = await http.GetStreamAsync($"/api/runs/{run}/changes?lanes=current&most=200", ct);
            await foreach (var item in SseParser.Create(stream).EnumerateAsync(ct))
                if (item.EventType == "change")
                    sizes.Add(Encoding.UTF8.GetByteCount(item.Data));
        }
        catch (OperationCanceledException)
        { /* enough was seen */
        }
        return sizes;
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    public static async Task<IEnumerable<Figure>> RunAsync(string folder, string service)
    {
        var (bin, work) = (
            Path.GetDirectoryName(service)!,
            Directory.CreateDirectory(Path.Combine(folder, "feed")).FullName
        );
        var (fleetPort, port) = (FreePort(), FreePort());
        await File.WriteAllTextAsync(
            Path.Combine(work, "estate.yaml"),
            $"tidestep: estate/1\nestate: bench\nsites: {{s: {{}}}}\n"
                + $"nodes: {{\"n[1-{Members}]\": {{site: s, reach: {{by: stand-in, address: "
                + $"\"http://127.0.0.1:{fleetPort}\"}}}}}}\ncomponents: {{app: {{product: p, members: "
                + $"[\"n[1-{Members}]\"], domains: ignored, guard: {{keep: 1, at-once: {AtOnce}}}}}}}\n",
            Encoding.UTF8
        );
        await File.WriteAllTextAsync(
            Path.Combine(work, "readings.yaml"),
            "tidestep: readings/1\ntaken: 2026-11-20T10:00:00Z\ncomponents: {app: {running: \"1\"}}\n",
            Encoding.UTF8
        );
        await File.WriteAllTextAsync(
            Path.Combine(work, "p.yaml"),
            "tidestep: product/1\nproduct: p\nreleases: {\"1\": {}, \"2\": {}}\n"
                + "jumps: {to-2: {from: \"1\", to: \"2\", methods: {rolling: {member: 1 min}}, change: [put]}}\n"
                + "routines: {leave: [stop], return: [start]}\nsteps: {stop: {do: {stop: x}}, put: {do: {install: "
                + "x, version: \"{jump.to}\"}}, start: {do: {start: x}}}\n",
            Encoding.UTF8
        );
        await File.WriteAllTextAsync(
            Path.Combine(work, "goal.yaml"),
            "tidestep: goal/1\ngoal: [{component: app, to: \"2\"}]\n",
            Encoding.UTF8
        );
        Process Start(string program, params string[] arguments)
        {
            var start = new ProcessStartInfo(Path.Combine(bin, program), arguments)
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            };
            foreach (
                var (key, value) in new[]
                {
                    ("TIDESTEP_DATA", Path.Combine(work, "data")),
                    ("TIDESTEP_HOME", Path.Combine(work, "home")),
                    ("TIDESTEP_NAME", "bench"),
                    ("TIDESTEP_SERVER", $"http://127.0.0.1:{port}"),
                }
            )
                start.Environment[key] = value;
            return Process.Start(start)!;
        }
        async Task<string> Cli(params string[] arguments)
        {
            using var cli = Start("tidestep", arguments);
            var (output, error) = (cli.StandardOutput.ReadToEndAsync(), cli.StandardError.ReadToEndAsync());
            await cli.WaitForExitAsync();
            return cli.ExitCode == 0
                ? await output
                : throw new InvalidOperationException($"tidestep {string.Join(' ', arguments)}: {await error}");
        }
        using var fleet = Start(
            "tidestep-standin",
            "--estate",
            Path.Combine(work, "estate.yaml"),
            "--readings",
            Path.Combine(work, "readings.yaml"),
            "--port",
            $"{fleetPort}",
            "--pace",
            "150"
        );
        using var served = Start("tidestep-service", "--port", $"{port}", "--pace", "150");
        using var http = new HttpClient(new SocketsHttpHandler { MaxConnectionsPerServer = 2 * Subscribers })
        {
            BaseAddress = new Uri($"http://127.0.0.1:{port}"),
            Timeout = Timeout.InfiniteTimeSpan,
        };
        try
        {
            _ = served.StandardOutput.ReadToEndAsync();
            _ = fleet.StandardOutput.ReadToEndAsync();
            while (true)
            {
                if (served.HasExited || fleet.HasExited)
                    throw new InvalidOperationException("the service or the fleet does not stay up");
                try
                {
                    if ((await http.GetAsync("/health/ready")).IsSuccessStatusCode)
                        break;
                }
                catch (HttpRequestException)
                {
                    await Task.Delay(20);
                }
            }
            http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue(
                "Bearer",
                (await File.ReadAllTextAsync(Path.Combine(work, "data", "access.key"))).Trim()
            );
            await Cli(
                "estate",
                "import",
                Path.Combine(work, "estate.yaml"),
                Path.Combine(work, "p.yaml"),
                Path.Combine(work, "readings.yaml")
            );
            var plan = (string)
                JsonNode.Parse(
                    await Cli("plan", "make", "--goal", Path.Combine(work, "goal.yaml"), "--format", "json")
                )!["digest"]!;
            var run = (await Cli("run", "open", plan)).Trim().Split('\n')[0].Split(' ').First(w => w.StartsWith('r'));
            using var stop = new CancellationTokenSource();
            var (late, entries) = (new List<double>(), 0L);
            var ready = new CountdownEvent(Subscribers);
            var listening = Enumerable
                .Range(0, Subscribers)
                .Select(i => Task.Run(() => ListenAsync(i % Reads == 0)))
                .ToList();
            var page = Task.Run(() => PageAsync(http, run, stop.Token));
            while (!ready.IsSet)
                await Task.Delay(50);
            await Task.Delay(500);
            await Cli("run", "start", run);
            lock (late)
            {
                late.Clear();
                entries = 0;
            }
            var watch = Stopwatch.StartNew();
            while (
                (string?)(await http.GetFromJsonAsync<JsonObject>($"/api/runs/{run}"))!["status"]
                    is not "completed"
                        and not "halted"
                && watch.Elapsed < TimeSpan.FromSeconds(20)
            )
                await Task.Delay(500);
            var took = watch.Elapsed.TotalSeconds;
            await Task.Delay(500);
            await stop.CancelAsync();
            await Task.WhenAll(listening);
            var sizes = (await page).Order().ToList();
            double[] sorted;
            lock (late)
                sorted = [.. late.Order()];
            var (each, p99) = (entries / (double)(Subscribers / Reads) / took, sorted[(int)(sorted.Length * 0.99)]);
            return
            [
                new Figure(
                    $"an event to {Subscribers} subscribers, p99, at "
                        + $"{each.ToString("0", CultureInfo.InvariantCulture)} events/s",
                    Measure.Write(p99, $"ms (half within {sorted[sorted.Length / 2]:0.#} ms)"),
                    "100 ms",
                    p99 / 100,
                    "under 1"
                ),
                new Figure(
                    $"what keeps a page of that run up to date, each time, p99 of {sizes.Count}",
                    Measure.Write(sizes[(int)(sizes.Count * 0.99)] / 1024.0, "KiB")
                        + $" (half within {sizes[sizes.Count / 2]} B)",
                    "4 KiB",
                    sizes[(int)(sizes.Count * 0.99)] / 4096.0,
                    "under 1"
                ),
            ];

            async Task ListenAsync(bool reads)
            {
                try
                {
                    using var response = await http.GetAsync(
                        $"/api/runs/{run}/events",
                        HttpCompletionOption.ResponseHeadersRead,
                        stop.Token
                    );
                    await using var stream = await response.Content.ReadAsStreamAsync(stop.Token);
                    ready.Signal();
                    if (!reads)
                    {
                        var taken = new byte[16384];
                        while (await stream.ReadAsync(taken, stop.Token) > 0)
                        { /* only taken */
                        }
                        return;
                    }
                    using var lines = new StreamReader(stream);
                    while (await lines.ReadLineAsync(stop.Token) is { } line)
                    {
                        var now = DateTimeOffset.UtcNow;
                        var at = line.IndexOf("\"at\":\"", StringComparison.Ordinal);
                        if (at < 0)
                            continue;
                        var end = line.IndexOf('"', at + 6);
                        var appended = DateTimeOffset.Parse(
                            line.AsSpan(at + 6, end - at - 6),
                            CultureInfo.InvariantCulture
                        );
                        lock (late)
                        {
                            late.Add((now - appended).TotalMilliseconds);
                            entries++;
                        }
                    }
                }
                catch (OperationCanceledException)
                { /* enough was heard */
                }
            }
        }
        finally
        {
            served.Kill();
            fleet.Kill();
        }
    }
}
