using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;

namespace TideStep.Engine.Steps;

/// <summary>Asks far sides what a step wants to know: whether it is done already, whether what it did is so, whether
/// what it waits for has come.</summary>
internal sealed class StepProof(RunContext context, RunLog log)
{
    public async Task<Probed> ProbeOnceAsync(PlanStep step, string purpose, Expression expression, CancellationToken ct)
    {
        var probe = await ProbeAsync(step, expression, ct);
        for (
            var began = context.Time.GetTimestamp();
            probe.Absent
                && context.Time.GetElapsedTime(began) <= context.Settings.RealLimit(EngineSettings.ContactPatience);
            probe = await ProbeAsync(step, expression, ct)
        )
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        return new Probed(step.Id, purpose, probe.Holds, probe.Why);
    }

    private Task<Probe> ProbeAsync(PlanStep step, Expression expression, CancellationToken ct) =>
        context.Reader.ProbeAsync(
            context.Estate,
            context.Catalogue,
            context.Estate.FindMember(step.Member)!,
            expression,
            step,
            ct
        );

    /// <summary>Verifies an effect; what was probed and the step's end are one append, so that an owner that ends
    /// between the two loses nothing.</summary>
    /// <param name="fails">Whether the step has failed where it does not hold; else that is only journaled.</param>
    public async Task<bool> VerifyAsync(
        PlanStep step,
        DoneHow how,
        IEnumerable<RunEvent> before,
        CancellationToken ct,
        bool fails = true
    )
    {
        if (step.Verify is not { } verify)
        {
            await log.AppendAsync([.. before, new StepDone(step.Id, how)]);
            return true;
        }
        var last = await UntilAsync(step, "verify", verify, step.VerifyWithin, ct);
        if (!last.Holds && !fails)
        {
            await log.AppendAsync([.. before, last]);
            return false;
        }
        await log.AppendAsync([
            .. before,
            last,
            last.Holds
                ? new StepDone(step.Id, how)
                : new StepFailed(
                    step.Id,
                    $"{step.Title} on {step.Node}: not so within "
                        + $"{Core.Documents.Durations.Write(step.VerifyWithin)}: {verify.Text} ({last.Why})"
                ),
        ]);
        return last.Holds;
    }

    public async Task AwaitAsync(PlanStep step, Expression expression, CancellationToken ct)
    {
        var watch =
            log.Look(s => Reversion.MayBe(step, s))
            && ExpressionParser.TryParse($"running = \"{step.From}\"", out _, out _) is { } before
                ? new Watchdog(before, null)
                : null;
        var last = await UntilAsync(step, "await", expression, step.Limit, ct, watch);
        if (!last.Holds && watch is { Went: true })
            await log.AppendAsync(
                last,
                new MemberReverted(step.Id, step.Member, step.From!),
                new StepFailed(
                    step.Id,
                    $"{step.Member} went back to {step.From} by itself: it was restarted for {step.To} and "
                        + $"runs {step.From} again"
                )
            );
        else
            await log.AppendAsync(
                last,
                last.Holds
                    ? new StepDone(step.Id, DoneHow.Done)
                    : new StepFailed(
                        step.Id,
                        $"{step.Member}: not so within {Core.Documents.Durations.Write(step.Limit)}: "
                            + $"{expression.Text} ({last.Why})"
                    )
            );
    }

    // Only a change of the answer is an entry: a wait of an hour leaves a handful of them. The last answer is for the
    // caller to append.
    private async Task<Probed> UntilAsync(
        PlanStep step,
        string purpose,
        Expression expression,
        TimeSpan within,
        CancellationToken ct,
        Watchdog? watch = null
    )
    {
        var began = context.Time.GetTimestamp();
        string? said = null;
        while (true)
        {
            var (holds, why, absent) = await ProbeAsync(step, expression, ct);
            var patience =
                absent && step.Do is not AwaitAction && within < EngineSettings.ContactPatience
                    ? EngineSettings.ContactPatience
                    : within;
            if (!holds && !absent && watch is not null && await WentBackAsync(step, watch, ct))
                return new Probed(step.Id, purpose, false, why);
            if (holds || context.Time.GetElapsedTime(began) > context.Settings.RealLimit(patience))
                return new Probed(step.Id, purpose, holds, why);
            if (why != said)
                await log.AppendAsync(new Probed(step.Id, purpose, holds, why));
            said = why;
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    /// <summary>What tells that a member went back by itself, and since when it does.</summary>
    private sealed record Watchdog(Expression Before, long? Since)
    {
        public long? Since { get; set; } = Since;
        public bool Went { get; set; }
    }

    // Read once it may still be about to switch; for a while it has gone back, and waiting longer helps nothing.
    private async Task<bool> WentBackAsync(PlanStep step, Watchdog watch, CancellationToken ct)
    {
        if (!(await ProbeAsync(step, watch.Before, ct)).Holds)
        {
            watch.Since = null;
            return false;
        }
        watch.Since ??= context.Time.GetTimestamp();
        return watch.Went = context.Time.GetElapsedTime(watch.Since.Value) >= context.Settings.Real(Reversion.After);
    }
}
