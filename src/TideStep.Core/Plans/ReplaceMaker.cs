using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Waves;

namespace TideStep.Core.Plans;

/// <summary>The blocks of a move by replacement: new members join on spare nodes before old ones leave, whose nodes
/// serve the next.</summary>
internal sealed partial class MoveMaker
{
    private void Replace(int number, TakenJump jump)
    {
        var component = _index.Estate.Find(jump.Component)!;
        // Found mixed, only those at another version are replaced.
        var (members, figures, routines) = (
            MovingOf(jump),
            jump.Jump.By(Method.Replace)!,
            _lanes.ProductOf(component.Members[0]).Routines
        );
        if (component.SpareNodes.IsEmpty)
        {
            _findings.Add(
                $"component {component.Id} is replaced in move {number}, but its spare nodes are not named",
                component.Place,
                "Name them: spares: [node, ...]."
            );
            return;
        }
        if (routines.Join.IsEmpty)
        {
            _findings.Add(
                $"{component.Product}: nothing says how a new member joins, and {component.Id} is replaced in "
                    + $"move {number}",
                component.Place,
                "Give the product's routines a 'join', and a 'retire' for the members that leave."
            );
            return;
        }
        var roles = _lanes.ProductOf(component.Members[0]).Roles;
        var size = component.Guard.Quorum || members.Any(m => _index.RoleOf(m) is not null) ? 1 : component.Spares;
        // The one that leads goes last, after its role was handed over.
        var order = members
            .OrderBy(m => roles.IndexOf(_index.RoleOf(m) ?? ""))
            .ThenBy(m => m.Id, StringComparer.Ordinal)
            .ToList();
        // A node that is gone for good serves nobody again: each spare is used once.
        var comesFree = component.Retired == Retired.Free;
        if (!comesFree && component.SpareNodes.Length < order.Count)
        {
            _findings.Add(
                $"component {component.Id} is replaced in move {number}: {order.Count} members, "
                    + $"{component.SpareNodes.Length} "
                    + "spare nodes, and what is retired is gone for good",
                component.Place,
                "Name as many spare nodes as there are members, or say retired: free."
            );
            return;
        }
        var free = new Queue<string>(component.SpareNodes);
        var (now, placeOf) = (new List<Member>(), new Dictionary<string, string>());
        var waves = order.Chunk(size).ToList();
        var spare = new Queue<string>(component.SpareNodes);
        _lanes.Place(
            waves
                .Select(w =>
                {
                    var joining = w.Select(old => new Member(component.Id, spare.Dequeue(), old.Role)).ToList();
                    foreach (var old in w.Where(_ => comesFree))
                        spare.Enqueue(old.Node);
                    return (IEnumerable<Member>)joining;
                })
                .ToList()
        );
        for (var w = 0; w < waves.Count; w++)
        {
            var scope = $"m{number}/w{w + 1}";
            var pairs = waves[w]
                .Select(old => (Old: old, New: new Member(component.Id, free.Dequeue(), old.Role)))
                .ToList();
            Append(
                number,
                Phase.Roll,
                w + 1,
                $"{component.Id} wave {w + 1} of {waves.Count}, new members join",
                false,
                [],
                [],
                [.. pairs.Select(p => new Lane(p.New.Id, [.. Joining(scope, jump, p.Old, p.New, routines)]))],
                TimeSpan.Zero,
                figures.Member
            );
            Append(
                number,
                Phase.Roll,
                w + 1,
                $"{component.Id} wave {w + 1} of {waves.Count}, old members leave",
                false,
                [],
                [],
                [.. pairs.Select(p => new Lane(p.Old.Id, [.. Leaving(scope, jump, p.Old, routines)]))],
                figures.Settle
            );
            foreach (var (old, taken) in pairs)
            {
                if (comesFree)
                    free.Enqueue(old.Node);
                now.Add(taken);
                placeOf[old.Node] = taken.Node;
            }
        }
        _replaced[component.Id] =
        [
            .. MembersOf(component).Except(members).Concat(now).OrderBy(m => m.Id, StringComparer.Ordinal),
        ];
        foreach (var upper in order.SelectMany(Carried).GroupBy(m => m.Component))
            _replaced[upper.Key] =
            [
                .. MembersOf(_index.Estate.Find(upper.Key)!)
                    .Except(upper)
                    .Concat(upper.Select(m => new Member(upper.Key, placeOf[m.Node], m.Role)))
                    .OrderBy(m => m.Id, StringComparer.Ordinal),
            ];
        Notes.Add(
            $"after move {number} {component.Id} runs on "
                + $"{string.Join(", ", _replaced[component.Id].Select(m => m.Node))}; {string.Join(", ", free)} "
                + $"{(free.Count == 1 ? "is" : "are")} free; a survey finds it so"
        );
    }

