using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>Something that is left to be done after a run: by whom, until when, and why it is there.</summary>
/// <param name="Id">Its name within the run, the same whenever it is reckoned.</param>
/// <param name="Urgent">Whether it is to be done before the first job, not some day.</param>
public sealed record FollowUp(
    string Id,
    string What,
    string About,
    string? Owner,
    DateTimeOffset Due,
    bool Urgent,
    string Why
);

/// <summary>What a run leaves to be done, reckoned from its plan and its journal; pure, so that nothing has to be
/// remembered.</summary>
public static class FollowUps
{
    /// <summary>How long something may wait that is to be done later.</summary>
    private static readonly TimeSpan Later = TimeSpan.FromDays(7);

    public static ImmutableArray<FollowUp> Of(RunState state)
    {
        if (state.EndedAt is not { } ended || state.Plan.Kind != Plan.Upgrade)
            return [];
        var found = new List<FollowUp>();
        // What the products ask to be done afterwards, for the moves that were carried out.
        var done = state
            .Plan.Moves.Where(m =>
                state.End == RunEnd.Completed
                || state.Plan.Blocks.Where(b => b.Move == m.Number) is var its
                    && its.Any()
                    && its.All(b => b.Number <= state.BlocksDone)
            )
            .Select(m => m.Number)
            .ToHashSet();
        if (state.End != RunEnd.Returned)
            foreach (
                var task in state
                    .Plan.Tasks.Where(t => t.When is TaskTime.After or TaskTime.Later && done.Contains(t.Move))
                    .DistinctBy(t => (t.Component, t.Title))
            )
                found.Add(
                    new FollowUp(
                        $"task {task.Component} {task.Title}",
                        task.Title,
                        task.Component,
                        task.Owner,
                        task.When == TaskTime.After ? ended : ended + Later,
                        task.When == TaskTime.After,
                        task.When == TaskTime.After ? "before the first job" : "the jump asks for it"
                    )
                );
        foreach (var member in state.LeftOut.Order(StringComparer.Ordinal))
            found.Add(
                new FollowUp(
                    $"left-out {member}",
                    "bring it to what the others run, or take it out",
                    member,
                    null,
                    ended,
                    true,
                    state.ReturnedMembers.Contains(member) ? "it was returned by itself"
                        : Abandoned(state, member) is { } begun
                            ? $"it was left out while its node did not answer; '{begun}' was begun there and may have "
                                + "gone on"
                        : "it was left out"
                )
            );
        foreach (var owed in state.Owed ?? [])
            found.Add(
                new FollowUp(
                    $"restart {owed.Member}",
                    $"put {owed.Installed} into effect: {owed.By}",
                    owed.Member,
                    null,
                    ended + Later,
                    false,
                    $"it runs {owed.Running} still"
                )
            );
        foreach (var decided in state.Decisions.Where(d => d is { Decision: DecisionKind.Skip, Step: not null }))
            found.Add(
                new FollowUp(
                    $"skipped {decided.Step}",
                    $"see whether it can do without: {state.Plan.Step(decided.Step!).Title}",
                    state.Plan.Step(decided.Step!).Member,
                    decided.By,
                    ended + Later,
                    false,
                    $"it was skipped: {decided.Reason}"
                )
            );
        foreach (var d in state.Comparison?.Differences.Where(d => !d.Borne) ?? [])
            found.Add(
                new FollowUp(
                    $"differs {d.Member} {d.Ask}",
                    $"find out why {d.Ask} {d.What}",
                    d.Member,
                    null,
                    ended,
                    true,
                    state.DifferencesAccepted ? "it was accepted as it is" : "it was told"
                )
            );
        foreach (var measure in state.Measures)
            found.Add(
                new FollowUp(
                    $"measure {measure}",
                    $"take back: {state.Plan.Step(measure).Title}",
                    state.Plan.Step(measure).Member,
                    null,
                    ended,
                    true,
                    "a temporary measure is open"
                )
            );
        foreach (var kept in state.Kept)
            found.Add(
                new FollowUp(
                    $"kept {kept.Step}",
                    $"take back when it can be: {state.Plan.Step(kept.Step).Title}",
                    state.Plan.Step(kept.Step).Member,
                    kept.Owner ?? kept.By,
                    ended + Later,
                    false,
                    kept.Why
                )
            );
        if (state.End == RunEnd.StoppedHere)
            foreach (
                var move in state.Plan.Moves.Where(m =>
                    !done.Contains(m.Number)
                    && state.Plan.Blocks.Any(b => b.Move == m.Number && b.Number <= state.CurrentBlock)
                )
            )
                found.Add(
                    new FollowUp(
                        $"mixed {move.Number}",
                        $"go on with or return from: {move.Words}",
                        move.Component,
                        state.By,
                        ended + Later,
                        false,
                        "the run was stopped in the middle of it"
                    )
                );
        foreach (
            var points in state
                .Points.Values.Where(p => p.LeadsBack || p.State == PointState.GivingUp)
                .GroupBy(p => p.Planned.Component)
                .OrderBy(g => g.Key, StringComparer.Ordinal)
        )
            found.Add(
                new FollowUp(
                    $"points {points.Key}",
                    $"say whether its rollback points may go: {points.Count()}, "
                        + $"{Expressions.Units.WriteBytes(points.Sum(p => (double)p.Bytes))}",
                    points.Key,
                    null,
                    ended + Later,
                    false,
                    "they take room until somebody gives them up"
                )
            );
        return [.. found.DistinctBy(f => f.Id).OrderByDescending(f => f.Urgent).ThenBy(f => f.Due)];
    }

    // What was begun on a member whose node did not answer any more.
    private static string? Abandoned(RunState state, string member) =>
        state
            .Abandoned.Values.Where(a => state.Plan.LaneOf(a.Step).Subject == member)
            .Select(a => state.Plan.Step(a.Step).Title)
            .FirstOrDefault();
}
