using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Core.Checks;

/// <summary>What a jump asks is asked again when a wave's turn comes, on live readings (4-execution, When something
/// goes wrong: before each wave). What is asked of each member is asked of those that go out; what counts over members
/// or looks at the window only where it says <c>when: wave</c>, for in the middle of a jump its own steps change
/// it.</summary>
public static class TurnChecks
{
    /// <summary>Whether a block's jumps ask anything when its turn comes: most ask nothing, and an estate of thousands
    /// is not laid out for that.</summary>
    public static bool AskAnything(ProductCatalogue catalogue, Plan plan, Block block) =>
        plan.Kind == Plan.Upgrade
        && block.Move >= 1
        && plan.Moves[block.Move - 1]
            .Jumps.Any(taken =>
                catalogue
                    .Find(taken.Product)
                    ?.Jumps.FirstOrDefault(j => j.Id == taken.Jump)
                    ?.Prerequisites.Any(IsAskedAgain) == true
            );

    /// <summary>What has to be read of whom before a block is begun.</summary>
    public static IReadOnlyDictionary<string, HashSet<Reference>> Asks(EstateIndex index, Plan plan, Block block)
    {
        var asks = new Dictionary<string, HashSet<Reference>>();
        foreach (var due in Due(index, plan, block))
        foreach (var asked in due.Asked)
        {
            var own = due.Prerequisite.Holds.References.Where(r => !KnownReadings.IsGiven(r)).ToList();
            foreach (
                var member in due.Prerequisite.Holds.AsksOfMore ? asked.All
                : asked.One is { } one ? [one]
                : []
            )
                Ask(due.Product, member, own);
            foreach (var reference in due.Prerequisite.Holds.References.Where(r => r.Name == "related"))
            foreach (var product in reference.Arguments)
            foreach (var (component, member) in due.Values.RelatedMembers(product))
                if (index.Catalogue.Find(component.Product) is { } its)
                    Ask(its, member, reference.OfRelated is { } of ? [of.Reading] : [Running]);
        }
        return asks;

        void Ask(Product product, Member member, IReadOnlyCollection<Reference> readings)
        {
            if (!asks.TryGetValue(member.Id, out var its))
                asks[member.Id] = its = [Running];
            its.UnionWith(readings.Where(r => r.Key is not ("in-service" or "reachable")));
            if (readings.Any(r => r.Key == "in-service"))
                its.UnionWith(product.Routines.InStep?.References ?? []);
        }
    }

    private static readonly Reference Running = new("running", [], null);

    /// <summary>The answers, each as a finding.</summary>
    /// <param name="index">The estate with what was just read.</param>
    /// <param name="plan">The plan.</param>
    /// <param name="block">The block whose turn it is.</param>
    /// <param name="now">The moment.</param>
    public static IEnumerable<Finding> Of(EstateIndex index, Plan plan, Block block, DateTimeOffset now) =>
        from due in Due(index, plan, block, now)
        from asked in due.Asked
        select PrerequisiteChecks.Put(index, plan, due.Move, due.Jump, due.Prerequisite, asked, due.Values);

    private sealed record DueQuestion(
        PlannedMove Move,
        Jump Jump,
        Product Product,
        Prerequisite Prerequisite,
        MemberValues Values,
        ImmutableArray<AskedOf> Asked
    );

    private static IEnumerable<DueQuestion> Due(EstateIndex index, Plan plan, Block block, DateTimeOffset now = default)
    {
        if (plan.Kind != Plan.Upgrade || block.Move < 1)
            yield break;
        var (move, going) = (
            plan.Moves[block.Move - 1],
            block.Lanes.Select(l => index.Estate.FindMember(l.Subject)).OfType<Member>().ToList()
        );
        foreach (var of in going.GroupBy(m => m.Component))
        {
            // Of several jumps in one outage those behind the first start from what the first makes.
            if (
                move.Jumps.FirstOrDefault(j => j.Component == of.Key) is not { } taken
                || index.Catalogue.Find(taken.Product) is not { } product
                || product.Jumps.FirstOrDefault(j => j.Id == taken.Jump) is not { } jump
                || index.Estate.Find(of.Key) is not { } component
            )
                continue;
            var given = PrerequisiteChecks.Given(plan, move, taken, product, now);
            var values = new MemberValues(index, component, product, given);
            foreach (var prerequisite in jump.Prerequisites.Where(IsAskedAgain))
                yield return new DueQuestion(
                    move,
                    jump,
                    product,
                    prerequisite,
                    values,
                    [
                        .. PrerequisiteChecks
                            .Asked(index, prerequisite, component)
                            .Where(a => Concerns(a, of, prerequisite)),
                    ]
                );
        }
    }

    private static bool IsAskedAgain(Prerequisite prerequisite) =>
        prerequisite.AtWave
        || (
            prerequisite is { Level: "blocker", Per: "member" or "node" }
            && !prerequisite.Holds.AsksOfMore
            && prerequisite.Holds.References.All(r => r.Name != "window")
        );

    private static bool Concerns(AskedOf asked, IEnumerable<Member> going, Prerequisite prerequisite) =>
        prerequisite.Per switch
        {
            "component" => true,
            "site" => asked.All.Any(going.Contains),
            _ => going.Contains(asked.One),
        };
}
