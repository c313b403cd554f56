using System.Collections.Immutable;
using TideStep.Core.Documents;

namespace TideStep.Core.Runs;

/// <summary>One part, or one kind of step, in two runs: what it took in each, where it ended there.</summary>
public sealed record TimeInTwo(string What, TimeSpan? First, TimeSpan? Second);

/// <summary>What two runs did differently.</summary>
/// <param name="Differences">In words, what matters first.</param>
/// <param name="Times">How long their parts took, those that are in both by their titles, the largest change
/// first.</param>
public sealed record RunDifferences(ImmutableArray<string> Differences, ImmutableArray<TimeInTwo> Times);

/// <summary>Compares a run with another of the same kind of work; pure.</summary>
public static class RunComparison
{
    public static RunDifferences Of(RunState first, RunState second)
    {
        var words = ImmutableArray.CreateBuilder<string>();
        void Differs<T>(string what, T one, T other)
        {
            if (!EqualityComparer<T>.Default.Equals(one, other))
                words.Add($"{what}: {one}, then {other}");
        }
        Differs("plan", Short(first), Short(second));
        Differs("end", End(first), End(second));
        Differs("steps", Steps(first), Steps(second));
        Differs("attempts", first.AttemptCount, second.AttemptCount);
        Differs("decisions", Decisions(first), Decisions(second));
        Differs("left out", List(first.LeftOut), List(second.LeftOut));
        Differs("accepted findings", List(first.Accepted), List(second.Accepted));
        Differs(
            "differences after the work",
            first.Comparison?.Differences.Count(d => !d.Borne) ?? 0,
            second.Comparison?.Differences.Count(d => !d.Borne) ?? 0
        );
        if (Took(first) is { } one && Took(second) is { } other && Durations.Write(one) != Durations.Write(other))
            words.Add($"took: {Durations.Write(one)}, then {Durations.Write(other)}");
        var (a, b) = (Times(first), Times(second));
        return new RunDifferences(
            words.ToImmutable(),
            [
                .. a
                    .Keys.Union(b.Keys)
                    .Select(t => new TimeInTwo(
                        t,
                        a.TryGetValue(t, out var x) ? x : null,
                        b.TryGetValue(t, out var y) ? y : null
                    ))
                    .OrderByDescending(t => t is { First: { } x, Second: { } y } ? (y - x).Duration() : TimeSpan.Zero)
                    .ThenBy(t => t.What, StringComparer.Ordinal),
            ]
        );
    }

    private static string Short(RunState s) => s.Plan.Digest.Length > 17 ? s.Plan.Digest[7..17] : s.Plan.Digest;

    private static string End(RunState s) =>
        s.End is { } end ? RunReport.EndWord(end) : $"not ended ({Orders.Word(s.Status)})";

    private static string Steps(RunState s) =>
        s.Plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).ToList() is var all
            ? $"{all.Count(x => s.Of(x.Id).Status == StepStatus.Done)} of {all.Count}"
            : "";

    private static string Decisions(RunState s) =>
        s.Decisions.Count == 0 ? "none" : string.Join(", ", s.Decisions.Select(d => RunReport.Word(d.Decision)));

    private static string List(IEnumerable<string> items) =>
        string.Join(", ", items.Order(StringComparer.Ordinal)) is { Length: > 0 } text ? text : "none";

    private static TimeSpan? Took(RunState s) => s is { StartedAt: { } from, EndedAt: { } to } ? to - from : null;

    private static Dictionary<string, TimeSpan> Times(RunState s) =>
        s
            .Plan.Blocks.Where(b => s.Blocks.TryGetValue(b.Number, out var t) && t.Ended is not null)
            .GroupBy(b => b.Title)
            .ToDictionary(
                g => g.Key,
                g =>
                    g.Aggregate(TimeSpan.Zero, (sum, b) =>
                        sum + (s.Blocks[b.Number].Ended!.Value - s.Blocks[b.Number].Begun)
                    )
            );
}
