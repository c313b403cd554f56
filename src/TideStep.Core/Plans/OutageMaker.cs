using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;

namespace TideStep.Core.Plans;

/// <summary>The blocks of a move in which components are out: one jump offline or side by side, or several in one
/// outage.</summary>
internal sealed partial class MoveMaker
{
    // What depends on a component is stopped before it and started after it, in exact reverse.
    private void Outage(int number, Move move)
    {
        // What is installed for the first time is out of no service, and has its place all the same.
        var order = DependantsFirst([.. move.Out.Union(move.Jumps.Select(j => j.Component))]);
        foreach (var id in order)
            Touched.Add(id);
        var jumpsOf = move.Jumps.GroupBy(j => j.Component).ToDictionary(g => g.Key, g => g.ToImmutableArray());
        foreach (var id in order)
        {
            var own = jumpsOf.GetValueOrDefault(id);
            var lanes = MembersOf(_index.Estate.Find(id)!)
                .Where(m => !_index.IsOut(m))
                .Select(m => new Lane(
                    m.Id,
                    [
                        .. Emptied(number, move, m),
                        .. _lanes.Leave(
                            $"m{number}/quiesce",
                            m,
                            own.IsDefault ? null : own[0].From.Label,
                            own.IsDefault ? null : own[0].To.Label
                        ),
                        .. StoppedCapturesOf(number, move.Jumps, m, perMember: true),
                    ]
                ))
                .Where(l => !l.Steps.IsEmpty)
                .ToImmutableArray();
            if (!lanes.IsEmpty)
                Append(
                    number,
                    Phase.Quiesce,
                    0,
                    $"stop {id}",
                    false,
                    [.. lanes.Select(l => l.Subject)],
                    move.Out,
                    lanes,
                    TimeSpan.Zero
                );
            SecureStopped(number, id, move.Out, MembersOf(_index.Estate.Find(id)!), m =>
                StoppedCapturesOf(number, move.Jumps, m, perMember: false)
            );
        }
        // What carries others is changed before them; each component's jumps follow one another.
        var ground = order.Where(jumpsOf.ContainsKey).Reverse().ToList();
        foreach (var id in ground)
            for (var i = 0; i < jumpsOf[id].Length; i++)
                Change(number, move, jumpsOf[id][i], i, i == jumpsOf[id].Length - 1);
        var settle = move.Jumps.Max(j => j.Jump.By(j.Method)!.Settle);
        var started = new List<string>();
        foreach (var id in Enumerable.Reverse(order))
        {
            var own = jumpsOf.GetValueOrDefault(id);
            started.Add(id);
            var lanes = MembersOf(_index.Estate.Find(id)!)
                .Where(m => !own.IsDefault || !_index.IsOut(m))
                .Select(m => new Lane(
                    m.Id,
                    [
                        .. _lanes.Return(
                            $"m{number}/resume",
                            m,
                            own.IsDefault ? null : own[^1].From.Label,
                            own.IsDefault ? null : own[^1].To.Label
                        ),
                    ]
                ))
                .Where(l => !l.Steps.IsEmpty)
                .ToImmutableArray();
            // The settle time begins when the last of what moved is back.
            if (!lanes.IsEmpty)
                Append(
                    number,
                    Phase.Resume,
                    0,
                    $"start {id}",
                    false,
                    [],
                    [.. order.Except(started)],
                    lanes,
                    id == ground[^1] ? settle : TimeSpan.Zero
                );
        }
    }

    // A host that goes out is emptied first of what can be moved.
    private IEnumerable<PlanStep> Emptied(int number, Move move, Member member) =>
        _lanes.Empty(
            $"m{number}/quiesce",
            member,
            [.. move.Out.SelectMany(c => MembersOf(_index.Estate.Find(c)!)).Where(m => m.Node == member.Node)],
            move.Jumps.Any(j => j.Component == member.Component && j.Jump.Restarts == RestartScope.Node)
        );

