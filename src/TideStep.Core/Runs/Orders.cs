using TideStep.Core.Catalogue;
using TideStep.Core.Checks;
using TideStep.Core.Documents;

namespace TideStep.Core.Runs;

/// <summary>What a person may say to a run in which state, and what it appends; pure.</summary>
public static class Orders
{
    private static (RunEvent[], Problem?) No(string what, string hint) => ([], new Problem(what, null, hint));

    /// <summary>Holds a run at the next safe place of every member, or at once.</summary>
    public static (RunEvent[] Events, Problem? Refused) Hold(RunState state, string by, bool atOnce = false) =>
        state.Status switch
        {
            RunStatus.Running or RunStatus.Waiting => ([new HoldAsked(by) { AtOnce = atOnce }], null),
            RunStatus.Holding when atOnce && !state.HoldsAtOnce => ([new HoldAsked(by) { AtOnce = true }], null),
            RunStatus.Holding or RunStatus.Held => No("the run is holding already", "Say 'go-on' to let it go on."),
            var status => No($"a run that is {Word(status)} can't be held", "Only a run at work can."),
        };

    /// <summary>Has a run hold at a time; null takes that back.</summary>
    public static (RunEvent[] Events, Problem? Refused) HoldAt(
        RunState state,
        string by,
        DateTimeOffset? at,
        DateTimeOffset now
    )
    {
        if (state.End is not null)
            return No("the run has ended", "There is nothing left to hold.");
        if (at is null)
            return state.HoldAt is null
                ? No("nobody said when it should hold", "There is nothing to take back.")
                : ([new HoldPlanned(null, by)], null);
        return at <= now
            ? No($"{at:yyyy-MM-dd HH:mm zzz} is past", "Hold it now, or say a later time.")
            : ([new HoldPlanned(at, by)], null);
    }

    /// <summary>Has a run that has not begun its work wait for a time, or another one; null lets it begin.</summary>
    public static (RunEvent[] Events, Problem? Refused) StartAt(
        RunState state,
        string by,
        DateTimeOffset? at,
        DateTimeOffset now
    )
    {
        if (state.End is not null)
            return No("the run has ended", "Start another run.");
        if (state.CurrentBlock > 0 && state.Plan.Blocks[state.CurrentBlock - 1].Early != true)
            return No("the run has begun its work", "Hold it, or hold it at a time.");
        if (at is null)
            return state.StartAt is null
                ? No("nobody said when it should begin", "There is nothing to take back.")
                : ([new StartPlanned(null, by)], null);
        return at <= now
            ? No($"{at:yyyy-MM-dd HH:mm zzz} is past", "Start it now, or say a later time.")
            : ([new StartPlanned(at, by)], null);
    }

    public static (RunEvent[] Events, Problem? Refused) GoOn(RunState state, string by) =>
        state.Status switch
        {
            RunStatus.Holding or RunStatus.Held => ([new WentOn(by)], null),
            RunStatus.Halted => No(
                "the run has halted and needs a decision",
                "Say which: try-again, return-as-far-as or stop-here."
            ),
            var status => No($"a run that is {Word(status)} is not held", "There is nothing to let go on."),
        };

