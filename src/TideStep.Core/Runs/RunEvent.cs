using System.Collections.Immutable;
using System.Text.Json.Serialization;
using TideStep.Core.Checks;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>What became of an attempt on the far side.</summary>
public enum AttemptEnd
{
    Succeeded,
    Failed,
    Refused,
    Lost,
    Restarted,
}

/// <summary>How a step came to be done.</summary>
public enum DoneHow
{
    Done,
    Already,
    Signed,
    Marked,
    Skipped,
    LeftOut,
}

/// <summary>What a person may say at a halt.</summary>
public enum DecisionKind
{
    TryAgain,
    CorrectAndTryAgain,
    MarkAsDone,
    Skip,
    LeaveOut,
    GoPastWindow,
    AcceptDifferences,
    ReturnMember,
    ReturnAsFarAs,
    StopHere,
}

/// <summary>What a named person changes of a step in this run; the plan itself stays as it is.</summary>
/// <param name="Limit">Another time for one attempt.</param>
/// <param name="Times">Another number of attempts.</param>
/// <param name="Command">Other arguments for a command.</param>
public sealed record Amendment(TimeSpan? Limit, int? Times, ImmutableArray<string> Command);

/// <summary>What is to be decided at a halt for which nobody has decided so long; so many times.</summary>
public sealed record StandingOrder(DecisionKind Decision, TimeSpan After, int Times = 1);

/// <summary>How a run ended.</summary>
public enum RunEnd
{
    Completed,
    Returned,
    StoppedHere,
    Abandoned,
}

/// <summary>Something that a run did or learnt. The journal of these is the only truth of a run.</summary>
[JsonPolymorphic(TypeDiscriminatorPropertyName = "event")]
[JsonDerivedType(typeof(Opened), "opened")]
[JsonDerivedType(typeof(Owned), "owned")]
[JsonDerivedType(typeof(MembersRead), "members-read")]
[JsonDerivedType(typeof(AnswersCompared), "answers-compared")]
[JsonDerivedType(typeof(ReadingAwaited), "reading-awaited")]
[JsonDerivedType(typeof(ReadAgain), "read-again")]
[JsonDerivedType(typeof(PlanChecked), "plan-checked")]
[JsonDerivedType(typeof(Started), "started")]
[JsonDerivedType(typeof(StartPlanned), "start-planned")]
[JsonDerivedType(typeof(BlockEntered), "block-entered")]
[JsonDerivedType(typeof(GuardsChecked), "guards-checked")]
[JsonDerivedType(typeof(SuccessorChosen), "successor-chosen")]
[JsonDerivedType(typeof(StepBegun), "step-begun")]
[JsonDerivedType(typeof(Probed), "probed")]
[JsonDerivedType(typeof(ParametersRead), "parameters-read")]
[JsonDerivedType(typeof(Told), "told")]
[JsonDerivedType(typeof(Intended), "intended")]
[JsonDerivedType(typeof(AttemptEnded), "attempt-ended")]
[JsonDerivedType(typeof(MilestoneReached), "milestone-reached")]
[JsonDerivedType(typeof(AttemptOverdue), "attempt-overdue")]
[JsonDerivedType(typeof(StopAsked), "stop-asked")]
[JsonDerivedType(typeof(PointCaptured), "point-captured")]
[JsonDerivedType(typeof(PointVerified), "point-verified")]
[JsonDerivedType(typeof(PointGivingUp), "point-giving-up")]
[JsonDerivedType(typeof(PointGivenUp), "point-given-up")]
[JsonDerivedType(typeof(PersonSigned), "person-signed")]
[JsonDerivedType(typeof(StepDone), "step-done")]
[JsonDerivedType(typeof(MemberReverted), "member-reverted")]
[JsonDerivedType(typeof(StepFailed), "step-failed")]
[JsonDerivedType(typeof(MeasureTakenBack), "measure-taken-back")]
[JsonDerivedType(typeof(UndoAsked), "undo-asked")]
[JsonDerivedType(typeof(NotAnswering), "not-answering")]
[JsonDerivedType(typeof(AnswersAgain), "answers-again")]
[JsonDerivedType(typeof(MeasureKept), "measure-kept")]
[JsonDerivedType(typeof(TasksSigned), "tasks-signed")]
[JsonDerivedType(typeof(BlockSettled), "block-settled")]
[JsonDerivedType(typeof(BlockDone), "block-done")]
[JsonDerivedType(typeof(HoldAsked), "hold-asked")]
[JsonDerivedType(typeof(HoldPlanned), "hold-planned")]
[JsonDerivedType(typeof(Held), "held")]
[JsonDerivedType(typeof(WentOn), "went-on")]
[JsonDerivedType(typeof(Halted), "halted")]
[JsonDerivedType(typeof(Decided), "decided")]
[JsonDerivedType(typeof(OrdersGiven), "orders-given")]
[JsonDerivedType(typeof(WindowAwaited), "window-awaited")]
[JsonDerivedType(typeof(RanLate), "ran-late")]
[JsonDerivedType(typeof(TurnBackNear), "turn-back-near")]
[JsonDerivedType(typeof(SignOffAwaited), "sign-off-awaited")]
[JsonDerivedType(typeof(SignedOff), "signed-off")]
[JsonDerivedType(typeof(SignOffLapsed), "sign-off-lapsed")]
[JsonDerivedType(typeof(ReturnBegun), "return-begun")]
[JsonDerivedType(typeof(ReturnEnded), "return-ended")]
[JsonDerivedType(typeof(MemberReturned), "member-returned")]
[JsonDerivedType(typeof(ClosingBegun), "closing-begun")]
[JsonDerivedType(typeof(Ended), "ended")]
[JsonDerivedType(typeof(LedBack), "led-back")]
public abstract record RunEvent;

