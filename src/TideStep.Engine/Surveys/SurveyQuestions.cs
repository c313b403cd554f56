using TideStep.Core.Catalogue;
using TideStep.Core.Checks;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Engine.Surveys;

/// <summary>What a survey asks of a member: its versions, its product's own readings, what prerequisites and the
/// in-step probe use, what every host tells, and what checks need of room and connections.</summary>
internal static class SurveyQuestions
{
    private static readonly Reference[] Versions =
    [
        new("running", [], null),
        new("role", [], null),
        new("installed", [], null),
        new("staged", [], null),
    ];

    /// <summary>The readings to take of a member on a node that is reached so.</summary>
    public static IReadOnlyCollection<Reference> Of(
        Estate estate,
        ProductCatalogue catalogue,
        Member member,
        Product product,
        string by
    )
    {
        var wanted = new HashSet<Reference>(Versions);
        wanted.UnionWith(product.Readings.Values.Where(r => !r.TakesKeys).Select(r => new Reference(r.Name, [], null)));
        if (product.Routines.InStep is { } probe)
            wanted.UnionWith(probe.References);
        wanted.UnionWith(product.Releases.SelectMany(r => r.InUse.Values).SelectMany(e => e.References));
        wanted.UnionWith(
            product
                .Jumps.SelectMany(j => j.Prerequisites)
                .SelectMany(p => p.Holds.References)
                .Where(r => !KnownReadings.IsGiven(r))
        );
        wanted.UnionWith(catalogue.AskedByOthers(product.Id));
        if (by is not ("ssh" or "stand-in"))
            return wanted;
        wanted.UnionWith(KnownReadings.OfHost.Select(k => new Reference(k, [], null)));
        if (by == "ssh")
            wanted.UnionWith(
                Connections(estate, catalogue, member).Concat(NamesOf(estate, member)).Concat(Room(product))
            );
        return wanted;
    }

    // Whether the host gets to those that its component depends on, where their product says on which port they serve.
    private static IEnumerable<Reference> Connections(Estate estate, ProductCatalogue catalogue, Member member) =>
        from relation in estate.Find(member.Component)!.Relations
        where relation.Kind == RelationKind.DependsOn
        let other = estate.Find(relation.To)
        let port = other is null ? null : catalogue.Find(other.Product)?.Port
        where port is not null
        from at in other.Members
        where estate.Nodes[at.Node].Reach["address"] is not null
        select new Reference(
            "reach",
            [
                estate.Nodes[at.Node].Reach["address"]!,
                port.Value.ToString(System.Globalization.CultureInfo.InvariantCulture),
            ],
            "open"
        );

    // Whether the host knows the names by which those are reached that its component depends on; an address of numbers
    // needs no name.
    private static IEnumerable<Reference> NamesOf(Estate estate, Member member) =>
        from relation in estate.Find(member.Component)!.Relations
        where relation.Kind == RelationKind.DependsOn
        from at in estate.Find(relation.To)?.Members ?? []
        let address = estate.Nodes[at.Node].Reach["address"]
        where address is not null && ComponentChecks.IsName(address)
        select new Reference("name", [address], "resolves");

    // How large what is captured is, and how much room there is where it is put.
    private static IEnumerable<Reference> Room(Product product)
    {
        foreach (
            var capture in product
                .Steps.Values.Select(s => s.Do)
                .OfType<CaptureAction>()
                .Where(c => c.To.Length > 0 && c.Paths.All(p => !p.Contains('{')))
        )
        {
            foreach (var path in capture.Paths)
                yield return new Reference("size", [path], null);
            yield return new Reference("free", [capture.To], null);
            yield return new Reference("free", [HostChecks.Above(capture.To)], null);
        }
    }
}
