using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Engine.Runs;

/// <summary>Watches the time of a run: says when it runs late, and asks for a decision while the way back still fits
/// its window.</summary>
internal sealed class RunClock(RunContext context, RunLog log)
{
    /// <summary>How often it looks.</summary>
    private static readonly TimeSpan Often = TimeSpan.FromSeconds(15);
    private static readonly TimeSpan Soon = TimeSpan.FromMilliseconds(50);

    /// <summary>How long before the turn-back time it asks: members in the middle have to come to a safe place
    /// first.</summary>
    private static readonly TimeSpan Before = TimeSpan.FromMinutes(10);

    /// <summary>What a run may be over its planned time before it is late.</summary>
    private const double Grace = 0.1;
    private static readonly TimeSpan LeastGrace = TimeSpan.FromMinutes(5);
    private static readonly TimeSpan LeastTold = TimeSpan.FromMinutes(1);

    public async Task WatchAsync(Func<bool> keepsWindows, CancellationToken ct)
    {
        while (log.Look(s => s.End) is null)
        {
            if (log.Look(HoldDue) is { } hold)
                await log.AppendAsync(hold);
            else if (log.Look(s => Said(s, keepsWindows())) is { } said)
                await log.AppendAsync(said);
            var till = log.Look(s => s.HoldAt?.At) is { } at ? at - context.Time.GetUtcNow() : Often;
            // Looked at again soon: a time may be said meanwhile, and one that is past waits for the run to be at work.
            await Task.Delay(
                till <= TimeSpan.Zero || till > Often ? Often
                    : till > Soon ? till
                    : Soon,
                context.Time,
                ct
            );
        }
    }

    // A hold whose time has come, asked for by whoever said so.
    private HoldAsked? HoldDue(RunState state) =>
        state.HoldAt is { At: { } at, By: var by }
        && at <= context.Time.GetUtcNow()
        && state.Status is RunStatus.Running or RunStatus.Waiting
            ? new HoldAsked(by)
            : null;

    // What is to be said now, or nothing.
    private RunEvent? Said(RunState state, bool keepsWindows)
    {
        if (state.Status is not (RunStatus.Running or RunStatus.Waiting) || state.CurrentBlock == state.BlocksDone)
            return null;
        var now = context.Time.GetUtcNow();
        var block = state.Plan.Blocks[state.CurrentBlock - 1];
        if (block.Early == true)
            return null;
        var window = keepsWindows
            ? state.Plan.Windows.FirstOrDefault(w => block.Move >= w.FirstMove && block.Move <= w.LastMove)
            : null;
        if (Forecast.EndOf(state, context.Settings.Pace, window?.LastMove, now) is not { } end)
            return null;
        if (window is not null)
        {
            var back = Entering.BackOf(block, window);
            var turnBack = window.To - back;
            if (
                block.Return.State != ReturnState.Closed
                && back > TimeSpan.Zero
                && (now >= turnBack || now >= turnBack - Before && end > window.To)
                && state.TurnBackSaid != window.To
            )
                return new TurnBackNear(turnBack, end, window.To);
            return end > window.To && state.LateAgainst != window.To ? new RanLate(end, window.To) : null;
        }
        var whole = context.Settings.Real(state.Plan.Expected);
        var due = (state.StartAt is { } at && at > state.StartedAt ? at : state.StartedAt!.Value) + whole;
        // A few per cent of a short run are no lateness, and what is written by the minute has to differ by one.
        TimeSpan[] spans = [whole * Grace, context.Settings.Real(LeastGrace), LeastTold];
        var grace = spans.Max();
        return end > due + grace && state.LateAgainst is null ? new RanLate(end, due) : null;
    }
}
