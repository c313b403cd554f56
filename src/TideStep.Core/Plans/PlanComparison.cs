using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Core.Plans;

/// <summary>Tells in the user's words what one plan does otherwise than an earlier one.</summary>
public static class PlanComparison
{
    private const int MostNamed = 6;

    /// <summary>The differences, the weightiest first; none where both do the same.</summary>
    public static ImmutableArray<string> Of(Plan earlier, Plan later)
    {
        if (earlier.Digest == later.Digest)
            return [];
        var said = ImmutableArray.CreateBuilder<string>();
        Goals(earlier, later, said);
        Moves(earlier, later, said);
        Count(said, later.Expected - earlier.Expected, "shorter", "longer");
        Count(said, Outage(later) - Outage(earlier), "outage fewer", "outage more");
        Waves(earlier, later, said);
        Steps(earlier, later, said);
        Named(
            said,
            "takes a rollback point of",
            "takes no rollback point of",
            [.. later.Points.Select(p => $"{p.Member} ({p.Kind}, before move {p.Move})")],
            [.. earlier.Points.Select(p => $"{p.Member} ({p.Kind}, before move {p.Move})")]
        );
        Return(earlier, later, said);
        Windows(earlier, later, said);
        Premises(earlier, later, said);
        if (said.Count == 0)
            said.Add("does the same with other titles, limits or notes");
        return said.ToImmutable();
    }

    private static void Goals(Plan earlier, Plan later, ImmutableArray<string>.Builder said)
    {
        if (earlier.Kind != later.Kind)
            said.Add($"is a plan of another kind: {later.Kind} instead of {earlier.Kind}");
        if (earlier.Estate != later.Estate)
            said.Add($"is for the estate {later.Estate} instead of {earlier.Estate}");
        Named(said, "has the goal", "no longer has the goal", later.Goal, earlier.Goal);
    }

    private static void Moves(Plan earlier, Plan later, ImmutableArray<string>.Builder said)
    {
        string[] mine = [.. later.Moves.Select(Written)],
            theirs = [.. earlier.Moves.Select(Written)];
        Named(said, "makes the move", "does not make the move", mine, theirs);
        var both = mine.Intersect(theirs).ToList();
        foreach (var written in both)
        {
            var (now, was) = (
                later.Moves.First(m => Written(m) == written),
                earlier.Moves.First(m => Written(m) == written)
            );
            if (now.Method != was.Method)
                said.Add($"does {written} by {now.Method.Word()} instead of {was.Method.Word()}");
            else if (now.Takes != was.Takes)
                said.Add($"{written} takes {Durations.Write(now.Takes)} instead of {Durations.Write(was.Takes)}");
        }
        if (!mine.Where(both.Contains).SequenceEqual(theirs.Where(both.Contains)))
            said.Add(
                $"goes in another order: "
                    + $"{string.Join(", ", mine.Take(MostNamed))}{(mine.Length > MostNamed ? ", …" : "")}"
            );
    }

    private static string Written(PlannedMove move) => move.Words;

    private static TimeSpan Outage(Plan plan) => plan.Moves.Aggregate(TimeSpan.Zero, (sum, m) => sum + m.OutageTime);

    private static void Waves(Plan earlier, Plan later, ImmutableArray<string>.Builder said)
    {
        var was = earlier.Moves.ToLookup(Written);
        foreach (var move in later.Moves)
        {
            if (was[Written(move)].FirstOrDefault() is not { } before || before.Method != move.Method)
                continue;
            string[] mine = Taken(later, move),
                theirs = Taken(earlier, before);
            if (mine.Length != theirs.Length)
                said.Add($"{Written(move)} goes in {mine.Length} waves instead of {theirs.Length}");
            else if (!mine.SequenceEqual(theirs))
                said.Add($"{Written(move)} goes in other waves: {string.Join(" | ", mine.Except(theirs).Take(3))}");
        }

        static string[] Taken(Plan plan, PlannedMove move) =>
            [
                .. plan
                    .Blocks.Where(b => b.Move == move.Number && b.Phase == Phase.Roll)
                    .Select(b => string.Join(" ", b.Lanes.Select(l => MemberId.Of(l.Subject).Node))),
            ];
    }

