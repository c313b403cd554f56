using System.Collections.Immutable;
using TideStep.Core.Catalogue;

namespace TideStep.Core.Estates;

/// <summary>Finds the members of related components at which something is done for a member.</summary>
public static class RelatedMembers
{
    /// <summary>The members at a place, seen from a member, in the order of the estate document. Of what it stands on
    /// or is inside, and of what stands on it, those on its own node, where there are any.</summary>
    public static ImmutableArray<Member> Of(Estate estate, Member member, RelatedPlace place)
    {
        var own = estate.Find(member.Component)!;
        var all = estate
            .Components.Where(other => other.Product == place.Product && Relates(own, other, place.Relation))
            .SelectMany(c => c.Members)
            .ToImmutableArray();
        if (place.Relation is not (RelationEnd.DependsOn or RelationEnd.Serves or RelationEnd.Peer))
        {
            var here = all.Where(m => estate.StandsOn(member.Node, m.Node) || estate.StandsOn(m.Node, member.Node))
                .ToImmutableArray();
            all = here.IsEmpty ? all : here;
        }
        return place.First ? [.. all.Take(1)] : all;
    }

    private static bool Relates(Component one, Component other, RelationEnd end) =>
        end switch
        {
            RelationEnd.DependsOn => Has(one, RelationKind.DependsOn, other),
            RelationEnd.Serves => Has(other, RelationKind.DependsOn, one),
            RelationEnd.StandsOn => Has(one, RelationKind.StandsOn, other),
            RelationEnd.Carries => Has(other, RelationKind.StandsOn, one),
            RelationEnd.Inside => Has(one, RelationKind.Inside, other),
            RelationEnd.Hosts => Has(other, RelationKind.Inside, one),
            _ => Has(one, RelationKind.Peer, other) || Has(other, RelationKind.Peer, one),
        };

    private static bool Has(Component one, RelationKind kind, Component other) =>
        one.Relations.Any(r => r.Kind == kind && r.To == other.Id);
}
