using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>Whether a part may be entered now, by windows and freezes: at once, not before a moment, or not at
/// all.</summary>
/// <param name="WaitTill">When its window opens; null where it has.</param>
/// <param name="Halt">Why it may not be entered any more; null where it may.</param>
public readonly record struct Entering(DateTimeOffset? WaitTill, string? Halt)
{
    /// <summary>How long it takes after a part to be led back to where its window began: a resting place, or the start.
    /// Without windows it is the whole return path.</summary>
    public static TimeSpan BackOf(Block block, PlanWindow? window) =>
        window is not null && block.TurnBack is { } turn ? window.To - turn : block.Return.Length;

    /// <summary>A part that takes something out of service is not begun when it and the way back to where its window
    /// began do not fit what is left of the window, or reach into a freeze.</summary>
    /// <param name="from">Before when nothing is begun but what only lies ready; null where nobody said so.</param>
    public static Entering Of(Plan plan, Block block, DateTimeOffset now, DateTimeOffset? from = null)
    {
        if (block.Early == true)
            return plan.Freezes.FirstOrDefault(f => f.From < now + block.Expected && now < f.To) is { } frozen
                ? new Entering(frozen.To, null)
                : default;
        if (now < from)
            return new Entering(from, null);
        var window = plan.Windows.FirstOrDefault(w => block.Move <= w.LastMove) ?? plan.Windows.LastOrDefault();
        if (now < window?.From)
            return new Entering(window.From, null);
        var takesOut =
            block.CheckGuards
            || !block.ComponentsOut.IsEmpty
                && plan.Blocks.First(b => b.Move == block.Move && !b.ComponentsOut.IsEmpty) == block;
        var end = now + block.Expected + block.Settle + BackOf(block, window);
        // Without a window a freeze alone may stand in the way; with one, none reaches into it, but a run past its
        // window may come upon it.
        var freeze = plan.Freezes.FirstOrDefault(f => f.From < end && now < f.To);
        if (!takesOut || (freeze is null && !(end > window?.To)))
            return default;
        return new Entering(
            null,
            freeze is not null
                ? $"{block.Title} would "
                    + (
                        now < freeze.From
                            ? $"end, with the return path after it, at "
                                + $"{end.ToOffset(freeze.From.Offset):yyyy-MM-dd HH:mm}"
                            : "begin"
                    )
                    + $" in the freeze {freeze.Name}{(freeze.Why is null ? "" : $" ({freeze.Why})")}, from "
                    + $"{freeze.From:yyyy-MM-dd HH:mm} to {freeze.To:yyyy-MM-dd HH:mm}"
                : $"{block.Title} would end, with the return path after it, at "
                    + $"{end.ToOffset(window!.To.Offset):yyyy-MM-dd HH:mm}; the window ends at {window.To:HH:mm}"
        );
    }
}
