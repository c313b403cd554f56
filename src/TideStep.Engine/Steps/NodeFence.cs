using System.Collections.Concurrent;
using TideStep.Connectors;
using TideStep.Engine.Runs;

namespace TideStep.Engine.Steps;

/// <summary>Raises a run's epoch on nodes before anything is asked of them, so that nothing of an older owner begins
/// there afterwards (4-execution, point 2).</summary>
internal sealed class NodeFence(RunContext context, RunLog log)
{
    private readonly ConcurrentDictionary<string, Task> _fenced = new();

    /// <summary>Every node is fenced again before anything else is asked of it.</summary>
    public void Forget() => _fenced.Clear();

    /// <summary>Raises our epoch on a node once; a node that has seen more than we have refuses.</summary>
    /// <param name="patient">Whether a node that is absent is waited for.</param>
    /// <exception cref="ConnectorException">The node can't be reached, or has seen a later epoch or journal
    /// position.</exception>
    public async Task RaiseAsync(string id, bool patient, CancellationToken ct)
    {
        var began = context.Time.GetTimestamp();
        while (true)
        {
            try
            {
                await OnceAsync(id, ct);
                return;
            }
            catch (ConnectorException e)
                when (patient
                    && !e.Lasting
                    && context.Time.GetElapsedTime(began) <= context.Settings.RealLimit(EngineSettings.ContactPatience)
                )
            { /* absent for now: nothing has begun, so waiting harms nothing */
            }
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    private async Task OnceAsync(string id, CancellationToken ct)
    {
        var node = context.Estate.Nodes[id];
        var raising = _fenced.GetOrAdd(id, _ => RaiseAsync());
        try
        {
            await raising;
        }
        catch
        {
            _fenced.TryRemove(id, out _);
            throw;
        }

        async Task RaiseAsync()
        {
            var position = await context.Journal.LastPositionAsync(ct);
            var seen = await context
                .Reader.ConnectorOf(node)
                .RaiseAsync(node, context.Installation, log.Epoch, position, ct);
            if (seen.Epoch > log.Epoch)
                throw new ConnectorException(
                    new(
                        $"{node.Id} has seen epoch {seen.Epoch}; this run has {log.Epoch}",
                        "another owner has the run, or the database was set back",
                        "Stop this service and look at which one owns the run."
                    ),
                    lasting: true
                );
            // Another of our entries may have reached the node since ours was read: only what the journal does not hold
            // even now was lost.
            if (seen.Position > position)
                position = await context.Journal.LastPositionAsync(ct);
            if (seen.Position > position)
                throw new ConnectorException(
                    new(
                        $"{node.Id} knows journal position {seen.Position}; this database ends at {position}",
                        "the database was set back to an older copy",
                        "Bring the newer database back, or read every node concerned before going on."
                    ),
                    lasting: true
                );
        }
    }
}
