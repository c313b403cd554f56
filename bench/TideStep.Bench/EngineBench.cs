using System.Diagnostics;
using System.Text.Json;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Bench;

/// <summary>The engine's own cost per step: a wave of 10,000 members whose actions take no time, against the journal
/// appends that they need.</summary>
internal static class EngineBench
{
    private const int Members = 10_000;

    /// <summary>A far side where everything is done at once and everything holds.</summary>
    private sealed class Instant : IConnector
    {
        public string By => "stand-in";

        public Task<FenceReading> RaiseAsync(
            EstateNode node,
            string installation,
            long epoch,
            long position,
            CancellationToken ct
        ) => Task.FromResult(new FenceReading(0, 0));

        public Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct) =>
            Task.FromResult(Begun.Unread);

        public Task<AttemptReading> StatusAsync(
            EstateNode node,
            string installation,
            string attempt,
            TimeSpan wait,
            CancellationToken ct
        ) => Task.FromResult(new AttemptReading(AttemptPhase.Ended, 0, ""));

        public Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct) =>
            Task.CompletedTask;

        public Task<Taken> ReadAsync(
            EstateNode node,
            Member member,
            Product product,
            IReadOnlyCollection<Reference> wanted,
            CancellationToken ct
        ) =>
            Task.FromResult(
                Taken.Nothing with
                {
                    Values = wanted.ToDictionary(r => r, _ => Value.Of(product.Scheme.TryParse("2")!)),
                }
            );
    }

    public static async Task<IEnumerable<Figure>> RunAsync(string folder)
    {
        var (estate, catalogue, plan) = OneJump.Of(
            $"tidestep: estate/1\nestate: bench\nsites: {{s: {{}}}}\n"
                + $"nodes: {{\"n[1-{Members}]\": {{site: s, reach: {{by: stand-in, address: x}}}}}}\n"
                + $"components: {{app: {{product: p, members: [\"n[1-{Members}]\"], domains: ignored, guard: "
                + $"{{keep: 0, at-once: {Members}}}}}}}\n",
            "tidestep: product/1\nproduct: p\nreleases: {\"1\": {}, \"2\": {}}\n"
                + "jumps: {to-2: {from: \"1\", to: \"2\", methods: {rolling: {member: 1 min}}, change: [put]}}\n"
                + "routines: {leave: [stop], return: [start]}\nsteps: {stop: {do: {stop: x}}, put: {do: {install: "
                + "x, version: \"{jump.to}\"}}, start: {do: {start: x}}}\n"
        );
        await using var store = new SqliteStore(Path.Combine(folder, "engine.db"));
        var settings = new EngineSettings(1e9, TimeSpan.FromMilliseconds(1), 64, folder);
        var steps = plan.Blocks.Sum(b => b.Lanes.Sum(l => l.Steps.Length));
        var entries = 0;
        Task Carry() => CarryAsync(null);
        async Task CarryAsync(Action<RunExecutor>? watched)
        {
            var run = "r" + Guid.NewGuid().ToString("N")[..10];
            var now = DateTimeOffset.UtcNow;
            await store.CreateRunAsync(
                new StoredRun(run, plan.Digest, null, now, 0, null, null),
                new Opened(plan.Digest, "", "bench", null),
                now,
                default
            );
            var state = RunState.Fold(plan, await store.ReadAsync(run, 0, default));
            var context = new RunContext(
                estate,
                catalogue,
                store,
                new RunFeed(),
                new MemberReader([new Instant()], settings, TimeProvider.System),
                settings,
                TimeProvider.System,
                "t",
                () => "a" + Guid.NewGuid().ToString("N")
            );
            var executor = new RunExecutor(
                context,
                run,
                await store.TakeOwnershipAsync(run, "bench", default),
                state,
                (_, _) => Task.CompletedTask
            );
            await executor.Log.AppendAsync(new Started("bench"));
            watched?.Invoke(executor);
            await executor.ExecuteAsync(default);
            entries = (int)state.Sequence;
        }
        async Task Appends()
        {
            var now = DateTimeOffset.UtcNow;
            var runs = await Task.WhenAll(
                Enumerable
                    .Range(0, 256)
                    .Select(async _ =>
                    {
                        var run = "r" + Guid.NewGuid().ToString("N")[..10];
                        await store.CreateRunAsync(
                            new StoredRun(run, "p", null, now, 0, null, null),
                            new Opened("p", "", "bench", null),
                            now,
                            default
                        );
                        return (Run: run, Epoch: await store.TakeOwnershipAsync(run, "bench", default));
                    })
            );
            await Task.WhenAll(
                runs.Select(r =>
                    Task.Run(async () =>
                    {
                        for (var i = 1; i <= Math.Max(1, entries / 256); i++)
                            await store.AppendAsync(
                                r.Run,
                                r.Epoch,
                                i,
                                [new StepBegun("m1/w1/change/app/n1/put")],
                                now,
                                default
                            );
                    })
                )
            );
        }
        var (ours, journal) = await Measure.InTurn(3, Carry, Appends);
        var pages = new Pages();
        await CarryAsync(pages.Open);
        var (worst, bytes) = await pages.ClosedAsync();
        if (Environment.GetEnvironmentVariable("TIDESTEP_BENCH_SHOW") is not null)
            Console.Error.WriteLine(pages.Spread);
        return
        [
            new Figure(
                $"the view of a run of {Members} members that works, asked for by {Pages.Many} pages at once: p99",
                Measure.Write(worst, "ms"),
                $"{bytes / 1024} KiB",
                worst / 50,
                "under 50 ms"
            ),
            new Figure(
                $"engine per step, {Members} members without work of their own",
                Measure.Write(ours / steps * 1000, "ms"),
                Measure.Write(journal / steps * 1000, "ms for the same number of appends alone"),
                ours / journal,
                "under 1 ms"
            ),
        ];
    }

    /// <summary>Pages that ask for the view of a run again and again while it works.</summary>
    private sealed class Pages
    {
        public const int Many = 10;

        private static readonly TimeSpan Again = TimeSpan.FromMilliseconds(120);
        private readonly CancellationTokenSource _closed = new();
        private readonly List<Task<List<(double Took, int Bytes)>>> _open = [];

        public string Spread { get; private set; } = "";

        public void Open(RunExecutor executor)
        {
            for (var i = 0; i < Many; i++)
                _open.Add(Task.Run(() => WatchAsync(executor)));
        }

        private async Task<List<(double Took, int Bytes)>> WatchAsync(RunExecutor executor)
        {
            var all = new List<(double, int)>();
            while (!_closed.IsCancellationRequested)
            {
                var since = Stopwatch.GetTimestamp();
                var view = executor.Log.Look(s =>
                    RunView.Of("r", s, 1, n => n == Math.Max(1, s.CurrentBlock), most: 200)
                );
                var bytes = JsonSerializer.SerializeToUtf8Bytes(view, Json.Options).Length;
                all.Add((Stopwatch.GetElapsedTime(since).TotalMilliseconds, bytes));
                await Task.Delay(Again);
            }
            return all;
        }

        public async Task<(double Worst, int Bytes)> ClosedAsync()
        {
            await _closed.CancelAsync();
            var all = (await Task.WhenAll(_open)).SelectMany(t => t).ToList();
            var sorted = all.Select(a => a.Took).Order().ToList();
            Spread =
                $"{all.Count} views: half within {sorted[all.Count / 2]:0.0} ms, of ten nine within "
                + $"{sorted[all.Count * 9 / 10]:0.0} ms, all within {sorted[^1]:0.0} ms";
            return (all.Select(a => a.Took).Order().ElementAt((int)(all.Count * 0.99)), all.Max(a => a.Bytes));
        }
    }
}
