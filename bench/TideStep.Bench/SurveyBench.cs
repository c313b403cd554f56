using System.Diagnostics;
using System.Net.Sockets;
using System.Text;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Engine;
using TideStep.Engine.Surveys;

namespace TideStep.Bench;

/// <summary>A survey of a thousand stand-in nodes, 64 at once, over loopback.</summary>
internal static class SurveyBench
{
    private const int Nodes = 1000;

    public static async Task<IEnumerable<Figure>> RunAsync(string folder, string standIn)
    {
        const int port = 17471;
        var estateText =
            $"tidestep: estate/1\nestate: bench\nsites: {{s: {{}}}}\n"
            + $"nodes: {{\"n[1-{Nodes}]\": {{site: s, reach: {{by: stand-in, address: "
            + $"\"http://127.0.0.1:{port}\"}}}}}}\ncomponents: {{app: {{product: p, members: "
            + $"[\"n[1-{Nodes}]\"], guard: {{keep: 1, at-once: 5}}}}}}\n";
        const string readingsText =
            "tidestep: readings/1\ntaken: 2026-11-20T10:00:00Z\ncomponents: {app: {running: \"1\", values: "
            + "{sessions: 40, lag: 0 B, size: 12 GiB}}}\n";
        var (estatePath, readingsPath) = (
            Path.Combine(folder, "survey-estate.yaml"),
            Path.Combine(folder, "survey-readings.yaml")
        );
        await File.WriteAllTextAsync(estatePath, estateText, Encoding.UTF8);
        await File.WriteAllTextAsync(readingsPath, readingsText, Encoding.UTF8);
        using var fleet = Process.Start(
            new ProcessStartInfo(standIn, ["--estate", estatePath, "--readings", readingsPath, "--port", $"{port}"])
            {
                RedirectStandardOutput = true,
            }
        )!;
        try
        {
            for (var tries = 0; tries < 200; tries++)
            {
                try
                {
                    using var probe = new TcpClient("127.0.0.1", port);
                    break;
                }
                catch (SocketException)
                {
                    await Task.Delay(50);
                }
            }
            var estate = EstateDocument.Read(estateText, "estate").Value!;
            var product = ProductDocument
                .Read(
                    "tidestep: product/1\nproduct: p\nreleases: {\"1\": {}}\n"
                        + "readings: {sessions: {by: field, unit: count}, lag: {by: field, unit: bytes}, size: "
                        + "{by: field, unit: bytes}}\n",
                    "p"
                )
                .Value!;
            var catalogue = ProductCatalogue.Create([product]).Value!;
            using var http = new HttpClient(new SocketsHttpHandler { MaxConnectionsPerServer = 64 });
            var reader = new MemberReader(
                [new StandInConnector(http, TimeProvider.System)],
                new EngineSettings(1, TimeSpan.FromMilliseconds(200), 64, folder),
                TimeProvider.System
            );
            var times = new List<double>();
            for (var i = 0; i < 4; i++)
            {
                var began = Stopwatch.GetTimestamp();
                var found = await reader.SurveyAsync(estate, catalogue, estate.Components[0].Members, default);
                if (found.Count(f => f.Value.Reachable && f.Value.Reading.Running == "1") != Nodes)
                    throw new InvalidOperationException("not every node was read");
                times.Add(Stopwatch.GetElapsedTime(began).TotalSeconds);
            }
            var median = Measure.Median(times.Skip(1));
            return
            [
                new Figure(
                    $"survey of {Nodes} stand-in nodes, 64 at once",
                    Measure.Write(median, "s"),
                    "10 s",
                    median / 10,
                    "under 1"
                ),
            ];
        }
        finally
        {
            fleet.Kill();
        }
    }
}
