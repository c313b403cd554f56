using System.Collections.Immutable;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Learnt;

/// <summary>How long a step took in earlier runs.</summary>
/// <param name="Times">How often it was seen.</param>
/// <param name="Median">The middle of what it took.</param>
/// <param name="Low">One in ten took less.</param>
/// <param name="High">One in ten took more.</param>
public sealed record LearntTime(int Times, TimeSpan Median, TimeSpan Low, TimeSpan High);

/// <summary>What steps took in earlier runs, by product and step: the last of each, in seconds, oldest first. They go
/// into a plan's minutes, never into the criteria by which a path is chosen.</summary>
public sealed record LearntTimes(ImmutableSortedDictionary<string, ImmutableArray<double>> Seconds)
{
    public static readonly LearntTimes None = new(ImmutableSortedDictionary<string, ImmutableArray<double>>.Empty);

    /// <summary>From how many times on something counts as learnt.</summary>
    public const int Enough = 3;

    /// <summary>How many of the last times are kept.</summary>
    public const int Kept = 40;

    public static string Key(string product, string step) => $"{product}/{step}";

    /// <summary>What was learnt of a step; null while too little was.</summary>
    public LearntTime? Of(string product, string step) =>
        Seconds.TryGetValue(Key(product, step), out var all) && all.Length >= Enough ? Of(all) : null;

    /// <summary>The spread of times in seconds, by linear interpolation between order statistics (Hyndman and Fan,
    /// 1996, definition 7).</summary>
    public static LearntTime Of(IReadOnlyCollection<double> seconds)
    {
        var sorted = seconds.Order().ToArray();
        TimeSpan At(double share)
        {
            var place = share * (sorted.Length - 1);
            var below = (int)Math.Floor(place);
            var value =
                below + 1 < sorted.Length
                    ? sorted[below] + (place - below) * (sorted[below + 1] - sorted[below])
                    : sorted[below];
            return TimeSpan.FromSeconds(Math.Round(value, 1));
        }
        return new LearntTime(sorted.Length, At(0.5), At(0.1), At(0.9));
    }

    /// <summary>With what a run took as well: steps that were done at the first attempt and were not waited for by
    /// anybody.</summary>
    /// <param name="state">The run.</param>
    /// <param name="productOf">The product of a component, null where it is not known any more.</param>
    public LearntTimes With(RunState state, Func<string, string?> productOf)
    {
        // Faster than real time nothing is learnt: what machines take does not shrink with the plan's waits.
        if (state.Pace != 1)
            return this;
        var seconds = Seconds.ToBuilder();
        foreach (var step in state.Plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps))
        {
            var its = state.Of(step.Id);
            if (
                step.Do is Catalogue.PersonAction
                || its is not { How: DoneHow.Done, Begun: { } begun, EndedAt: { } ended }
                || its.Attempts.Count(a => !a.Undo) > 1
                || its.Attempts.Any(a => a.Overdue)
            )
                continue;
            if (productOf(step.Component) is not { } product)
                continue;
            var key = Key(product, step.Name);
            var all = (seconds.TryGetValue(key, out var known) ? known : []).Add(
                Math.Round((ended - begun).TotalSeconds, 3)
            );
            seconds[key] = all.Length > Kept ? all.RemoveRange(0, all.Length - Kept) : all;
        }
        return new LearntTimes(seconds.ToImmutable());
    }
}
