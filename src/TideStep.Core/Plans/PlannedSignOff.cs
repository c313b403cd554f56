using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Plans;

/// <summary>A place where the plan waits for a person's word that it may go on.</summary>
/// <param name="Id"><c>start</c>, or <c>part N</c> for the part before which it is asked.</param>
/// <param name="Block">The number of that part; 0 before the start.</param>
/// <param name="Why">What it is asked for, in words.</param>
/// <param name="ByAnother">Whether it must be somebody else than who made the plan, and than who opened the
/// run.</param>
/// <param name="Lasts">How long the word holds once given.</param>
public sealed record PlannedSignOff(string Id, int Block, string Why, bool ByAnother, TimeSpan Lasts)
{
    public const string Start = "start";

    /// <summary>What the estate and the jumps of a plan's moves ask to be signed, in the order of the parts; each part
    /// at most once, with the strictest that is asked there.</summary>
    public static ImmutableArray<PlannedSignOff> Of(
        Estate estate,
        ImmutableArray<Block> blocks,
        Func<int, IEnumerable<Jump>> jumpsOf
    )
    {
        var found = new List<PlannedSignOff>();
        // One's own plan is not signed by oneself in production, unless the estate says so.
        void Ask(string id, int block, string why, SignOffWish wish) =>
            found.Add(
                new PlannedSignOff(id, block, why, wish.ByAnother ?? estate.Class == EstateClass.Production, wish.Lasts)
            );
        var policy = estate.SignOffs;
        if (policy.Start is { } start)
            Ask(Start, 0, "before the start", start);
        if (policy.NoReturn is { } last && blocks.FirstOrDefault(ClosesTheWayBack) is { } closing)
            Ask($"part {closing.Number}", closing.Number, "before the point of no return", last);
        foreach (var first in blocks.GroupBy(b => (b.Move, b.Phase)).Select(g => g.First()))
        {
            var word = first.Phase.ToString().ToLowerInvariant();
            if (policy.Phases.GetValueOrDefault(word) is { } wish)
                Ask($"part {first.Number}", first.Number, $"before the phase {word} of move {first.Move}", wish);
            foreach (var jump in jumpsOf(first.Move).Where(j => j.SignOffs.Contains(word)).DistinctBy(j => j.Id))
                Ask(
                    $"part {first.Number}",
                    first.Number,
                    $"jump {jump.Id} asks before its phase {word}",
                    SignOffPolicy.OfProduct
                );
        }
        return
        [
            .. found
                .GroupBy(s => s.Id)
                .Select(g =>
                    g.First() with
                    {
                        Why = string.Join("; ", g.Select(s => s.Why)),
                        ByAnother = g.Any(s => s.ByAnother),
                        Lasts = g.Min(s => s.Lasts),
                    }
                )
                .OrderBy(s => s.Block),
        ];
    }

    private static bool ClosesTheWayBack(Block block) =>
        block.Return.State == ReturnState.Closed || block.Lanes.Any(l => l.Steps.Any(s => s.Closes));
}
