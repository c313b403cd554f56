using System.Collections.Immutable;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>What an estate is for; decides what may be waived.</summary>
public enum EstateClass
{
    Production,
    Test,
    Lab,
}

/// <summary>How two components touch.</summary>
public enum RelationKind
{
    DependsOn,
    StandsOn,
    Inside,
    Peer,
}

/// <summary>A place with nodes; <paramref name="Turn"/> orders sites, null without one.</summary>
public sealed record Site(string Id, int? Turn, ImmutableArray<string> Peers);

/// <summary>How a node is reached: the connector's name and its settings; secrets stand as references.</summary>
public sealed record Reach(string By, ImmutableDictionary<string, string> Settings)
{
    public string? this[string key] => Settings.GetValueOrDefault(key);
}

/// <summary>A machine, appliance or instance. A node without a failure domain is a domain of its own.</summary>
public sealed record EstateNode(string Id, string Site, string? Domain, Reach Reach)
{
    /// <summary>What tells host variants apart: processor, system, model.</summary>
    public ImmutableDictionary<string, string> Traits { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>The node that it stands on, as a virtual machine on its host; null where it stands by itself.</summary>
    public string? On { get; init; }

    /// <summary>Whether its host can be emptied of it: then it does not go out with its host.</summary>
    public bool Movable { get; init; }
}

/// <summary>How much of a component must stay in service.</summary>
/// <param name="Keep">Members to keep: a number, a share of all, or a quorum.</param>
/// <param name="Share">The share, from 0 to 1, where one was given.</param>
/// <param name="Quorum">Whether more than half of the voting members must stay.</param>
/// <param name="Margin">Failures it must survive besides.</param>
/// <param name="AtOnce">How many may be out at the same time.</param>
public sealed record Guard(int Keep, double? Share, bool Quorum, int Margin, int AtOnce)
{
    /// <summary>One member at a time, nothing else asked.</summary>
    public static readonly Guard OneByOne = new(0, null, false, 0, 1);

