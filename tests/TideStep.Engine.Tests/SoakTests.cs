using Microsoft.Extensions.Time.Testing;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>A whole day of simulated time: fifty runs in ten platforms side by side, with faults, holds, lost contact
/// and clock changes at random. Run by <c>make soak</c>.</summary>
public sealed class SoakTests(ITestOutputHelper output)
{
    private const int Platforms = 10,
        RunsEach = 5;
    private static readonly TimeSpan Day = TimeSpan.FromHours(24);

    private const string Product = """
        releases: {"6": {}, "7": {}}
        jumps:
          to-7: {from: "=6", to: "7", methods: {rolling: {member: 10 min, settle: 10 min}}, change: [quiet, put]}
          to-6: {from: "=7", to: "6", down: true, methods: {rolling: {member: 10 min, settle: 10 min}},
              change: [quiet, put]}

        """;

    private static Fleet Estate()
    {
        var fleet = new Fleet();
        for (var p = 0; p < Platforms; p++)
            fleet
                .Node($"p{p}n[1-3]", "site: s, reach: {by: stand-in, address: x}")
                .With($"app{p}", "engine", "6", $"\"p{p}n[1-3]\"", "guard: {keep: 2}");
        return fleet.Product("engine", Product + Carriage.Steps.Replace("limit: 1 s", "limit: 5 min"));
    }

