using Npgsql;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors.Tests;

/// <summary>The SQL connector on a real PostgreSQL server, which the test script starts.</summary>
public sealed class SqlTests : ReadingContract, IAsyncDisposable
{
    private readonly string _folder = Directory.CreateTempSubdirectory("tidestep-sql").FullName;
    private readonly SqlConnector _connector;
    private readonly NpgsqlConnectionStringBuilder? _server = Environment.GetEnvironmentVariable(
        "TIDESTEP_TEST_POSTGRES"
    )
        is { } text
        ? new NpgsqlConnectionStringBuilder(text)
        : null;

    public SqlTests() => _connector = new SqlConnector(new Secrets(_folder));

    protected override string Readings =>
        """
              good: {by: sql, query: "select 42", unit: count}
              wrong: {by: sql, query: "select 'many'", unit: count}
              failing: {by: sql, query: "select none from nowhere", unit: count}
            """;

    private EstateNode At(int port) =>
        Node(
            "sql",
            ("database.host", "127.0.0.1"),
            ("database.port", $"{port}"),
            ("database.name", "postgres"),
            ("database.account", "tidestep"),
            ("database.encryption", "none")
        );

    protected override Task<(IConnector, EstateNode)?> OpenAsync() =>
        Task.FromResult<(IConnector, EstateNode)?>(_server is null ? null : (_connector, At(_server.Port)));

    protected override EstateNode Absent(EstateNode node) => At(SshServer.FreePort());

    private async Task<AttemptReading> DoAsync(string statement, params string[] parameters)
    {
        Assert.NotNull(_server);
        return (
            await _connector.BeginAsync(
                At(_server.Port),
                new FencedAttempt(
                    "t1",
                    "a" + Guid.NewGuid().ToString("N"),
                    1,
                    1,
                    TimeSpan.FromMinutes(1),
                    "app",
                    new FarAction("query", [statement, .. parameters])
                ),
                TimeSpan.FromSeconds(20),
                CancellationToken.None
            )
        ).Reading!;
    }

    [Fact]
    public async Task A_statement_ends_with_its_rows_or_with_what_the_server_said()
    {
        Assert.Equal("5\t6", (await DoAsync("select 5, 6")).Output);
        var refused = await DoAsync("select 1/0");
        Assert.Equal((AttemptPhase.Ended, 1), (refused.Phase, refused.ExitCode));
        Assert.Contains("division by zero", refused.Output);
    }

    [Fact]
    public async Task Objects_that_a_sample_chose_are_a_value_of_the_query()
    {
        var node = At(_server!.Port);
        var product = Product(
            "  those: {by: sql, query: \"select count(*) from unnest(array['a', 'b', 'c''d']) n where n = "
                + "any(string_to_array({keys}, ','))\", unit: count}"
        );
        async Task<string> AskAsync(string keys) =>
            (
                await _connector.ReadAsync(
                    node,
                    Member,
                    product with
                    {
                        Readings = product.Readings.SetItem("those", product.Readings["those"].For(keys)),
                    },
                    [Reading("those")],
                    CancellationToken.None
                )
            )
                .Values.Values.Single()
                .ToString();
        Assert.Equal("2", await AskAsync("a,c'd,x"));
        Assert.Equal("0", await AskAsync("'; drop table t; --"));
    }

    [Fact]
    public async Task What_is_bound_is_a_value_and_never_part_of_the_statement()
    {
        var evil = "'; create table injected(x int); --";
        Assert.Equal(evil, (await DoAsync("select $1::text", evil)).Output);
        Assert.Contains("\n", (await DoAsync("select $1::text", "two\nlines")).Output);
        Assert.Equal("0", (await DoAsync("select count(*) from pg_class where relname = 'injected'")).Output);
    }

    [Fact]
    public async Task A_reading_can_change_nothing()
    {
        Assert.NotNull(_server);
        var (_, missed) = await _connector.ReadAsync(
            At(_server.Port),
            Member,
            Product("  sly: {by: sql, query: \"create table sly(x int)\", unit: count}"),
            [Reading("sly")],
            CancellationToken.None
        );
        Assert.Contains("read-only", missed[Reading("sly")]);
    }

    public async ValueTask DisposeAsync()
    {
        await _connector.DisposeAsync();
        Directory.Delete(_folder, true);
    }
}