    // What stands on or inside the old member is set up on the new node too, lower layers first.
    private IEnumerable<PlanStep> Joining(string scope, TakenJump jump, Member old, Member taken, Routines routines)
    {
        foreach (
            var step in _lanes.Steps(
                $"{scope}/change",
                taken,
                jump.Jump.Change,
                MemberState.Working,
                jump.From.Label,
                jump.To.Label,
                closes: jump.Jump.Closes
            )
        )
            yield return step;
        foreach (
            var step in _lanes.Steps(
                $"{scope}/join",
                taken,
                routines.JoinOf(_index.RoleOf(old)),
                MemberState.Verifying,
                jump.From.Label,
                jump.To.Label
            )
        )
            yield return step;
        if (_lanes.Serving(scope, taken, jump.From.Label, jump.To.Label) is { } serving)
            yield return serving;
        foreach (
            var step in _lanes.Steps(
                $"{scope}/vote",
                taken,
                routines.VoteOf(_index.RoleOf(old)),
                MemberState.Verifying,
                jump.From.Label,
                jump.To.Label
            )
        )
            yield return step;
        foreach (var upper in Enumerable.Reverse(Carried(old)))
        {
            var its = _lanes.ProductOf(upper).Routines;
            if (its.Join.IsEmpty)
            {
                _findings.Add(
                    $"{_index.Estate.Find(upper.Component)!.Product}: nothing says how a new member joins, "
                        + $"and {upper.Id} moves with {old.Id}",
                    null,
                    "Give the product's routines a 'join'."
                );
                continue;
            }
            Touched.Add(upper.Component);
            foreach (
                var step in _lanes.Steps(
                    $"{scope}/join",
                    new Member(upper.Component, taken.Node, upper.Role),
                    its.JoinOf(_index.RoleOf(upper)),
                    MemberState.Verifying,
                    null,
                    null
                )
            )
                yield return step;
        }
    }

    private IEnumerable<PlanStep> Leaving(string scope, TakenJump jump, Member old, Routines routines)
    {
        foreach (var upper in Carried(old))
        foreach (
            var step in _lanes
                .Leave(scope, upper, null, null)
                .Concat(
                    _lanes.Steps(
                        $"{scope}/retire",
                        upper,
                        _lanes.ProductOf(upper).Routines.RetireOf(_index.RoleOf(upper)),
                        MemberState.Out,
                        null,
                        null
                    )
                )
        )
            yield return step;
        foreach (var step in _lanes.Leave(scope, old, jump.From.Label, jump.From.Label))
            yield return step;
        foreach (
            var step in _lanes.Steps(
                $"{scope}/retire",
                old,
                routines.RetireOf(_index.RoleOf(old)),
                MemberState.Out,
                jump.From.Label,
                jump.From.Label
            )
        )
            yield return step;
    }

    private List<Member> Carried(Member member) =>
        [
            .. _lanes.UpperFirst(
                Service
                    .OutWith(_index, [(_index.NumberOf(member.Component), member)], false)
                    .Where(id => id != member.Id)
                    .Select(id => _index.Estate.FindMember(id)!)
            ),
        ];
}
