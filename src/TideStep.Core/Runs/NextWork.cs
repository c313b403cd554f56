using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>What a run needs done next; the engine does it and appends what came of it.</summary>
public abstract record Work;

/// <summary>Begin a step, or take it up where its open intent left it.</summary>
public sealed record DoStep(string Step) : Work;

/// <summary>Choose on live readings who takes over from the member of a lane.</summary>
public sealed record ChooseSuccessor(int Block, string Lane) : Work;

/// <summary>Take a temporary measure back.</summary>
public sealed record TakeBack(string Step) : Work;

/// <summary>Put the guards of a wave to live readings.</summary>
public sealed record CheckGuards(int Block) : Work;

/// <summary>Watch the members of a block until its settle time is over.</summary>
public sealed record WatchSettling(int Block, DateTimeOffset Since) : Work;

/// <summary>Open the child run that carries out the return path.</summary>
public sealed record BeginReturn(string? AsFarAs, string? Member = null) : Work;

/// <summary>Read the members' versions after the work.</summary>
public sealed record ReadAfter : Work;

/// <summary>Read the members concerned and the premises again after a break, before anything else is begun.</summary>
public sealed record ReadOnceMore : Work;

/// <summary>Ask after the work what was asked before it, until the differences are borne or their time is
/// over.</summary>
public sealed record AskAfter : Work;

/// <summary>Enter a part of the plan once its window has begun, if it still fits into it.</summary>
public sealed record EnterInWindow(int Block) : Work;

/// <summary>Wait for somebody's decision at a halt; when none has come in time, the standing order decides.</summary>
public sealed record AwaitDecision(DateTimeOffset Since, StandingOrder Order) : Work;

/// <summary>Rest, as planned, till the next window begins.</summary>
public sealed record RestTill(DateTimeOffset Till) : Work;

/// <summary>Nothing but an entry in the journal.</summary>
public sealed record Append(RunEvent Event) : Work;

/// <summary>Decides from a run's state what is to be done next; pure (2-architecture, Runs).</summary>
public static class NextWork
{
    public static ImmutableArray<Work> Of(RunState state)
    {
        switch (state.Status)
        {
            case RunStatus.Halted when state.Orders is [var order, ..] && !state.OpenAttempts.Any():
                return [new AwaitDecision(state.HaltedAt!.Value, order)];
            case RunStatus.Held
                when state.RestsAsPlanned
                    && state.Plan.Windows.FirstOrDefault(w =>
                        state.BlocksDone < state.Plan.Blocks.Length
                        && w.FirstMove >= state.Plan.Blocks[state.BlocksDone].Move
                    )
                        is { } next:
                return [new RestTill(next.From)];
            case RunStatus.Ready
            or RunStatus.Held
            or RunStatus.Halted
            or RunStatus.Completed
            or RunStatus.Returned
            or RunStatus.StoppedHere
            or RunStatus.Abandoned:
                // An owner may end between an intent and its outcome and another halt: what is open is still settled.
                return state.End is null && state.StartedAt is not null
                    ?
                    [
                        .. state.OpenAttempts.Select(o =>
                            (Work)(o.Attempt.Undo ? new TakeBack(o.Step) : new DoStep(o.Step))
                        ),
                    ]
                    : [];
            case RunStatus.Closing:
                return Close(state);
            case RunStatus.Returning:
                if (state is { Child: not null, ReturningMember: { } returning, ChildEnd: { } came })
                    return
                    [
                        new Append(
                            came == RunEnd.Completed
                                ? new MemberReturned(returning)
                                : new Halted(
                                    $"the return of {returning} alone ended: {RunReport.EndWord(came)}",
                                    state.FailedSteps.FirstOrDefault()
                                )
                        ),
                    ];
                return state.Child is null
                    ? [new BeginReturn(state.ReturnAsFarAs, state.ReturningMember)]
                    : state.ChildEnd switch
                    {
                        RunEnd.Completed => [new Append(new ClosingBegun(RunEnd.Returned))],
                        { } => [new Append(new ClosingBegun(RunEnd.StoppedHere))],
                        null => [],
                    };
            default:
                return GoOn(state);
        }
    }

