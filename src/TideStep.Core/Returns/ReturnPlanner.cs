using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Core.Waves;

namespace TideStep.Core.Returns;

/// <summary>Plans the return of a run, or of a plan from any of its rows: the best path of reverse moves, worked out
/// like any other (3-planning, The return path).</summary>
public static class ReturnPlanner
{
    /// <summary>The return path of a plan once its blocks up to one are done.</summary>
    /// <param name="index">The estate as the plan found it.</param>
    /// <param name="plan">The plan.</param>
    /// <param name="block">The number of the last block done; 0 where none is.</param>
    /// <param name="asFarAs">The number of the move before whose beginning it leads; 1 is the start.</param>
    public static Checked<PathAnswer> PathFrom(EstateIndex index, Plan plan, int block, int asFarAs)
    {
        if (block < 0 || block > plan.Blocks.Length)
            return new Checked<PathAnswer>(
                null,
                [
                    new Problem(
                        $"the plan has no part {block}",
                        null,
                        $"Its parts are 1 to {plan.Blocks.Length}; 0 is before the first."
                    ),
                ]
            );
        if (asFarAs < 1 || asFarAs > plan.Moves.Length)
            return new Checked<PathAnswer>(
                null,
                [
                    new Problem(
                        $"the plan has no move {asFarAs}",
                        null,
                        $"Its moves are 1 to {plan.Moves.Length}; 1 leads back to the start."
                    ),
                ]
            );
        var answers = plan.Answers.ToDictionary(a => a.Id, a => a.Answer);
        var standing = new Standing(AsFound(index, plan)) { Unbound = new ReturnBinding(index, answers).Of };
        var before = new ImmutableDictionary<string, Versions.Version>?[plan.Moves.Length + 1];
        foreach (var b in plan.Blocks.Take(block))
        {
            // What stood when a move, or one before it, was begun.
            if (b.OpensMove)
                for (var move = b.Move; move > 0 && before[move] is null; move--)
                    before[move] = standing.Versions;
            foreach (var step in b.Lanes.SelectMany(l => l.Steps))
                standing.Take(step, b);
        }
        var back = To(asFarAs, withReasons: true);
        return !back.Ok
            ? back
            : new Checked<PathAnswer>(
                back.Value! with
                {
                    Notes = back.Value.Found
                        ? Told(back.Value, standing)
                        : [.. WhyClosed(standing, before[asFarAs]), .. HowFar()],
                },
                []
            );

        Checked<PathAnswer> To(int move, bool withReasons) =>
            ReturnSearch.Find(
                standing,
                before[move] ?? standing.Versions,
                plan.Day,
                plan.AllowsUntested,
                plan.Allowed,
                withReasons
            );

        // The earliest move after it whose beginning can still be reached.
        IEnumerable<string> HowFar()
        {
            for (var move = asFarAs + 1; move < before.Length && before[move] is not null; move++)
                if (To(move, withReasons: false) is { Ok: true, Value: { Found: true } partly })
                {
                    yield return $"one can still return as far as the beginning of move {move}: "
                        + $"{Durations.Write(partly.Moves.Aggregate(TimeSpan.Zero, (sum, m) => sum + m.Takes))}, "
                        + string.Join("; ", Told(partly, standing));
                    yield break;
                }
        }
    }

    // That it leads down is the point of it; what it loses has to be said.
    private static ImmutableArray<string> Told(PathAnswer back, Standing standing)
    {
        var lossy = back
            .Moves.SelectMany(m => m.Jumps)
            .Where(j => j.Jump.Closes is not null)
            .Select(j => $"{j.Component}: {j.Jump.Id} loses what was written since its capture");
        var unmoved =
            standing.Changed.IsEmpty ? "nothing has been changed"
            : back.Moves.IsEmpty
                ? $"{string.Join(", ", standing.Changed.Keys)}: found mixed and brought to one version, "
                    + "which nothing leads back from"
            : "nothing is lost";
        return [.. lossy.DefaultIfEmpty(unmoved)];
    }

