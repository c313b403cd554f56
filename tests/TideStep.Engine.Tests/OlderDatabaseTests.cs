using System.IO.Compression;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Plans;
using TideStep.Engine.Points;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>A database as an earlier Tide Step wrote it, before there were seals and rows of lists, with a run that has
/// ended, one that halted at its second member and one that was only opened: it is read, carried on and led
/// back.</summary>
public sealed class OlderDatabaseTests : IAsyncLifetime
{
    private readonly string _folder = Directory.CreateTempSubdirectory("tidestep-older").FullName;
    private readonly FarSide _far = new();
    private readonly EngineSettings _settings = new(1e9, TimeSpan.FromMilliseconds(1), 64, "/nowhere");
    private SqliteStore _store = null!;
    private EstateDesk _estates = null!;
    private MemberReader _reader = null!;
    private RunDesk _runs = null!;

    public async ValueTask InitializeAsync()
    {
        var file = Path.Combine(_folder, "t.db");
        await using (var packed = File.OpenRead(Path.Combine(AppContext.BaseDirectory, "before-seals.db.gz")))
        await using (var unpacked = new GZipStream(packed, CompressionMode.Decompress))
        await using (var written = File.Create(file))
            await unpacked.CopyToAsync(written);
        _store = new SqliteStore(file);
        _reader = new MemberReader([_far], _settings, TimeProvider.System);
        _estates = new EstateDesk(_store, _reader, TimeProvider.System);
        _runs = new RunDesk(
            _estates,
            _store,
            _store,
            new RunFeed(),
            _reader,
            _settings,
            TimeProvider.System,
            "t",
            "me",
            (_, _) => { }
        );
        // As those runs left it.
        foreach (
            var (node, component, version) in new[]
            {
                ("n1", "app", "7"),
                ("n2", "app", "6"),
                ("n3", "tool", "7"),
                ("n4", "tool", "7"),
            }
        )
            _far.SetRunning(node, component, version);
    }

    public async ValueTask DisposeAsync()
    {
        await _runs.DisposeAsync();
        await _store.DisposeAsync();
        Directory.Delete(_folder, true);
    }

    private List<Damage> Damages()
    {
        using var connection = StoreCopy.OpenFile(Path.Combine(_folder, "t.db"));
        return [.. SqlStore.Check(connection).Where(d => !d.Rebuilt)];
    }

    private async Task<RunLine> LineAsync(string label) =>
        (await new RunList(_runs, _store).OfAsync(10, null, null, null, null, default)).First(l => l.Label == label);

    private async Task<RunState> EndOf(string run)
    {
        for (var i = 0; i < 4000; i++, await Task.Delay(5))
            if (await _runs.StateAsync(run, default) is { } s && (s.End is not null || s.Status == RunStatus.Halted))
                return s;
        throw new TimeoutException(run);
    }

    [Fact]
    public async Task It_is_sealed_as_it_stands_and_nothing_of_it_is_missing()
    {
        Assert.Empty(Damages());
        var lines = await new RunList(_runs, _store).OfAsync(10, null, null, null, null, default);
        Assert.Equal([RunStatus.Ready, RunStatus.Halted, RunStatus.Completed], lines.Select(l => l.Status));
        Assert.All(lines, l => Assert.Null(l.SetAside));
        Assert.Equal(
            2,
            (await new PlanList(_store).OfAsync(10, null, default, default)).Count(p => p.SetAside is null)
        );
        Assert.NotNull(await _estates.CurrentEstateAsync(default));
        Assert.NotEmpty((await _estates.ReadingsAsync(default)).Members);
        var ended = await LineAsync("tool to 7");
        Assert.Equal("what it said", await _store.FindOutputAsync(ended.Run, "a1", default));
        Assert.Contains(
            "tool to 7",
            RunReport
                .Of(
                    ended.Run,
                    (await _runs.StateAsync(ended.Run, default))!,
                    await _store.ReadAsync(ended.Run, 0, default)
                )
                .ToMarkdown(TimeZoneInfo.Utc)
        );
    }

    [Fact]
    public async Task A_run_that_had_halted_goes_on_to_its_end()
    {
        var run = (await new RunList(_runs, _store).OfAsync(10, null, null, null, s => s == RunStatus.Halted, default))
            .Single()
            .Run;
        await _runs.ResumeAsync(default);
        Assert.Null(
            await _runs.SayAsync(
                run,
                s => ([new Decided(DecisionKind.TryAgain, "Wren", null, null) { Step = s.FailedSteps.First() }], null),
                default
            )
        );
        Assert.Equal(RunEnd.Completed, (await EndOf(run)).End);
        Assert.Equal("7", _far.RunningOf("n2", "app"));
        Assert.DoesNotContain(_far.Deeds, d => d.StartsWith("n1", StringComparison.Ordinal));
        Assert.Empty(Damages());
    }

    [Fact]
    public async Task A_run_that_had_ended_is_led_back()
    {
        var run = (await LineAsync("tool to 7")).Run;
        await _runs.ResumeAsync(default);
        var points = new PointDesk(
            _runs,
            new RunTraces(_runs, _store),
            _estates,
            _reader,
            _store,
            _settings,
            TimeProvider.System,
            "t"
        );
        var (back, problems) = await new ReturnDesk(_runs, _estates, points, _reader).StartAsync(
            run,
            null,
            "it was too early",
            "Wren",
            default
        );
        Assert.Empty(problems);
        Assert.Equal(RunEnd.Completed, (await EndOf(back!)).End);
        Assert.Equal(("6", "6"), (_far.RunningOf("n3", "tool"), _far.RunningOf("n4", "tool")));
        Assert.Empty(Damages());
    }
}
