using System.Collections.Immutable;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>Members that are taken out of service together.</summary>
/// <param name="Members">The members of the component that moves, by their identifiers.</param>
/// <param name="AlsoOut">Members of other components that go out with them.</param>
/// <param name="ComponentsOut">Components left without a member in service, and those that depend on them.</param>
public sealed record Wave(
    string? Role,
    string? Domain,
    bool Canary,
    ImmutableArray<Member> Members,
    ImmutableArray<Member> AlsoOut,
    ImmutableArray<string> ComponentsOut
);

/// <summary>The waves of a move, with the fewest that could do.</summary>
public sealed record WavePlan(ImmutableArray<Wave> Waves, int LowerBound);

/// <summary>Why there are no waves: the component whose guard or number forbids it, in words.</summary>
public sealed record WaveRefusal(string Component, string What, string Left);
