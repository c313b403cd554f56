using System.Collections.Immutable;
using TideStep.Core.Expressions;

namespace TideStep.Core.Checks;

/// <summary>How much a finding weighs.</summary>
public enum Level
{
    Advice,
    Caution,
    Blocker,
}

/// <summary>What came of a check. Open: a reading is missing or too old; it counts as its level. A check that does not
/// apply has not passed either.</summary>
public enum CheckResult
{
    Passed,
    Failed,
    Open,
    NotApplicable,
}

/// <summary>A check put to the readings, with its numbers.</summary>
/// <param name="Check">The check's name: <c>jump to-8.4 room</c> for a prerequisite, one word for a built-in
/// one.</param>
/// <param name="Subject">What it was put to: a member, node, component, site, or the plan.</param>
/// <param name="What">What was found, in words.</param>
/// <param name="Remedy">What helps; null where it passed or nobody said.</param>
/// <param name="Moves">The moves of the plan that it is asked for; none for the plan as a whole.</param>
public sealed record Finding(
    string Check,
    string Subject,
    Level Level,
    CheckResult Result,
    string What,
    string? Remedy,
    ImmutableArray<int> Moves
)
{
    /// <summary>The node to look at, where it is about one.</summary>
    public string? Node { get; init; }

    /// <summary>What was found, needed and short, where a comparison did not hold.</summary>
    public string? Found { get; init; }

    /// <inheritdoc cref="Found"/>
    public string? Needed { get; init; }

    /// <inheritdoc cref="Found"/>
    public string? Short { get; init; }

    /// <summary>The shortfall as a number in its base unit, by which a worse finding is told from the same.</summary>
    public double? ShortBy { get; init; }

    /// <summary>Every reading that the result rests on.</summary>
    public ImmutableArray<Used> Evidence { get; init; } = [];

    /// <summary>Who accepts it, where a waiver covers it.</summary>
    public Waiver? Waived { get; init; }

    /// <summary>The name by which it is found again in another round: check and subject.</summary>
    public string Id => $"{Check} {Subject}";

    /// <summary>Whether it stands in the way: failed or open at its level, and nobody accepted it.</summary>
    public bool Stands(Level level) =>
        Result is CheckResult.Failed or CheckResult.Open && Level >= level && Waived is null;
}

/// <summary>A named person's reasoned and ending acceptance of one finding as it was then.</summary>
/// <param name="Level">The level that the finding had.</param>
/// <param name="Result">The result that it had.</param>
/// <param name="ShortBy">Its shortfall then; one that is larger is not covered.</param>
public sealed record Waiver(
    string Finding,
    string By,
    string Reason,
    DateTimeOffset At,
    DateTimeOffset Ends,
    Level Level,
    CheckResult Result,
    double? ShortBy
)
{
    /// <summary>Whether another person has to agree before it holds.</summary>
    public bool NeedsSecond { get; init; }

    /// <summary>Who agreed.</summary>
    public string? Second { get; init; }

    /// <summary>Whether everybody whose word it needs has given it.</summary>
    [System.Text.Json.Serialization.JsonIgnore]
    public bool Stands => !NeedsSecond || Second is not null;

    /// <summary>Whether it still covers a finding: a new or worse one never is.</summary>
    public bool Covers(Finding finding, DateTimeOffset now) =>
        finding.Id == Finding
        && now < Ends
        && finding.Level <= Level
        && (finding.Result == Result || finding.Result == CheckResult.Passed)
        && (finding.ShortBy ?? 0) <= (ShortBy ?? 0) + Tolerance;

    // Readings written in words lose some digits; half a per mille is no worse.
    private double Tolerance => Math.Abs(ShortBy ?? 0) * 0.0005;
}
