using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Returns;

/// <summary>Binds ways back before anybody needs them: a way that can't be bound is none, and where it is wrong is
/// said (3-planning, The return path).</summary>
internal sealed class ReturnBinding(EstateIndex index, IReadOnlyDictionary<string, string> answers)
{
    private readonly Dictionary<(string Component, string Jump, string To), Problem?> _known = [];

    /// <summary>The first thing that keeps a way back from being carried out; null where it can be.</summary>
    public Problem? Of(Component component, Jump jump)
    {
        var key = (component.Id, jump.Id, jump.To.Label);
        if (!_known.TryGetValue(key, out var known))
            _known[key] = known = Bind(component, jump);
        return known;
    }

    private Problem? Bind(Component component, Jump jump)
    {
        var findings = new Findings();
        var lanes = new LaneBuilder(index, answers, findings);
        var routines = index.Catalogue.Find(component.Product)!.Routines;
        // Members of one role on hosts that are alike bind the same.
        foreach (var member in component.Members.DistinctBy(Kind))
        {
            foreach (var kind in jump.Restores)
                Walk(
                    lanes,
                    member,
                    jump,
                    routines.Restore.GetValueOrDefault(kind, []),
                    new RollbackPlace(kind, kind, member.Id, "", jump.To.Label)
                );
            Walk(lanes, member, jump, [.. jump.Ahead, .. jump.Change, .. jump.AfterAll], null);
            if (findings.Any)
                return findings.All[0];
        }
        return null;

        (string?, string) Kind(Member member) =>
            (
                index.RoleOf(member),
                index.Estate.Nodes.GetValueOrDefault(member.Node) is { } node
                    ? string.Join(' ', node.Traits.OrderBy(t => t.Key, StringComparer.Ordinal))
                    : ""
            );
    }

    // A restore's own steps stand in its routines, each with its point.
    private static void Walk(
        LaneBuilder lanes,
        Member member,
        Jump jump,
        IEnumerable<string> steps,
        RollbackPlace? point
    )
    {
        if (point is null && !jump.Restores.IsEmpty)
            return;
        foreach (
            var _ in lanes.Steps(
                "return",
                member,
                steps,
                MemberState.Working,
                jump.To.Label,
                jump.To.Label,
                point,
                alone: true
            )
        )
        { /* what can't be bound is among the findings */
        }
    }
}
