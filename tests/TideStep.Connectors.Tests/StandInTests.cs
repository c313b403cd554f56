using System.Diagnostics;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Tests;

namespace TideStep.Connectors.Tests;

/// <summary>The stand-in fleet, in a process of its own as in the demo.</summary>
public sealed class StandInFleet : IAsyncLifetime
{
    private Process? _fleet;
    private string Folder { get; } = Directory.CreateTempSubdirectory("tidestep-standin").FullName;
    public int Port { get; } = SshServer.FreePort();
    public HttpClient Http { get; } = new();

    public async ValueTask InitializeAsync()
    {
        File.WriteAllText(
            Path.Combine(Folder, "estate.yaml"),
            "tidestep: estate/1\nestate: t\nsites: {s: {}}\nnodes: {n1: {site: s, reach: {by: stand-in, "
                + "address: x}}}\ncomponents: {app: {product: p, members: [n1]}}\n"
        );
        File.WriteAllText(
            Path.Combine(Folder, "readings.yaml"),
            $"tidestep: readings/1\ntaken: {Nights.On(-9)}T10:00:00Z\ncomponents: {{app: {{running: \"1.2\", values: "
                + "{jobs: 42, words: many}}}\n"
        );
        _fleet = Process.Start(
            new ProcessStartInfo(
                "dotnet",
                [
                    Path.Combine(AppContext.BaseDirectory, "tidestep-standin.dll"),
                    "--estate",
                    Path.Combine(Folder, "estate.yaml"),
                    "--readings",
                    Path.Combine(Folder, "readings.yaml"),
                    "--port",
                    $"{Port}",
                    "--pace",
                    "1000",
                ]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        // It says where it listens once it does.
        Assert.Contains("1 nodes", await _fleet.StandardOutput.ReadLineAsync());
    }

    public async ValueTask DisposeAsync()
    {
        Http.Dispose();
        if (_fleet is not null)
        {
            _fleet.Kill();
            await _fleet.WaitForExitAsync();
        }
        Folders.Remove(Folder);
    }
}

/// <summary>The stand-in connector on a fleet.</summary>
public sealed class StandInTests(StandInFleet fleet) : ReadingContract, IClassFixture<StandInFleet>
{
    private StandInConnector Connector => new(fleet.Http, TimeProvider.System);

    private static EstateNode At(int port) => Node("stand-in", ("address", $"http://127.0.0.1:{port}"));

    protected override string Readings =>
        """
              good: {by: field, field: jobs, unit: count}
              wrong: {by: field, field: words, unit: count}
              failing: {by: field, field: nothing, unit: count}
            """;

    protected override Task<(IConnector, EstateNode)?> OpenAsync() =>
        Task.FromResult<(IConnector, EstateNode)?>((Connector, At(fleet.Port)));

    protected override EstateNode Absent(EstateNode node) => At(SshServer.FreePort());

    [Fact]
    public async Task An_attempt_is_recorded_and_made_once()
    {
        var (connector, node) = (Connector, At(fleet.Port));
        var attempt = new FencedAttempt(
            "t2",
            "a" + Guid.NewGuid().ToString("N"),
            1,
            1,
            TimeSpan.FromMinutes(1),
            "app",
            new FarAction("install", ["p", "1.3"])
        );
        Assert.Null((await connector.BeginAsync(node, attempt, TimeSpan.Zero, CancellationToken.None)).Refused);
        Assert.Contains(
            "known already",
            (await connector.BeginAsync(node, attempt, TimeSpan.Zero, CancellationToken.None)).Refused
        );
        AttemptReading reading;
        do reading = await connector.StatusAsync(
            node,
            "t2",
            attempt.Id,
            TimeSpan.FromSeconds(1),
            CancellationToken.None
        );
        while (reading.Phase == AttemptPhase.Running);
        Assert.Equal((AttemptPhase.Ended, 0), (reading.Phase, reading.ExitCode));
        Assert.Equal(new FenceReading(4, 7), await connector.RaiseAsync(node, "t2", 4, 7, CancellationToken.None));
        Assert.Contains(
            "below 4",
            (
                await connector.BeginAsync(
                    node,
                    attempt with
                    {
                        Id = attempt.Id + "b",
                    },
                    TimeSpan.Zero,
                    CancellationToken.None
                )
            ).Refused
        );
    }
}

/// <summary>Nodes that only people reach: nothing is done or read there.</summary>
public sealed class PersonTests : ConnectorContract
{
    protected override Task<(IConnector, EstateNode)?> OpenAsync() =>
        Task.FromResult<(IConnector, EstateNode)?>((new PersonConnector(), Node("person")));

    [Fact]
    public async Task Every_reading_is_missed_and_says_why()
    {
        var (connector, node) = await OpenOrFailAsync();
        var (values, missed) = await connector.ReadAsync(
            node,
            Member,
            Product("  good: {by: field, unit: count}"),
            [Reading("good"), Reading("running")],
            CancellationToken.None
        );
        Assert.Empty(values);
        Assert.All(missed.Values, why => Assert.Contains("only people", why));
        Assert.Equal(2, missed.Count);
    }
}
