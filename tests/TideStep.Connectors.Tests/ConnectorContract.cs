using System.Collections.Immutable;
using System.Diagnostics;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors.Tests;

/// <summary>What every connector has to give, whatever it reaches.</summary>
public abstract class ConnectorContract
{
    /// <summary>The connector with a node that answers.</summary>
    protected abstract Task<(IConnector Connector, EstateNode Node)?> OpenAsync();

    protected static Member Member { get; } = new("app", "n1", null);

    protected static Product Product(string readings) =>
        Good(
            ProductDocument.Read(
                $"tidestep: product/1\nproduct: p\nreleases: {{\"1.2\": {{}}}}\nreadings:\n{readings}\n",
                "p.yaml"
            )
        );

    protected static T Good<T>(Checked<T> read)
        where T : class =>
        read.Ok ? read.Value! : throw new InvalidOperationException(string.Join("\n", read.Problems));

    protected static Reference Reading(string name) => new(name, [], null);

    protected static EstateNode Node(string by, params (string Key, string Value)[] settings) =>
        new("n1", "s", null, new Reach(by, settings.ToImmutableDictionary(s => s.Key, s => s.Value)));

    protected async Task<(IConnector Connector, EstateNode Node)> OpenOrFailAsync() =>
        await OpenAsync() is { } open
            ? open
            : throw new InvalidOperationException("nothing to connect to: run 'make test', which starts it");

    [Fact]
    public async Task What_it_can_not_do_is_refused_before_anything_begins()
    {
        var (connector, node) = await OpenOrFailAsync();
        var attempt = new FencedAttempt(
            "t1",
            "a" + Guid.NewGuid().ToString("N"),
            1,
            1,
            TimeSpan.FromMinutes(1),
            "app",
            new FarAction("juggle", ["x"])
        );
        try
        {
            Assert.NotNull(
                (await connector.BeginAsync(node, attempt, TimeSpan.FromSeconds(5), CancellationToken.None)).Refused
            );
        }
        catch (ConnectorException e)
        {
            Assert.True(e.Lasting);
        }
        Assert.Equal(
            AttemptPhase.Unknown,
            (await connector.StatusAsync(node, "t1", attempt.Id, TimeSpan.Zero, CancellationToken.None)).Phase
        );
    }

    [Fact]
    public async Task An_attempt_that_nobody_made_is_unknown()
    {
        var (connector, node) = await OpenOrFailAsync();
        Assert.Equal(
            AttemptPhase.Unknown,
            (await connector.StatusAsync(node, "t1", "a0", TimeSpan.Zero, CancellationToken.None)).Phase
        );
    }
}

/// <summary>What a connector has to give besides, where the far side tells readings.</summary>
public abstract class ReadingContract : ConnectorContract
{
    /// <summary>The same kind of node where nothing answers.</summary>
    protected abstract EstateNode Absent(EstateNode node);

    /// <summary>How the far side tells one good reading, one of the wrong kind and one that fails; in the words of a
    /// product's document.</summary>
    protected abstract string Readings { get; }

    [Fact]
    public async Task A_reading_has_its_type_and_one_that_can_not_be_taken_says_why()
    {
        var (connector, node) = await OpenOrFailAsync();
        var product = Product(Readings);
        var (values, missed) = await connector.ReadAsync(
            node,
            Member,
            product,
            [Reading("good"), Reading("wrong"), Reading("failing")],
            CancellationToken.None
        );
        Assert.Equal(Value.Of(42, ValueKind.Count), values[Reading("good")]);
        Assert.Equal([Reading("failing"), Reading("wrong")], missed.Keys.OrderBy(k => k.Key));
        Assert.All(missed.Values, why => Assert.True(why.Length > 5, why));
    }

    [Fact]
    public async Task A_far_side_that_does_not_answer_is_said_to_be_absent_and_waiting_may_help()
    {
        var (connector, node) = await OpenOrFailAsync();
        var e = await Assert.ThrowsAsync<ConnectorException>(() =>
            connector.ReadAsync(Absent(node), Member, Product(Readings), [Reading("good")], CancellationToken.None)
        );
        Assert.False(e.Lasting);
        Assert.Contains("answer", e.Problem.What, StringComparison.Ordinal);
    }
}