    // Steps are known by what they do for whom; one that is moved to another place in the plan is the same one.
    private static void Steps(Plan earlier, Plan later, ImmutableArray<string>.Builder said)
    {
        Dictionary<string, int> Counted(Plan plan) =>
            plan
                .Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .GroupBy(s => $"{s.Title} on {s.Member}{(s.To is null ? "" : $" for {s.To}")}")
                .ToDictionary(g => g.Key, g => g.Count());
        var (mine, theirs) = (Counted(later), Counted(earlier));
        if (later.Moves.Select(Written).ToHashSet().SetEquals(earlier.Moves.Select(Written)))
            Named(
                said,
                "has the step",
                "does not have the step",
                [.. mine.Where(m => m.Value > theirs.GetValueOrDefault(m.Key)).Select(m => m.Key)],
                [.. theirs.Where(m => m.Value > mine.GetValueOrDefault(m.Key)).Select(m => m.Key)]
            );
        else if (mine.Values.Sum() - theirs.Values.Sum() is var difference and not 0)
            said.Add($"has {Math.Abs(difference)} steps {(difference > 0 ? "more" : "fewer")}");
    }

    private static void Return(Plan earlier, Plan later, ImmutableArray<string>.Builder said)
    {
        foreach (
            var (state, words) in ((ReturnState, string)[])
                [(ReturnState.WithLoss, "loss begins"), (ReturnState.Closed, "the return path closes")]
        )
            if (First(earlier, state) is var was && First(later, state) is var now && was != now)
                said.Add($"{words} {now ?? "nowhere"} instead of {was ?? "nowhere"}");

        static string? First(Plan plan, ReturnState state) =>
            plan.Blocks.FirstOrDefault(b => b.Return.State == state) is { } block ? $"at '{block.Title}'" : null;
    }

    private static void Windows(Plan earlier, Plan later, ImmutableArray<string>.Builder said)
    {
        string[] mine = [.. later.Windows.Select(Written)],
            theirs = [.. earlier.Windows.Select(Written)];
        if (!mine.SequenceEqual(theirs))
            said.Add(
                $"uses {(mine.Length == 0 ? "no windows" : string.Join(", ", mine))} instead of "
                    + $"{(theirs.Length == 0 ? "none" : string.Join(", ", theirs))}"
            );

        static string Written(PlanWindow window) =>
            $"{window.From:yyyy-MM-dd HH:mm} for "
            + (
                window.FirstMove == window.LastMove
                    ? $"move {window.FirstMove}"
                    : $"moves {window.FirstMove} to {window.LastMove}"
            );
    }

    private static void Premises(Plan earlier, Plan later, ImmutableArray<string>.Builder said)
    {
        var (was, now) = (earlier.Premises, later.Premises);
        if (was.EstateRevision != now.EstateRevision)
            said.Add("was made from another revision of the estate");
        if (was.CatalogueRevision != now.CatalogueRevision)
            said.Add("was made from another revision of the catalogue");
        Named(
            said,
            "starts from",
            "does not start from",
            [
                .. now
                    .Running.Where(r => was.Running.GetValueOrDefault(r.Key) != r.Value)
                    .Select(r => $"{r.Key} at {r.Value}"),
            ],
            [
                .. was
                    .Running.Where(r => now.Running.GetValueOrDefault(r.Key) != r.Value)
                    .Select(r => $"{r.Key} at {r.Value}"),
            ]
        );
    }

    private static void Named(
        ImmutableArray<string>.Builder said,
        string more,
        string less,
        IReadOnlyCollection<string> mine,
        IReadOnlyCollection<string> theirs
    )
    {
        foreach (
            var (words, list) in new[] { (more, mine.Except(theirs).ToList()), (less, theirs.Except(mine).ToList()) }
        )
            if (list.Count > 0)
                said.Add(
                    $"{words} {string.Join(", ", list.Take(MostNamed))}"
                        + $"{(list.Count > MostNamed ? $" and {list.Count - MostNamed} more" : "")}"
                );
    }

    private static void Count(ImmutableArray<string>.Builder said, TimeSpan difference, string less, string more)
    {
        if (difference != TimeSpan.Zero)
            said.Add($"{Durations.Write(difference.Duration())} {(difference < TimeSpan.Zero ? less : more)}");
    }
}