    private void Change(int number, Move move, TakenJump jump, int at, bool last)
    {
        var (figures, members) = (jump.Jump.By(jump.Method)!, MovingOf(jump));
        var scope = at == 0 ? $"m{number}/change" : $"m{number}/change-{at + 1}";
        // A component's later install finds nobody serving.
        if (at > 0 && !jump.Jump.Ahead.IsEmpty)
            Append(
                number,
                Phase.Roll,
                1,
                $"prepare {jump.Component} for {jump.To.Label}",
                false,
                [],
                move.Out,
                Lanes(m =>
                    _lanes.Steps(
                        $"{scope}/ahead",
                        m,
                        jump.Jump.Ahead,
                        MemberState.Out,
                        jump.From.Label,
                        jump.To.Label,
                        closes: jump.Jump.Closes
                    )
                ),
                TimeSpan.Zero,
                figures.Install
            );
        IEnumerable<PlanStep> Captured(Member m) =>
            StoppedCaptures(number, jump, m, m == members[0], together: true).Where(_ => at == 0);
        var before = CapturesWhole(jump) && members.Length > 1;
        if (before)
            SecureStopped(number, jump.Component, move.Out, members, Captured);
        Append(
            number,
            Phase.Roll,
            1,
            $"{jump.Component} to {jump.To.Label}, out of service",
            false,
            [],
            move.Out,
            Lanes(m => (before ? [] : Captured(m)).Concat(Change(scope, m, jump))),
            TimeSpan.Zero,
            figures.Outage
        );
        if (last || jump.Jump.AfterAll.IsEmpty)
            return;
        // The closing work of a jump is done before the next begins; it needs the component up, though it serves
        // nobody.
        Append(
            number,
            Phase.Resume,
            0,
            $"start {jump.Component} {jump.To.Label} by itself",
            false,
            [],
            move.Out,
            Lanes(m => _lanes.Return($"{scope}/up", m, jump.From.Label, jump.To.Label)),
            TimeSpan.Zero
        );
        AfterAll(number, jump);
        Append(
            number,
            Phase.Quiesce,
            0,
            $"stop {jump.Component} {jump.To.Label} again",
            false,
            [],
            move.Out,
            Lanes(m => _lanes.Leave($"{scope}/down", m, jump.From.Label, jump.To.Label)),
            TimeSpan.Zero
        );

        ImmutableArray<Lane> Lanes(Func<Member, IEnumerable<PlanStep>> steps) =>
            [.. members.Select(m => new Lane(m.Id, [.. steps(m)]))];
    }

    /// <summary>Members that left and were not changed come back into service first, what others need before
    /// those.</summary>
    public void BringBack(IReadOnlySet<string> members)
    {
        foreach (
            var id in Enumerable.Reverse(DependantsFirst([.. members.Select(m => MemberId.Of(m).Component).Distinct()]))
        )
        {
            Touched.Add(id);
            Append(
                0,
                Phase.Resume,
                0,
                $"bring {id} back into service",
                false,
                [],
                [],
                [
                    .. _index
                        .Estate.Find(id)!
                        .Members.Where(m => members.Contains(m.Id))
                        .Select(m => new Lane(m.Id, [.. _lanes.Return("m0/back", m, null, null)])),
                ],
                TimeSpan.Zero
            );
        }
    }

    private List<string> DependantsFirst(List<string> components)
    {
        var done = new List<string>();
        foreach (var id in components.Order(StringComparer.Ordinal))
            Visit(id, 0);
        return done;

        void Visit(string id, int level)
        {
            if (done.Contains(id) || level > components.Count)
                return;
            var number = _index.NumberOf(id);
            foreach (
                var above in _index
                    .DependantsOf(number)
                    .Concat(_index.CarriedBy(number))
                    .Select(n => _index.Components[n].Id)
                    .Order(StringComparer.Ordinal)
            )
                if (components.Contains(above))
                    Visit(above, level + 1);
            if (!done.Contains(id))
                done.Add(id);
        }
    }
}
