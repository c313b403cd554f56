using System.Text.Json;
using TideStep.Core.Catalogue;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Points;
using TideStep.Engine.Runs;

namespace TideStep.Engine.Steps;

/// <summary>Journals the rollback points that steps capture, each once its far side has said that it is there and
/// whole.</summary>
internal sealed class StepCapture(RunContext context, RunLog log, NodeFence fence)
{
    private Task FailAsync(PlanStep step, string why) => log.AppendAsync(new StepFailed(step.Id, why));

    private sealed record CaptureAnswer(string Place, long Bytes, string Sha256, int Entries);

    /// <summary>Journals a capture and has the far side read it again; the run does not go on without a point that is
    /// whole.</summary>
    public async Task<bool> CaptureAsync(PlanStep step, AttemptState ended, CancellationToken ct)
    {
        if (step.Do is CaptureAction { Kept: { } kept })
            return await KeptAsync(step, kept, ct);
        if (log.Look(s => s.Points.GetValueOrDefault(step.Point!)) is not { } point)
        {
            CaptureAnswer? answer = null;
            try
            {
                answer = JsonSerializer.Deserialize<CaptureAnswer>(
                    StepRunner.LastLine(ended.Output),
                    Core.Documents.Json.Options
                );
            }
            catch (JsonException)
            { /* said below */
            }
            if (answer is not { Place.Length: > 0, Sha256.Length: > 0 })
            {
                await FailAsync(
                    step,
                    $"{step.Title} on {step.Node} did not say what it captured: {StepRunner.LastLine(ended.Output)}"
                );
                return false;
            }
            await log.AppendAsync(
                new PointCaptured(step.Id, step.Point!, answer.Place, answer.Bytes, answer.Sha256, answer.Entries)
            );
            point = log.Look(s => s.Points[step.Point!]);
        }
        if (point.Verified is not null)
            return true;
        var (whole, why) = await new PointWork(context, log, fence).CheckAsync(
            point,
            step.Do is CaptureAction c ? c.Paths : [],
            ct
        );
        if (whole)
            await log.AppendAsync(new PointVerified(step.Point!, why));
        else
            await FailAsync(step, $"the rollback point {step.Point} is not whole: {why}");
        return whole;
    }

    /// <summary>Journals a point that the far side keeps itself, once it says that it is there and whole; what it takes
    /// it may take its time for.</summary>
    public async Task<bool> KeptAsync(PlanStep step, KeptPoint kept, CancellationToken ct)
    {
        if (log.Look(s => s.Points.GetValueOrDefault(step.Point!)) is { Verified: not null })
            return true;
        var (planned, name, began) = (
            log.Look(s => s.Plan.Points.First(p => p.Id == step.Point)),
            NameOf(step)!,
            context.Time.GetTimestamp()
        );
        var within =
            step.VerifyWithin > EngineSettings.ContactPatience ? step.VerifyWithin : EngineSettings.ContactPatience;
        while (true)
        {
            var (whole, why, bytes) = await new PointWork(context, log, fence).LookAsync(planned, kept, name, ct);
            if (whole)
            {
                await log.AppendAsync(
                    new PointCaptured(step.Id, planned.Id, name, bytes, "", 0),
                    new PointVerified(planned.Id, why)
                );
                return true;
            }
            if (context.Time.GetElapsedTime(began) > context.Settings.RealLimit(within))
            {
                await FailAsync(step, $"the rollback point {step.Point}: {why}");
                return false;
            }
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    // Captures of several runs lie side by side.
    public string? NameOf(PlanStep step) => step.Point is { } point ? $"{point}-{log.Run}" : null;
}