    // Measures are taken back in reverse; one at a time, because one may rest on another.
    private static ImmutableArray<Work> Close(RunState state) =>
        state.Measures.Count > 0 ? TakenBack(state, state.Measures[^1])
        : state.After.IsEmpty && !state.Before.IsEmpty ? [new ReadAfter()]
        : [new Append(new Ended(state.ClosingAs!.Value))];

    // What a person takes back is asked for once, and waited for.
    private static ImmutableArray<Work> TakenBack(RunState state, string measure) =>
        state.Plan.Step(measure).Undo is not Catalogue.PersonAction ? [new TakeBack(measure)]
        : state.IsUndoAsked(measure) ? []
        : [new Append(new UndoAsked(measure))];

    private static ImmutableArray<Work> GoOn(RunState state)
    {
        var stopping = state.HoldAskedFor || state.AnyFailed || state.TurnBack is not null;
        // What still runs is followed to its end meanwhile; nothing else is begun on what may be otherwise by now.
        if (state.ReadsAgainAfter is not null && !state.AnyFailed && !state.HoldsUnread)
            return
            [
                .. state.OpenAttempts.Where(o => !o.Attempt.Undo).Select(o => (Work)new DoStep(o.Step)),
                new ReadOnceMore(),
            ];
        if (state.CurrentBlock == state.BlocksDone)
        {
            if (stopping)
                return Stop(state);
            if (
                state.BlocksDone > 0
                && state.Plan.Blocks[state.BlocksDone - 1].RestsAfter
                && state.RestedAt != state.BlocksDone
            )
                return [new Append(new HoldAsked(RunState.RestOfThePlan) { AsPlanned = true })];
            if (state.BlocksDone == state.Plan.Blocks.Length)
            {
                if (state.Plan.Asks.IsEmpty || state.AnswersBefore.IsEmpty)
                    return [new Append(new ClosingBegun(RunEnd.Completed))];
                if (state.Comparison is not { } compared)
                    return [new AskAfter()];
                var unborne = compared
                    .Differences.Where(d =>
                        !d.Borne
                        && state.Plan.Asks.First(a => a.Ask.Id == d.Ask && a.Members.Contains(d.Member)).Ask.Halts
                    )
                    .ToList();
                return
                [
                    new Append(
                        unborne.Count == 0 || state.DifferencesAccepted
                            ? new ClosingBegun(RunEnd.Completed)
                            : new Halted(BeforeAndAfter.Words(unborne), null)
                    ),
                ];
            }
            var next = state.CurrentBlock + 1;
            if (state.Plan.SignOffs.FirstOrDefault(s => s.Block == next) is { } asked)
            {
                if (state.SignOffs.ContainsKey(asked.Id))
                    return [new EnterInWindow(next)]; // whether the word still holds is a matter of the clock
                return state.AwaitsSignOff == asked ? [] : [new Append(new SignOffAwaited(asked.Id))];
            }
            return state.Plan.Windows.IsEmpty && state.Plan.Freezes.IsEmpty && state.StartAt is null
                ? [new Append(new BlockEntered(next))]
                : [new EnterInWindow(next)];
        }
        var block = state.Plan.Blocks[state.CurrentBlock - 1];
        if (block.CheckGuards && !state.GuardsPassed(block.Number))
            return stopping ? Stop(state) : [new CheckGuards(block.Number)];
        var (work, done) = Lanes(state, block, stopping);
        if (!work.IsEmpty)
            return work;
        if (stopping)
            return Stop(state);
        if (!done)
            return []; // a person's step is waited for
        if (OfScope(state, block, MeasureScope.Wave) is { } measure)
            return TakenBack(state, measure);
        if (block.Settle > TimeSpan.Zero && !state.IsSettled(block.Number))
            return [new WatchSettling(block.Number, state.LanesDoneAt ?? state.LastAt)];
        if (
            state.Plan.Blocks.All(b => b.Move != block.Move || b.Number <= block.Number)
            && OfScope(state, block, MeasureScope.Jump) is { } lasting
        )
            return TakenBack(state, lasting);
        return [new Append(new BlockDone(block.Number))];
    }

