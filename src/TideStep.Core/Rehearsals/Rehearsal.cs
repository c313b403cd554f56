using System.Collections.Immutable;

namespace TideStep.Core.Rehearsals;

/// <summary>What goes wrong on purpose: steps whose identifier or name holds the words.</summary>
/// <param name="Step">Words of the step: its name, or a part of its identifier.</param>
/// <param name="Fails">How many attempts at it fail before one succeeds.</param>
/// <param name="Longer">By how much longer it takes: 1 is as planned.</param>
public sealed record ChosenFault(string Step, int Fails, double Longer);

/// <summary>How a plan is rehearsed against stand-ins.</summary>
/// <param name="Draws">How often it is carried out.</param>
/// <param name="Seed">The same seed gives the same draws.</param>
/// <param name="FailsPerThousand">How many of a thousand steps fail at their first attempt, at random.</param>
/// <param name="Person">How long a person takes for what only a person does or decides.</param>
public sealed record RehearsalWish(
    int Draws,
    ulong Seed,
    ImmutableArray<ChosenFault> Faults,
    double FailsPerThousand,
    TimeSpan Person
)
{
    public static readonly RehearsalWish Usual = new(200, 1, [], 2, TimeSpan.FromMinutes(10));
    public const int MostDraws = 10_000;
}

/// <summary>A step, over all its members, by how much of the spread of the end it brings.</summary>
/// <param name="Share">Of what all steps together bring, from 0 to 1.</param>
/// <param name="Assumed">Whether its spread is assumed, because too little was learnt of it.</param>
public sealed record Deciding(string Component, string Step, double Share, bool Assumed);

/// <summary>A window of the plan, and in how many of the draws its work ended in time.</summary>
public sealed record WindowChance(string Window, DateTimeOffset To, double Chance);

/// <summary>What a rehearsal against stand-ins showed: order, times and decisions, not the products' steps.</summary>
/// <param name="Early">One in ten draws took less.</param>
/// <param name="Middle">Half of them took less.</param>
/// <param name="Late">One in ten took more.</param>
/// <param name="Ended">In how many of the draws the run came to its end.</param>
/// <param name="Halts">How often it halted, for what, most often first; at most a handful.</param>
/// <param name="AssumedShare">Of the plan's expected time, how much lies in steps whose spread is assumed.</param>
/// <param name="Broken">Guards that did not hold, in words; none in a sound plan.</param>
public sealed record RehearsalResult(
    string Plan,
    RehearsalWish Wish,
    TimeSpan Planned,
    TimeSpan Early,
    TimeSpan Middle,
    TimeSpan Late,
    double Ended,
    ImmutableArray<WindowChance> Windows,
    ImmutableArray<Deciding> Deciding,
    ImmutableArray<string> Halts,
    double AssumedShare,
    ImmutableArray<string> Broken
)
{
    /// <summary>The chance that all windows are kept; that the run ends at all where the plan has none.</summary>
    public double Chance => Windows.IsEmpty ? Ended : Windows.Min(w => w.Chance);
}