/// <summary>The run was made from a plan; nothing has begun.</summary>
public sealed record Opened(string Plan, string Label, string By, string? Parent) : RunEvent
{
    /// <summary>Why, where it has to be said: of a return after its run had ended.</summary>
    public string? Reason { get; init; }
}

/// <summary>A service instance took the run; its epoch is above every earlier one.</summary>
public sealed record Owned(string Owner) : RunEvent;

/// <summary>The plan was checked on readings taken for it: how many checks there were, and those that failed or are
/// open with who accepted them.</summary>
public sealed record PlanChecked(int Checks, ImmutableArray<Checks.Finding> Findings) : RunEvent;

/// <summary>A member that runs another version than is installed on it, and what puts that into effect.</summary>
public sealed record OwedRestart(string Member, string Running, string Installed, string By);

/// <summary>The versions read off the members concerned, for "before" or "after".</summary>
public sealed record MembersRead(string When, ImmutableSortedDictionary<string, string> Running) : RunEvent
{
    /// <summary>Restarts that are owed after the work; null where it was not asked.</summary>
    public ImmutableArray<OwedRestart>? Owed { get; init; }

    /// <summary>What was answered to the questions that are asked before and after, by member and question.</summary>
    public ImmutableSortedDictionary<string, string>? Answers { get; init; }
}

/// <summary>The same questions were asked after the work; the differences that there are, borne or not, once they were
/// at rest or their time was over.</summary>
public sealed record AnswersCompared(
    ImmutableSortedDictionary<string, string> Answers,
    ImmutableArray<Compared> Differences
) : RunEvent;

/// <summary>The reading after a break waits for a node that does not answer, or for something that does not
/// run.</summary>
public sealed record ReadingAwaited(string Why) : RunEvent;

/// <summary>After a break the members concerned and the premises were read again.</summary>
/// <param name="After">What the break was: <c>a hold</c>, <c>a halt</c>, <c>a wait</c>, <c>another owner</c>.</param>
/// <param name="Changes">What was changed from outside meanwhile; each needs somebody's decision.</param>
public sealed record ReadAgain(string After, ImmutableArray<OutsideChange> Changes) : RunEvent;

public sealed record Started(string By) : RunEvent
{
    /// <summary>By how much the installation's time runs faster than the plan's; 1 but for demonstrations.</summary>
    public double Pace { get; init; } = 1;
}