    /// <summary>A decision at a halt; a return and a stop also while the run is held.</summary>
    public static (RunEvent[] Events, Problem? Refused) Decide(
        RunState state,
        DecisionKind decision,
        string by,
        string? reason,
        string? asFarAs,
        Amendment? amendment = null
    )
    {
        var halted = state.Status == RunStatus.Halted;
        if (decision == DecisionKind.LeaveOut && SilentOf(state) is { } silent)
            return OfSilent(state, silent, by, reason);
        if (
            !halted
            && !(state.Status == RunStatus.Held && decision is DecisionKind.ReturnAsFarAs or DecisionKind.StopHere)
        )
            return No(
                $"a run that is {Word(state.Status)} asks for no decision",
                state.Status is RunStatus.Running or RunStatus.Waiting ? "Hold it first."
                    : state.End is not null && ReturnEnded(state) is null
                        ? "How it could be led back: tidestep run return, with the run's name."
                    : "See 'tidestep run show'."
            );
        if (
            decision != DecisionKind.TryAgain
            && state.OpenAttempts.FirstOrDefault() is { Step: { } step }
            && state.OpenAttempts.Any()
        )
            return No(
                $"an attempt still runs on {state.Plan.Step(step).Node}: {state.Plan.Step(step).Title}",
                "Wait for its end; its record is followed."
            );
        if (
            decision
            is DecisionKind.CorrectAndTryAgain
                or DecisionKind.MarkAsDone
                or DecisionKind.Skip
                or DecisionKind.LeaveOut
                or DecisionKind.ReturnMember
        )
            return OfStep(state, decision, by, reason, amendment);
        if (decision == DecisionKind.GoPastWindow && state.Plan.Windows.IsEmpty && state.Plan.Freezes.IsEmpty)
            return No("the plan has no window and no freeze to go past", "Say another decision.");
        if (decision == DecisionKind.AcceptDifferences)
        {
            if (
                state.Changes.IsEmpty
                && (
                    state.Comparison is not { } compared
                    || compared.Differences.All(d => d.Borne)
                    || state.Halt?.Step is not null
                )
            )
                return No("nothing differs from before that could be accepted", "Say another decision.");
            if (string.IsNullOrWhiteSpace(reason))
                return No("to accept what differs needs a reason", "Say why it may be so; it stands in the report.");
        }
        return ([new Decided(decision, by, reason, asFarAs)], null);
    }

    /// <summary>Why a decision is not for the halt that it was made for: somebody decided before, or the run has halted
    /// anew since. Null where it is, or where nobody said which.</summary>
    /// <param name="seen">The number of the halt that the person saw.</param>
    public static Problem? AnotherHalt(RunState state, long? seen) =>
        seen is null || seen == state.HaltNumber ? null
        : state.Halt is { } now
            ? new Problem($"the run has halted anew since: {now.Why}", null, "Look at it again, then decide.")
        : new Problem("that halt was decided already", null, "See 'tidestep run show' for how it stands now.");

    /// <summary>Why an ended run can't be returned now; null where it can, as far as its own journal tells.</summary>
    public static Problem? ReturnEnded(RunState state) =>
        state switch
        {
            { Plan.Kind: not Plans.Plan.Upgrade } => new Problem(
                "this run is a return itself, and nothing leads a return back",
                null,
                "Plan another upgrade."
            ),
            { End: null } => new Problem(
                $"a run that is {Word(state.Status)} is returned by a decision",
                null,
                "tidestep run decide RUN return, at its halt or while it is held."
            ),
            { End: RunEnd.Returned } => new Problem(
                "the run was returned",
                null,
                "There is nothing left to lead back."
            ),
            { End: RunEnd.Abandoned } => new Problem("the run changed nothing", null, "There is nothing to lead back."),
            _ => null,
        };

    // The step of a node that does not answer while what was begun there has not come to an end: that of the halt, or
    // while the others go on that which has been silent longest.
    private static string? SilentOf(RunState state)
    {
        bool IsOpen(string step) => state.Of(step).Open is { Undo: false };
        return state.Halt?.Step is { } halted
            ? state.Silent.ContainsKey(halted) && IsOpen(halted)
                ? halted
                : null
            : state.End is null && !state.ReturnWanted
                ? state.Silent.Where(s => IsOpen(s.Key)).OrderBy(s => s.Value).Select(s => s.Key).FirstOrDefault()
                : null;
    }

    /// <summary>The member whose node does not answer and that could be left out as it is; null where there is
    /// none.</summary>
    public static (string Member, string Step, DateTimeOffset Since)? SilentMember(RunState state) =>
        SilentOf(state) is { } step && OfSilent(state, step, "somebody", "a reason").Refused is null
            ? (state.Plan.LaneOf(step).Subject, step, state.Silent[step])
            : null;

