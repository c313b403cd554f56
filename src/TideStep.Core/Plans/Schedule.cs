using System.Collections.Immutable;
using TideStep.Core.Documents;

namespace TideStep.Core.Plans;

/// <summary>Puts a plan's blocks into windows (3-planning, Windows): it pauses at resting places only, and a wave has
/// its place only where it and the return path after it,
/// back to the resting place from which the window's work began, still end inside the window.</summary>
internal static class Schedule
{
    /// <summary>How long it takes after a block, by its place, to be led back to where the work stood before a
    /// move.</summary>
    public delegate TimeSpan WayBack(int block, int move);

    /// <summary>What may be rested at after a move, or null where it may not.</summary>
    public delegate string? RestAfter(int move);

    /// <summary>The blocks with their times and the windows that they use; a finding where no window is long
    /// enough.</summary>
    /// <param name="blocks">The blocks in their order.</param>
    /// <param name="back">How long the return path takes.</param>
    /// <param name="restAfter">Where the work may pause.</param>
    /// <param name="windows">The windows, in their order.</param>
    /// <param name="findings">Where it is said why there is no schedule.</param>
    public static (ImmutableArray<Block> Blocks, ImmutableArray<PlanWindow> Windows) Fit(
        IReadOnlyList<Block> blocks,
        WayBack back,
        RestAfter restAfter,
        IEnumerable<(string Name, DateTimeOffset From, DateTimeOffset To)> windows,
        Findings findings
    )
    {
        var left = new Queue<(string Name, DateTimeOffset From, DateTimeOffset To)>(windows);
        var placed = ImmutableArray.CreateBuilder<Block>();
        var used = ImmutableArray.CreateBuilder<PlanWindow>();
        (string Name, DateTimeOffset From, DateTimeOffset To)? window = null;
        var (at, first) = (DateTimeOffset.MinValue, 1);
        // What only lies ready is done at the start, before any window.
        placed.AddRange(blocks.TakeWhile(b => b.Early == true));
        foreach (var part in Parts(blocks, placed.Count, restAfter))
        {
            var move = blocks[part[0]].Move;
            while (window is not { } open || Short(blocks, back, part, at, first, open.To) is not null)
            {
                var wasEmpty = window is null || at == window.Value.From;
                if (window is { } full && !wasEmpty)
                    Close(full, placed, used, restAfter, first, move - 1);
                if (!left.TryDequeue(out var next))
                {
                    findings.Add(
                        wasEmpty && window is { } tried
                            ? Say(blocks, part, Short(blocks, back, part, tried.From, move, tried.To)!.Value, tried)
                            : $"the windows are over before move {move}: {used.Count} of them are used",
                        null,
                        "Give more or longer windows, let more members go out at once, or plan without windows."
                    );
                    return ([], []);
                }
                (window, at, first) = (next, next.From, move);
            }
            foreach (var i in part)
            {
                var end = at + blocks[i].Expected + blocks[i].Settle;
                placed.Add(blocks[i] with { Begins = at, TurnBack = window.Value.To - back(i, first) });
                at = end;
            }
        }
        if (window is { } last)
            Close(last, placed, used, _ => null, first, blocks[^1].Move);
        return (placed.ToImmutable(), used.ToImmutable());
    }

    // Blocks from one resting place to the next; they are never parted.
    private static IEnumerable<List<int>> Parts(IReadOnlyList<Block> blocks, int from, RestAfter restAfter)
    {
        var part = new List<int>();
        for (var i = from; i < blocks.Count; i++)
        {
            part.Add(i);
            if (i + 1 < blocks.Count && (blocks[i + 1].Move == blocks[i].Move || restAfter(blocks[i].Move) is null))
                continue;
            yield return part;
            part = [];
        }
    }

    // By how much the first block that does not fit is too long, with the way back after it.
    private static (int Block, TimeSpan Forward, TimeSpan Back, TimeSpan By)? Short(
        IReadOnlyList<Block> blocks,
        WayBack back,
        List<int> part,
        DateTimeOffset at,
        int first,
        DateTimeOffset to
    )
    {
        var end = at;
        foreach (var i in part)
        {
            end += blocks[i].Expected + blocks[i].Settle;
            var length = back(i, first);
            if (end + length > to)
                return (i, end - at, length, end + length - to);
        }
        return null;
    }

    private static string Say(
        IReadOnlyList<Block> blocks,
        List<int> part,
        (int Block, TimeSpan Forward, TimeSpan Back, TimeSpan By) shortBy,
        (string Name, DateTimeOffset From, DateTimeOffset To) window
    )
    {
        var (from, to) = (blocks[part[0]].Move, blocks[part[^1]].Move);
        return $"no window is long enough for "
            + $"{(from == to ? $"move {from}" : $"moves {from} to {to}, between which there is no resting place")}: "
            + $"{blocks[shortBy.Block].Title} ends {Durations.Write(shortBy.Forward)} after their beginning and the "
            + $"return path then takes {Durations.Write(shortBy.Back)}, "
            + $"but {window.Name} has {Durations.Write(window.To - window.From)}: {Durations.Write(shortBy.By)} short";
    }

    private static void Close(
        (string Name, DateTimeOffset From, DateTimeOffset To) window,
        ImmutableArray<Block>.Builder placed,
        ImmutableArray<PlanWindow>.Builder used,
        RestAfter restAfter,
        int first,
        int last
    )
    {
        var final = placed[^1];
        if (restAfter(last) is { } rests)
        {
            placed[^1] = final with { RestsAfter = true };
            used.Add(
                new PlanWindow(
                    window.Name,
                    window.From,
                    window.To,
                    first,
                    last,
                    final.Begins!.Value + final.Expected + final.Settle,
                    rests
                )
            );
        }
        else
            used.Add(
                new PlanWindow(
                    window.Name,
                    window.From,
                    window.To,
                    first,
                    last,
                    final.Begins!.Value + final.Expected + final.Settle,
                    null
                )
            );
    }
}