/// <summary>Nothing but what only lies ready is to be begun before a time; null takes that back.</summary>
public sealed record StartPlanned(DateTimeOffset? At, string By) : RunEvent;

public sealed record BlockEntered(int Block) : RunEvent;

/// <summary>The guards put to live readings before a wave; a wave begins only when they hold.</summary>
public sealed record GuardsChecked(int Block, bool Hold, string Why) : RunEvent;

/// <summary>Who takes over from the member of a lane: chosen on live readings, before it leaves.</summary>
public sealed record SuccessorChosen(string Lane, string Member, string Why) : RunEvent;

public sealed record StepBegun(string Step) : RunEvent;

/// <summary>An expression put to live readings: the purpose is already, verify or await.</summary>
public sealed record Probed(string Step, string Purpose, bool Holds, string Why) : RunEvent;

/// <summary>What a step takes from readings, as it was right before its first attempt; what it changed is later put
/// back to exactly this.</summary>
public sealed record ParametersRead(string Step, ImmutableSortedDictionary<string, string> Values) : RunEvent;

/// <summary>What a step's own output told of its success, by name.</summary>
public sealed record Told(string Step, ImmutableSortedDictionary<string, double> Numbers) : RunEvent;

/// <summary>An effect is about to begin; durable before it does. For a temporary measure this also is its undo
/// entry.</summary>
public sealed record Intended(string Step, string Attempt, int Number, string Node, bool Undo) : RunEvent;

/// <summary>An attempt is known to have ended.</summary>
public sealed record AttemptEnded(string Step, string Attempt, AttemptEnd End, int? ExitCode, string Output, bool Undo)
    : RunEvent;

/// <summary>By its own output an attempt has come to a part of its step; numbered from 1.</summary>
public sealed record MilestoneReached(string Step, string Attempt, int Number, string Title) : RunEvent;

/// <summary>An attempt runs longer than its limit; it is neither done nor failed.</summary>
public sealed record AttemptOverdue(string Step, string Attempt) : RunEvent;

/// <summary>The far side is about to be asked to stop an overdue attempt's command, because its step says that it may
/// be stopped.</summary>
public sealed record StopAsked(string Step, string Attempt) : RunEvent;

/// <summary>A rollback point was captured; size in bytes, checksum SHA-256 in hexadecimal.</summary>
public sealed record PointCaptured(string Step, string Point, string Place, long Bytes, string Sha256, int Entries)
    : RunEvent;

/// <summary>The captured point was read again and found whole.</summary>
public sealed record PointVerified(string Point, string How) : RunEvent;

/// <summary>A person gave a point up after the run; what it holds is about to be taken away on its node. Durable before
/// that begins.</summary>
public sealed record PointGivingUp(string Point, string By, string? Reason, string Attempt) : RunEvent;

/// <summary>What the point held is gone.</summary>
public sealed record PointGivenUp(string Point, string How) : RunEvent;

public sealed record PersonSigned(string Step, string By, string Evidence) : RunEvent
{
    /// <summary>A file that shows it, kept beside the words.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public EvidenceFile? File { get; init; }

    /// <summary>Whether it is the taking back of the step's measure that was done.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public bool Undo { get; init; }
}

public sealed record StepDone(string Step, DoneHow How) : RunEvent;

public sealed record StepFailed(string Step, string Why) : RunEvent;

/// <summary>A member that was restarted for another version runs its former one again: a watchdog of its own went
/// back.</summary>
public sealed record MemberReverted(string Step, string Member, string To) : RunEvent;

/// <summary>A temporary measure was taken back.</summary>
public sealed record MeasureTakenBack(string Step) : RunEvent;

/// <summary>A node that is asked how a step stands does not answer, and its step does not restart it.</summary>
public sealed record NotAnswering(string Step, string Node, DateTimeOffset Since) : RunEvent;

/// <summary>It answers again.</summary>
public sealed record AnswersAgain(string Step, string Node) : RunEvent;

/// <summary>A person was asked to take a temporary measure back.</summary>
public sealed record UndoAsked(string Step) : RunEvent;

