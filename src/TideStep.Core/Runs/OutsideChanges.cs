using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>Something that is otherwise than a run left it, though the run did not do it.</summary>
/// <param name="Subject">The member, or <c>estate</c> or <c>catalogue</c> for those documents, or <c>way back</c> for
/// the return path to the start.</param>
/// <param name="Expected">What a member may run by the run's own journal, or the document's revision.</param>
/// <param name="Found">What it runs; <c>none</c> where nothing runs, <c>unreachable</c> where its node does not
/// answer.</param>
public sealed record OutsideChange(string Subject, string Expected, string Found)
{
    /// <summary>The return path to the start that the plan showed open is closed.</summary>
    public static OutsideChange WayBackClosed { get; } = new(OutsideChanges.WayBack, "open", "closed");

    /// <summary>Whether it may pass by itself: nothing runs right now, or the node does not answer.</summary>
    public bool MayPass => Found is RunningText.Nothing or RunningText.Unreachable;

    public override string ToString() =>
        Subject is OutsideChanges.Estate or OutsideChanges.Catalogue ? $"the {Subject}'s document has changed"
        : this == WayBackClosed ? "the return path to the start is closed, which the plan showed open"
        : Found == RunningText.Unreachable ? $"{Subject} does not answer"
        : $"{Subject} runs {Found}, expected {Expected}";
}

/// <summary>What members may run at a point of a run, and what is otherwise; pure (4-execution, rule 6).</summary>
public static class OutsideChanges
{
    public const string Estate = "estate";
    public const string Catalogue = "catalogue";
    public const string WayBack = "way back";

    /// <summary>Whether the plan shows the return path to the start open where the run stands, in the part that is done
    /// and in the one at work, and nobody has accepted that it is not: what closes as planned is no surprise
    /// (3-planning, The return path).</summary>
    public static bool PromisesWayBack(RunState state) =>
        state.Plan.Kind == Plan.Upgrade
        && state.CurrentBlock > 0
        && !state.AcceptedChanges.Contains(OutsideChange.WayBackClosed)
        && state
            .Plan.Blocks.Where(b => b.Number == state.CurrentBlock || b.Number == state.BlocksDone)
            .All(b => b.Return.State != ReturnState.Closed);

    /// <summary>What each member may run by the run's own journal. A member in the middle of its work may run either
    /// version or nothing; those that were left out, are replaced, or were never known are not told of.</summary>
    public static ImmutableSortedDictionary<string, ImmutableArray<string>> Expected(RunState state)
    {
        var plan = state.Plan;
        var replaced = plan
            .Moves.SelectMany(m => m.Jumps)
            .Where(j => j.Method == Method.Replace)
            .Select(j => j.Component)
            .ToHashSet();
        var may = plan
            .Premises.Running.Where(p =>
                p.Value != "any" && !replaced.Contains(ComponentOf(p.Key)) && !state.LeftOut.Contains(p.Key)
            )
            .ToDictionary(p => p.Key, p => (ImmutableArray<string>)[p.Value]);
        foreach (var block in plan.Blocks.TakeWhile(b => b.Number <= state.CurrentBlock))
        foreach (var its in block.Lanes.SelectMany(l => l.Steps).GroupBy(s => s.Member))
            if (may.TryGetValue(its.Key, out var before))
                may[its.Key] = After(state, before, [.. its]);
        foreach (var component in OutNow(state))
        foreach (var (member, before) in may.Where(m => ComponentOf(m.Key) == component).ToList())
            may[member] = [.. before.Append(RunningText.Nothing).Distinct()];
        return may.ToImmutableSortedDictionary(StringComparer.Ordinal);
    }

