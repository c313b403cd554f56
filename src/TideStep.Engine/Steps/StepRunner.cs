using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Text.Json;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;

namespace TideStep.Engine.Steps;

/// <summary>Carries one step: probe, intent, effect, outcome, verification (4-execution). It can begin at any of these,
/// wherever an earlier owner ended.</summary>
internal sealed class StepRunner(RunContext context, RunLog log, NodeFence fence)
{
    private static readonly TimeSpan StartWithin = TimeSpan.FromSeconds(60);

    /// <summary>How long a call may stay with the far side for an attempt's end.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(1);

    /// <summary>How long a command that was stopped may take to end before that needs a decision.</summary>
    private static readonly TimeSpan StopWithin = TimeSpan.FromMinutes(2);
    private const int UnheardTries = 20;
    private const int TailLength = 2000;

    private readonly StepProof _proof = new(context, log);
    private readonly HiddenSecrets _hidden = new(context, log);
    private readonly StepCapture _captures = new(context, log, fence);

    /// <summary>The output so far of attempts that still run.</summary>
    public ConcurrentDictionary<string, string> Live { get; } = new();

    public async Task RunAsync(PlanStep step, CancellationToken ct)
    {
        var state = log.Look(s => s.Of(step.Id));
        if (state.Status == StepStatus.Pending)
            await log.AppendAsync(new StepBegun(step.Id));
        if (step.Do is PersonAction)
            return;
        if (log.Look(s => RunBinding.StoodStill(step, s)))
        {
            await log.AppendAsync(new StepDone(step.Id, DoneHow.Already));
            return;
        }
        if (state.Marked)
        {
            await _proof.VerifyAsync(step, DoneHow.Marked, [], ct);
            return;
        }
        if (step.Do is CaptureAction { Kept: { Take: null } kept })
        {
            await KeepAsync(step, kept, ct);
            return;
        }
        if (step.Do is AwaitAction wait)
        {
            await _proof.AwaitAsync(step, wait.Holds, ct);
            return;
        }
        // An error of our own is an outcome: nothing is begun again for ever. What was begun is settled first each
        // time.
        for (var tries = 1; ; tries++)
        {
            try
            {
                await EffectAsync(step, ct);
                return;
            }
            catch (ConnectorException e)
            {
                await FailAsync(step, e.Problem.ToString());
                return;
            }
            catch (Exception e) when (IsOurOwn(e))
            {
                context.Log($"{step.Title} on {step.Node}: an error of Tide Step's own, try {tries} of {OwnErrors}", e);
                if (tries < OwnErrors)
                    continue;
                await FailAsync(
                    step,
                    $"{step.Title} on {step.Node}: an error of Tide Step's own, not of the host "
                        + $"({e.GetType().Name}: {e.Message}); the service's log has where"
                );
                return;
            }
        }
    }

    /// <summary>How often a step is taken up where it ends in an error of our own.</summary>
    private const int OwnErrors = 3;

    // Neither the store, nor the far side, nor somebody's stop: a mistake in the program.
    private static bool IsOurOwn(Exception e) =>
        e
            is NullReferenceException
                or InvalidOperationException
                or ArgumentException
                or KeyNotFoundException
                or IndexOutOfRangeException
                or InvalidCastException
                or NotSupportedException
                or NotImplementedException
                or FormatException
                or ArithmeticException
        && e is not ObjectDisposedException;

    /// <summary>Every node is fenced again before anything else is asked of it.</summary>
    public void ForgetFences() => fence.Forget();

    private Task FailAsync(PlanStep step, string why) => log.AppendAsync(new StepFailed(step.Id, why));

