using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>The states of the runs whose entries somebody reads one after another, carried on from entry to entry: each
/// entry is read and applied once, however many are asked for. For one reader at a time.</summary>
internal sealed class FollowedRuns(RunDesk runs)
{
    private const int MostKept = 16;

    private readonly Dictionary<string, RunState> _states = [];
    private readonly Queue<string> _order = new();

    /// <summary>The state right after an entry; null where what is kept of the run can't be read, or it is not
    /// there.</summary>
    public async Task<RunState?> AtAsync(string run, long sequence, CancellationToken ct)
    {
        try
        {
            if (_states.TryGetValue(run, out var state) && state.Sequence <= sequence)
                await runs.States.CarryOnAsync(run, state, sequence, ct);
            else if ((state = await runs.StateAsync(run, sequence, ct)) is not null)
                Keep(run, state);
            if (state?.End is not null)
                _states.Remove(run);
            return state;
        }
        catch (Exception e) when (e is DamagedRecordException or ArchivedRunException)
        {
            _states.Remove(run);
            return null;
        }
    }

    private void Keep(string run, RunState state)
    {
        if (!_states.ContainsKey(run))
            _order.Enqueue(run);
        _states[run] = state;
        while (_order.Count > MostKept)
            _states.Remove(_order.Dequeue());
    }
}
