using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Waves;

/// <summary>How the guard of a component stands on what was just read.</summary>
/// <param name="Component">Its identifier.</param>
/// <param name="Serving">Members that serve; of a quorum those that vote.</param>
/// <param name="Needed">How many of them the guard asks for, with its margin; 0 where it asks for none.</param>
/// <param name="Out">The nodes of its members that do not serve.</param>
/// <param name="AtOnce">How many of its members may be out at the same time.</param>
/// <param name="AsPlanned">Whether the plan has all of it out now.</param>
public sealed record GuardStanding(
    string Component,
    int Serving,
    int Needed,
    ImmutableArray<string> Out,
    int AtOnce,
    bool AsPlanned
)
{
    public bool Holds => AsPlanned || Serving >= Needed;

    /// <summary>The guard of a component with these of its members in service.</summary>
    public static GuardStanding Of(Component component, Product product, IReadOnlySet<string> serving, bool asPlanned)
    {
        var staying = component.Members.Where(m => serving.Contains(m.Id)).ToList();
        return new GuardStanding(
            component.Id,
            Counted(component, product, staying),
            NeededOf(component, product),
            [.. component.Members.Where(m => !serving.Contains(m.Id)).Select(m => m.Node)],
            component.Guard.AtOnce,
            asPlanned
        );
    }

    /// <summary>What keeps these members from going out, with the counts; null where nothing does.</summary>
    /// <param name="component">The component.</param>
    /// <param name="product">Its product, which tells what votes.</param>
    /// <param name="outgoing">The members of the wave.</param>
    /// <param name="serving">The other members that serve.</param>
    public static string? Missing(
        Component component,
        Product product,
        IReadOnlySet<string> outgoing,
        IReadOnlySet<string> serving
    )
    {
        var staying = component.Members.Where(m => !outgoing.Contains(m.Id)).ToList();
        var have = Counted(component, product, staying.Where(m => serving.Contains(m.Id)));
        var need = NeededOf(component, product);
        var absent = staying.Where(m => !serving.Contains(m.Id)).Select(m => m.Node).ToList();
        var leaving = component.Members.Length - staying.Count;
        if (have < need && staying.Count >= need)
            return $"{component.Id} needs {need} in service besides those of the wave and has {have} (out: "
                + $"{string.Join(", ", absent)})";
        // Members already out count against at-once.
        return absent.Count > 0 && absent.Count + leaving > Math.Max(component.Guard.AtOnce, leaving)
            ? $"{component.Id} may have {component.Guard.AtOnce} out at once; out already: {string.Join(", ", absent)}"
            : null;
    }

    private static int Counted(Component component, Product product, IEnumerable<Member> serving) =>
        serving.Count(m => !component.Guard.Quorum || Votes(product, m));

    private static int NeededOf(Component component, Product product) =>
        component.Guard.Needed(component.Members.Length, component.Members.Count(m => Votes(product, m)));

    private static bool Votes(Product product, Member member) =>
        product.Voting.IsEmpty || member.Role is null || product.Voting.Contains(member.Role);
}
