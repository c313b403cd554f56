using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Paths;

/// <summary>A path that is best when one of criteria 3 to 7 is put first, beside the best one.</summary>
/// <param name="First">The criterion's word, as goals write it.</param>
/// <param name="Differences">What it does otherwise than the best path, in the user's words.</param>
public sealed record Alternative(string First, ImmutableArray<Move> Moves, ImmutableArray<string> Differences);

/// <summary>Names the paths that other orders of the criteria would choose (3-planning, Best path).</summary>
public static class Alternatives
{
    /// <summary>The other paths, each once; empty where the best one stays best whatever comes first.</summary>
    public static ImmutableArray<Alternative> Of(PathRequest request, PathAnswer best)
    {
        if (!best.Found || !best.Proved || best.Moves.IsEmpty)
            return [];
        var found = ImmutableArray.CreateBuilder<Alternative>();
        var order = request.Goal.Order.Concat(GoalDocument.OrderWords).Distinct().ToList();
        foreach (var word in order)
        {
            // Where the best path has nought of it, putting it first changes nothing.
            if (word == order[0] || ValueOf(best.Moves, word, best) == 0)
                continue;
            request.Watch?.Begins($"the best path with {Words[word]} first");
            if (request.Watch is { Stopped: true })
                break;
            var other = PathFinder
                .Find(
                    request with
                    {
                        Goal = request.Goal with { Order = [word, .. order.Where(w => w != word)] },
                        Known = best.Moves,
                    }
                )
                .Value;
            if (
                other is not { Found: true }
                || Same(other.Moves, best.Moves)
                || found.Any(a => Same(a.Moves, other.Moves))
            )
                continue;
            found.Add(new Alternative(word, other.Moves, Differences(best.Moves, other.Moves)));
        }
        if (KeepingData(request, best) is { } keeping)
            found.Add(keeping);
        return found.ToImmutable();
    }

    /// <summary>The word of the path that loses no data.</summary>
    public const string Loses = "loses";

    // Where the best path loses data, the best of those that keep them stands beside it.
    private static Alternative? KeepingData(PathRequest request, PathAnswer best)
    {
        if (best.Moves.SelectMany(m => m.Jumps).All(j => j.Jump.Loses.IsEmpty))
            return null;
        request.Watch?.Begins("the best path that keeps the data");
        var keeping = request with
        {
            Jumps = c =>
                [
                    .. (request.Jumps?.Invoke(c) ?? request.Index.Catalogue.Find(c.Product)?.Jumps ?? []).Where(j =>
                        j.Loses.IsEmpty
                    ),
                ],
        };
        return PathFinder.Find(keeping with { WithReasons = false }).Value is { Found: true } other
            ? new Alternative(Loses, other.Moves, ["keeps the data", .. Differences(best.Moves, other.Moves)])
            : null;
    }

    private static readonly Dictionary<string, string> Words = new()
    {
        ["others"] = "the fewest other components",
        ["outage"] = "the least outage",
        ["closing"] = "the fewest closing jumps",
        ["jumps"] = "the fewest jumps",
        ["minutes"] = "the fewest minutes",
    };

    private static double ValueOf(ImmutableArray<Move> moves, string word, PathAnswer answer) =>
        word switch
        {
            "others" => moves
                .SelectMany(m => m.Jumps)
                .Select(j => j.Component)
                .Distinct()
                .Count(c => answer.Goal.All(g => g.Component != c)),
            "outage" => moves.Sum(m => m.OutageTime.TotalMinutes),
            "closing" => moves.SelectMany(m => m.Jumps).Count(j => j.Jump.Closes is not null),
            _ => 1,
        };

    private static bool Same(ImmutableArray<Move> a, ImmutableArray<Move> b) =>
        a.Length == b.Length
        && a.Zip(b)
            .All(p =>
                p.First.Jumps.Select(j => (j.Component, j.Jump.Id, j.Method))
                    .SequenceEqual(p.Second.Jumps.Select(j => (j.Component, j.Jump.Id, j.Method)))
            );

    private static ImmutableArray<string> Differences(ImmutableArray<Move> best, ImmutableArray<Move> other)
    {
        var words = ImmutableArray.CreateBuilder<string>();
        var (mine, theirs) = (Moved(best), Moved(other));
        if (theirs.Except(mine).ToList() is { Count: > 0 } more)
            words.Add($"moves {string.Join(", ", more)} as well");
        if (mine.Except(theirs).ToList() is { Count: > 0 } fewer)
            words.Add($"leaves {string.Join(", ", fewer)} alone");
        foreach (var component in mine.Intersect(theirs))
            if (EndOf(best, component) is var a && EndOf(other, component) is var b && a != b)
                words.Add($"takes {component} to {b} instead of {a}");
        var methods = best.Where(m => !m.IsJoint)
            .GroupBy(m => m.Written)
            .ToDictionary(g => g.Key, g => g.First().Method);
        foreach (
            var changed in other
                .Where(m => !m.IsJoint && methods.TryGetValue(m.Written, out var method) && method != m.Method)
                .GroupBy(m => (Now: m.Method, Was: methods[m.Written]))
        )
            words.Add(
                $"does {string.Join(", ", changed.Select(m => m.Written))} by {changed.Key.Now.Word()} "
                    + $"instead of {changed.Key.Was.Word()}"
            );
        Count(best.Sum(m => m.Takes.TotalMinutes) - other.Sum(m => m.Takes.TotalMinutes), "min shorter", "min longer");
        Count(
            best.Sum(m => m.OutageTime.TotalMinutes) - other.Sum(m => m.OutageTime.TotalMinutes),
            "outage minutes fewer",
            "outage minutes more"
        );
        Count(best.Sum(m => m.Jumps.Length) - other.Sum(m => m.Jumps.Length), "jumps fewer", "jumps more");
        Count(Closing(best) - Closing(other), "closing jumps fewer", "closing jumps more");
        if (words.Count == 0)
            words.Add("does the same in another order or by other jumps");
        return words.ToImmutable();

        void Count(double difference, string less, string greater)
        {
            if (Math.Abs(difference) > 1e-9)
                words.Add($"{Math.Abs(difference):0.#} {(difference > 0 ? less : greater)}");
        }
        static List<string> Moved(ImmutableArray<Move> moves) =>
            [.. moves.SelectMany(m => m.Jumps).Select(j => j.Component).Distinct().Order(StringComparer.Ordinal)];
        static string EndOf(ImmutableArray<Move> moves, string component) =>
            moves.SelectMany(m => m.Jumps).Last(j => j.Component == component).To.Label;
        static int Closing(ImmutableArray<Move> moves) =>
            moves.SelectMany(m => m.Jumps).Count(j => j.Jump.Closes is not null);
    }
}