/// <summary>A person said that a temporary measure can't be taken back; it is left to be done by somebody.</summary>
/// <param name="Owner">Whose it is from now on; null where nobody is named.</param>
public sealed record MeasureKept(string Step, string By, string Why, string? Owner) : RunEvent
{
    /// <summary>A file that shows why, kept beside the words.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public EvidenceFile? File { get; init; }
}

/// <summary>What people had to do beforehand and signed for this run, with what proves it.</summary>
public sealed record TasksSigned(ImmutableArray<Checks.SignedItem> Items) : RunEvent;

public sealed record BlockSettled(int Block) : RunEvent;

public sealed record BlockDone(int Block) : RunEvent;

/// <summary>The run is to hold: at the next safe place of every member, or at once, with members in the middle of their
/// work.</summary>
public sealed record HoldAsked(string By) : RunEvent
{
    public bool AtOnce { get; init; }

    /// <summary>Whether the plan itself asks for it, which rests there till its next window.</summary>
    public bool AsPlanned { get; init; }
}

/// <summary>The run is to hold at a time, at the next safe place from then on; null takes that back.</summary>
public sealed record HoldPlanned(DateTimeOffset? At, string By) : RunEvent;

public sealed record Held : RunEvent;

public sealed record WentOn(string By) : RunEvent;

/// <summary>Tide Step stopped because something needs a decision.</summary>
public sealed record Halted(string Why, string? Step) : RunEvent;

public sealed record Decided(DecisionKind Decision, string By, string? Reason, string? AsFarAs) : RunEvent
{
    /// <summary>The step that it is about.</summary>
    public string? Step { get; init; }

    /// <summary>What is changed of that step.</summary>
    public Amendment? Amendment { get; init; }

    /// <summary>The attempt of that step whose end nobody waits for any more, for its node does not answer: it may
    /// still be at work there. Null where none was open.</summary>
    public string? Abandons { get; init; }

    /// <summary>Whether nobody decided in time and a standing order did.</summary>
    public bool Standing { get; init; }
}

/// <summary>What is to be decided at halts that nobody decides in time; given beforehand by a named person, in place of
/// what was given before.</summary>
public sealed record OrdersGiven(ImmutableArray<StandingOrder> Orders, string By) : RunEvent;

/// <summary>The run waits for its window to begin before it enters a part.</summary>
public sealed record WindowAwaited(int Block, DateTimeOffset Till) : RunEvent;

/// <summary>By its own pace the run will not end when it was to; said once for each end that it was to keep.</summary>
public sealed record RanLate(DateTimeOffset Forecast, DateTimeOffset Due) : RunEvent;

/// <summary>The turn-back time is near and the work of the window will not fit: members in the middle come to a safe
/// place, then the run halts for a decision.</summary>
public sealed record TurnBackNear(DateTimeOffset TurnBack, DateTimeOffset Forecast, DateTimeOffset WindowEnds)
    : RunEvent;

/// <summary>The run waits for a person's word before it enters a part.</summary>
public sealed record SignOffAwaited(string SignOff) : RunEvent;

/// <summary>A person said that it may go on.</summary>
public sealed record SignedOff(SignOff Given) : RunEvent;

/// <summary>A word was given, but held no more when its part would have begun.</summary>
public sealed record SignOffLapsed(string SignOff) : RunEvent;

/// <summary>A return path began as a run of its own.</summary>
public sealed record ReturnBegun(string Run) : RunEvent;

public sealed record ReturnEnded(string Run, RunEnd End) : RunEvent;

/// <summary>One member was returned by itself; the run goes on without it.</summary>
public sealed record MemberReturned(string Member) : RunEvent;

/// <summary>Temporary measures are being taken back; how the run will end.</summary>
public sealed record ClosingBegun(RunEnd End) : RunEvent;

public sealed record Ended(RunEnd End) : RunEvent;

/// <summary>After its end the run was begun to be led back, by a run of its own.</summary>
public sealed record LedBack(string Run) : RunEvent;

/// <summary>An event in its journal: numbered from 1 in its run, with the epoch of the owner that wrote it.</summary>
public sealed record JournalEntry(string Run, long Sequence, long Epoch, DateTimeOffset At, RunEvent Event);