    private static ImmutableArray<string> After(
        RunState state,
        ImmutableArray<string> before,
        IReadOnlyList<PlanStep> steps
    )
    {
        if (
            steps.All(s => s.State == MemberState.InService)
            || steps.All(s => state.Of(s.Id).Status == StepStatus.Pending)
        )
            return before;
        var changes = steps
            .Where(s => s.State is MemberState.Working or MemberState.Restarting && s.To is not null && s.To != s.From)
            .ToList();
        if (steps.Any(s => state.Of(s.Id).Status != StepStatus.Done))
            return
            [
                .. before
                    .Concat(changes.SelectMany(s => new[] { s.From, s.To }).OfType<string>())
                    .Append(RunningText.Nothing)
                    .Distinct(),
            ];
        if (changes.Count == 0)
            return before;
        // What a person let pass in place of the work tells nothing of what runs now.
        var to = changes[^1].To!;
        return steps.All(s => state.Of(s.Id).How is DoneHow.Done or DoneHow.Already or DoneHow.Signed)
            ? [to]
            : [.. before.Append(to).Append(RunningText.Nothing).Distinct()];
    }

    // Components that the move at work has stopped as a whole and not yet started again: the part that starts one is
    // not one in which it counts as out, and until it is done nothing may run.
    private static IEnumerable<string> OutNow(RunState state)
    {
        if (state.CurrentBlock == 0)
            return [];
        var at = state.Plan.Blocks[state.CurrentBlock - 1];
        return state
            .Plan.Blocks.Where(b => b.Move == at.Move)
            .SelectMany(b => b.ComponentsOut.Select(c => (Component: c, b.Number)))
            .GroupBy(b => b.Component)
            .Where(g =>
                g.Min(b => b.Number) <= state.CurrentBlock
                && StartedBy(state.Plan, at.Move, g.Key, g.Max(b => b.Number)) > state.BlocksDone
            )
            .Select(g => g.Key);
    }

    private static int StartedBy(Plan plan, int move, string component, int last) =>
        plan.Blocks.FirstOrDefault(b =>
            b.Move == move
            && b.Number > last
            && b.Phase == Phase.Resume
            && b.Lanes.Any(l => ComponentOf(l.Subject) == component)
        )
            is { } resumes
            ? resumes.Number
            : last;

    /// <summary>What was changed from outside, without what a person accepted before.</summary>
    /// <param name="state">The run.</param>
    /// <param name="running">What the members run, as just read.</param>
    /// <param name="revisions">The revisions of the estate's and the catalogue's documents now; null where they are not
    /// known.</param>
    public static ImmutableArray<OutsideChange> Of(
        RunState state,
        IReadOnlyDictionary<string, string> running,
        (string Estate, string Catalogue)? revisions
    )
    {
        var found = ImmutableArray.CreateBuilder<OutsideChange>();
        var premises = state.Plan.Premises;
        if (revisions is { } now && now.Estate != premises.EstateRevision)
            found.Add(new OutsideChange(Estate, premises.EstateRevision, now.Estate));
        if (revisions is { } then && then.Catalogue != premises.CatalogueRevision)
            found.Add(new OutsideChange(Catalogue, premises.CatalogueRevision, then.Catalogue));
        foreach (var (member, may) in Expected(state))
        {
            var runs = running.GetValueOrDefault(member, RunningText.Unreachable);
            if (may.Contains(runs) || (runs == RunningText.Unreachable && may.Contains(RunningText.Nothing)))
                continue;
            found.Add(new OutsideChange(member, string.Join(" or ", may), runs));
        }
        return [.. found.Where(c => !state.AcceptedChanges.Contains(c))];
    }

    /// <summary>The changes in words, the first of many.</summary>
    public static string Words(IReadOnlyCollection<OutsideChange> changes) =>
        $"changed from outside: {string.Join("; ", changes.Take(MostTold))}"
        + $"{(changes.Count > MostTold ? $"; and {changes.Count - MostTold} more" : "")}";

    /// <summary>How many of them are told one by one.</summary>
    public const int MostTold = 8;

    private static string ComponentOf(string member) => MemberId.Of(member).Component;
}
