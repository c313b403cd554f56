using System.Collections.Immutable;
using TideStep.Core.Catalogue;

namespace TideStep.Core.Estates;

/// <summary>An estate with its readings, numbered for planning: who stands on what, who depends on whom, who is out
/// today.</summary>
public sealed class EstateIndex
{
    public EstateIndex(Estate estate, Readings readings, ProductCatalogue catalogue)
    {
        (Estate, Readings, Catalogue) = (Membership.AsFound(estate, readings), readings, catalogue);
        Components = Estate.Components;
        _numberOf = Components.Select((c, i) => (c.Id, i)).ToDictionary(p => p.Id, p => p.i);
        var onNode = new Dictionary<string, List<(int Component, Member Member)>>();
        _out = [];
        for (var c = 0; c < Components.Length; c++)
            foreach (var member in Components[c].Members)
            {
                if (!onNode.TryGetValue(member.Node, out var list))
                    onNode[member.Node] = list = [];
                list.Add((c, member));
                if (readings.Of(member) is { InService: false } or { Running: null })
                    _out.Add(member.Id);
            }
        _onNode = onNode;
        foreach (var node in onNode.Keys.Concat(Estate.Nodes.Values.Select(n => n.On).OfType<string>()).Distinct())
            if (Estate.FixedGuestsOf(node) is { IsEmpty: false } guests)
                _withGuests[node] = [.. OnNode(node), .. guests.SelectMany(g => OnNode(g))];
        _carriedBy = [.. Components.Select(_ => new List<int>())];
        _dependants = [.. Components.Select(_ => new List<int>())];
        _peers = [.. Components.Select(_ => new List<(int Other, bool Together)>())];
        for (var c = 0; c < Components.Length; c++)
            foreach (var relation in Components[c].Relations)
            {
                var other = _numberOf[relation.To];
                switch (relation.Kind)
                {
                    case RelationKind.StandsOn or RelationKind.Inside:
                        _carriedBy[other].Add(c);
                        break;
                    case RelationKind.DependsOn when !relation.Optional:
                        _dependants[other].Add(c);
                        break;
                    case RelationKind.Peer:
                        _peers[c].Add((other, relation.MayBeOutTogether));
                        break;
                }
            }
        _absent =
        [
            .. Components.Select(c =>
                c.Members.Length > 0
                && c.Members.All(m => readings.Of(m) is { RunsNothing: true, Running: null, Installed: null })
            ),
        ];
        Pairs = ReadPairs();
        _voting =
        [
            .. Components.Select(c =>
                catalogue.Find(c.Product) is { Voting.IsEmpty: false } p
                    ? c.Members.Where(m => p.Voting.Contains(RoleOf(m) ?? "")).Select(m => m.Id).ToHashSet()
                    : null
            ),
        ];
    }

    private readonly Dictionary<string, int> _numberOf;
    private readonly Dictionary<string, List<(int Component, Member Member)>> _onNode;
    private readonly HashSet<string> _out;
    private readonly List<int>[] _carriedBy;
    private readonly List<int>[] _dependants;
    private readonly List<(int Other, bool Together)>[] _peers = [];
    private readonly HashSet<string>?[] _voting;
    private readonly bool[] _absent;
    private readonly HashSet<EstatePair> _optional = [];

    public Estate Estate { get; }
    public Readings Readings { get; }
    public ProductCatalogue Catalogue { get; }

    /// <summary>The components in the code-point order of their identifiers; numbers below are places in it.</summary>
    public ImmutableArray<Component> Components { get; }

    /// <summary>Every related pair, once; the kind is named from the first component's end.</summary>
    public ImmutableArray<EstatePair> Pairs { get; }

    public int NumberOf(string component) => _numberOf[component];

    /// <summary>A member's role: as read, else as declared.</summary>
    public string? RoleOf(Member member) => Readings.Of(member).Role ?? member.Role;

    /// <summary>Whether the member is out of service today.</summary>
    public bool IsOut(Member member) => _out.Contains(member.Id);

    /// <summary>Whether the member votes, where a quorum is kept.</summary>
    public bool Votes(int component, Member member) => _voting[component]?.Contains(member.Id) ?? true;

    /// <summary>Whether all members of a component run and have installed nothing (3-planning, State).</summary>
    public bool IsAbsent(int component) => _absent[component];

    /// <summary>Whether the first component of a pair can't do without the second: it stands on it, is inside it, or
    /// depends on it and the relation is not optional.</summary>
    public bool NeedsOther(EstatePair pair) => pair.Kind != RelationKind.Peer && !_optional.Contains(pair);

    /// <summary>Whether anything that a component relates to, or that relates to it, is an instance of a
    /// product.</summary>
    public bool IsRelatedTo(int component, string product) =>
        Pairs.Any(p =>
            (p.A == component && Components[p.B].Product == product)
            || (p.B == component && Components[p.A].Product == product)
        );

    /// <summary>The components that a component relates to, or that relate to it, each once.</summary>
    public IEnumerable<int> RelatedTo(int component) =>
        Pairs.Where(p => p.A == component || p.B == component).Select(p => p.A == component ? p.B : p.A).Distinct();

    /// <summary>The members on a node, of all components.</summary>
    public IReadOnlyList<(int Component, Member Member)> OnNode(string node) => _onNode.GetValueOrDefault(node, []);

    /// <summary>The members on a node and on those that stand on it and can't be moved.</summary>
    public IReadOnlyList<(int Component, Member Member)> WithGuests(string node) =>
        _withGuests.GetValueOrDefault(node) ?? OnNode(node);

    private readonly Dictionary<string, List<(int Component, Member Member)>> _withGuests = [];

    /// <summary>Components that stand on or inside this one.</summary>
    public IReadOnlyList<int> CarriedBy(int component) => _carriedBy[component];

    /// <summary>Components that depend on this one, optional relations aside.</summary>
    public IReadOnlyList<int> DependantsOf(int component) => _dependants[component];

    /// <summary>Whether two components are peers that must not be out at the same time.</summary>
    public bool MustNotBeOutTogether(int a, int b)
    {
        var said = _peers[a].Where(p => p.Other == b).Concat(_peers[b].Where(p => p.Other == a)).ToList();
        return said.Count > 0 && !said.Any(p => p.Together);
    }

    private ImmutableArray<EstatePair> ReadPairs()
    {
        var pairs = new HashSet<EstatePair>();
        for (var c = 0; c < Components.Length; c++)
            foreach (var relation in Components[c].Relations)
            {
                var other = _numberOf[relation.To];
                pairs.Add(
                    relation.Kind == RelationKind.Peer
                        ? new EstatePair(Math.Min(c, other), Math.Max(c, other), RelationKind.Peer)
                        : new EstatePair(c, other, relation.Kind)
                );
                if (relation is { Kind: RelationKind.DependsOn, Optional: true })
                    _optional.Add(new EstatePair(c, other, relation.Kind));
            }
        return [.. pairs.OrderBy(p => p.A).ThenBy(p => p.B).ThenBy(p => p.Kind)];
    }
}

/// <summary>Two related components by number.</summary>
public readonly record struct EstatePair(int A, int B, RelationKind Kind);
