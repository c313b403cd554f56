using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Waves;

namespace TideStep.Core.Plans;

/// <summary>Where a move's rollback points are captured, and which of them the plan has.</summary>
internal sealed partial class MoveMaker
{
    private readonly HashSet<string> _captured = [];

    private ImmutableArray<Lane> CaptureLanes(int number, TakenJump jump, ImmutableArray<Member> members)
    {
        var lanes = ImmutableArray.CreateBuilder<Lane>();
        foreach (var (member, wish) in Related(jump.Jump.Points.Where(p => p.WhileServing), jump.Component))
            lanes.Add(new Lane(member.Id, [.. Capture(number, RunsNow(member), null, member, wish)]));
        foreach (var member in members)
        {
            var steps = jump
                .Jump.Points.Where(p => p.Of is null && p.WhileServing && (p.PerMember || member == members[0]))
                .SelectMany(p => Capture(number, jump.From.Label, jump.To.Label, member, p))
                .ToImmutableArray();
            if (!steps.IsEmpty)
                lanes.Add(new Lane(member.Id, steps));
        }
        return lanes.ToImmutable();
    }

    // Points of related components: of each member, or of one of each component.
    private IEnumerable<(Member Member, PointWish Wish)> Related(IEnumerable<PointWish> wishes, string component) =>
        wishes
            .Where(w => w.Of is not null)
            .SelectMany(w =>
                _index
                    .RelatedTo(_index.NumberOf(component))
                    .Select(c => _index.Components[c])
                    .Where(c => c.Product == w.Of)
                    .SelectMany(c => w.PerMember ? MembersOf(c) : MembersOf(c).Take(1))
                    .Where(m => !_index.IsOut(m))
                    .Select(m => (m, w))
            );

    // What a component runs when a move begins: as it was found, or as an earlier move left it.
    private string? RunsNow(Member member) =>
        _runs.GetValueOrDefault(member.Component) ?? _index.Readings.Of(member).Running;

    private readonly Dictionary<string, string> _runs = [];

    private ImmutableArray<PlanStep> Capture(
        int number,
        string? from,
        string? to,
        Member member,
        PointWish wish,
        string? set = null
    )
    {
        var id = $"{member.Component}-{member.Node}-m{number}-{wish.Capture}";
        // What proves the capture follows it at once: nothing is changed before the point is known to bring back what
        // it should.
        ImmutableArray<string> proof = _lanes.ProductOf(member).Routines.Prove.GetValueOrDefault(wish.Capture, []);
        ImmutableArray<PlanStep> steps =
        [
            .. _lanes.Steps(
                $"m{number}/capture",
                member,
                [wish.Capture, .. proof],
                wish.WhileServing ? MemberState.InService : MemberState.Out,
                from,
                to,
                new RollbackPlace(id, wish.Capture, member.Id, "", from ?? ""),
                id,
                alone: true
            ),
        ];
        // What is captured only under a condition is a point only where it is captured.
        if (steps.Any(s => s.Point == id) && _captured.Add(id))
            Points.Add(
                new PlannedPoint(id, member.Component, member.Id, member.Node, number, wish.Capture, from ?? "")
                {
                    Set = set,
                    Restorable = _lanes.ProductOf(member).Routines.Restore.ContainsKey(wish.Capture),
                    Serves = wish.Serves,
                    Settle = wish.Settle,
                }
            );
        return steps.Any(s => s.Point == id) ? steps : [];
    }

    /// <summary>Points that are captured once for the whole component while it, or the member that is asked for it, is
    /// stopped: nothing may be changed anywhere in it before.</summary>
    private static bool CapturesWhole(TakenJump jump) =>
        jump.Jump.Points.Any(p => p is { Of: null, WhileServing: false, PerMember: false });

    // The first member captures for all: it leaves alone, so that none of the others is changed before.
    private WavePlan FirstAlone(TakenJump jump, WavePlan plan)
    {
        if (!CapturesWhole(jump) || plan.Waves[0].Members.Length == 1)
            return plan;
        var wave = plan.Waves[0];
        var first = wave.Members[0];
        var with = wave.AlsoOut.Where(m => _index.Estate.StandsOn(m.Node, first.Node)).ToImmutableArray();
        return plan with
        {
            Waves =
            [
                wave with
                {
                    Members = [first],
                    AlsoOut = with,
                },
                wave with
                {
                    Canary = false,
                    Members = wave.Members.RemoveAt(0),
                    AlsoOut = [.. wave.AlsoOut.Except(with)],
                },
                .. plan.Waves.Skip(1),
            ],
        };
    }

    // The points of a component that is out as a whole, where one of them covers all its members: taken before any of
    // them is changed.
    private void SecureStopped(
        int number,
        string component,
        ImmutableArray<string> componentsOut,
        IEnumerable<Member> members,
        Func<Member, IEnumerable<PlanStep>> captures
    )
    {
        var lanes = members
            .Select(m => new Lane(m.Id, [.. captures(m)]))
            .Where(l => !l.Steps.IsEmpty)
            .ToImmutableArray();
        if (!lanes.IsEmpty)
            Append(
                number,
                Phase.Secure,
                0,
                $"rollback points of {component}, out of service",
                false,
                [],
                componentsOut,
                lanes,
                TimeSpan.Zero
            );
    }

    // With everything stopped, what is captured of all members belongs together.
    private IEnumerable<PlanStep> StoppedCaptures(
        int number,
        TakenJump jump,
        Member member,
        bool first,
        bool together = false
    ) =>
        jump
            .Jump.Points.Where(p => p.Of is null && !p.WhileServing && (p.PerMember || first))
            .SelectMany(p =>
                Capture(number, jump.From.Label, jump.To.Label, member, p, together ? $"m{number}" : null)
            );

    // The same of what is related, once it has left and before the jump's own component does.
    private IEnumerable<PlanStep> StoppedCapturesOf(
        int number,
        IEnumerable<TakenJump> jumps,
        Member member,
        bool? perMember = null
    ) =>
        jumps
            .SelectMany(j =>
                Related(
                    j.Jump.Points.Where(p => !p.WhileServing && (perMember ?? p.PerMember) == p.PerMember),
                    j.Component
                )
            )
            .Where(r => r.Member.Id == member.Id)
            .SelectMany(r => Capture(number, RunsNow(member), null, member, r.Wish));
}