    private async Task EffectAsync(PlanStep step, CancellationToken ct)
    {
        var (again, unheard) = (false, 0);
        while (true)
        {
            var state = log.Look(s => s.Of(step.Id));
            if (state.Status == StepStatus.Done)
                return; // its member was left out meanwhile
            var last = state.Attempts.LastOrDefault(a => !a.Undo);
            var dealtWith = last is null || state.Attempts.IndexOf(last) < state.DealtWith;
            if (last is { End: null })
            {
                if (await SettleAsync(step, last, ct))
                {
                    again = true;
                    continue;
                } // never ran, or harmless to repeat: another attempt may begin
            }
            else if (
                !again
                && !dealtWith
                && last is { End: AttemptEnd.Refused or AttemptEnd.Lost or AttemptEnd.Restarted }
                && await MayRepeatAsync(step, last, ct)
            )
            {
                // An earlier owner ended before it had said what follows from this end.
                again = true;
                continue;
            }
            // Dealt with, another attempt is due unless the last one succeeded; by its own report it may not have.
            else if (
                again
                || (
                    dealtWith
                    && (
                        last is not { End: AttemptEnd.Succeeded }
                        || (step.Tells is { } asked && (await ToldAsync(asked, last, ct)).Wrong is not null)
                    )
                )
            )
            {
                again = false;
                var probed = step.Already is { } already
                    ? await _proof.ProbeOnceAsync(step, "already", already, ct)
                    : null;
                if (probed is { Holds: true })
                {
                    await _proof.VerifyAsync(step, DoneHow.Already, [probed], ct);
                    return;
                }
                // A call that was lost on its way and left no record never ran: it is made again.
                if (
                    await AttemptAsync(step, state.Attempts.Length + 1, undo: false, probed, ct) == Heard.Never
                    && unheard++ < UnheardTries
                )
                {
                    await Task.Delay(context.Settings.Poll, context.Time, ct);
                    again = true;
                    continue;
                }
            }
            if (log.Look(s => s.Of(step.Id).Status == StepStatus.Done))
                return;
            var ended = log.Look(s => s.Of(step.Id)).Attempts.Last(a => !a.Undo);
            if (
                ended.End is AttemptEnd.Succeeded
                || (ended.End is AttemptEnd.Restarted && step.Do is RestartAction { Service: null })
            )
            {
                // Its own report is heard first: what tells that it is not whole is no rollback point.
                var final = step.Attempts.Unverified != true || Tried(step) >= step.Attempts.Times;
                if (step.Tells is not { } tells || await HearAsync(step, tells, ended, final, ct))
                {
                    if (step.Point is not null && !await _captures.CaptureAsync(step, ended, ct))
                        return;
                    if (await _proof.VerifyAsync(step, DoneHow.Done, [], ct, final))
                        return;
                }
                if (final || !await AgainAsync(step, ct))
                    return;
                again = true;
                continue;
            }
            // Counted by the journal, so that an owner that ends in between gives no step more attempts than it has.
            var ofKind =
                ended.End is AttemptEnd.Failed && step.Attempts.TakesUp(ended.ExitCode, await OutputOfAsync(ended, ct));
            if (ofKind && Tried(step) < step.Attempts.Times)
            {
                if (!await AgainAsync(step, ct))
                    return;
                again = true;
                continue;
            }
            await FailAsync(
                step,
                Explain(step, ended)
                    + (
                        ended.End is not AttemptEnd.Failed || step.Attempts.Times == 1 ? ""
                        : ofKind ? $" (tried {step.Attempts.Times} times)"
                        : " (no failure for which it is tried again)"
                    )
            );
            return;
        }
    }

    private int Tried(PlanStep step) =>
        log.Look(s => s.Of(step.Id)) is var its
            ? its
                .Attempts.Skip(its.DealtWith)
                .Count(a => a is { Undo: false, End: AttemptEnd.Failed or AttemptEnd.Succeeded })
            : 0;

    // Another attempt, after its interval; not where it was overdue and halted the run before it failed: what follows
    // is for a person to say.
    private async Task<bool> AgainAsync(PlanStep step, CancellationToken ct)
    {
        if (log.Look(s => s.Halt is not null))
            return false;
        await Task.Delay(context.Settings.Real(step.Attempts.Every), context.Time, ct);
        return true;
    }

