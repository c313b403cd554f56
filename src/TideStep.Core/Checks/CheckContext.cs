using System.Collections.Immutable;

namespace TideStep.Core.Checks;

/// <summary>What checks rest on besides the estate, its readings and the plan; all of it comes from outside.</summary>
/// <param name="Now">The moment of the check.</param>
public sealed record CheckContext(DateTimeOffset Now)
{
    /// <summary>Members that could not be read, with why.</summary>
    public ImmutableDictionary<string, string> Unreached { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>How old readings may be.</summary>
    public TimeSpan Fresh { get; init; } = TimeSpan.FromHours(12);

    /// <summary>What other runs have reserved: the component, by the run.</summary>
    public ImmutableDictionary<string, string> Reserved { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>Manual prerequisites that people signed.</summary>
    public ImmutableArray<SignedItem> Signed { get; init; } = [];

    /// <summary>What the library of artefacts holds, by name; null where there is none to look into.</summary>
    public IReadOnlyDictionary<string, HeldArtefact>? Library { get; init; }

    /// <summary>The revisions of the estate's and the catalogue's documents as they are now; null where nobody keeps
    /// them.</summary>
    public (string Estate, string Catalogue)? Revisions { get; init; }

    /// <summary>What else keeps a run of the plan from starting: a rehearsal, a sign-off.</summary>
    public ImmutableArray<Documents.Problem> NotReady { get; init; } = [];

    /// <summary>Tells what keeps a secret from being used, by its name; null where it can be.</summary>
    public Func<string, Documents.Problem?> Secret { get; init; } = _ => null;

    /// <summary>Tide Step's own version; null where it does not matter.</summary>
    public string? OwnVersion { get; init; }

    /// <summary>What was accepted before.</summary>
    public ImmutableArray<Waiver> Waivers { get; init; } = [];
}
