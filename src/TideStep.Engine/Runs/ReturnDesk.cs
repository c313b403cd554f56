using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Points;
using TideStep.Engine.Surveys;

namespace TideStep.Engine.Runs;

/// <summary>Leads runs back that have ended: the morning after, as long as their rollback points serve.</summary>
public sealed class ReturnDesk(RunDesk runs, EstateDesk estates, PointDesk points, MemberReader reader)
{
    /// <summary>The return path of a run from where it stands, at work or ended.</summary>
    public async Task<Checked<Plan>> PlanAsync(string run, RunState state, string? asFarAs, CancellationToken ct)
    {
        if (state.End is not null && Orders.ReturnEnded(state) is { } refused)
            return new Checked<Plan>(null, [refused]);
        return await runs.WayBack.PlanAsync(
            run,
            state,
            asFarAs,
            ct,
            useless: state.End is null ? null : await points.UselessAsync(run, ct)
        );
    }

    /// <summary>Opens and starts the return of a run that has ended.</summary>
    /// <param name="reason">Why; it stands in the journal of the return.</param>
    /// <returns>The run that leads back, or why nothing was begun.</returns>
    public async Task<(string? Run, ImmutableArray<Problem> Problems)> StartAsync(
        string run,
        string? asFarAs,
        string reason,
        string by,
        CancellationToken ct
    )
    {
        if (await runs.StateAsync(run, ct) is not { } state)
            return (null, [RunDesk.NoRun(run)]);
        if (Orders.ReturnEnded(state) is { } refused)
            return (null, [refused]);
        if (string.IsNullOrWhiteSpace(reason))
            return (null, [new Problem("a return needs a reason", null, "Say why; it stands in the journal.")]);
        // Who leads, and what runs, is as it is now, not as it was at the run's end.
        await runs.WayBack.SurveyComponentsAsync(state, by, ct);
        if (await estates.IndexAsync(ct) is not { } index)
            return (null, [EstateDesk.NoEstate]);
        var plan = await PlanAsync(run, state, asFarAs, ct);
        if (!plan.Ok)
            return (null, plan.Problems);
        if (plan.Value!.Blocks.IsEmpty)
            return (null, [new Problem("there is nothing to lead back from here", null, "See 'tidestep run show'.")]);
        var before = await reader.RunningAsync(
            index.Estate,
            index.Catalogue,
            plan.Value.Premises.Running.Keys.Select(m => index.Estate.FindMember(m)).OfType<Member>(),
            ct
        );
        var strayed = Strayed(run, state, before);
        return strayed.IsEmpty
            ? await runs.StartReturnAsync(run, state, plan.Value, before, reason, by, ct)
            : (null, strayed);
    }

    // The path leads from where the run left its members; one that was changed since stands elsewhere.
    private static ImmutableArray<Problem> Strayed(
        string run,
        RunState state,
        ImmutableSortedDictionary<string, string> found
    ) =>
        [
            .. found
                .Where(f => state.After.TryGetValue(f.Key, out var left) && left != f.Value)
                .Select(f => new Problem(
                    $"{f.Key} runs {f.Value}, run {run} left it at {state.After[f.Key]}",
                    null,
                    f.Value == "unreachable"
                        ? "Look at the node; every member concerned has to be readable."
                        : "What was done since has to be led back first."
                )),
        ];
}
