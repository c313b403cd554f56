using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>When the work ends, by this run's own pace: what the parts that are done took against what the plan gave them.</summary>
public static class Forecast
{
    /// <summary>The forecast end; null before the start, and after the end.</summary>
    /// <param name="state">The run.</param>
    /// <param name="pace">By how much the installation's time runs faster than the plan's; the pace where nothing is done yet.</param>
    /// <param name="lastMove">The last move that counts; all where null.</param>
    public static DateTimeOffset? EndOf(RunState state, double pace, int? lastMove = null)
    {
        if (state.StartedAt is null || state.End is not null) return null;
        TimeSpan planned = TimeSpan.Zero, took = TimeSpan.Zero, left = TimeSpan.Zero, begun = TimeSpan.Zero;
        foreach (var block in state.Plan.Blocks)
        {
            if (block.Move > lastMove) break;
            var expected = block.Expected + block.Settle;
            if (block.Number <= state.BlocksDone && state.Blocks[block.Number] is { Ended: { } ended } times) { planned += expected; took += ended - times.Begun; }
            else left += expected;
            // What the part at work has used already is not ahead any more.
            if (block.Number == state.CurrentBlock && block.Number > state.BlocksDone && state.Blocks.TryGetValue(block.Number, out var at)) begun = state.LastAt - at.Begun;
        }
        var factor = planned > TimeSpan.Zero ? took / planned : 1 / pace;
        var ahead = left * factor - begun;
        return state.LastAt + (ahead > TimeSpan.Zero ? ahead : TimeSpan.Zero);
    }
}