    private static IEnumerable<string> WhyClosed(
        Standing standing,
        ImmutableDictionary<string, Versions.Version>? target
    ) =>
        standing.Changed.Values.SelectMany(c =>
            target?.ContainsKey(c.Component.Id) == false
                ? [$"{c.Component.Id} {ComponentStanding.InstalledFirst}"]
                : c.Broken.Select(b =>
                    $"{c.Component.Id}: {b.Jump.Id} can't be carried out: {b.Problem.What}"
                    + $"{(b.Problem.At is { } at ? $" ({at})" : "")}"
                )
        );

    /// <summary>The plan that leads a run back as far as the start of a move, or why there is none.</summary>
    /// <param name="only">The member that alone is returned, with what stands on its node; everything where
    /// null.</param>
    /// <param name="useless">The run's rollback points that lead nowhere any more by what happened since; none where
    /// null.</param>
    public static Checked<Plan> Make(
        EstateIndex index,
        string run,
        RunState state,
        int asFarAs,
        string estateRevision,
        string catalogueRevision,
        string? only = null,
        IReadOnlySet<string>? useless = null
    )
    {
        if (state.Plan.Kind == Plan.Return)
            return new Checked<Plan>(
                null,
                [
                    new Problem(
                        "this run is a return itself, and nothing leads a return back",
                        null,
                        "Try again, or stop here."
                    ),
                ]
            );
        var (standing, target) = Of(index, state, asFarAs, only, useless);
        var answer = ReturnSearch.Find(
            standing,
            target,
            state.Plan.Day,
            state.Plan.AllowsUntested,
            state.Plan.Allowed,
            withReasons: true
        );
        if (!answer.Ok)
            return new Checked<Plan>(null, answer.Problems);
        if (!answer.Value!.Found)
            return new Checked<Plan>(null, [.. Closed(state, standing, target, answer.Value)]);
        var path = answer.Value;
        var now = standing.Now();
        // Members that were replaced are not brought back; their successors stand for them.
        var here = now.Components.SelectMany(c => c.Members).Select(m => m.Id).ToHashSet();
        var (findings, gone) = (new Findings(), Gone(state, only).Where(here.Contains).ToHashSet());
        var maker = new MoveMaker(
            now,
            Place,
            gone,
            state.Plan.Answers.ToDictionary(a => a.Id, a => a.Answer),
            findings
        );
        maker.BringBack(gone.Except(Handled(now, path)).ToHashSet());
        for (var i = 0; i < path.Moves.Length; i++)
            maker.Add(i + 1, path.Moves[i]);
        var moves = PlanMaker.Planned(now, path);
        // Of one member alone nobody else's version is looked at afterwards.
        ImmutableArray<Block> blocks =
        [
            .. maker.Blocks.Select(b =>
                only is not null && b.Phase == Phase.Verify
                    ? b with
                    {
                        Lanes = [.. b.Lanes.Where(l => l.Subject == only)],
                    }
                    : b
            ),
        ];
        // What stood still before the run is not started by its return either; and the run keeps its temporary measures
        // till the return has ended: what is taken already is not taken twice.
        var taken = state.Measures.Select(state.Plan.Step).Select(s => (s.Name, s.Node, s.Member)).ToHashSet();
        blocks =
        [
            .. blocks.Select(b =>
                b with
                {
                    Lanes =
                    [
                        .. b.Lanes.Select(l =>
                            l with
                            {
                                Steps =
                                [
                                    .. l.Steps.Where(s =>
                                        !RunBinding.StoodStill(s, state)
                                        && !(s.Undo is not null && taken.Contains((s.Name, s.Node, s.Member)))
                                    ),
                                ],
                            }
                        ),
                    ],
                }
            ),
        ];
        var touched = blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).Select(s => s.Member).Distinct();
        var premises = new Premises(
            estateRevision,
            catalogueRevision,
            touched
                .Where(m => index.Estate.FindMember(m) is not null)
                .ToImmutableSortedDictionary(m => m, _ => "any", StringComparer.Ordinal)
        );
        var plan = new Plan(
            Plan.Return,
            run,
            state.Plan.Estate,
            state.Plan.Day,
            [.. moves.Select(m => m.Words.Replace(" to ", " back to ", StringComparison.Ordinal))],
            premises,
            moves,
            [.. maker.Points],
            blocks,
            PlanMaker.Length(blocks),
            [.. Losses(standing, path)]
        )
        {
            AllowsUntested = state.Plan.AllowsUntested,
            Allowed = state.Plan.Allowed,
        };
        return new Checked<Plan>(findings.Any ? null : plan, findings.All);

