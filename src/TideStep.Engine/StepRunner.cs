using System.Collections.Concurrent;
using System.Text.Json;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Engine;

/// <summary>Carries one step: probe, intent, effect, outcome, verification (4-execution). It can begin at any of these, wherever an earlier owner ended.</summary>
internal sealed class StepRunner(RunContext context, RunLog log)
{
    private static readonly TimeSpan StartWithin = TimeSpan.FromSeconds(60);
    private const int TailLength = 2000;

    private readonly ConcurrentDictionary<string, Task> _fenced = new();

    /// <summary>The output so far of attempts that still run.</summary>
    public ConcurrentDictionary<string, string> Live { get; } = new();

    public async Task RunAsync(PlanStep step, CancellationToken ct)
    {
        var state = log.Look(s => s.Of(step.Id));
        if (state.Status == StepStatus.Pending) await log.AppendAsync(new StepBegun(step.Id));
        if (step.Do is PersonAction) return;
        if (step.Do is AwaitAction wait) { await AwaitAsync(step, wait.Holds, ct); return; }
        try { await EffectAsync(step, ct); }
        catch (ConnectorException e) { await FailAsync(step, e.Problem.ToString()); }
    }

    /// <summary>Every node is fenced again before anything else is asked of it.</summary>
    public void ForgetFences() => _fenced.Clear();

    private Task FailAsync(PlanStep step, string why) => log.AppendAsync(new StepFailed(step.Id, why));

    private async Task EffectAsync(PlanStep step, CancellationToken ct)
    {
        var failures = 0;
        while (true)
        {
            var state = log.Look(s => s.Of(step.Id));
            var last = state.Attempts.LastOrDefault(a => !a.Undo);
            if (last is { End: null })
            {
                if (await SettleAsync(step, last, ct)) continue; // never ran, or harmless to repeat: another attempt may begin
            }
            else if (last is not { End: AttemptEnd.Succeeded } || failures > 0)
            {
                if (step.Already is { } already && await ProbeOnceAsync(step, "already", already, ct))
                {
                    if (await VerifyAsync(step, ct)) await log.AppendAsync(new StepDone(step.Id, DoneHow.Already));
                    return;
                }
                await AttemptAsync(step, state.Attempts.Length + 1, undo: false, ct);
            }
            var ended = log.Look(s => s.Of(step.Id)).Attempts.Last(a => !a.Undo);
            if (ended.End is AttemptEnd.Succeeded || (ended.End is AttemptEnd.Restarted && step.Do is RestartAction { Service: null }))
            {
                if (step.Point is not null && !await CaptureAsync(step, ended, ct)) return;
                if (await VerifyAsync(step, ct)) await log.AppendAsync(new StepDone(step.Id, DoneHow.Done));
                return;
            }
            if (++failures < step.Attempts.Times && ended.End is AttemptEnd.Failed)
            {
                await Task.Delay(context.Settings.Real(step.Attempts.Every), context.Time, ct);
                continue;
            }
            await FailAsync(step, Explain(step, ended));
            return;
        }
    }

    private static string Explain(PlanStep step, AttemptState ended) => ended.End switch
    {
        AttemptEnd.Failed => $"{step.Title} on {step.Node} ended with status {ended.ExitCode}: {LastLine(ended.Output)}",
        AttemptEnd.Refused => $"{step.Node} refused {step.Title}: {ended.Output}",
        AttemptEnd.Restarted => $"{step.Node} restarted while {step.Title} ran; whether it took effect is not known",
        _ => $"{step.Node} has no record of how {step.Title} ended; whether it took effect is not known",
    };

