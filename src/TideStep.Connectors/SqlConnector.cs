using System.Collections.Concurrent;
using System.Data;
using Npgsql;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Connectors;

/// <summary>Asks a PostgreSQL database: for readings of nodes that name one, whatever else reaches them, and as the
/// connector of nodes that are reached by nothing else.
/// Statements run without a record on the far side, so an open intent is settled by its probe or by a person.</summary>
public sealed class SqlConnector(Secrets secrets) : RecordlessConnector, IAsyncDisposable
{
    private static readonly TimeSpan Quick = TimeSpan.FromSeconds(10);
    private const int MostText = 64 * 1024;

    private readonly ConcurrentDictionary<string, (string Mark, NpgsqlDataSource Source)> _sources = new();

    public override string By => "sql";

    public override Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct)
    {
        if (attempt.Action is not { Verb: "query", Arguments: [var statement, .. var parameters] })
            throw CallsUnderWay.CanNot(node.Id, attempt.Action.Verb, By, "query");
        return BeginQueryAsync(node, attempt.Id, statement, parameters, wait, ct);
    }

    /// <summary>Begins a statement; a node that is reached by another connector has its statements done here.</summary>
    internal Task<Begun> BeginQueryAsync(
        EstateNode node,
        string attempt,
        string statement,
        IReadOnlyList<string> parameters,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        var source = SourceOf(node);
        return Calls.BeginAsync(
            attempt,
            async stop =>
            {
                try
                {
                    await using var connection = await source.OpenConnectionAsync(stop);
                    await using var command = new NpgsqlCommand(statement, connection) { CommandTimeout = 0 };
                    foreach (var parameter in parameters)
                        command.Parameters.Add(
                            new NpgsqlParameter { Value = parameter, NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Unknown }
                        );
                    await using var reader = await command.ExecuteReaderAsync(stop);
                    var rows = new List<string>();
                    while (rows.Count < 100 && await reader.ReadAsync(stop))
                        rows.Add(
                            string.Join(
                                '\t',
                                Enumerable
                                    .Range(0, reader.FieldCount)
                                    .Select(i =>
                                        reader.IsDBNull(i)
                                            ? ""
                                            : Convert.ToString(
                                                reader.GetValue(i),
                                                System.Globalization.CultureInfo.InvariantCulture
                                            )
                                    )
                            )
                        );
                    var text = string.Join('\n', rows);
                    return new AttemptReading(AttemptPhase.Ended, 0, text.Length > MostText ? text[..MostText] : text);
                }
                // The server said no: nothing of the statement stays.
                catch (PostgresException e)
                {
                    return new AttemptReading(
                        AttemptPhase.Ended,
                        1,
                        $"{e.SqlState}: {e.MessageText}{(e.Hint is { } hint ? $"\n{hint}" : "")}"
                    );
                }
                catch (Exception e)
                    when (e is NpgsqlException or IOException or OperationCanceledException or TimeoutException)
                {
                    return new AttemptReading(AttemptPhase.Lost, null, e.Message);
                }
            },
            wait,
            ct
        );
    }

    public override async Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        var (found, missed) = (new Dictionary<Reference, Value>(), new Dictionary<Reference, string>());
        foreach (var reference in wanted)
        {
            if (reference.Key == "reachable")
            {
                found[reference] = Value.True;
                continue;
            }
            if (!product.Readings.TryGetValue(reference.Key, out var collector) || collector.By != "sql")
            {
                missed[reference] = "no query tells it";
                continue;
            }
            var (value, why) = await ReadAsync(node, collector, product.Scheme, ct);
            if (value is not null)
                found[reference] = value;
            else
                missed[reference] = why!;
        }
        return new Taken(found, missed);
    }

    /// <summary>The first column of the first row that a query gives, or why it gives none.</summary>
    /// <exception cref="ConnectorException">The server does not answer or refuses the login.</exception>
    public async Task<(Value? Value, string? Why)> ReadAsync(
        EstateNode node,
        Collector collector,
        VersionScheme scheme,
        CancellationToken ct
    )
    {
        if (node.Reach["database.host"] is null)
            return (null, $"{node.Id} names no database to ask");
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Quick);
        try
        {
            await using var connection = await OpenedAsync(node, limit.Token);
            // A reading changes nothing, whatever the query says.
            await using var transaction = await connection.BeginTransactionAsync(
                IsolationLevel.ReadCommitted,
                limit.Token
            );
            await using (var only = new NpgsqlCommand("set transaction read only", connection, transaction))
                await only.ExecuteNonQueryAsync(limit.Token);
            await using var command = new NpgsqlCommand(collector.Query, connection, transaction);
            foreach (var parameter in collector.Parameters)
                command.Parameters.Add(new NpgsqlParameter { Value = parameter });
            await using var reader = await command.ExecuteReaderAsync(CommandBehavior.SingleRow, limit.Token);
            if (!await reader.ReadAsync(limit.Token) || reader.FieldCount == 0)
                return (null, "the query gives no row");
            if (reader.IsDBNull(0))
                return (null, "the query gives no value");
            var text = reader.GetValue(0) switch
            {
                bool flag => flag ? "true" : "false",
                TimeSpan span => span.TotalSeconds.ToString(System.Globalization.CultureInfo.InvariantCulture),
                DateTime date => date.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
                var other => Convert.ToString(other, System.Globalization.CultureInfo.InvariantCulture) ?? "",
            };
            return CollectorText.Read(collector, text.Length > MostText ? text[..MostText] : text, scheme);
        }
        catch (PostgresException e)
            when (e.SqlState
                    is PostgresErrorCodes.InvalidPassword
                        or PostgresErrorCodes.InvalidAuthorizationSpecification
            )
        {
            throw new ConnectorException(
                new Problem(
                    $"the database of {node.Id} refuses the login of {node.Reach["database.account"]}",
                    $"{e.SqlState}: {e.MessageText}",
                    "Check the account and its password."
                ),
                lasting: true,
                e
            );
        }
        catch (PostgresException e)
        {
            return (null, $"the query failed: {e.MessageText} ({e.SqlState})");
        }
        catch (Exception e)
            when (e is NpgsqlException or IOException or TimeoutException
                || (e is OperationCanceledException && !ct.IsCancellationRequested)
            )
        {
            throw new ConnectorException(
                new Problem(
                    $"the database of {node.Id} does not answer at {node.Reach["database.host"]}",
                    e is OperationCanceledException ? $"no answer within {Quick.TotalSeconds:0} s" : e.Message,
                    "Look whether the server runs and may be reached from here."
                ),
                lasting: false,
                e
            );
        }
    }

    // A server that was restarted has broken the connections that are kept to it; the next reading asks over a fresh
    // one.
    private async Task<NpgsqlConnection> OpenedAsync(EstateNode node, CancellationToken ct)
    {
        var source = SourceOf(node);
        for (var fresh = false; ; fresh = true)
        {
            var connection = await source.OpenConnectionAsync(ct);
            try
            {
                await using var probe = new NpgsqlCommand("select 1", connection);
                await probe.ExecuteNonQueryAsync(ct);
                return connection;
            }
            catch (NpgsqlException) when (!fresh)
            {
                await connection.DisposeAsync();
                source.Clear();
            }
        }
    }

    // A password that was renewed counts from the next call on; connections in use end with the old one.
    private NpgsqlDataSource SourceOf(EstateNode node)
    {
        var mark = secrets.MarkOf(node.Reach["database.password"]);
        return _sources
            .AddOrUpdate(
                string.Join(
                    ' ',
                    node.Reach.Settings.Where(s => s.Key.StartsWith("database.", StringComparison.Ordinal))
                        .OrderBy(s => s.Key)
                ),
                _ => (mark, Made(node)),
                (_, known) => known.Mark == mark ? known : (mark, Made(node))
            )
            .Source;
    }

    private NpgsqlDataSource Made(EstateNode node)
    {
        var settings = new NpgsqlConnectionStringBuilder
        {
            Host = node.Reach["database.host"],
            Port = int.TryParse(node.Reach["database.port"], out var port) ? port : 5432,
            Database = node.Reach["database.name"],
            Username = node.Reach["database.account"],
            Password = node.Reach["database.password"] is { } secret ? secrets.TextOf(secret).TrimEnd('\n') : null,
            SslMode = node.Reach["database.encryption"] switch
            {
                "required" => SslMode.VerifyFull,
                "none" => SslMode.Disable,
                _ => SslMode.Prefer,
            },
            Timeout = (int)Quick.TotalSeconds,
            MaxPoolSize = 4,
            ApplicationName = "Tide Step",
            IncludeErrorDetail = false,
        };
        return new NpgsqlDataSourceBuilder(settings.ConnectionString).Build();
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var (_, source) in _sources.Values)
            await source.DisposeAsync();
    }
}
