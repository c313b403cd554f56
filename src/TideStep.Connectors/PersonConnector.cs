using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors;

/// <summary>Nodes that only people reach: nothing is done or read there but by their steps.</summary>
public sealed class PersonConnector : RecordlessConnector
{
    public override string By => "person";

    public override Task<Begun> BeginAsync(
        EstateNode node,
        FencedAttempt attempt,
        TimeSpan wait,
        CancellationToken ct
    ) =>
        throw new ConnectorException(
            new Problem(
                $"{node.Id} is reached only by people",
                $"the step wants to {attempt.Action.Verb}",
                "Make it a 'person' step in the catalogue, or give the node another 'reach'."
            ),
            lasting: true
        );

    public override Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    ) =>
        Task.FromResult(
            new Taken(
                new Dictionary<Reference, Value>(),
                wanted.ToDictionary(r => r, _ => "only people reach it; what they enter as readings counts")
            )
        );
}