    [Theory(Explicit = true)]
    [InlineData(1)]
    [InlineData(2)]
    public async Task A_day_of_fifty_runs_leaves_nothing_behind(int seed)
    {
        var folder = Directory.CreateTempSubdirectory("tidestep-soak").FullName;
        var time = new FakeTimeProvider(Nights.At(-36, 12));
        var (far, chance, gate) = (new FarSide(), new Random(seed), new Lock());
        double Next()
        {
            lock (gate)
                return chance.NextDouble();
        }
        far.Outcome = (_, action) =>
            action.Verb is "command" or "install" or "start" or "stop" && Next() < 0.02 ? 1 : 0;
        far.Around = (call, node, _) =>
            call is not ("raise" or "read") && Next() < 0.01 ? throw FarSide.Away(node) : Task.CompletedTask;
        for (var p = 0; p < Platforms; p++)
        for (var n = 1; n <= 3; n++)
            far.SetRunning($"p{p}n{n}", $"app{p}", "6");
        var settings = new EngineSettings(1, TimeSpan.FromSeconds(5), 64, "/nowhere");
        await using var store = new SqliteStore(Path.Combine(folder, "t.db"));
        var reader = new MemberReader([far], settings, time);
        var estates = new EstateDesk(store, reader, time);
        var feed = new RunFeed();
        var wrong = new List<string>();
        var runs = new RunDesk(estates, store, store, feed, reader, settings, time, "t", "me", (what, e) =>
        {
            lock (wrong)
                wrong.Add($"{what}: {e}");
        });
        var fleet = Estate();
        var (_, problems) = await estates.ImportAsync(
            [
                new("estate.yaml", fleet.EstateText),
                new("engine.yaml", fleet.ProductTexts["engine"]),
                new(
                    "readings.yaml",
                    $"tidestep: readings/1\ntaken: {Nights.On(-36)}T10:00:00Z\ncomponents:\n"
                        + string.Concat(Enumerable.Range(0, Platforms).Select(p => $"  app{p}: {{running: \"6\"}}\n"))
                ),
            ],
            "Wren",
            default
        );
        Assert.Empty(problems);

        var (began, ended, halts, holds) = (time.GetUtcNow(), 0, 0, 0);
        long memory = 0;
        var handles = 0;
        var platforms = Enumerable.Range(0, Platforms).Select(PlatformAsync).ToList();
        // Simulated time goes on whenever everybody waits; now and then a clock is set back or on.
        var all = Task.WhenAll(platforms);
        for (var beat = 1; !all.IsCompleted; beat++)
        {
            await Task.WhenAny(all, Task.Delay(1));
            time.Advance(TimeSpan.FromSeconds(5));
            if (beat % 2000 == 0)
                time.AdjustTime(time.GetUtcNow() + TimeSpan.FromMinutes(Next() < 0.5 ? -60 : 60));
            if (ended >= Platforms && memory == 0)
                (memory, handles) = (GC.GetTotalMemory(forceFullCollection: true), Handles());
        }
        await all;
        await runs.DisposeAsync();
        output.WriteLine(
            $"seed {seed}: {ended} runs in {(time.GetUtcNow() - began).TotalHours:0.0} simulated hours, "
                + $"{halts} halts, {holds} holds; memory {memory >> 20} MiB after {Platforms} runs, "
                + $"{GC.GetTotalMemory(true) >> 20} MiB at the end; handles {handles} and {Handles()}"
        );

        Assert.Empty(wrong);
        Assert.Equal(Platforms * RunsEach, ended);
        Assert.True(time.GetUtcNow() - began > Day * 0.8, "the day was no day");
        Assert.True(halts > 0 && holds > 0, "nothing went wrong: the chances are too small to show anything");
        Assert.Empty(far.Measures);
        Assert.Equal(0, far.Stopped);
        for (var p = 0; p < Platforms; p++)
        for (var n = 1; n <= 3; n++)
            Assert.Equal("7", far.RunningOf($"p{p}n{n}", $"app{p}"));
        // Nothing is reserved any more: whoever comes next may have everything.
        Assert.Empty(
            await store.ReserveAsync(
                "next",
                [
                    .. Enumerable
                        .Range(0, Platforms)
                        .SelectMany(p =>
                            Enumerable.Range(1, 3).Select(n => $"node p{p}n{n}").Append($"component app{p}")
                        ),
                ],
                default
            )
        );
        Assert.Empty(await store.RunsAsync(openOnly: true, 100, null, default));
        Assert.True(
            GC.GetTotalMemory(true) < memory + (64L << 20),
            $"memory grew from {memory} to {GC.GetTotalMemory(true)}"
        );
        Assert.True(Handles() < handles + 50, $"handles grew from {handles} to {Handles()}");
        Directory.Delete(folder, recursive: true);

        async Task PlatformAsync(int p)
        {
            for (var i = 0; i < RunsEach; i++)
            {
                // Somewhere in the run's own fifth of the day.
                var due = began + Day / RunsEach * (i + 0.1 + 0.5 * Next());
                if (due > time.GetUtcNow())
                    await Task.Delay(due - time.GetUtcNow(), time);
                var to = i % 2 == 0 ? "7" : "6";
                await estates.SurveyAsync("Wren", new SurveyScope(Component: $"app{p}"), default);
                var (plan, _) = await estates.MakePlanAsync(
                    $"tidestep: goal/1\ngoal: [{{component: app{p}, to: \"{to}\"}}]\n",
                    "goal",
                    "Wren",
                    null,
                    default
                );
                Assert.True(plan.Ok, string.Join("; ", plan.Problems));
                var (run, refused) = await runs.OpenAndStartAsync(
                    plan.Value!.Digest,
                    $"platform {p}, run {i}",
                    "Wren",
                    default
                );
                Assert.True(run is not null, string.Join("; ", refused.Select(r => r.What)));
                if (Next() < 0.5)
                {
                    await Task.Delay(TimeSpan.FromMinutes(Next() * 30), time);
                    if (await runs.SayAsync(run!, s => Orders.Hold(s, "Wren"), default) is null)
                        lock (gate)
                            holds++;
                }
                while (await runs.StateAsync(run!, default) is { End: null } state)
                {
                    if (state.Status == RunStatus.Halted)
                    {
                        lock (gate)
                            halts++;
                        await Task.Delay(TimeSpan.FromMinutes(Next() * 20), time);
                        await runs.SayAsync(
                            run!,
                            s => Orders.Decide(s, DecisionKind.TryAgain, "Wren", null, null),
                            default
                        );
                    }
                    else if (state.Status == RunStatus.Held)
                    {
                        await Task.Delay(TimeSpan.FromMinutes(Next() * 60), time);
                        await runs.SayAsync(run!, s => Orders.GoOn(s, "Wren"), default);
                    }
                    await Task.Delay(TimeSpan.FromMinutes(1), time);
                }
                lock (gate)
                    ended++;
            }
        }
    }

    private static int Handles() => OperatingSystem.IsLinux() ? Directory.GetFiles("/proc/self/fd").Length : 0;
}
