using System.Diagnostics;
using System.Net;
using System.Net.Http.Json;
using System.Net.Sockets;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace TideStep.Tests;

/// <summary>The real thing on loopback: the stand-in fleet and the service as processes of their own, driven through
/// the command line and the HTTP API.</summary>
public sealed class DemoStack : IAsyncDisposable
{
    private static readonly string Root = FindRoot();
    private static readonly string Configuration = AppContext.BaseDirectory.Contains("/Release/") ? "Release" : "Debug";

    // Whatever day it is, the demo's story is told on its planning day.
    private static readonly long Ahead = (long)
        (
            DateTimeOffset.Parse(
                File.ReadAllText(Path.Combine(Root, "demo", "planning-day")).Trim(),
                System.Globalization.CultureInfo.InvariantCulture
            ) - DateTimeOffset.UtcNow
        ).TotalSeconds;

    /// <summary>The day on which the demo's story is told, as commands take it.</summary>
    public static string PlanningDay => Now.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);

    /// <summary>Now, by the clock that all programs of a stack share.</summary>
    public static DateTimeOffset Now => DateTimeOffset.UtcNow.AddSeconds(Ahead);

    private readonly string _work = Directory.CreateTempSubdirectory("tidestep-test").FullName;
    private readonly double _pace;
    private Process? _fleet;
    private Process? _service;
    private bool _mounted;
    private string[] _options = [];

    private DemoStack(double pace)
    {
        _pace = pace;
        (Port, FleetPort, DoorPort) = FreePorts();
        Service = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{Port}") };
        Fleet = new HttpClient { BaseAddress = new Uri($"http://127.0.0.1:{FleetPort}") };
    }

    public int Port { get; }
    public int FleetPort { get; }

    /// <summary>A free port for a door to the network.</summary>
    public int DoorPort { get; }

    /// <summary>The service's API with the access key and a name.</summary>
    public HttpClient Service { get; }
    public HttpClient Fleet { get; }
    public string Work => _work;

    /// <summary>The service's data folder.</summary>
    public string Data => Path.Combine(_work, "data");

    /// <summary>A demo document, with the fleet's address of this stack.</summary>
    public string Demo(string name) => Path.Combine(_work, "demo", name);

    /// <summary>The stack with the demo's estate, or with the tiny one of twelve members.</summary>
    /// <param name="past">Whether the demo's earlier nights are in it, and it is started with its guide.</param>
    /// <param name="options">What else the service is started with.</param>
    /// <param name="room">A size, as in "96m", of a file system of its own for the data folder; for root.</param>
    public static async Task<DemoStack> StartAsync(
        double pace = 600,
        bool tiny = false,
        bool empty = false,
        bool past = false,
        string? room = null,
        Func<DemoStack, string[]>? options = null
    )
    {
        var of = tiny ? "tiny/" : "";
        var stack = new DemoStack(pace);
        stack._options = options?.Invoke(stack) ?? [];
        try
        {
            foreach (
                var file in Directory.EnumerateFiles(Path.Combine(Root, "demo"), "*.yaml", SearchOption.AllDirectories)
            )
            {
                var target = stack.Demo(Path.GetRelativePath(Path.Combine(Root, "demo"), file));
                Directory.CreateDirectory(Path.GetDirectoryName(target)!);
                await File.WriteAllTextAsync(
                    target,
                    (await File.ReadAllTextAsync(file)).Replace("127.0.0.1:7471", $"127.0.0.1:{stack.FleetPort}")
                );
            }
            stack._fleet = stack.Launch(
                "StandIn",
                "tidestep-standin",
                default,
                "--estate",
                stack.Demo($"{of}estate.yaml"),
                "--readings",
                stack.Demo($"{of}readings.yaml"),
                "--port",
                $"{stack.FleetPort}",
                "--pace",
                $"{pace}"
            );
            if (room is not null)
            {
                Directory.CreateDirectory(stack.Data);
                stack._mounted = await RanAsync("mount", "-t", "tmpfs", "-o", $"size={room}", "tmpfs", stack.Data);
            }
            if (past)
                await stack.TakePastAsync();
            await stack.StartServiceAsync();
            await stack.Answers(stack.Fleet, "/");
            if (past)
                await stack.GivePointsAsync();
            stack.Service.DefaultRequestHeaders.Authorization = new("Bearer", stack.Key);
            stack.Service.DefaultRequestHeaders.Add("Tide-Step-Name", "Wren%20Hale");
            if (empty)
                return stack;
            await stack.Good(
                "estate",
                "import",
                stack.Demo($"{of}estate.yaml"),
                stack.Demo("catalogue"),
                stack.Demo($"{of}readings.yaml")
            );
            await stack.Good(
                "artefact",
                "add",
                Path.Combine(Root, "demo", "artefacts", "pratincole-7.1-small.img"),
                Path.Combine(Root, "demo", "artefacts", "mended")
            );
            return stack;
        }
        catch
        {
            await stack.DisposeAsync();
            throw;
        }
    }

    private static async Task<bool> RanAsync(string command, params string[] arguments)
    {
        using var process = Process.Start(command, arguments);
        await process.WaitForExitAsync();
        return process.ExitCode == 0
            ? true
            : throw new InvalidOperationException($"{command} {string.Join(' ', arguments)} failed");
    }

    private async Task TakePastAsync()
    {
        var data = Directory.CreateDirectory(Data);
        await using var kept = File.OpenRead(Path.Combine(Root, "demo", "past", "tidestep.db.gz"));
        await using var whole = new System.IO.Compression.GZipStream(
            kept,
            System.IO.Compression.CompressionMode.Decompress
        );
        await using var database = File.Create(Path.Combine(data.FullName, "tidestep.db"));
        await whole.CopyToAsync(database);
        File.Copy(Path.Combine(Root, "demo", "what-to-try.md"), Demo("what-to-try.md"));
    }

    private async Task GivePointsAsync()
    {
        var points = await File.ReadAllTextAsync(Path.Combine(Root, "demo", "past", "points.json"));
        using var body = new StringContent(points, System.Text.Encoding.UTF8, "application/json");
        (await Fleet.PutAsync("/points", body)).EnsureSuccessStatusCode();
    }

    public string Key => File.ReadAllText(Path.Combine(Data, "access.key")).Trim();

    /// <summary>Starts the service.</summary>
    /// <param name="ends">The moment at which it ends itself by force; it is waited for where there is none.</param>
    /// <param name="later">How far its clock is ahead of that of the others.</param>
    /// <param name="ready">Whether it is waited for.</param>
    public async Task StartServiceAsync(string? ends = null, TimeSpan later = default, bool ready = true)
    {
        var console = Path.Combine(Root, "console", "dist");
        string[] guide = File.Exists(Demo("what-to-try.md")) ? ["--guide", Demo("what-to-try.md")] : [];
        _service = Launch(
            "Service",
            "tidestep-service",
            (ends, later),
            ["--port", $"{Port}", "--pace", $"{_pace}", "--console", console, .. guide, .. _options]
        );
        if (ends is null && ready)
            await Answers(Service, "/health/ready", _service);
    }

    /// <summary>Starts one of the programs, to be ended in the middle of its work.</summary>
    public Process Begin(string project, string program, params string[] arguments)
    {
        var start = Program(project, program, arguments);
        (start.RedirectStandardOutput, start.RedirectStandardError) = (true, true);
        var process = Process.Start(start)!;
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        return process;
    }

    /// <summary>Starts a service beside ours, which must end by itself; gives its exit status and what it
    /// said.</summary>
    public Task<(int Status, string Error)> SecondServiceAsync(params string[] arguments) =>
        SecondServiceAsync([], arguments);

    /// <summary>The same with variables of the environment.</summary>
    public async Task<(int Status, string Error)> SecondServiceAsync(
        Dictionary<string, string> environment,
        string[] arguments
    )
    {
        var start = Program("Service", "tidestep-service", arguments);
        foreach (var (name, value) in environment)
            start.Environment[name] = value;
        start.RedirectStandardError = true;
        using var process = Process.Start(start)!;
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        var error = await process.StandardError.ReadToEndAsync(limit.Token);
        await process.WaitForExitAsync(limit.Token);
        return (process.ExitCode, error);
    }

    /// <summary>Ends the service with SIGKILL: nothing of it runs to an end.</summary>
    public async Task KillServiceAsync()
    {
        _service!.Kill();
        await _service.WaitForExitAsync();
    }

    /// <summary>Asks the service to end, as the system does it, and waits until it has.</summary>
    /// <param name="within">The longest that it may take.</param>
    public async Task<int> EndServiceAsync(TimeSpan within)
    {
        using var kill = Process.Start("/bin/kill", ["-TERM", $"{_service!.Id}"]);
        using var limit = new CancellationTokenSource(within);
        await _service.WaitForExitAsync(limit.Token);
        return _service.ExitCode;
    }

    /// <summary>Lets the whole fleet stand still: whoever asks a node gets no answer and no error; with
    /// <paramref name="still"/> false it goes on.</summary>
    public async Task StillAsync(bool still)
    {
        using var kill = Process.Start("/bin/kill", [still ? "-STOP" : "-CONT", $"{_fleet!.Id}"]);
        await kill.WaitForExitAsync();
    }

    /// <summary>Starts a service that ends itself by force at a moment (see <c>TIDESTEP_ENDS</c>), and waits until it
    /// has, or until a run needs nothing more from it.</summary>
    /// <param name="ends">The moment, as in <c>append:2</c>.</param>
    /// <param name="run">The run.</param>
    /// <param name="enough">Whether the run, as it is read from the service, needs nothing more.</param>
    /// <param name="once">What is asked of the service once it is there; that it ends before it has answered is no
    /// failure.</param>
    /// <returns>Whether it ended; else it goes on.</returns>
    public async Task<bool> ServeUntilEndedAsync(
        string ends,
        string run,
        Func<JsonObject, bool> enough,
        Func<Task>? once = null
    )
    {
        await StartServiceAsync(ends);
        for (var until = DateTime.UtcNow.AddMinutes(2); ; await Task.Delay(10))
        {
            if (_service!.HasExited)
                return true;
            if (DateTime.UtcNow > until)
                throw new TimeoutException(
                    $"the service neither ends at {ends} nor is run {run} where it should be: {await StandsAsync(run)}"
                );
            try
            {
                if (once is { } ask)
                {
                    (await Service.GetAsync("/health/ready")).EnsureSuccessStatusCode();
                    once = null;
                    await ask();
                }
                if (enough(await RunAsync(run)))
                    return false;
            }
            catch (Exception e) when (e is HttpRequestException or IOException or SocketException)
            { /* not up yet, or gone in the middle of an answer or of a connection */
            }
        }
    }

    // What a run and the one that leads it back have come to, for a failure that can't be made to happen again.
    private async Task<string> StandsAsync(string run)
    {
        var view = await RunAsync(run);
        var last = (await JournalAsync(run)).TakeLast(12).Select(e => e!.ToJsonString());
        var said = $"{run} is {view["status"]}, halt {view["halt"]}, after\n{string.Join("\n", last)}";
        return (string?)view["child"] is { } child ? $"{said}\n{await StandsAsync(child)}" : said;
    }

    private async Task Answers(HttpClient http, string path, Process? of = null)
    {
        for (var until = DateTime.UtcNow.AddMinutes(2); ; await Task.Delay(30))
        {
            try
            {
                if ((await http.GetAsync(path)).IsSuccessStatusCode)
                    return;
            }
            catch (HttpRequestException) when (DateTime.UtcNow < until)
            { /* not up yet */
            }
            if (DateTime.UtcNow > until)
                throw new TimeoutException($"{http.BaseAddress}{path} does not answer as it should");
            if (of is { HasExited: true })
                throw new InvalidOperationException(
                    $"what should answer at {http.BaseAddress} ended with {of.ExitCode}:\n"
                        + File.ReadAllText(Path.Combine(_work, "log"))
                );
        }
    }

    private Process Launch(
        string project,
        string program,
        (string? Ends, TimeSpan Later) its,
        params string[] arguments
    )
    {
        var start = Program(project, program, arguments);
        start.Environment["TIDESTEP_CLOCK_AHEAD"] = (Ahead + (long)its.Later.TotalSeconds).ToString(
            System.Globalization.CultureInfo.InvariantCulture
        );
        if (its.Ends is { } ends)
            start.Environment["TIDESTEP_ENDS"] = ends;
        (start.RedirectStandardOutput, start.RedirectStandardError) = (true, true);
        var process = Process.Start(start)!;
        process.OutputDataReceived += (_, e) => Log(e.Data);
        process.ErrorDataReceived += (_, e) => Log(e.Data);
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        return process;
    }

    private void Log(string? line)
    {
        if (line is null)
            return;
        lock (_work)
            File.AppendAllText(Path.Combine(_work, "log"), line + "\n");
    }

    /// <summary>The path of a program: the published one, which is compiled ahead and there sooner, where it was made
    /// of the build that is tested, or else that build's.</summary>
    public static string Executable(string project, string program)
    {
        var built = Path.Combine(Root, "src", $"TideStep.{project}", "bin", Configuration, "net10.0");
        var published = Path.Combine(Root, "bin");
        var newer = Directory
            .EnumerateFiles(built, "*.dll")
            .Where(d => Path.GetFileName(d).StartsWith("tidestep", StringComparison.OrdinalIgnoreCase))
            .All(d => Made(Path.Combine(published, Path.GetFileName(d))) >= Made(d));
        return Path.Combine(newer ? published : built, program);
    }

    // Long ago where there is no such file.
    private static DateTime Made(string file) => File.GetLastWriteTimeUtc(file);

    private ProcessStartInfo Program(string project, string program, string[] arguments)
    {
        var start = new ProcessStartInfo(Executable(project, program), arguments) { WorkingDirectory = Root };
        start.Environment["TIDESTEP_DATA"] = Data;
        start.Environment["TIDESTEP_HOME"] = _work;
        start.Environment["TIDESTEP_NAME"] = "Wren Hale";
        start.Environment["TIDESTEP_CLOCK_AHEAD"] = Ahead.ToString(System.Globalization.CultureInfo.InvariantCulture);
        // Whatever is asked of a service, it gets by with a heap of 512 MiB.
        if (project == "Service")
            start.Environment["DOTNET_GCHeapHardLimit"] = "20000000";
        start.Environment["TIDESTEP_SERVER"] = $"http://127.0.0.1:{Port}";
        return start;
    }

    public sealed record Ran(int Status, string Output, string Error);

    /// <summary>Runs <c>tidestep</c> to its end.</summary>
    public Task<Ran> Cli(params string[] arguments) => CliAs("Wren Hale", arguments);

    /// <summary>The same under another person's name.</summary>
    public Task<Ran> CliAs(string name, params string[] arguments) => CliAs(name, null, arguments);

    /// <summary>Runs <c>tidestep</c> as on a terminal of that many columns.</summary>
    public Task<Ran> CliOf(int columns, params string[] arguments) => CliAs("Wren Hale", columns, arguments);

    /// <summary>Runs <c>tidestep</c> with a profile of its own: what is signed in with stands there.</summary>
    public Task<Ran> CliAt(string home, params string[] arguments) => CliAs("Wren Hale", null, arguments, home);

    /// <summary>Runs <c>tidestep</c> on another machine, from where it calls this one.</summary>
    /// <param name="machine">The network namespace.</param>
    /// <param name="server">The service's address.</param>
    public Task<Ran> CliFrom(string machine, string server, string home, params string[] arguments) =>
        CliAs("Wren Hale", null, arguments, home, (machine, server));

    private async Task<Ran> CliAs(
        string name,
        int? columns,
        string[] arguments,
        string? home = null,
        (string Machine, string Server)? from = null
    )
    {
        var start = Program("Cli", "tidestep", arguments);
        start.Environment["TIDESTEP_HOME"] = home ?? _work;
        if (from is { } elsewhere)
        {
            start.Environment["TIDESTEP_SERVER"] = elsewhere.Server;
            start.Environment["TIDESTEP_DATA"] = home;
            start.ArgumentList.Insert(0, start.FileName);
            start.ArgumentList.Insert(0, $"--net=/run/netns/{elsewhere.Machine}");
            start.FileName = "nsenter";
        }
        start.Environment["COLUMNS"] = $"{columns}";
        start.Environment["TIDESTEP_NAME"] = name;
        (start.RedirectStandardOutput, start.RedirectStandardError) = (true, true);
        using var process = Process.Start(start)!;
        var (output, error) = (process.StandardOutput.ReadToEndAsync(), process.StandardError.ReadToEndAsync());
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(3));
        try
        {
            await process.WaitForExitAsync(limit.Token);
        }
        catch (OperationCanceledException)
        {
            process.Kill();
            throw new TimeoutException($"tidestep {string.Join(' ', arguments)} did not end:\n{await output}");
        }
        return new Ran(process.ExitCode, await output, await error);
    }

    /// <summary>Runs <c>tidestep</c>, which must end with 0, and gives its output.</summary>
    public async Task<string> Good(params string[] arguments)
    {
        var ran = await Cli(arguments);
        return ran.Status == 0
            ? ran.Output
            : throw new InvalidOperationException(
                $"tidestep {string.Join(' ', arguments)} ended with {ran.Status}:\n{ran.Output}\n{ran.Error}\n"
                    + (
                        File.Exists(Path.Combine(_work, "log"))
                            ? await File.ReadAllTextAsync(Path.Combine(_work, "log"))
                            : ""
                    )
            );
    }

    /// <summary>Opens a run of the plan to a goal; it has not begun.</summary>
    public async Task<string> OpenAsync(string goal = "goals/relay.yaml", string label = "")
    {
        var digest = JsonDocument
            .Parse(await Good("plan", "make", "--goal", Demo(goal), "--format", "json"))
            .RootElement.GetProperty("digest")
            .GetString()!;
        return JsonDocument
            .Parse(await Good("run", "open", digest, "--label", label, "--format", "json"))
            .RootElement.GetProperty("run")
            .GetString()!;
    }

    /// <summary>A run of the relay to 3.2 that has halted on its second node, whose package has another
    /// checksum.</summary>
    public async Task<string> HaltedAsync(string label = "South shore: relay to 3.2")
    {
        await FaultAsync("ss-rel-2", "install", "bad-checksum");
        var run = await OpenAsync(label: label);
        await Good("run", "start", run);
        await UntilAsync(run, r => (string)r["status"]! == "halted");
        return run;
    }

    public Task FaultAsync(string node, string verb, string kind, double seconds = 0) =>
        Fleet.PostAsJsonAsync(
            "/faults",
            new
            {
                node,
                verb,
                kind,
                seconds,
            }
        );

    /// <summary>Mends what the demo has short on purpose, as a person would: the disk of one ledger node is
    /// grown.</summary>
    public async Task GrowDiskAsync() =>
        (await ReadsAsync("ss-led-3", "ledger-south", "free(\"/data\")", "64 GiB")).EnsureSuccessStatusCode();

    /// <summary>Every fault is over.</summary>
    public async Task MendAsync() => (await Fleet.DeleteAsync("/faults")).EnsureSuccessStatusCode();

    /// <summary>Does something on a node of the fleet by hand, past Tide Step, and waits for its end.</summary>
    public Task CommandAsync(string node, string component, params string[] arguments) =>
        ByHandAsync(node, component, "command", arguments);

    /// <summary>The same for any verb.</summary>
    public async Task ByHandAsync(string node, string component, string verb, params string[] arguments)
    {
        var (attempt, startBy) = ($"h{Guid.NewGuid():N}", Now.AddMinutes(1).ToUnixTimeSeconds());
        (
            await Fleet.PostAsJsonAsync(
                $"/nodes/{node}/attempts",
                new
                {
                    installation = "by-hand",
                    attempt,
                    epoch = 1,
                    sequence = 1,
                    startBy,
                    component,
                    verb,
                    arguments,
                }
            )
        ).EnsureSuccessStatusCode();
        for (
            var until = DateTime.UtcNow.AddMinutes(1);
            (string?)
                (await Fleet.GetFromJsonAsync<JsonObject>($"/nodes/{node}/attempts/{attempt}?installation=by-hand"))![
                    "state"
                ] != "ended";
            await Task.Delay(20)
        )
            if (DateTime.UtcNow > until)
                throw new TimeoutException($"{node} does not end {verb} {string.Join(' ', arguments)}");
    }

    /// <summary>Has a node of the fleet tell another value.</summary>
    public Task<HttpResponseMessage> ReadsAsync(string node, string component, string name, string value) =>
        Fleet.PutAsJsonAsync(
            $"/nodes/{node}/readings",
            new
            {
                component,
                name,
                value,
            }
        );

    /// <summary>Signs everything that a plan asks people to have done before.</summary>
    public async Task SignAllAsync(string plan)
    {
        var kept = JsonNode.Parse(await Good("plan", "show", plan, "--format", "json"))!;
        foreach (
            var title in kept["plan"]!["tasks"]!
                .AsArray()
                .Where(t => (string)t!["when"]! == "before")
                .Select(t => (string)t!["title"]!)
                .Distinct()
        )
            await Good("check", "sign", plan, title, "--evidence", "seen");
    }

    public async Task<JsonObject> RunAsync(string run) =>
        (await Service.GetFromJsonAsync<JsonObject>($"/api/runs/{run}"))!;

    public async Task<JsonArray> JournalAsync(string run) =>
        (await Service.GetFromJsonAsync<JsonArray>($"/api/runs/{run}/journal"))!;

    /// <summary>What the fleet itself says was done.</summary>
    public async Task<List<(string Node, string Verb, string What)>> DeedsAsync() =>
        [
            .. (await Fleet.GetFromJsonAsync<JsonArray>("/record"))!.Select(d =>
                ((string)d!["node"]!, (string)d["verb"]!, (string)d["what"]!)
            ),
        ];

    /// <summary>Waits until the fleet says that something was done.</summary>
    public async Task UntilDoneAsync(Func<(string Node, string Verb, string What), bool> deed)
    {
        for (var until = DateTime.UtcNow.AddMinutes(2); !(await DeedsAsync()).Any(deed); await Task.Delay(20))
            if (DateTime.UtcNow > until)
                throw new TimeoutException("the fleet never did it");
    }

    /// <summary>Waits until a run fulfils a condition.</summary>
    public async Task<JsonObject> UntilAsync(string run, Func<JsonObject, bool> condition)
    {
        for (var until = DateTime.UtcNow.AddMinutes(2); ; await Task.Delay(20))
        {
            var now = await RunAsync(run);
            if (condition(now))
                return now;
            if (DateTime.UtcNow > until)
                throw new TimeoutException($"run {run} is {now["status"]}, {now["halt"]}");
        }
    }

    // All are held at once, or the second could be the first again; and no two stacks of a process get the same.
    private static (int, int, int) FreePorts()
    {
        while (true)
        {
            var held = Enumerable.Range(0, 3).Select(_ => new TcpListener(IPAddress.Loopback, 0)).ToList();
            held.ForEach(l => l.Start());
            var ports = held.Select(l => ((IPEndPoint)l.LocalEndpoint).Port).ToList();
            held.ForEach(l => l.Dispose());
            lock (_given)
                if (!ports.Any(_given.Contains))
                {
                    _given.UnionWith(ports);
                    return (ports[0], ports[1], ports[2]);
                }
        }
    }

    private static readonly HashSet<int> _given = [];

    private static string FindRoot()
    {
        var at = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(at, "TideStep.slnx")))
            at = Path.GetDirectoryName(at)!;
        return at;
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var process in new[] { _service, _fleet })
            if (process is { HasExited: false })
            {
                process.Kill();
                await process.WaitForExitAsync();
            }
        Service.Dispose();
        Fleet.Dispose();
        if (_mounted)
            await RanAsync("umount", Data);
        Folders.Remove(_work);
    }
}
