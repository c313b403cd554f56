using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Waves;

namespace TideStep.Core.Paths;

/// <summary>A jump that one component makes in a move.</summary>
public sealed record TakenJump(string Component, Versions.Version From, Versions.Version To, Jump Jump, Method Method);

/// <summary>One component making one jump, or a joint move of several jumps in one outage, with the catalogue's
/// figures.</summary>
/// <param name="Jumps">The jumps by component in code-point order, each one's in their sequence.</param>
/// <param name="OutageTime">Outage minutes: the outage times the components that it takes out.</param>
public sealed record Move(
    ImmutableArray<TakenJump> Jumps,
    TimeSpan Takes,
    TimeSpan OutageTime,
    ImmutableArray<string> Out,
    WavePlan? Waves,
    ImmutableArray<TransitionalPair> Transitional
)
{
    /// <summary>The pairs of what it changed, as they stand after it; every other pair stands as before.</summary>
    public ImmutableArray<StandingPair> Pairs { get; init; } = [];

    /// <summary>The proof that its waves break no guard; null where it goes in no waves.</summary>
    public WaveProof? Proof { get; init; }

    /// <summary>Why nothing stands in which everybody goes on serving; null where nobody is out.</summary>
    public string? WhyOut { get; init; }

    /// <summary>The component of a single move, the first one of a joint move.</summary>
    public string Component => Jumps[0].Component;

    public Versions.Version From => Jumps[0].From;

    public Versions.Version To => Jumps[0].To;

    public Jump Jump => Jumps[0].Jump;

    public Method Method => Jumps[0].Method;

    /// <summary>Whether several jumps are made in one outage.</summary>
    public bool IsJoint => Jumps.Length > 1;

    /// <summary>The move as criterion 12 writes it.</summary>
    public string Written => string.Join('+', Jumps.Select(j => $"{j.Component}@{j.To.Label}"));
}

/// <summary>A pair that is only tolerated while the work is under way, in the state after a move.</summary>
public sealed record TransitionalPair(string Component, string Version, string With, string At, string Why);

/// <summary>The value of one criterion, named.</summary>
public sealed record CriterionValue(int Number, string Name, long Value);

/// <summary>One reason why there is no path.</summary>
/// <param name="Kind">gap, pin, guard, requirement, rule, jump or peers.</param>
public sealed record Reason(string Kind, string What, string Opens);

/// <summary>Why a pair of versions deserves a word beside a path.</summary>
public enum PairNote
{
    /// <summary>Nobody tested it; the path relies on it because the goal allows that.</summary>
    Relied,

    /// <summary>It stands today, or no worse than today's, and was no reason to refuse the path.</summary>
    Inherited,

    /// <summary>It is vouched for only by a rule that is older than a release it covers, by a range without an upper
    /// bound (10-formats).</summary>
    Stretched,
}

/// <summary>A pair of versions that is to be known of beside a path.</summary>
public sealed record NotedPair(
    PairNote Note,
    string Component,
    string Version,
    string With,
    string At,
    Estates.RelationKind Relation,
    Verdict Verdict
)
{
    /// <summary>The rules or the gap that gave the verdict; for a stretched one both dates.</summary>
    public required string Why { get; init; }

    /// <summary>Of an inherited pair, the number of the move after which it stands no more; null where it stands at
    /// the end.</summary>
    public int? CuredBy { get; init; }
}

/// <summary>A requirement of a jump on a product that nothing its component relates to is an instance of: nobody can
/// say whether it holds.</summary>
public sealed record UnrelatedRequirement(string Component, string Jump, string Product, string Range);

/// <summary>What planning found: the best path, or why there is none.</summary>
/// <param name="Goal">The components of the goal with the version each ends at.</param>
/// <param name="Nearest">Where there is no path: the versions of the nearest state that can be reached.</param>
public sealed record PathAnswer(
    bool Found,
    bool Proved,
    DateOnly Day,
    ImmutableArray<Move> Moves,
    ImmutableArray<CriterionValue> Criteria,
    ImmutableArray<Reason> Reasons,
    ImmutableArray<(string Component, string From, string To)> Goal,
    ImmutableArray<(string Component, string Version)> Nearest,
    ImmutableArray<string> Notes
)
{
    /// <summary>The goal that was asked for.</summary>
    public required Estates.Goal Asked { get; init; }

    /// <summary>The paths that other orders of the criteria would choose; empty where they were not asked
    /// for.</summary>
    public ImmutableArray<Alternative> Alternatives { get; init; } = [];

    /// <summary>Components that move though the goal does not name them, and why.</summary>
    public ImmutableArray<Driven> Driven { get; init; } = [];

    /// <summary>Pairs of versions that are to be known of: relied on untested, inherited, vouched for by old notes
    /// only.</summary>
    public ImmutableArray<NotedPair> Pairs { get; init; } = [];

    /// <summary>Requirements of its jumps that nothing can answer.</summary>
    public ImmutableArray<UnrelatedRequirement> Unrelated { get; init; } = [];

    /// <summary>Whether the goal holds already.</summary>
    public bool AlreadyMet => Found && Moves.IsEmpty;
}

/// <summary>What is asked of the planner.</summary>
/// <param name="Methods">The methods that may be used, all where empty.</param>
/// <param name="StateLimit">After how many states the search is cut off.</param>
/// <param name="Joint">Whether several jumps may be made in one outage.</param>
public sealed record PathRequest(
    Estates.EstateIndex Index,
    Estates.Goal Goal,
    DateOnly Day,
    ImmutableArray<Method> Methods = default,
    int StateLimit = 20_000,
    bool Joint = true
)
{
    /// <summary>The jumps of a component, where they are not those of its product; a return path has its own.</summary>
    public Func<Estates.Component, ImmutableArray<Jump>>? Jumps { get; init; }

    /// <summary>Who watches the search and may stop it; null where nobody does.</summary>
    public SearchWatch? Watch { get; init; }

    /// <summary>Whether small problems are searched state by state; false only to try the other searches on
    /// them.</summary>
    internal bool? Small { get; init; }

    /// <summary>The moves of a path that is known, by which a search for a better one is bounded.</summary>
    internal ImmutableArray<Move> Known { get; init; } = [];

    internal bool Goes => Watch is null || Watch.Goes();

    /// <summary>Whether the smallest set of reasons is looked for where there is no path.</summary>
    public bool WithReasons { get; init; } = true;

    /// <summary>Versions that stood together before, by component; their pairs are inherited as today's are. A return
    /// path leads to them.</summary>
    public ImmutableDictionary<string, string>? Stood { get; init; }
}