    private static (RunEvent[] Events, Problem? Refused) OfSilent(
        RunState state,
        string step,
        string by,
        string? reason
    )
    {
        if (string.IsNullOrWhiteSpace(reason))
            return No("leave this member out and go on needs a reason", "Say why; it stands in the report.");
        if (state.Plan.Blocks[state.CurrentBlock - 1].Phase is Plans.Phase.Close or Plans.Phase.Secure)
            return No("this step is not of one member alone", "Wait for its node, or return.");
        var attempt = state.Of(step).Open!.Id;
        return ([new Decided(DecisionKind.LeaveOut, by, reason, null) { Step = step, Abandons = attempt }], null);
    }

    // What is said of the step that halted the run needs a reason: it stands in the report in place of the step's own
    // proof.
    private static (RunEvent[], Problem?) OfStep(
        RunState state,
        DecisionKind decision,
        string by,
        string? reason,
        Amendment? amendment
    )
    {
        if (state.Halt?.Step is not { } id)
            return No("no step halted this run", "Say try-again, return-as-far-as or stop-here.");
        var step = state.Plan.Step(id);
        if (string.IsNullOrWhiteSpace(reason))
            return No(
                $"{RunReport.Word(decision)} needs a reason",
                decision == DecisionKind.MarkAsDone
                    ? "Say what shows that it is done."
                    : "Say why; it stands in the report."
            );
        if (state.Of(id).Open is not null)
            return No(
                $"an attempt still runs on {step.Node}: {step.Title}",
                "Wait for its end; its record is followed."
            );
        switch (decision)
        {
            case DecisionKind.CorrectAndTryAgain
                when amendment is null or { Limit: null, Times: null, Command.IsDefaultOrEmpty: true }:
                return No(
                    "nothing is said that would be corrected",
                    "Give another limit, number of attempts, or arguments."
                );
            case DecisionKind.CorrectAndTryAgain
                when amendment is { Command.IsDefaultOrEmpty: false } && step.Do is not CommandAction:
                return No(
                    $"'{step.Title}' is no command whose arguments could be others",
                    "Correct its limit or attempts, or mend the cause and try again."
                );
            case DecisionKind.CorrectAndTryAgain when amendment is { Limit: { Ticks: <= 0 } } or { Times: < 1 }:
                return No("a limit and a number of attempts are above nought", "Give others.");
            case DecisionKind.MarkAsDone or DecisionKind.Skip when step.Do is CaptureAction:
                return No("a rollback point can be neither skipped nor vouched for", "Try again, or return.");
            case DecisionKind.MarkAsDone or DecisionKind.Skip when step.Must == true:
                return No(
                    $"'{step.Title}' has to be done: it can be neither skipped nor marked as done",
                    "Try again, correct it, or return."
                );
            case DecisionKind.Skip when step.PutsInStep:
                return No(
                    $"{step.Member} has to be in step before another member leaves",
                    "Leave it out and go on, try again, or return."
                );
            case DecisionKind.ReturnMember
                // What is changed in an outage of its whole component stands at one version after it.
                when state.Plan.Kind != Plans.Plan.Upgrade
                    || state.Plan.Blocks[state.CurrentBlock - 1] is not { Phase: Plans.Phase.Roll } wave
                    || wave.ComponentsOut.Any(c =>
                        state.Plan.LaneOf(id).Subject.StartsWith(c + "/", StringComparison.Ordinal)
                    ):
                return No(
                    "only a member of a wave can be returned by itself",
                    "Return as far as a move, try again, or leave it out."
                );
            case DecisionKind.LeaveOut
                when state.Plan.Blocks[state.CurrentBlock - 1].Phase is Plans.Phase.Close or Plans.Phase.Secure:
                return No("this step is not of one member alone", "Try again, mark it as done, or return.");
        }
        return ([new Decided(decision, by, reason, null) { Step = id, Amendment = amendment }], null);
    }

    /// <summary>Standing orders for halts that nobody decides in time; they can be given as long as the run has not
    /// ended.</summary>
    public static (RunEvent[] Events, Problem? Refused) Give(
        RunState state,
        IReadOnlyList<StandingOrder> orders,
        string by
    )
    {
        if (state.End is not null)
            return No("the run has ended", "There is nothing left to decide.");
        return WrongOf(orders) is { } wrong ? ([], wrong) : ([new OrdersGiven([.. orders], by)], null);
    }

