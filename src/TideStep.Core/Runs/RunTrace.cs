using System.Collections.Immutable;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>A step that may have made rollback points of other runs lead nowhere.</summary>
/// <param name="Step">Which step it is in words: its title and its node.</param>
/// <param name="Member">The member that it was done for.</param>
/// <param name="Voids">What it voids, as the plan has it.</param>
/// <param name="Begun">When it was last begun.</param>
public sealed record VoidingStep(string Step, string Member, ImmutableArray<string> Voids, DateTimeOffset Begun);

/// <summary>What a run leaves that is asked for over all runs: its points and what it did to those of others, and what
/// it left to be done. It is a hundredth of the run's state, and can be kept as a row.</summary>
/// <param name="LeadsBack">The run that this one returns, by its plan; null where it is no return.</param>
/// <param name="Used">The points of that run that it brought back whole.</param>
public sealed record RunTrace(
    string Label,
    DateTimeOffset OpenedAt,
    DateTimeOffset? EndedAt,
    DateTimeOffset LastAt,
    RunEnd? End,
    string? LeadsBack,
    string? LedBackBy,
    ImmutableArray<PointState> Points,
    ImmutableArray<VoidingStep> Voiding,
    ImmutableArray<string> Used,
    ImmutableArray<FollowUp> FollowUps,
    ImmutableSortedDictionary<string, string> Before,
    ImmutableSortedDictionary<string, string> After
)
{
    /// <summary>The trace of a run as it stands.</summary>
    public static RunTrace Of(RunState state)
    {
        var steps = state.Plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).ToList();
        return new RunTrace(
            state.Label,
            state.OpenedAt ?? state.LastAt,
            state.EndedAt,
            state.LastAt,
            state.End,
            state.Plan.Kind == Plan.Return ? state.Plan.Parent : null,
            state.LedBackBy,
            [.. state.Points.Values],
            [.. steps.Select(s => Voids(s, state)).OfType<VoidingStep>()],
            [
                .. steps
                    .Where(s => s.Uses is not null)
                    .GroupBy(s => s.Uses!)
                    .Where(g => g.All(s => state.Of(s.Id).Status == StepStatus.Done))
                    .Select(g => g.Key),
            ],
            Runs.FollowUps.Of(state),
            state.Before,
            state.After
        );
    }

    private static VoidingStep? Voids(PlanStep step, RunState state)
    {
        if (step.Voids is not { } voids)
            return null;
        var begun = state
            .Of(step.Id)
            .Attempts.Where(a => !a.Undo && a.End is not AttemptEnd.Refused)
            .Select(a => (DateTimeOffset?)a.Begun)
            .Max();
        return begun is { } at ? new VoidingStep($"{step.Title} on {step.Node}", step.Member, voids, at) : null;
    }
}