    // The last measure of that scope that still stands: of this block, or of the whole move where it is done.
    private static string? OfScope(RunState state, Block block, MeasureScope scope) =>
        state.Measures.LastOrDefault(m =>
            state.Plan.Step(m).Lasts == scope
            // Where a node did not answer it is taken back at the end, when the node may be back.
            && state.Abandoned.Values.All(a => a.Node != state.Plan.Step(m).Node)
            && state.Plan.Blocks.Any(b =>
                (scope == MeasureScope.Wave ? b.Number == block.Number : b.Move == block.Move)
                && b.Lanes.Any(l => l.Steps.Any(s => s.Id == m))
            )
        );

    private static ImmutableArray<Work> Stop(RunState state)
    {
        if (!state.AnyFailed && state.TurnBack is { } near)
            return
            [
                new Append(
                    new Halted(
                        $"the turn-back time {near.TurnBack:HH:mm} comes near, or is past: by its own pace "
                            + $"the work of this window ends "
                            + $"{near.Forecast.ToOffset(near.WindowEnds.Offset):yyyy-MM-dd HH:mm}, the window "
                            + $"{near.WindowEnds:HH:mm}",
                        null
                    )
                ),
            ];
        if (!state.AnyFailed)
            return [new Append(new Held())];
        var step = state.FailedSteps.First();
        return [new Append(new Halted(state.Of(step).Why ?? "a step failed", step))];
    }

    private static (ImmutableArray<Work> Work, bool Done) Lanes(RunState state, Block block, bool stopping)
    {
        var work = ImmutableArray.CreateBuilder<Work>();
        var done = true;
        foreach (var lane in block.Lanes)
        {
            if (state.LeftOut.Contains(lane.Subject))
            {
                // What a member that was returned by itself had put up for it is taken down; one that was left out
                // stays as it is.
                if (
                    state.ReturnedMembers.Contains(lane.Subject)
                    && state.Measures.LastOrDefault(m => lane.Steps.Any(s => s.Id == m && s.Lasts is null)) is { } left
                )
                {
                    work.AddRange(TakenBack(state, left));
                    done = false;
                }
                continue;
            }
            PlanStep? before = null;
            PlanStep? next = null;
            foreach (var step in lane.Steps)
            {
                if (state.Of(step.Id).Status != StepStatus.Done)
                {
                    next = step;
                    break;
                }
                before = step;
            }
            if (next is null)
            {
                if (state.Measures.LastOrDefault(m => lane.Steps.Any(s => s.Id == m && s.Lasts is null)) is { } measure)
                {
                    work.AddRange(TakenBack(state, measure));
                    done = false;
                }
                continue;
            }
            done = false;
            var progress = state.Of(next.Id);
            if (progress.Status == StepStatus.Failed)
                continue;
            // When stopping, a lane goes on only from a place where its member can't be left: in the middle, after a
            // step not marked safe.
            if (
                stopping
                && progress.Status == StepStatus.Pending
                && (before is null || before.SafeAfter || state.HoldsAtOnce)
            )
                continue;
            if (next.Do is Catalogue.PersonAction && progress.Status == StepStatus.Working)
                continue;
            work.Add(
                lane.HandsOver
                && !state.Successors.ContainsKey(lane.Subject)
                && progress.Attempts.All(a => a.End is not null)
                    ? new ChooseSuccessor(block.Number, lane.Subject)
                    : new DoStep(next.Id)
            );
        }
        return (work.ToImmutable(), done);
    }
}