        IEnumerable<(string Kind, RollbackPlace? Place)> Place(Jump jump, Member member) =>
            standing
                .Changed[member.Component]
                .PointsFor(jump, member.Id)
                .Select(r =>
                    (
                        r.Kind,
                        r.Point is { } point
                            ? new RollbackPlace(point.Id, point.Kind, member.Id, point.Place, point.Version.Label)
                            : null
                    )
                );
    }

    private static EstateIndex AsFound(EstateIndex index, Plan plan)
    {
        var members = index.Readings.Members;
        foreach (var (member, label) in plan.Premises.Running)
            if (label is not (RunningText.Nothing or "any"))
                members = members.SetItem(
                    member,
                    (members.GetValueOrDefault(member) ?? MemberReading.None) with
                    {
                        Running = label,
                        Installed = label,
                        InService = true,
                    }
                );
        return new EstateIndex(index.Estate, index.Readings with { Members = members }, index.Catalogue);
    }

    // The start is what the plan found; what has begun since counts as done, for it may have changed something. A
    // refused attempt never ran.
    private static (Standing Standing, ImmutableDictionary<string, Versions.Version> Target) Of(
        EstateIndex index,
        RunState state,
        int asFarAs,
        string? only,
        IReadOnlySet<string>? useless
    )
    {
        var answers = state.Plan.Answers.ToDictionary(a => a.Id, a => a.Answer);
        var standing = new Standing(AsFound(index, state.Plan)) { Unbound = new ReturnBinding(index, answers).Of };
        ImmutableDictionary<string, Versions.Version>? target = null;
        foreach (var block in state.Plan.Blocks)
        {
            if (block.Move >= asFarAs && block.OpensMove)
                target ??= standing.Versions;
            // Of one member alone only its own lane of the part at work counts: the others stay where they are.
            if (
                only is not null
                && block.Number != state.CurrentBlock
                && !block.Lanes.Any(l => l.Steps.Any(s => s.Point is not null))
            )
                continue;
            foreach (
                var step in block
                    .Lanes.Where(l => only is null || l.Subject == only)
                    .SelectMany(l => l.Steps)
                    .Where(s =>
                        Begun(state, s) && (only is null || block.Number == state.CurrentBlock || s.Point is not null)
                    )
            )
            {
                var point =
                    step.Point is { } id
                    && state.Points.GetValueOrDefault(id) is { LeadsBack: true } captured
                    && useless?.Contains(id) != true
                        ? captured
                        : null;
                // A point that is not there or not verified leads nowhere, and leaves its set incomplete.
                standing.Take(
                    step,
                    block,
                    point is null ? null : (point.Place, point.CapturedAt),
                    usable: step.Point is null || point is not null
                );
            }
        }
        return (standing, target ?? standing.Versions);
    }

    private static bool Begun(RunState state, PlanStep step) =>
        state.Of(step.Id) is var progress
        && (
            progress.Attempts.Any(a => !a.Undo && a.End is not AttemptEnd.Refused)
            || (progress.Status == StepStatus.Done && progress.Attempts.IsEmpty)
        );

    // Members of the move at work that left and are not back, and those that were left out before it.
    private static HashSet<string> Gone(RunState state, string? only) =>
        state.CurrentBlock == 0
            ? []
            :
            [
                .. state
                    .Plan.Blocks.Where(b =>
                        b.Number <= state.CurrentBlock
                        && (b.Move == state.Plan.Blocks[state.CurrentBlock - 1].Move || state.LeftOut.Count > 0)
                    )
                    .SelectMany(b =>
                        b.Lanes.Where(l =>
                            b.Move == state.Plan.Blocks[state.CurrentBlock - 1].Move
                            || state.LeftOut.Contains(l.Subject)
                        )
                    )
                    .Where(l => only is null || l.Subject == only)
                    .SelectMany(l => l.Steps)
                    .Where(s => s.State is not MemberState.InService)
                    .Select(s => s.Member)
                    .Distinct()
                    .Where(m => state.MemberStateOf(m) is { } at and not MemberState.InService),
            ];

    private static IEnumerable<string> Handled(EstateIndex index, PathAnswer path) =>
        path
            .Moves.SelectMany(m =>
                m.Waves is { } waves
                    ? waves.Waves.SelectMany(w => w.Members.Concat(w.AlsoOut))
                    : m
                        .Out.Concat(m.Jumps.Select(j => j.Component))
                        .Distinct()
                        .SelectMany(c => index.Estate.Find(c)!.Members)
            )
            .Select(m => m.Id);

    private static DateTimeOffset? Captured(ComponentStanding standing, Versions.Version to) =>
        standing.Points.Where(p => p.Usable && p.Version.Equals(to)).Min(p => p.At);

    private static IEnumerable<string> Losses(Standing standing, PathAnswer path) =>
        path
            .Moves.SelectMany(m => m.Jumps)
            .Where(j => j.Jump.Closes is not null && ComponentStanding.IsRestore(j.Jump))
            .Select(j =>
                $"{j.Component}: what was written since "
                + $"{Captured(standing.Changed[j.Component], j.To):u} "
                + $"is lost"
            );

    private static IEnumerable<Problem> Closed(
        RunState state,
        Standing standing,
        ImmutableDictionary<string, Versions.Version> target,
        PathAnswer answer
    )
    {
        var figures = new BackFigures(standing.Now());
        var closed = standing
            .Changed.Values.Where(c => target.TryGetValue(c.Component.Id, out var at) && c.To(at, figures) is null)
            .ToList();
        foreach (var component in closed)
        {
            var (id, at) = (component.Component.Id, target[component.Component.Id]);
            var by = state
                .Plan.Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .FirstOrDefault(s =>
                    s.Closes && s.Member.StartsWith(id + "/", StringComparison.Ordinal) && Begun(state, s)
                );
            yield return component.Broken.FirstOrDefault() is { Problem: { } broken, Jump: var jump }
                ? new Problem(
                    $"the return path of {id} is closed: {jump.Id} can't be carried out: {broken.What}",
                    null,
                    "Stop here, or mend the document and decide again.",
                    broken.At
                )
                : new Problem(
                    $"the return path of {id} is closed: "
                        + (
                            component.Replaced
                                ? "its members were replaced, and no jump down by 'replace' brings the old ones back"
                            : by is null
                                ? $"{component.Product.Id} has no jump from {component.Now} down to {at} and no "
                                    + $"verified set of rollback points covers every member that changed"
                            : $"the step {by.Title} closed it"
                        ),
                    null,
                    "Stop here, or try again."
                );
        }
        var first = standing.Changed.Keys.Where(id => !target.ContainsKey(id)).ToList();
        foreach (var id in first)
            yield return new Problem(
                $"the return path of {id} is closed: it {ComponentStanding.InstalledFirst}",
                null,
                "Stop here, or return as far as the move after it."
            );
        if (closed.Count + first.Count > 0)
            yield break;
        yield return new Problem(
            "no order of reverse moves leads back through states that are allowed",
            string.Join("; ", answer.Reasons.Select(r => r.What)),
            "Stop here, or try again."
        );
    }
}
