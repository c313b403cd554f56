using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>How runs stand by their journals, as anybody may ask who does not carry them.</summary>
/// <param name="snapshots">States that are kept beside the journals; null where none are.</param>
public sealed class RunStates(IJournal journal, EstateDesk estates, Snapshots? snapshots)
{
    /// <summary>A run's state folded from its journal, or null where there is none.</summary>
    public Task<RunState?> StateAsync(string run, CancellationToken ct) => StateAsync(run, long.MaxValue, ct);

    /// <summary>The same, or null where what is kept of it can't be read: for lists, which one run does not
    /// keep from being shown.</summary>
    public async Task<RunState?> ReadableAsync(string run, CancellationToken ct, long upTo = long.MaxValue)
    {
        try
        {
            return await StateAsync(run, upTo, ct);
        }
        catch (Exception e) when (e is DamagedRecordException or ArchivedRunException)
        {
            return null;
        }
    }

    /// <summary>The same, as it was right after an entry.</summary>
    public async Task<RunState?> StateAsync(string run, long upTo, CancellationToken ct)
    {
        if (
            await journal.FindRunAsync(run, ct) is not { } stored
            || await estates.FindPlanAsync(stored.Plan, ct) is not { } plan
        )
            return null;
        if (stored.Damaged is { } damaged)
            throw new DamagedRecordException(damaged);
        if (upTo == long.MaxValue && snapshots is not null && await snapshots.FindAsync(run, plan, ct) is { } known)
        {
            await CarryOnAsync(run, known, upTo, ct);
            return known;
        }
        var entries = await journal.ReadAsync(run, 0, ct);
        if (
            entries is not [{ Event: Opened opened }, ..]
            || opened.Plan != stored.Plan
            || opened.Parent != stored.Parent
        )
            throw new DamagedRecordException($"the row of run {run} is not the one of its journal");
        return RunState.Fold(plan, entries.TakeWhile(e => e.Sequence <= upTo));
    }

    /// <summary>Applies what came after a state, up to an entry.</summary>
    internal async Task CarryOnAsync(string run, RunState state, long upTo, CancellationToken ct)
    {
        if (state.Sequence < upTo)
            foreach (var entry in (await journal.ReadAsync(run, state.Sequence, ct)).TakeWhile(e => e.Sequence <= upTo))
                state.Apply(entry);
    }
}
