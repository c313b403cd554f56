using System.Diagnostics;

namespace TideStep.Bench;

/// <summary>The service's cold start to its first answer against an empty service of the same framework.</summary>
internal static class StartBench
{
    public static async Task<IEnumerable<Figure>> RunAsync(string folder, string service, string empty)
    {
        var port = 23000 + Random.Shared.Next(20000);
        using var http = new HttpClient();
        async Task Start(string program, string[] arguments)
        {
            var start = new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true };
            start.Environment["TIDESTEP_DATA"] = Path.Combine(folder, "start");
            using var process = Process.Start(start)!;
            while (true)
            {
                try
                {
                    if ((await http.GetAsync($"http://127.0.0.1:{port}/health/live")).IsSuccessStatusCode)
                        break;
                }
                catch (HttpRequestException)
                {
                    await Task.Delay(2);
                }
            }
            process.Kill();
            await process.WaitForExitAsync();
        }
        var (ours, theirs) = await Measure.InTurn(
            7,
            () => Start(service, ["--port", $"{port}"]),
            () => Start(empty, ["--urls", $"http://127.0.0.1:{port}"])
        );
        return
        [
            new Figure(
                "service, cold start to first answer",
                Measure.Write(ours * 1000, "ms"),
                Measure.Write(theirs * 1000, "ms for an empty service"),
                ours / theirs,
                "under 1.5"
            ),
        ];
    }
}
