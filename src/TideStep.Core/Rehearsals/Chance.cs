namespace TideStep.Core.Rehearsals;

/// <summary>Numbers at random that are the same for the same seed on every machine (SplitMix64; Steele, Lea and Flood,
/// 2014).</summary>
internal sealed class Chance(ulong seed)
{
    private ulong _state = seed;

    /// <summary>From 0 to below 1.</summary>
    public double Next()
    {
        var z = _state += 0x9E3779B97F4A7C15;
        z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9;
        z = (z ^ (z >> 27)) * 0x94D049BB133111EB;
        return ((z ^ (z >> 31)) >> 11) * (1.0 / (1UL << 53));
    }
}

/// <summary>How a step's time is spread: through the tenth, the middle and the ninth tenth, straight between them, with
/// tails as long as the halves beside them.</summary>
internal readonly record struct Spread(double Low, double Median, double High, bool Assumed)
{
    /// <summary>Where nothing was learnt: from a tenth less to a fifth longer.</summary>
    private const double AssumedLow = 0.9,
        AssumedHigh = 1.2;

    public static Spread Of(Plans.PlanStep step) =>
        step.Learnt is { } learnt
            ? new Spread(learnt.Low.TotalSeconds, learnt.Median.TotalSeconds, learnt.High.TotalSeconds, false)
            : Assume(step.Expected.TotalSeconds, step.AtMost?.TotalSeconds);

    public static Spread Assume(double expected, double? atMost = null) =>
        new(expected * AssumedLow, expected, Math.Max(atMost ?? expected * AssumedHigh, expected), true);

    public double At(double chance)
    {
        var value =
            chance < 0.1 ? Low - (Median - Low) / 4 * (1 - chance / 0.1)
            : chance < 0.5 ? Low + (Median - Low) * (chance - 0.1) / 0.4
            : chance < 0.9 ? Median + (High - Median) * (chance - 0.5) / 0.4
            : High + (High - Median) * (chance - 0.9) / 0.1;
        return Math.Max(0, value);
    }
}
