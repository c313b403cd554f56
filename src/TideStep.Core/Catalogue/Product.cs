using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Core.Catalogue;

/// <summary>Support lines of releases, best for production first.</summary>
public enum ReleaseLine
{
    LongSupport,
    Standard,
    Preview,
}

/// <summary>What the rules say of a pair of versions, from best to worst.</summary>
public enum Verdict
{
    Supported,
    Transitional,
    Untested,
    Unsupported,
}

/// <summary>How a jump is done (3-planning, Moves and methods), in the order of that table.</summary>
public enum Method
{
    Rolling,
    Replace,
    TwoSlot,
    SideBySide,
    Offline,
}

/// <summary>The end of a relation that a rule speaks from.</summary>
public enum RelationEnd
{
    DependsOn,
    Serves,
    StandsOn,
    Carries,
    Inside,
    Hosts,
    Peer,
}

/// <summary>What a jump restarts on its member, from the least to the most: nothing, its connection, its service, or
/// the node.</summary>
public enum RestartScope
{
    Nothing,
    Reconnect,
    Service,
    Node,
}

/// <summary>One version of a product. <paramref name="Ends"/> is the last day of support, null where unknown.</summary>
public sealed record Release(
    Versions.Version Version,
    ReleaseLine Line,
    DateOnly? Since,
    DateOnly? Ends,
    ImmutableArray<string> Parts,
    ImmutableArray<string> Brings,
    ImmutableArray<string> Removes,
    ImmutableArray<string> Changes
)
{
    public string Label => Version.Label;

    /// <summary>Of what it removes, how a member's readings tell that it is still in use, where the document says
    /// so.</summary>
    public ImmutableDictionary<string, Expression> InUse { get; init; } = ImmutableDictionary<string, Expression>.Empty;

    /// <summary>What it still has and a later release will not.</summary>
    public ImmutableArray<string> Deprecates { get; init; } = [];

    /// <summary>By part, the part of the release before that it comes from, where that had another name.</summary>
    public ImmutableDictionary<string, string> Origins { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>Problems that are known of it, each with what prevents it.</summary>
    public ImmutableArray<KnownProblem> Problems { get; init; } = [];

    /// <summary>Where it is described.</summary>
    public Place? Place { get; init; }
}

/// <summary>A problem known of a release, and the step that prevents it where one is known.</summary>
public sealed record KnownProblem(string What, string? Prevent);

/// <summary>Where a rule was read: a document's title and its date.</summary>
public sealed record RuleSource(string Title, DateOnly? Date);

/// <summary>A rule of one product about pairs with another (or with itself, for peers).</summary>
public abstract record CompatibilityRule(
    string Id,
    RelationEnd End,
    string Other,
    VersionRange This,
    VersionRange At,
    Verdict Verdict,
    RuleSource? Source,
    Place? Place
);

/// <summary>A rule by ranges.</summary>
public sealed record RangeRule(
    string Id,
    RelationEnd End,
    string Other,
    VersionRange This,
    VersionRange At,
    Verdict Verdict,
    bool MayRest,
    RuleSource? Source,
    Place? Place
) : CompatibilityRule(Id, End, Other, This, At, Verdict, Source, Place);

/// <summary>A rule by distance of majors or minors.</summary>
public sealed record DistanceRule(
    string Id,
    RelationEnd End,
    string Other,
    VersionRange This,
    VersionRange At,
    bool ByMajor,
    int OlderBy,
    int NewerBy,
    Verdict Verdict,
    RuleSource? Source,
    Place? Place
) : CompatibilityRule(Id, End, Other, This, At, Verdict, Source, Place);

/// <summary>The catalogue's figures for one method of a jump; all of them spans of time, nought where not
/// given.</summary>
public sealed record MethodFigures(
    Method Method,
    TimeSpan Member,
    TimeSpan Settle,
    TimeSpan Outage,
    TimeSpan Install,
    TimeSpan? CanarySettle
);

/// <summary>A product and a range that related components must be in.</summary>
public sealed record Requirement(string Product, VersionRange Range);

/// <summary>A rollback point that a jump wants captured, by the step of that name.</summary>
public sealed record PointWish(string Capture, bool WhileServing, bool PerMember)
{
    /// <summary>The product whose related components are captured, by a step of theirs, before the jump's own component
    /// leaves; null for the jump's own.</summary>
    public string? Of { get; init; }

    /// <summary>Where it is asked for.</summary>
    public Place? Place { get; init; }

    /// <summary>How long it serves once its run has ended, where the catalogue says nothing.</summary>
    public static readonly TimeSpan ServesUsually = TimeSpan.FromDays(30);

    /// <summary>How long the last one of a component is kept whatever is said, where the catalogue says
    /// nothing.</summary>
    public static readonly TimeSpan SettlesUsually = TimeSpan.FromDays(1);

    /// <summary>How long it serves once its run has ended.</summary>
    public TimeSpan Serves { get; init; } = ServesUsually;

    /// <summary>The component's settle time: how long after its run the last point that leads it back is not given
    /// up.</summary>
    public TimeSpan Settle { get; init; } = SettlesUsually;
}

/// <summary>A prerequisite of a jump; <paramref name="Per"/> is member, node, component or site.</summary>
public sealed record Prerequisite(string Id, string Per, string Level, Expression Holds, string? Remedy)
{
    /// <summary>Whether it is asked only before each wave, for what an earlier step of the plan makes true.</summary>
    public bool AtWave { get; init; }
}

/// <summary>An artefact a jump needs; the checksum is SHA-256 in hexadecimal.</summary>
public sealed record ArtefactNeed(string Id, string? File, string? Sha256, long? Bytes)
{
    /// <summary>The host variant that it is for: traits that a node must have; any where empty.</summary>
    public ImmutableSortedDictionary<string, string> For { get; init; } =
        ImmutableSortedDictionary<string, string>.Empty;
}

/// <summary>A question that a new version asks, once for all components; <paramref name="Otherwise"/> is what holds
/// where nobody answers, null where somebody must.</summary>
public sealed record JumpQuestion(string Id, string Asks, string? Otherwise);

/// <summary>When a task has its place: before the window, inside it, after it but before the first job, or
/// later.</summary>
public enum TaskTime
{
    Before,
    Inside,
    After,
    Later,
}

/// <summary>Something that people have to do around a jump.</summary>
public sealed record JumpTask(string Title, TaskTime When)
{
    /// <summary>How it is done, where more has to be said than its title.</summary>
    public string? Instructions { get; init; }

    /// <summary>Whose it is: a person, or those who look after something.</summary>
    public string? Owner { get; init; }

    /// <summary>How long before the window it has to be done; nought where it may be done till then.</summary>
    public TimeSpan Ahead { get; init; }
}

/// <summary>An upgrade that the product's maker supports in one go.</summary>
public sealed record Jump(
    string Id,
    VersionRange From,
    Versions.Version To,
    bool Down,
    ImmutableArray<MethodFigures> Methods,
    ImmutableArray<Requirement> Requires,
    ImmutableArray<Requirement> Together,
    RestartScope Restarts,
    string? Closes,
    ImmutableArray<string> Ahead,
    ImmutableArray<string> Change,
    ImmutableArray<string> AfterAll,
    ImmutableArray<PointWish> Points,
    ImmutableArray<Prerequisite> Prerequisites,
    ImmutableArray<ArtefactNeed> Artefacts,
    Place? Place
)
{
    /// <summary>Of a restore, which stands for a jump down: the captures that are restored together, in their order;
    /// empty for any other jump.</summary>
    public ImmutableArray<string> Restores { get; init; } = [];

    /// <summary>Questions that the new version asks.</summary>
    public ImmutableArray<JumpQuestion> Questions { get; init; } = [];

    /// <summary>What data it changes, in words.</summary>
    public ImmutableArray<string> Converts { get; init; } = [];

    /// <summary>Whether it installs its product where nothing runs and nothing is installed.</summary>
    public bool FromNone { get; init; }

    /// <summary>What data is lost by it, in words.</summary>
    public ImmutableArray<string> Loses { get; init; } = [];

    /// <summary>Whether it brings the data back into the form of the version it leads to; a jump down that does not
    /// can't lead back one that converts.</summary>
    public bool ConvertsBack { get; init; }

    /// <summary>Where it leads from below a version only, whatever its range says, for a conversion lies between; null
    /// where it leads from its whole range.</summary>
    public Versions.Version? Below { get; init; }

    /// <summary>What people have to do around it.</summary>
    public ImmutableArray<JumpTask> Tasks { get; init; } = [];

    /// <summary>The phases before which a person has to say that it may go on.</summary>
    public ImmutableArray<string> SignOffs { get; init; } = [];

    /// <summary>The figures of one method, null where the jump does not offer it.</summary>
    public MethodFigures? By(Method method) => Methods.FirstOrDefault(m => m.Method == method);

    /// <summary>Whether the jump leads from <paramref name="version"/>: in its range, and in its direction.</summary>
    public bool LeadsFrom(Versions.Version version, Func<Versions.Version, bool>? isRelease = null) =>
        !FromNone
        && (Below is null || version < Below)
        && From.Contains(version, isRelease)
        && (Down ? version > To : version < To);
}

/// <summary>A product of the catalogue: releases, rules, jumps, and how its members are handled.</summary>
public sealed record Product(
    string Id,
    string Title,
    VersionScheme Scheme,
    ImmutableArray<string> Roles,
    ImmutableArray<string> Voting,
    ImmutableArray<Release> Releases,
    ImmutableArray<CompatibilityRule> Rules,
    ImmutableArray<Jump> Jumps,
    Routines Routines,
    ImmutableDictionary<string, StepSpec> Steps,
    ImmutableDictionary<string, Collector> Readings
)
{
    /// <summary>What is asked of its members before the work and after it.</summary>
    public ImmutableArray<AskSpec> Asks { get; init; } = [];

    /// <summary>The services of a member in the order in which they are stopped; they are started in reverse.</summary>
    public ImmutableArray<string> Services { get; init; } = [];

    /// <summary>The readings by name that a step may take as parameters.</summary>
    public IReadOnlySet<string> ReadingNames => _readingNames ??= KnownReadings.Names(Readings).ToHashSet();
    private HashSet<string>? _readingNames;

    /// <summary>The names under which its steps note something.</summary>
    public IReadOnlySet<string> Noted => _noted ??= Steps.Values.Select(s => s.Notes).OfType<string>().ToHashSet();
    private HashSet<string>? _noted;

    /// <summary>The port on which it serves those that depend on it; null where nobody said.</summary>
    public int? Port { get; init; }

    /// <summary>Which versions of Tide Step its document was written for; null for any.</summary>
    public VersionRange? Needs { get; init; }

    /// <summary>The release that equals a version, or null where the catalogue does not know it.</summary>
    public Release? ReleaseOf(Versions.Version version) => _releases.GetValueOrDefault(version);

    /// <summary>Whether the catalogue knows the version.</summary>
    public bool IsRelease(Versions.Version version) => _releases.ContainsKey(version);

    private readonly Dictionary<Versions.Version, Release> _releases = Releases
        .GroupBy(r => r.Version)
        .ToDictionary(g => g.Key, g => g.First());
}
