using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>When the work ends, by this run's own pace: what the parts that are done took against what the plan gave
/// them.</summary>
public static class Forecast
{
    /// <summary>The forecast end; null before the start, and after the end.</summary>
    /// <param name="state">The run.</param>
    /// <param name="pace">By how much the installation's time runs faster than the plan's; the pace where nothing is
    /// done yet.</param>
    /// <param name="lastMove">The last move that counts; all where null.</param>
    /// <param name="now">The time it is; that of the run's last entry where null.</param>
    public static DateTimeOffset? EndOf(RunState state, double pace, int? lastMove = null, DateTimeOffset? now = null)
    {
        if (state.StartedAt is null || state.End is not null)
            return null;
        var factor = FactorOf(state, pace);
        var ahead = state
            .Plan.Blocks.Where(b => b.Number > Math.Max(state.BlocksDone, state.CurrentBlock) && !(b.Move > lastMove))
            .Aggregate(TimeSpan.Zero, (sum, b) => sum + (b.Expected + b.Settle) * factor);
        return PartEndOf(state, pace, now) + ahead;
    }

    /// <summary>When the part at work ends; now where none is, or where it has taken longer already than it was
    /// to.</summary>
    public static DateTimeOffset PartEndOf(RunState state, double pace, DateTimeOffset? now = null)
    {
        var at = now ?? state.LastAt;
        if (state.AwaitsWindow is { } awaited && awaited.Till > at)
            at = awaited.Till;
        if (state.CurrentBlock <= state.BlocksDone || !state.Blocks.TryGetValue(state.CurrentBlock, out var times))
            return at;
        var block = state.Plan.Blocks[state.CurrentBlock - 1];
        var ends = times.Begun + (block.Expected + block.Settle) * FactorOf(state, pace);
        return ends > at ? ends : at;
    }

    private static double FactorOf(RunState state, double pace)
    {
        TimeSpan planned = TimeSpan.Zero,
            took = TimeSpan.Zero;
        foreach (var block in state.Plan.Blocks.Take(state.BlocksDone))
            if (state.Blocks[block.Number] is { Ended: { } ended } times)
            {
                planned += block.Expected + block.Settle;
                took += ended - times.Begun;
            }
        return planned > TimeSpan.Zero ? took / planned : 1 / pace;
    }
}
