using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors;

/// <summary>Reaches far sides that keep no record of what they are asked and obey no fence: what this process knows of
/// its own calls is all there is.</summary>
public abstract class RecordlessConnector : IConnector
{
    private protected CallsUnderWay Calls { get; } = new();

    public abstract string By { get; }

    public bool KeepsRecords => false;

    public Task<FenceReading> RaiseAsync(
        EstateNode node,
        string installation,
        long epoch,
        long position,
        CancellationToken ct
    ) => Task.FromResult(new FenceReading(epoch, position));

    public abstract Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct);

    public Task<AttemptReading> StatusAsync(
        EstateNode node,
        string installation,
        string attempt,
        TimeSpan wait,
        CancellationToken ct
    ) => Calls.StatusAsync(attempt, wait, ct);

    public Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct)
    {
        Calls.Stop(attempt);
        return Task.CompletedTask;
    }

    public abstract Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    );
}