    private async Task<string> OutputOfAsync(AttemptState ended, CancellationToken ct) =>
        await context.Journal.FindOutputAsync(log.Run, ended.Id, ct) ?? ended.Output;

    private static string Explain(PlanStep step, AttemptState ended) =>
        ended.End switch
        {
            AttemptEnd.Failed when ended.Overdue && step.MayStop =>
                $"{step.Title} on {step.Node} was stopped, as the step allows: no end after "
                    + $"{Core.Documents.Durations.Write(step.Limit)} (status {ended.ExitCode})",
            AttemptEnd.Failed =>
                $"{step.Title} on {step.Node} ended with status {ended.ExitCode}: {TellingLine.Of(ended.Output)}",
            AttemptEnd.Refused => $"{step.Node} refused {step.Title}: {ended.Output}",
            AttemptEnd.Restarted =>
                $"{step.Node} restarted while {step.Title} ran; whether it took effect is not known",
            _ => $"{step.Node} has no record of how {step.Title} ended; whether it took effect is not known",
        };

    internal static string LastLine(string output) =>
        output.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).LastOrDefault()
        ?? "no output";

    /// <summary>Reads what a step's own output tells of its success; a number that is missing or out of bounds fails
    /// it, whatever its status was.</summary>
    /// <param name="last">Whether there is no further attempt, so that it fails.</param>
    private async Task<bool> HearAsync(
        PlanStep step,
        ImmutableArray<ToldNumber> tells,
        AttemptState ended,
        bool last,
        CancellationToken ct
    )
    {
        var (numbers, wrong) = await ToldAsync(tells, ended, ct);
        await log.AppendAsync(
            wrong is null || !last
                ? [new Told(step.Id, numbers)]
                : [new Told(step.Id, numbers), new StepFailed(step.Id, $"{step.Title} on {step.Node}: {wrong}")]
        );
        return wrong is null;
    }

    private async Task<(ImmutableSortedDictionary<string, double> Numbers, string? Wrong)> ToldAsync(
        ImmutableArray<ToldNumber> tells,
        AttemptState ended,
        CancellationToken ct
    ) => ToldNumbers.Of(tells, await OutputOfAsync(ended, ct));

    private enum Heard
    {
        Yes,
        Never,
    }

    // No second attempt before the first is known to have ended (4-execution, rule 4): what was begun there before its
    // member was left out may still be at work once the node answers again.
    private async Task AwaitAbandonedAsync(PlanStep step, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        foreach (var (attempt, begun) in log.Look(s => s.Abandoned.Where(a => a.Value.Node == step.Node).ToList()))
            for (var since = context.Time.GetTimestamp(); ; await Task.Delay(context.Settings.Poll, context.Time, ct))
            {
                var reading = await context
                    .Reader.ConnectorOf(node)
                    .StatusAsync(node, context.Installation, attempt, Patience, ct);
                if (reading.Phase != AttemptPhase.Running)
                    break;
                if (context.Time.GetElapsedTime(since) > context.Settings.RealLimit(step.Limit))
                    throw new ConnectorException(
                        new Core.Documents.Problem(
                            $"on {step.Node} '{log.Look(s => s.Plan.Step(begun.Step).Title)}' still runs, which was "
                                + "begun before its member was left out",
                            null,
                            "Wait for its end there, or end it."
                        ),
                        lasting: false
                    );
            }
    }

    // Of whom the far side knows it: of what runs on that node.
    private static string ComponentAt(PlanStep step)
    {
        var at = step.At ?? step.Member;
        return MemberId.Of(at).Component;
    }

    private async Task<Heard> AttemptAsync(PlanStep step, int number, bool undo, RunEvent? before, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        var action = FarActions.Of(
            undo ? step.Undo! : step.Do,
            _captures.NameOf(step),
            context.Settings,
            undo ? null : step.EndsWell
        );
        if (RunBinding.SecretsOf(step) is { Count: > 0 } secrets)
            context.Mask(secrets, ""); // one that is missing stops the step before its intent
        await fence.RaiseAsync(step.Node, patient: true, ct);
        await AwaitAbandonedAsync(step, ct);
        var id = context.NewAttempt();
        RunEvent intended = new Intended(step.Id, id, number, step.Node, undo);
        await log.AppendAsync(before is null ? [intended] : [before, intended]);
        var position = await context.Journal.LastPositionAsync(ct);
        var (begun, lost) = (Begun.Unread, false);
        try
        {
            begun = await context
                .Reader.ConnectorOf(node)
                .BeginAsync(
                    node,
                    new FencedAttempt(
                        context.Installation,
                        id,
                        log.Epoch,
                        position,
                        StartWithin,
                        ComponentAt(step),
                        action
                    ),
                    Patience,
                    ct
                );
        }
        catch (ConnectorException e) when (!e.Lasting)
        {
            lost = true;
        } // it may have begun: its record tells
        if (begun.Refused is { } why)
        {
            await EndAsync(step, id, AttemptEnd.Refused, null, why, undo);
            return Heard.Yes;
        }
        await FollowAsync(step, log.Look(s => s.Of(step.Id)).Attempts.Last(a => a.Id == id), begun.Reading, ct);
        return lost && log.Look(s => s.Of(step.Id)).Attempts.Last(a => a.Id == id).End == AttemptEnd.Refused
            ? Heard.Never
            : Heard.Yes;
    }

    /// <summary>Waits for an attempt's end by its record. A limit that passes makes it overdue, never done or failed;
    /// it is still followed.</summary>
    private async Task FollowAsync(PlanStep step, AttemptState attempt, AttemptReading? told, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        var connector = context.Reader.ConnectorOf(node);
        var limit = context.Time.GetTimestamp();
        var overdue = attempt.Overdue;
        var (unknown, stopped, asked) = (0, false, 0L);
        DateTimeOffset? absentSince = null;
        while (!IsSettled(step, attempt.Id))
        {
            var (reading, first) = (told, told is not null);
            told = null;
            if (!first)
                try
                {
                    await fence.RaiseAsync(step.Node, patient: false, ct);
                    reading = await connector.StatusAsync(node, context.Installation, attempt.Id, Patience, ct);
                }
                catch (ConnectorException e) when (!e.Lasting)
                { /* absent: expected during a restart, and overdue when its time is up */
                }
            absentSince = reading is not null ? null : absentSince ?? context.Time.GetUtcNow();
            await TellSilenceAsync(step, absentSince);
            if (reading is not null)
                reading = reading with { Output = _hidden.In(step, reading.Output) };
            switch (reading?.Phase)
            {
                case AttemptPhase.Ended:
                    await EndAsync(
                        step,
                        attempt.Id,
                        EndedWell(step, reading.ExitCode, attempt.Undo) ? AttemptEnd.Succeeded : AttemptEnd.Failed,
                        reading.ExitCode,
                        reading.Output,
                        attempt.Undo
                    );
                    return;
                case AttemptPhase.Restarted:
                    await EndAsync(step, attempt.Id, AttemptEnd.Restarted, null, reading.Output, attempt.Undo);
                    return;
                case AttemptPhase.Lost or AttemptPhase.Torn:
                    await EndAsync(step, attempt.Id, AttemptEnd.Lost, null, reading.Output, attempt.Undo);
                    return;
                case AttemptPhase.Unknown when !connector.KeepsRecords:
                    await EndAsync(
                        step,
                        attempt.Id,
                        AttemptEnd.Lost,
                        null,
                        "this kind of node keeps no record of what it is asked",
                        attempt.Undo
                    );
                    return;
                case AttemptPhase.Unknown when ++unknown > 1:
                    // Our epoch is raised there, so what is not known by now can never begin.
                    await EndAsync(
                        step,
                        attempt.Id,
                        AttemptEnd.Refused,
                        null,
                        "the node has no record of it: it never ran",
                        attempt.Undo
                    );
                    return;
                case AttemptPhase.Running:
                    Live[attempt.Id] = reading.Output;
                    if (ReachedBy(step, attempt.Id, reading.Output) is { Count: > 0 } reached)
                        await log.AppendAsync([.. reached]);
                    break;
            }
            if (!overdue && context.Time.GetElapsedTime(limit) > context.Settings.RealLimit(step.Limit))
            {
                overdue = true;
                if (step.MayStop)
                    await log.AppendAsync(new AttemptOverdue(step.Id, attempt.Id), new StopAsked(step.Id, attempt.Id));
                else
                    await log.AppendAsync(
                        new AttemptOverdue(step.Id, attempt.Id),
                        new StepFailed(
                            step.Id,
                            $"{step.Title} on {step.Node} is overdue: no end after "
                                + $"{Core.Documents.Durations.Write(step.Limit)}; it is still followed"
                        )
                    );
            }
            if (overdue && step.MayStop && !stopped && (stopped = await StopOverdueAsync(step, attempt.Id, ct)))
                asked = context.Time.GetTimestamp();
            if (asked != 0 && context.Time.GetElapsedTime(asked) > context.Settings.RealLimit(StopWithin))
            {
                asked = 0;
                await log.AppendAsync(
                    new StepFailed(
                        step.Id,
                        $"{step.Title} on {step.Node} is overdue and did not end when it was stopped; it is "
                            + $"still followed"
                    )
                );
            }
            await Task.Delay(context.Settings.Poll, context.Time, ct);
        }
    }

    // Somebody left its member out, with its node silent: nobody waits for its end.
    private bool IsSettled(PlanStep step, string attempt) =>
        log.Look(s => s.Of(step.Id).Attempts.Any(a => a.Id == attempt && a.End is not null));

    private static readonly TimeSpan SilentAfter = TimeSpan.FromMinutes(1);

    // Told apart from a slow step; during its own restart a node is restarting, not silent.
    private async Task TellSilenceAsync(PlanStep step, DateTimeOffset? since)
    {
        var told = log.Look(s => s.Silent.ContainsKey(step.Id));
        if (since is null)
        {
            if (told)
                await log.AppendAsync(new AnswersAgain(step.Id, step.Node));
        }
        else if (
            !told
            && step.State != MemberState.Restarting
            && context.Time.GetUtcNow() - since > context.Settings.RealLimit(SilentAfter)
        )
            await log.AppendAsync(new NotAnswering(step.Id, step.Node, since.Value));
    }

    /// <summary>Asks the far side to stop an overdue attempt's command; its end is still read from its record. False
    /// where the node could not be asked: then it is asked again.</summary>
    private async Task<bool> StopOverdueAsync(PlanStep step, string attempt, CancellationToken ct)
    {
        var node = context.Estate.Nodes[step.Node];
        try
        {
            await fence.RaiseAsync(step.Node, patient: false, ct);
            await context.Reader.ConnectorOf(node).StopAsync(node, context.Installation, attempt, log.Epoch, ct);
            return true;
        }
        catch (ConnectorException e) when (!e.Lasting)
        {
            return false;
        }
    }

    // What a capture's command ended with its wrapper has judged already.
    private static bool EndedWell(PlanStep step, int? code, bool undo) =>
        code is { } status
        && (undo || step.Do is CaptureAction || step.EndsWell is not { } well ? status == 0 : well.Contains(status));

    private async Task EndAsync(PlanStep step, string attempt, AttemptEnd end, int? code, string output, bool undo)
    {
        Live.TryRemove(attempt, out _);
        if (IsSettled(step, attempt))
            return;
        if (output.Length > TailLength)
            await context.Journal.SaveOutputAsync(log.Run, attempt, output, CancellationToken.None);
        IEnumerable<RunEvent> reached = undo ? [] : ReachedBy(step, attempt, output);
        await log.AppendAsync([
            .. reached,
            new AttemptEnded(
                step.Id,
                attempt,
                end,
                code,
                output.Length > TailLength ? "…" + output[^TailLength..] : output,
                undo
            ),
        ]);
    }

    // The parts of a long step that it has come to since; what was passed over between two looks is told too.
    private List<MilestoneReached> ReachedBy(PlanStep step, string attempt, string output)
    {
        if (step.Milestones is not { } milestones)
            return [];
        var known = log.Look(s => s.Of(step.Id).Attempts.Last(a => a.Id == attempt))
            .Milestones.Select(m => m.Number)
            .DefaultIfEmpty(0)
            .Max();
        return
        [
            .. Enumerable
                .Range(known + 1, Math.Max(0, Milestone.Begun(milestones, output) - known))
                .Select(n => new MilestoneReached(step.Id, attempt, n, milestones[n - 1].Title)),
        ];
    }

    /// <summary>Settles an attempt that an earlier owner left open: its record first, then the probe, then whether it
    /// may be repeated. True where another attempt may begin.</summary>
    private async Task<bool> SettleAsync(PlanStep step, AttemptState open, CancellationToken ct)
    {
        await FollowAsync(step, open, null, ct);
        var state = log.Look(s => s.Of(step.Id));
        return state.Status != StepStatus.Done
            && await MayRepeatAsync(step, state.Attempts.Last(a => a.Id == open.Id), ct);
    }

    /// <summary>Whether another attempt may begin after one whose end tells nothing sure: it never ran, its effect is
    /// not there and it is harmless to repeat, or the next round finds it done.</summary>
    private async Task<bool> MayRepeatAsync(PlanStep step, AttemptState ended, CancellationToken ct)
    {
        switch (ended.End)
        {
            case AttemptEnd.Refused:
                return true;
            case AttemptEnd.Lost:
            case AttemptEnd.Restarted when step.Do is not RestartAction { Service: null }:
                if (step.Already is not { } already)
                    return step.Repeatable;
                var probed = await _proof.ProbeOnceAsync(step, "already", already, ct);
                if (probed.Holds)
                    return true; // the next round finds it done
                await log.AppendAsync(probed);
                return step.Repeatable;
            default:
                return false;
        }
    }

    // What the far side keeps without being asked, such as the other slot, has no effect to begin: it is looked at and
    // noted.
    private async Task KeepAsync(PlanStep step, KeptPoint kept, CancellationToken ct)
    {
        try
        {
            if (await _captures.KeptAsync(step, kept, ct))
                await _proof.VerifyAsync(step, DoneHow.Already, [], ct);
        }
        catch (ConnectorException e)
        {
            await FailAsync(step, e.Problem.ToString());
        }
    }

    /// <summary>Takes a temporary measure back; true when it is.</summary>
    public async Task<bool> TakeBackAsync(PlanStep step, CancellationToken ct)
    {
        try
        {
            if (log.Look(s => s.Of(step.Id)).Attempts.LastOrDefault(a => a.Undo) is { End: null } open)
                await FollowAsync(step, open, null, ct);
            else if (
                log.Look(s => s.Of(step.Id)).Attempts.LastOrDefault(a => a.Undo) is not { End: AttemptEnd.Succeeded }
            )
                await AttemptAsync(step, log.Look(s => s.Of(step.Id)).Attempts.Length + 1, undo: true, null, ct);
        }
        catch (ConnectorException e) when (!e.Lasting)
        {
            return false;
        }
        if (log.Look(s => s.Of(step.Id)).Attempts.LastOrDefault(a => a.Undo) is not { End: AttemptEnd.Succeeded })
            return false;
        await log.AppendAsync(new MeasureTakenBack(step.Id));
        return true;
    }
}
