using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;
using TideStep.Core.Returns;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>The way back of a run, as what is there now leaves it.</summary>
public sealed class WayBack(EstateDesk estates, RunStates states, Action<string, Exception> log)
{
    /// <summary>Why the way back of a run is closed; null where it is open. Readings of before the run may be why it
    /// seems closed: then what is there now is read first.</summary>
    public async Task<string?> ClosedAsync(string run, CancellationToken ct)
    {
        try
        {
            return await WhyClosedAsync(run, ct);
        }
        catch (Exception e)
            when (e
                    is not (
                        OperationCanceledException
                        or StoreUnavailableException
                        or StaleOwnerException
                        or IOException
                    )
            )
        {
            // A run goes on only where it is known that it can return; and an error of ours is not asked for ever.
            log($"whether the way back of run {run} is open could not be told", e);
            return $"it could not be told: {e.Message}";
        }
    }

    private async Task<string?> WhyClosedAsync(string run, CancellationToken ct)
    {
        if (await states.StateAsync(run, ct) is not { } state || (await PlanAsync(run, state, null, ct)).Ok)
            return null;
        await SurveyComponentsAsync(state, state.By, ct);
        var plan = await PlanAsync(run, state, null, ct);
        return plan.Ok ? null : string.Join("; ", plan.Problems.Select(p => p.What));
    }

    /// <summary>Reads again what the components of a run's plan run, and what their members tell.</summary>
    public async Task SurveyComponentsAsync(RunState state, string by, CancellationToken ct)
    {
        if (await estates.CurrentEstateAsync(ct) is { } estate)
            await estates.SurveyAsync(
                by,
                new SurveyScope
                {
                    Nodes = state
                        .Plan.Components.Select(c => estate.Find(c))
                        .OfType<Component>()
                        .SelectMany(c => c.Members)
                        .Select(m => m.Node)
                        .ToHashSet(),
                },
                ct
            );
    }

    /// <summary>The plan that leads a run back: to its start, or as far as the beginning of a move (<c>move
    /// 2</c>).</summary>
    /// <param name="useless">The run's points that lead nowhere any more.</param>
    public async Task<Checked<Plan>> PlanAsync(
        string run,
        RunState state,
        string? asFarAs,
        CancellationToken ct,
        string? only = null,
        IReadOnlySet<string>? useless = null
    )
    {
        if (await estates.IndexAsync(ct) is not { } index)
            return new Checked<Plan>(null, [EstateDesk.NoEstate]);
        var move = 1;
        if (
            asFarAs is not (null or "" or "start")
            && !(
                asFarAs.StartsWith("move ", StringComparison.Ordinal)
                && int.TryParse(asFarAs[5..], out move)
                && move >= 1
                && move <= state.Plan.Moves.Length
            )
        )
            return new Checked<Plan>(
                null,
                [
                    new Problem(
                        $"'{asFarAs}' is nothing that can be returned to",
                        null,
                        $"Write start, or move 1 to move {state.Plan.Moves.Length}."
                    ),
                ]
            );
        var (estate, catalogue) = await estates.RevisionsAsync(ct);
        return ReturnPlanner.Make(index, run, state, move, estate, catalogue, only, useless);
    }
}