    private static string LastLine(string output) => output.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).LastOrDefault() ?? "no output";

    /// <summary>Raises our epoch on a node once, before anything else is asked of it; a node that has seen more than we have stops the step.</summary>
    private async Task FenceAsync(PlanStep step, bool patient, CancellationToken ct)
    {
        var began = context.Time.GetTimestamp();
        while (true)
        {
            try { await FenceOnceAsync(step, ct); return; }
            catch (ConnectorException e) when (patient && !e.Lasting && context.Time.GetElapsedTime(began) <= context.Settings.RealLimit(EngineSettings.ContactPatience)) { /* absent for now: nothing has begun, so waiting harms nothing */ }
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    private async Task FenceOnceAsync(PlanStep step, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        var raising = _fenced.GetOrAdd(step.Node, _ => RaiseAsync());
        try { await raising; }
        catch { _fenced.TryRemove(step.Node, out _); throw; }

        async Task RaiseAsync()
        {
            var position = await context.Journal.LastPositionAsync(ct);
            var seen = await context.Reader.ConnectorOf(node).RaiseAsync(node, context.Installation, log.Epoch, position, ct);
            if (seen.Epoch > log.Epoch) throw new ConnectorException(new($"{node.Id} has seen epoch {seen.Epoch}; this run has {log.Epoch}", "another owner has the run, or the database was set back", "Stop this service and look at which one owns the run."), lasting: true);
            if (seen.Position > position) throw new ConnectorException(new($"{node.Id} knows journal position {seen.Position}; this database ends at {position}", "the database was set back to an older copy", "Bring the newer database back, or read every node concerned before going on."), lasting: true);
        }
    }

    private async Task AttemptAsync(PlanStep step, int number, bool undo, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        var action = FarActions.Of(undo ? step.Undo! : step.Do, step.Point, context.Settings);
        await FenceAsync(step, patient: true, ct);
        var id = context.NewAttempt();
        await log.AppendAsync(new Intended(step.Id, id, number, step.Node, undo));
        var position = await context.Journal.LastPositionAsync(ct);
        string? refused;
        try
        {
            refused = await context.Reader.ConnectorOf(node).BeginAsync(node, new FencedAttempt(context.Installation, id, log.Epoch, position, StartWithin, step.Member[..step.Member.IndexOf('/')], action), ct);
        }
        catch (ConnectorException e) when (!e.Lasting) { refused = null; } // it may have begun: its record tells
        if (refused is not null) { await EndAsync(step, id, AttemptEnd.Refused, null, refused, undo); return; }
        await FollowAsync(step, log.Look(s => s.Of(step.Id)).Attempts.Last(a => a.Id == id), ct);
    }

    /// <summary>Waits for an attempt's end by its record. A limit that passes makes it overdue, never done or failed; it is still followed.</summary>
    private async Task FollowAsync(PlanStep step, AttemptState attempt, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        var connector = context.Reader.ConnectorOf(node);
        var limit = context.Time.GetTimestamp();
        var overdue = attempt.Overdue;
        var unknown = 0;
        while (true)
        {
            AttemptReading? reading = null;
            try
            {
                await FenceAsync(step, patient: false, ct);
                reading = await connector.StatusAsync(node, context.Installation, attempt.Id, TimeSpan.FromSeconds(1), ct);
            }
            catch (ConnectorException e) when (!e.Lasting) { /* absent: expected during a restart, and overdue when its time is up */ }
            switch (reading?.Phase)
            {
                case AttemptPhase.Ended:
                    await EndAsync(step, attempt.Id, reading.ExitCode == 0 ? AttemptEnd.Succeeded : AttemptEnd.Failed, reading.ExitCode, reading.Output, attempt.Undo);
                    return;
                case AttemptPhase.Restarted:
                    await EndAsync(step, attempt.Id, AttemptEnd.Restarted, null, reading.Output, attempt.Undo);
                    return;
                case AttemptPhase.Lost or AttemptPhase.Torn:
                    await EndAsync(step, attempt.Id, AttemptEnd.Lost, null, reading.Output, attempt.Undo);
                    return;
                case AttemptPhase.Unknown when ++unknown > 1:
                    // Our epoch is raised there, so what is not known by now can never begin.
                    await EndAsync(step, attempt.Id, AttemptEnd.Refused, null, "the node has no record of it: it never ran", attempt.Undo);
                    return;
                case AttemptPhase.Running:
                    Live[attempt.Id] = reading.Output;
                    break;
            }
            if (!overdue && context.Time.GetElapsedTime(limit) > context.Settings.RealLimit(step.Limit))
            {
                overdue = true;
                await log.AppendAsync(new AttemptOverdue(step.Id, attempt.Id), new StepFailed(step.Id, $"{step.Title} on {step.Node} is overdue: no end after {Core.Documents.Durations.Write(step.Limit)}; it is still followed"));
            }
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    private async Task EndAsync(PlanStep step, string attempt, AttemptEnd end, int? code, string output, bool undo)
    {
        Live.TryRemove(attempt, out _);
        if (output.Length > TailLength) await context.Journal.SaveOutputAsync(log.Run, attempt, output, CancellationToken.None);
        await log.AppendAsync(new AttemptEnded(step.Id, attempt, end, code, output.Length > TailLength ? "…" + output[^TailLength..] : output, undo));
    }

    /// <summary>Settles an attempt that an earlier owner left open: its record first, then the probe, then whether it may be repeated. True where another attempt may begin.</summary>
    private async Task<bool> SettleAsync(PlanStep step, AttemptState open, CancellationToken ct)
    {
        await FollowAsync(step, open, ct);
        var ended = log.Look(s => s.Of(step.Id)).Attempts.Last(a => a.Id == open.Id);
        switch (ended.End)
        {
            case AttemptEnd.Refused:
                return true;
            case AttemptEnd.Lost:
            case AttemptEnd.Restarted when step.Do is not RestartAction { Service: null }:
                if (step.Already is { } already && await ProbeOnceAsync(step, "already", already, ct)) return true; // the next round finds it done
                return step.Repeatable;
            default:
                return false;
        }
    }

    private async Task<bool> ProbeOnceAsync(PlanStep step, string purpose, Expression expression, CancellationToken ct)
    {
        var probe = await ProbeAsync(step, expression, ct);
        for (var began = context.Time.GetTimestamp(); probe.Absent && context.Time.GetElapsedTime(began) <= context.Settings.RealLimit(EngineSettings.ContactPatience); probe = await ProbeAsync(step, expression, ct))
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        await log.AppendAsync(new Probed(step.Id, purpose, probe.Holds, probe.Why));
        return probe.Holds;
    }

    private Task<Probe> ProbeAsync(PlanStep step, Expression expression, CancellationToken ct) =>
        context.Reader.ProbeAsync(context.Estate, context.Catalogue, context.Estate.FindMember(step.Member)!, expression, step, ct);

    private async Task<bool> VerifyAsync(PlanStep step, CancellationToken ct)
    {
        if (step.Verify is not { } verify) return true;
        var (holds, why) = await UntilAsync(step, "verify", verify, step.VerifyWithin, ct);
        if (!holds) await FailAsync(step, $"{step.Title} on {step.Node}: not so within {Core.Documents.Durations.Write(step.VerifyWithin)}: {verify.Text} ({why})");
        return holds;
    }

    private async Task AwaitAsync(PlanStep step, Expression expression, CancellationToken ct)
    {
        var (holds, why) = await UntilAsync(step, "await", expression, step.Limit, ct);
        if (holds) await log.AppendAsync(new StepDone(step.Id, DoneHow.Done));
        else await FailAsync(step, $"{step.Member}: not so within {Core.Documents.Durations.Write(step.Limit)}: {expression.Text} ({why})");
    }

    // Only a change of the answer is an entry: a wait of an hour leaves a handful of them.
    private async Task<(bool, string)> UntilAsync(PlanStep step, string purpose, Expression expression, TimeSpan within, CancellationToken ct)
    {
        var began = context.Time.GetTimestamp();
        string? said = null;
        while (true)
        {
            var (holds, why, absent) = await ProbeAsync(step, expression, ct);
            if (holds || why != said) await log.AppendAsync(new Probed(step.Id, purpose, holds, why));
            said = why;
            var patience = absent && step.Do is not AwaitAction && within < EngineSettings.ContactPatience ? EngineSettings.ContactPatience : within;
            if (holds || context.Time.GetElapsedTime(began) > context.Settings.RealLimit(patience)) return (holds, why);
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    private sealed record CaptureAnswer(string Place, long Bytes, string Sha256, int Entries);

    /// <summary>Journals a capture and has the far side read it again; the run does not go on without a point that is whole.</summary>
    private async Task<bool> CaptureAsync(PlanStep step, AttemptState ended, CancellationToken ct)
    {
        if (log.Look(s => s.Points.GetValueOrDefault(step.Point!)) is not { } point)
        {
            CaptureAnswer? answer = null;
            try { answer = JsonSerializer.Deserialize<CaptureAnswer>(LastLine(ended.Output), Core.Documents.Json.Options); } catch (JsonException) { /* said below */ }
            if (answer is not { Place.Length: > 0, Sha256.Length: > 0 }) { await FailAsync(step, $"{step.Title} on {step.Node} did not say what it captured: {LastLine(ended.Output)}"); return false; }
            await log.AppendAsync(new PointCaptured(step.Id, step.Point!, answer.Place, answer.Bytes, answer.Sha256, answer.Entries));
            point = log.Look(s => s.Points[step.Point!]);
        }
        if (point.Verified is not null) return true;
        var (whole, why) = await CheckPointAsync(step, point, ct);
        if (whole) await log.AppendAsync(new PointVerified(step.Point!, why));
        else await FailAsync(step, $"the rollback point {step.Point} is not whole: {why}");
        return whole;
    }

    // Reading a point again changes nothing, so it needs no intent; its record has a name of its own.
    private async Task<(bool Whole, string Why)> CheckPointAsync(PlanStep step, PointState point, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        var connector = context.Reader.ConnectorOf(node);
        var id = context.NewAttempt();
        var position = await context.Journal.LastPositionAsync(ct);
        var check = new FencedAttempt(context.Installation, id, log.Epoch, position, StartWithin, step.Member[..step.Member.IndexOf('/')], new FarAction("check-point", [point.Place, point.Sha256]));
        await FenceAsync(step, patient: true, ct);
        if (await connector.BeginAsync(node, check, ct) is { } refused) return (false, refused);
        while (true)
        {
            var reading = await connector.StatusAsync(node, context.Installation, id, TimeSpan.FromSeconds(1), ct);
            if (reading.Phase == AttemptPhase.Ended) return (reading.ExitCode == 0, LastLine(reading.Output));
            if (reading.Phase != AttemptPhase.Running) return (false, $"the check has no end: {reading.Phase}");
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    /// <summary>Takes a temporary measure back; true when it is.</summary>
    public async Task<bool> TakeBackAsync(PlanStep step, CancellationToken ct)
    {
        try
        {
            if (log.Look(s => s.Of(step.Id)).Attempts.LastOrDefault(a => a.Undo) is { End: null } open) await FollowAsync(step, open, ct);
            else if (log.Look(s => s.Of(step.Id)).Attempts.LastOrDefault(a => a.Undo) is not { End: AttemptEnd.Succeeded }) await AttemptAsync(step, log.Look(s => s.Of(step.Id)).Attempts.Length + 1, undo: true, ct);
        }
        catch (ConnectorException e) when (!e.Lasting) { return false; }
        if (log.Look(s => s.Of(step.Id)).Attempts.LastOrDefault(a => a.Undo) is not { End: AttemptEnd.Succeeded }) return false;
        await log.AppendAsync(new MeasureTakenBack(step.Id));
        return true;
    }
}
