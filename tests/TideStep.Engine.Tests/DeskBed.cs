using Microsoft.Data.Sqlite;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;
using TideStep.Tests;

namespace TideStep.Engine.Tests;

/// <summary>The desks as the service uses them, on a real store and two nodes that a test has in its hand.</summary>
public abstract class DeskBed : IAsyncLifetime
{
    private protected const string Goal = "tidestep: goal/1\ngoal: [{component: app, to: 7}]\n";

    private protected readonly string _folder = Directory.CreateTempSubdirectory("tidestep-desk").FullName;
    private protected readonly FarSide _far = new();
    private protected readonly EngineSettings _settings = new(1e9, TimeSpan.FromMilliseconds(1), 64, "/nowhere");
    private protected SqliteStore _store = null!;
    private protected EstateDesk _estates = null!;
    private protected RunDesk _runs = null!;
    private protected FullJournal _disk = null!;
    private protected Action<string> _logged = _ => { };

    // After how many entries a state is kept; never where null.
    private protected long? _every;

    private protected static Fleet Two =>
        new Fleet()
            .Node("n[1-2]", "site: s, reach: {by: stand-in, address: x}")
            .With("app", "engine", "6", "\"n[1-2]\"")
            .Product(
                "engine",
                "releases: {\"6\": {}, \"7\": {}}\njumps:\n  to-7: {from: \"=6\", to: \"7\", methods: "
                    + "{rolling: {member: 1 min, settle: 1 min}}, change: [quiet, put]}\n"
                    + Carriage.Steps
            );

    public async ValueTask InitializeAsync()
    {
        Open();
        foreach (var node in new[] { "n1", "n2" })
            _far.SetRunning(node, "app", "6");
        var (_, problems) = await ImportAsync(Documents(Two));
        Assert.Empty(problems);
    }

    private protected void Open()
    {
        _store = new SqliteStore(Path.Combine(_folder, "t.db"));
        var reader = new MemberReader([_far], _settings, TimeProvider.System);
        _estates = new EstateDesk(_store, reader, TimeProvider.System);
        (var journal, _disk) = FullJournal.Of(_store);
        _runs = new RunDesk(
            _estates,
            journal,
            _store,
            new RunFeed(),
            reader,
            _settings,
            TimeProvider.System,
            "t",
            "me",
            (what, _) => _logged(what)
        )
        {
            Snapshots = _every is { } every ? new Snapshots(_store, (what, _) => _logged(what), every) : null,
        };
    }

    // What nobody of ours does: somebody writes into the database itself, while no service has it.
    private protected async Task InTheDatabaseAsync(string statement)
    {
        await _store.DisposeAsync();
        await using (
            var connection = new SqliteConnection($"Data Source={Path.Combine(_folder, "t.db")};Pooling=False")
        )
        {
            await connection.OpenAsync();
            await using var command = connection.CreateCommand();
            command.CommandText = statement;
            Assert.NotEqual(0, await command.ExecuteNonQueryAsync());
        }
        Open();
    }

    private protected static IncomingDocument[] Documents(Fleet fleet) =>
        [
            new("estate.yaml", fleet.EstateText),
            .. fleet.ProductTexts.Select(p => new IncomingDocument(p.Key + ".yaml", p.Value)),
            new(
                "readings.yaml",
                $"tidestep: readings/1\ntaken: {Nights.On(-9)}T10:00:00Z\ncomponents: {{app: {{running: \"6\"}}}}\n"
            ),
        ];

    private protected async Task<(IReadOnlyList<StoredDocument> Saved, IReadOnlyList<Problem> Problems)> ImportAsync(
        params IncomingDocument[] documents
    ) => await _estates.ImportAsync(documents, "Wren", default) is var (saved, problems) ? (saved, problems) : default;

    private protected async Task<string> OpenAsync()
    {
        var (plan, _) = await _estates.MakePlanAsync(Goal, "goal.yaml", "Wren", null, default);
        Assert.True(plan.Ok, string.Join("; ", plan.Problems));
        var (run, problem) = await _runs.OpenAsync(plan.Value!.Digest, "a run", "Wren", default);
        Assert.Null(problem);
        return run!;
    }

    private protected async Task<RunState> EndOf(string run)
    {
        for (var i = 0; i < 4000; i++)
        {
            if (
                await _runs.StateAsync(run, default) is { } state
                && (state.End is not null || state.Status == RunStatus.Halted)
            )
                return state;
            await Task.Delay(5);
        }
        throw new TimeoutException(run);
    }

    public async ValueTask DisposeAsync()
    {
        await _runs.DisposeAsync();
        await _store.DisposeAsync();
        Directory.Delete(_folder, true);
    }
}