    /// <summary>What is wrong with standing orders; null where nothing is.</summary>
    public static Problem? WrongOf(IEnumerable<StandingOrder> orders)
    {
        foreach (var order in orders)
        {
            if (order.Decision is not (DecisionKind.TryAgain or DecisionKind.ReturnAsFarAs or DecisionKind.StopHere))
                return new Problem(
                    $"'{RunReport.Word(order.Decision)}' needs somebody who looks",
                    null,
                    "A standing order can be try-again, return-as-far-as or stop-here."
                );
            if (order.After < TimeSpan.Zero || order.Times is < 1 or > 100)
                return new Problem(
                    "a standing order waits no time below nought, and holds 1 to 100 times",
                    null,
                    "Write it like try-again after 5 min, twice."
                );
        }
        return null;
    }

    /// <summary>A person's signature under a step that a person does.</summary>
    /// <param name="step">The step's identifier or title; null for the only one that waits.</param>
    /// <param name="member">Its member, where several of one title wait; null where that is plain.</param>
    /// <param name="file">A file that shows it, kept already.</param>
    public static (RunEvent[] Events, Problem? Refused) Sign(
        RunState state,
        string? step,
        string by,
        string evidence,
        string? member = null,
        bool cannotBeUndone = false,
        string? owner = null,
        EvidenceFile? file = null
    )
    {
        // By its identifier, or by the title of one that waits.
        var waiting = state
            .AwaitedPersons.Where(a => member is null || a.Step.Member == member)
            .Where(a => step is null || a.Step.Id == step || IsCalled(a, step))
            .ToList();
        if (waiting.Count > 1)
            return No(
                $"{waiting.Count} steps wait for a person: "
                    + string.Join(", ", waiting.Take(6).Select(a => $"'{a.Title}' on {a.Step.Member}")),
                "Say which, by its title and --member."
            );
        if (waiting is [var awaited])
            return Signed(awaited, by, (evidence, file), cannotBeUndone, owner);
        if (step is null)
            return No("no step waits for a person now", "See 'tidestep run show' for what the run does.");
        var known = state
            .Plan.Blocks.SelectMany(b => b.Lanes)
            .SelectMany(l => l.Steps)
            .FirstOrDefault(s => s.Id == step || string.Equals(s.Title, step, StringComparison.OrdinalIgnoreCase));
        return known is not { Do: PersonAction } && known?.Undo is not PersonAction
            ? No(
                $"'{step}' is no step that a person does",
                "See 'tidestep run show' for the steps that wait for a person."
            )
            : No($"'{known.Title}' does not wait for a signature now", "It is signed when its turn has come, once.");
    }

    private static bool IsCalled(AwaitedPerson awaited, string title) =>
        string.Equals(awaited.Title, title, StringComparison.OrdinalIgnoreCase)
        || string.Equals(awaited.Step.Title, title, StringComparison.OrdinalIgnoreCase);

    private static (RunEvent[] Events, Problem? Refused) Signed(
        AwaitedPerson awaited,
        string by,
        (string Words, EvidenceFile? File) evidence,
        bool cannotBeUndone,
        string? owner
    )
    {
        if (evidence.Words.Trim().Length == 0)
            return No("a signature needs evidence", "Say what you did or saw.");
        var signed = new PersonSigned(awaited.Step.Id, by, evidence.Words) { File = evidence.File };
        if (!awaited.Undo)
            return cannotBeUndone
                ? No($"'{awaited.Title}' is to be done, not taken back", "Sign it when it is done.")
                : ([signed, new StepDone(awaited.Step.Id, DoneHow.Signed)], null);
        return cannotBeUndone
            ? (
                [
                    new MeasureKept(awaited.Step.Id, by, evidence.Words, owner ?? awaited.Step.Owner)
                    {
                        File = evidence.File,
                    },
                ],
                null
            )
            : ([signed with { Undo = true }, new MeasureTakenBack(awaited.Step.Id)], null);
    }

    public static string Word(RunStatus status) =>
        status switch
        {
            RunStatus.StoppedHere => "stopped here",
            var s => s.ToString().ToLowerInvariant(),
        };
}