    /// <summary>How many must stay in service, with the margin, whatever <c>at-once</c> says: members of all, or of
    /// the voting ones under a quorum (3-planning, Guards).</summary>
    public int Needed(int members, int voting) =>
        Margin
        + (
            Quorum ? voting / 2 + 1
            : Share is { } share ? (int)Math.Ceiling(share * members - 1e-9)
            : Keep
        );
}

/// <summary>A relation as a component declares it, towards another component.</summary>
public sealed record Relation(RelationKind Kind, string To, bool Optional, bool MayBeOutTogether, Place? Place);

/// <summary>One component on one node.</summary>
public sealed record Member(string Component, string Node, string? Role)
{
    /// <summary>The stable identifier <c>component/node</c>.</summary>
    public string Id { get; } = $"{Component}/{Node}";
}

/// <summary>One product deployed for one purpose on one or more nodes.</summary>
public sealed record Component(
    string Id,
    string Product,
    string? Site,
    string? Platform,
    ImmutableArray<Member> Members,
    Guard Guard,
    bool DomainsMatter,
    int Canary,
    int Spares,
    bool CarriesUs,
    bool Pinned,
    ImmutableArray<Relation> Relations,
    ImmutableDictionary<string, string> Traits,
    Place? Place
)
{
    /// <summary>Nodes that stand ready for new members, where they were named; <paramref name="Spares"/> counts
    /// them.</summary>
    public ImmutableArray<string> SpareNodes { get; init; } = [];

    /// <summary>How far its members' versions may differ, and what is to be done of those that differ
    /// further.</summary>
    public LinePolicy Alike { get; init; } = new(Degree.SameBuild, OutOfLine.Tell);

    /// <summary>Readings that all its members must have in common: a character set, a build, a setting. One that
    /// differs is out of line.</summary>
    public ImmutableArray<string> InCommon { get; init; } = [];

    /// <summary>What one member can bear; null where nobody said.</summary>
    public Capacity? Capacity { get; init; }

    /// <summary>What becomes of the node of a member that was replaced.</summary>
    public Retired Retired { get; init; }

    /// <summary>Whether it has no process of its own, as a runtime or a library: its members run what is installed once
    /// those that stand on them were restarted, and nobody waits for it before.</summary>
    public bool RunsWithDependants { get; init; }
}

/// <summary>What becomes of the node of a member that was replaced: it stands ready for another, or it is gone for
/// good.</summary>
public enum Retired
{
    Free,
    Gone,
}

/// <summary>To which degree members of one component must run the same.</summary>
public enum Degree
{
    Any,
    SameMinor,
    SameBuild,
}

/// <summary>What becomes of a member that is out of line: it is told of, it is a caution, or it has to leave
/// service.</summary>
public enum OutOfLine
{
    Tell,
    Warn,
    Out,
}

/// <summary>A component's policy for members out of line.</summary>
public sealed record LinePolicy(Degree Degree, OutOfLine Otherwise);

/// <summary>How much of a reading one member can bear: what the members in service carry together must fit on those
/// left when a wave is out.</summary>
public sealed record Capacity(string Of, double Each, string Written);

/// <summary>Everything under care.</summary>
public sealed record Estate(
    string Id,
    string Title,
    EstateClass Class,
    string Zone,
    ImmutableDictionary<string, Site> Sites,
    ImmutableDictionary<string, EstateNode> Nodes,
    ImmutableArray<Component> Components
)
{
    /// <summary>The hours in which work may be done; none given, there is no limit.</summary>
    public ImmutableArray<WindowRule> Windows { get; init; } = [];

    /// <summary>When nothing may be changed.</summary>
    public ImmutableArray<Freeze> Freezes { get; init; } = [];

    /// <summary>Whether plans have to be rehearsed before they start; null where not.</summary>
    public RehearsalDemand? Rehearsal { get; init; }

    /// <summary>Where a person has to say that the work may go on.</summary>
    public SignOffPolicy SignOffs { get; init; } = SignOffPolicy.None;

    private readonly Dictionary<string, Component> _byId = Components.ToDictionary(c => c.Id);

    /// <summary>The component of that identifier, or null.</summary>
    public Component? Find(string id) => _byId.GetValueOrDefault(id);

    /// <summary>The member of that identifier, or null; a spare node counts as a member to come.</summary>
    public Member? FindMember(string id)
    {
        if (_members.Value.TryGetValue(id, out var member))
            return member;
        return MemberId.TryParse(id) is { } its && Find(its.Component) is not null && _spares.Contains(its.Node)
            ? new Member(its.Component, its.Node, null)
            : null;
    }

    /// <summary>The nodes that go where a node goes: those that stand on it and can't be moved, with theirs.</summary>
    public ImmutableArray<string> FixedGuestsOf(string node) => _fixedGuests.Value.GetValueOrDefault(node, []);

    /// <summary>Nodes that stand on a node and can be moved away from it.</summary>
    public IEnumerable<string> MovableGuestsOf(string node) => _movableGuests.Value[node];

    private readonly Lazy<ILookup<string, string>> _movableGuests = new(() =>
        Nodes
            .Values.Where(n => n is { Movable: true, On: not null })
            .OrderBy(n => n.Id, StringComparer.Ordinal)
            .ToLookup(n => n.On!, n => n.Id)
    );

    /// <summary>Whether a node is another or stands on it, movable or not.</summary>
    public bool StandsOn(string node, string host)
    {
        for (var at = node; at is not null; at = Nodes.GetValueOrDefault(at)?.On)
            if (at == host)
                return true;
        return false;
    }

    /// <summary>The failure domain of a node, its site's; one that can't be moved is in its host's where it has none
    /// of its own, and one without any is a domain of its own.</summary>
    public (string Site, string Domain) DomainOf(string node)
    {
        var at = Nodes[node];
        while (at is { Domain: null, Movable: false, On: { } host } && Nodes.TryGetValue(host, out var below))
            at = below;
        return at.Domain is { } domain ? (at.Site, domain) : ("", at.Id);
    }

    private readonly Lazy<Dictionary<string, ImmutableArray<string>>> _fixedGuests = new(() =>
    {
        var direct = Nodes.Values.Where(n => n is { On: not null, Movable: false }).ToLookup(n => n.On!, n => n.Id);
        return direct.ToDictionary(g => g.Key, g => Below(g.Key).Order(StringComparer.Ordinal).ToImmutableArray());

        IEnumerable<string> Below(string host) => direct[host].SelectMany(g => Below(g).Prepend(g));
    });

    private readonly Lazy<Dictionary<string, Member>> _members = new(() =>
        Components.SelectMany(c => c.Members).ToDictionary(m => m.Id)
    );

    private readonly HashSet<string> _spares = [.. Components.SelectMany(c => c.SpareNodes)];
}
