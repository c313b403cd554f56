using System.Collections.Immutable;

namespace TideStep.Core.Estates;

/// <summary>Which node every member is on: replacing moves members to spare nodes and back.</summary>
public sealed class Membership
{
    private readonly Estate _start;
    private Estate? _estate;
    private readonly Dictionary<string, Component> _moved = [];

    public Membership(Estate start) => (_start, _estate) = (start, start);

    /// <summary>The estate with its members where they are now; the same object as long as nobody moves.</summary>
    public Estate Estate =>
        _estate ??= new Estate(
            _start.Id,
            _start.Title,
            _start.Class,
            _start.Zone,
            _start.Sites,
            _start.Nodes,
            [.. _start.Components.Select(c => _moved.GetValueOrDefault(c.Id, c))]
        )
        {
            Windows = _start.Windows,
            Freezes = _start.Freezes,
            Rehearsal = _start.Rehearsal,
            SignOffs = _start.SignOffs,
        };

    public Component? Find(string id) => _moved.GetValueOrDefault(id) ?? _start.Find(id);

    /// <summary>Whether a member is to come, on a node that stands ready.</summary>
    public bool IsSpare(string component, string member) =>
        Find(component) is { SpareNodes.IsEmpty: false } its && its.SpareNodes.Contains(MemberId.Of(member).Node);

    /// <summary>Puts a component's member, and what stands on or inside it, on another node; the old node serves the
    /// next. Gives each member's identifier before and after.</summary>
    public IReadOnlyList<(string From, string To)> Swap(string component, string old, string taken)
    {
        var swapped = new List<(string, string)>();
        foreach (var id in Carried(component))
        {
            var its = Find(id)!;
            if (its.Members.All(m => m.Node != old))
                continue;
            swapped.Add(($"{id}/{old}", $"{id}/{taken}"));
            var members = its
                .Members.Select(m => m.Node == old ? new Member(id, taken, m.Role) : m)
                .OrderBy(m => m.Id, StringComparer.Ordinal)
                .ToImmutableArray();
            _moved[id] = its with
            {
                Members = members,
                SpareNodes = id == component ? Spares(its, old, taken) : its.SpareNodes,
            };
        }
        _estate = null;
        return swapped;
    }

    // Who comes back takes an old member's node before one that was a spare from the start.
    private ImmutableArray<string> Spares(Component its, string old, string taken)
    {
        var first = _start.Find(its.Id)!.Members.Select(m => m.Node).ToHashSet();
        return [.. its.SpareNodes.Where(n => n != taken).Append(old).OrderBy(n => !first.Contains(n))];
    }

    /// <summary>The estate with its members where readings found them: where a member runs nothing and a spare node of
    /// its component runs it, that node has taken its place.</summary>
    public static Estate AsFound(Estate estate, Readings readings)
    {
        Membership? moved = null;
        foreach (var component in estate.Components.Where(c => !c.SpareNodes.IsEmpty))
        {
            bool Runs(string node) => readings.Members.GetValueOrDefault($"{component.Id}/{node}")?.Running is not null;
            var gone = component
                .Members.Where(m => readings.Members.ContainsKey(m.Id) && !Runs(m.Node))
                .OrderBy(m => m.Id, StringComparer.Ordinal)
                .ToList();
            foreach (var (old, taken) in gone.Zip(component.SpareNodes.Where(Runs)))
                (moved ??= new Membership(estate)).Swap(component.Id, old.Node, taken);
        }
        return moved?.Estate ?? estate;
    }

    /// <summary>Every member there is and, on spare nodes, may have come to be.</summary>
    public static IEnumerable<Member> Candidates(Estate estate)
    {
        var membership = new Membership(estate);
        var spare = estate
            .Components.Where(c => !c.SpareNodes.IsEmpty)
            .SelectMany(c =>
                membership.Carried(c.Id).SelectMany(id => c.SpareNodes.Select(n => new Member(id, n, null)))
            );
        return estate.Components.SelectMany(c => c.Members).Concat(spare).DistinctBy(m => m.Id);
    }

    // The component and all that stands on or inside it, directly or not.
    private List<string> Carried(string component)
    {
        var found = new List<string> { component };
        for (var i = 0; i < found.Count; i++)
            found.AddRange(
                _start
                    .Components.Where(c =>
                        !found.Contains(c.Id)
                        && c.Relations.Any(r =>
                            r.Kind is RelationKind.StandsOn or RelationKind.Inside && r.To == found[i]
                        )
                    )
                    .Select(c => c.Id)
            );
        return found;
    }
}
