using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Waves;

namespace TideStep.Core.Paths;

/// <summary>One component making one jump, with the catalogue's figures.</summary>
public sealed record Move(string Component, Versions.Version From, Versions.Version To, Jump Jump, Method Method, TimeSpan Takes, TimeSpan OutageTime, ImmutableArray<string> Out, WavePlan? Waves, ImmutableArray<TransitionalPair> Transitional)
{
    /// <summary>The move as criterion 12 writes it.</summary>
    public string Written => $"{Component}@{To.Label}";
}

/// <summary>A pair that is only tolerated while the work is under way, in the state after a move.</summary>
public sealed record TransitionalPair(string Component, string Version, string With, string At, string Why);

/// <summary>The value of one criterion, named.</summary>
public sealed record CriterionValue(int Number, string Name, long Value);

/// <summary>One reason why there is no path.</summary>
/// <param name="Kind">gap, pin, guard, requirement, rule, jump or peers.</param>
public sealed record Reason(string Kind, string What, string Opens);

/// <summary>What planning found: the best path, or why there is none.</summary>
/// <param name="Goal">The components of the goal with the version each ends at.</param>
/// <param name="Nearest">Where there is no path: the versions of the nearest state that can be reached.</param>
public sealed record PathAnswer(bool Found, bool Proved, DateOnly Day, ImmutableArray<Move> Moves, ImmutableArray<CriterionValue> Criteria, ImmutableArray<Reason> Reasons,
    ImmutableArray<(string Component, string From, string To)> Goal, ImmutableArray<(string Component, string Version)> Nearest, ImmutableArray<string> Notes)
{
    /// <summary>Whether the goal holds already.</summary>
    public bool AlreadyMet => Found && Moves.IsEmpty;
}

/// <summary>What is asked of the planner.</summary>
/// <param name="Methods">The methods that may be used, all where empty.</param>
public sealed record PathRequest(Estates.EstateIndex Index, Estates.Goal Goal, DateOnly Day, ImmutableArray<Method> Methods = default, int StateLimit = 1_000_000);
