using System.Collections.Immutable;
using System.Text.Json.Serialization;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>Where a run stands (4-execution, States).</summary>
public enum RunStatus
{
    Ready,
    Waiting,
    Running,
    Holding,
    Held,
    Halted,
    Returning,
    Closing,
    Completed,
    Returned,
    StoppedHere,
    Abandoned,
}

/// <summary>How far one step is.</summary>
public enum StepStatus
{
    Pending,
    Working,
    Done,
    Failed,
}

/// <summary>Something that waits for a person.</summary>
/// <param name="Undo">Whether the step's measure is to be taken back, not the step to be done.</param>
/// <param name="Since">Since when it waits.</param>
public sealed record AwaitedPerson(PlanStep Step, bool Undo, DateTimeOffset? Since)
{
    /// <summary>What is to be done, in words.</summary>
    public string Title => Undo ? $"take back: {Step.Title}" : Step.Title;

    /// <summary>How it is done.</summary>
    public string Instructions => ((Catalogue.PersonAction)(Undo ? Step.Undo! : Step.Do)).Instructions;
}

/// <summary>One try at a step.</summary>
public sealed record AttemptState(
    string Id,
    int Number,
    DateTimeOffset Begun,
    long Sequence,
    bool Undo,
    DateTimeOffset? EndedAt,
    AttemptEnd? End,
    int? ExitCode,
    string Output,
    bool Overdue
)
{
    /// <summary>The parts of its step that it has come to, each with when that was seen.</summary>
    public ImmutableArray<(int Number, DateTimeOffset At)> Milestones { get; init; } = [];
}

/// <summary>A step's progress, as its events tell it.</summary>
public sealed record StepState(
    StepStatus Status,
    DateTimeOffset? Begun,
    DateTimeOffset? EndedAt,
    DoneHow? How,
    string? Why,
    ImmutableArray<AttemptState> Attempts
)
{
    /// <summary>How many of the attempts a decision has dealt with: they count for no limit any more.</summary>
    public int DealtWith { get; init; }

    /// <summary>Whether a person said that it is done; it still has to pass its verification.</summary>
    public bool Marked { get; init; }

    public static readonly StepState Pending = new(StepStatus.Pending, null, null, null, null, []);

    /// <summary>The attempt that has an intent and no known end, or null.</summary>
    public AttemptState? Open => Attempts.LastOrDefault(a => a.End is null);
}

/// <summary>A captured rollback point as the run knows it.</summary>
public sealed record PointState(
    PlannedPoint Planned,
    string Place,
    long Bytes,
    string Sha256,
    int Entries,
    DateTimeOffset CapturedAt,
    string Step,
    string? Verified,
    string? State
)
{
    public const string Usable = "usable";
    public const string Used = "used";
    public const string Expired = "expired";
    public const string Void = "void";
    public const string GivingUp = "giving up";
    public const string GivenUp = "given up";

    /// <summary>What made it what it is: the step that voided it, the run that used it, who gave it up.</summary>
    public string? Why { get; init; }

    /// <summary>Whether it can lead back: it is whole, and nothing has made it useless.</summary>
    [JsonIgnore]
    public bool LeadsBack => State is Usable or Used;
}

/// <summary>A run as its journal tells it; nothing else is kept of a run. Made by <see cref="Fold"/> or grown by <see
/// cref="Apply"/>.</summary>
public sealed class RunState(Plan plan)
{
    /// <summary>By whom a run holds that rests as its plan says; older journals know it by this alone.</summary>
    internal const string RestOfThePlan = "the plan, which rests here till its next window";

    private readonly Dictionary<string, StepState> _steps = [];
    private readonly List<string> _measures = [];
    private readonly Dictionary<string, PointState> _points = [];
    private readonly HashSet<int> _guarded = [];
    private readonly HashSet<string> _reverted = [];
    private readonly Dictionary<string, ImmutableSortedDictionary<string, string>> _parameters = [];
    private readonly Dictionary<string, ImmutableSortedDictionary<string, double>> _told = [];
    private readonly HashSet<int> _settled = [];
    private readonly Dictionary<int, (DateTimeOffset Begun, DateTimeOffset? Ended)> _blocks = [];

    public Plan Plan { get; } = plan;
    public string Label { get; private set; } = "";
    public string By { get; private set; } = "";
    public string? Parent { get; private set; }
    public string? Owner { get; private set; }
    public long Epoch { get; private set; }
    public long Sequence { get; private set; }
    public DateTimeOffset? OpenedAt { get; private set; }
    public DateTimeOffset? StartedAt { get; private set; }
    public DateTimeOffset? EndedAt { get; private set; }
    public DateTimeOffset LastAt { get; private set; }
    public RunEnd? End { get; private set; }

    /// <summary>The run that leads this one back after its end, where one was begun.</summary>
    public string? LedBackBy { get; private set; }
    public RunEnd? ClosingAs { get; private set; }

    /// <summary>How many blocks were done when somebody last let the run go on.</summary>
    public int RestedAt { get; private set; }
    public bool HoldAskedFor { get; private set; }

    /// <summary>Whether no further step is begun, even where a member can't well be left.</summary>
    public bool HoldsAtOnce { get; private set; }

    /// <summary>When the run is to hold, and who said so; null where nobody did.</summary>
    public HoldPlanned? HoldAt { get; private set; }
    public bool IsHeld { get; private set; }

    /// <summary>Whether it is the plan that has it rest.</summary>
    public bool RestsAsPlanned { get; private set; }
    public Halted? Halt { get; private set; }

    /// <summary>The number of the entry by which it halted: what tells this halt from any other of the run; null where
    /// it is not halted.</summary>
    public long? HaltNumber => Halt is null ? null : _haltNumber;
    private long _haltNumber;

    /// <summary>When it halted.</summary>
    public DateTimeOffset? HaltedAt { get; private set; }

    /// <summary>Members that a person left out: nothing more is done on them in this run.</summary>
    public IReadOnlySet<string> LeftOut => _leftOut;
    private readonly HashSet<string> _leftOut = [];

    /// <summary>What people changed of steps.</summary>
    public IReadOnlyDictionary<string, Amendment> Amendments => _amendments;
    private readonly Dictionary<string, Amendment> _amendments = [];

    /// <summary>The standing orders that are left, in their order, with who gave them.</summary>
    public ImmutableArray<StandingOrder> Orders { get; private set; } = [];
    public string OrdersBy { get; private set; } = "";

    /// <summary>Whether the run was told to go past the window that it is in.</summary>
    public bool PastWindow { get; private set; }

    /// <summary>Before when nothing is begun but what only lies ready; null where nobody said so.</summary>
    public DateTimeOffset? StartAt { get; private set; }

    /// <summary>What window the run waits for, or null.</summary>
    public WindowAwaited? AwaitsWindow { get; private set; }

    /// <summary>By how much its time ran faster than the plan's.</summary>
    public double Pace { get; private set; } = 1;

    /// <summary>What was answered before the work.</summary>
    public ImmutableSortedDictionary<string, string> AnswersBefore { get; private set; } =
        ImmutableSortedDictionary<string, string>.Empty;

    /// <summary>What was answered after it, with the differences; null before it was asked.</summary>
    public AnswersCompared? Comparison { get; private set; }

    /// <summary>The member that alone is being returned, or null.</summary>
    public string? ReturningMember { get; private set; }

    /// <summary>Members that were returned by themselves.</summary>
    public IReadOnlySet<string> ReturnedMembers => _returned;
    private readonly HashSet<string> _returned = [];

    /// <summary>A person may take so long over a step before what else is there is looked at again.</summary>
    private static readonly TimeSpan LongWait = TimeSpan.FromHours(1);

    /// <summary>After what break the members and the premises have to be read again before the run goes on; null where
    /// there was none.</summary>
    public string? ReadsAgainAfter { get; private set; }

    /// <summary>Whether it can hold without that reading: it is to at once, and nothing is at work.</summary>
    public bool HoldsUnread =>
        HoldsAtOnce
        && !OpenAttempts.Any()
        && (
            CurrentBlock == BlocksDone
            || Plan.Blocks[CurrentBlock - 1].Lanes.All(l => l.Steps.All(s => Of(s.Id).Status != StepStatus.Working))
        );

    /// <summary>What that reading waits for; null where it does not.</summary>
    public string? AwaitsReading { get; private set; }

    /// <summary>What was found changed from outside and waits for a decision.</summary>
    public ImmutableArray<OutsideChange> Changes { get; private set; } = [];

    /// <summary>What was changed from outside and accepted as it is.</summary>
    public IReadOnlySet<OutsideChange> AcceptedChanges => _acceptedChanges;
    private readonly HashSet<OutsideChange> _acceptedChanges = [];

    /// <summary>Whether a person accepted the differences that halted the run.</summary>
    public bool DifferencesAccepted { get; private set; }

    /// <summary>The end against which the run was last said to be late.</summary>
    public DateTimeOffset? LateAgainst { get; private set; }

    /// <summary>That the turn-back time is near and nobody has decided yet what follows; null where it is
    /// not.</summary>
    public TurnBackNear? TurnBack { get; private set; }

    /// <summary>The end of the window for which that was last said; it is said once.</summary>
    public DateTimeOffset? TurnBackSaid { get; private set; }

    /// <summary>Who takes over from the members of lanes that hand over, by the lane's subject.</summary>
    public IReadOnlyDictionary<string, string> Successors => _successors;
    private readonly Dictionary<string, string> _successors = [];

    /// <summary>The sign-off that the run waits for, or null.</summary>
    public PlannedSignOff? AwaitsSignOff { get; private set; }

    /// <summary>What was signed and holds, as far as this run has seen; the last word of each.</summary>
    public IReadOnlyDictionary<string, SignOff> SignOffs => _signOffs;
    private readonly Dictionary<string, SignOff> _signOffs = [];
    public string? Child { get; private set; }
    public RunEnd? ChildEnd { get; private set; }
    public bool ReturnWanted { get; private set; }
    public string? ReturnAsFarAs { get; private set; }
    public DateTimeOffset? LanesDoneAt { get; private set; }

    /// <summary>The number of the block at work, 0 before the first; blocks up to <see cref="BlocksDone"/> are
    /// done.</summary>
    public int CurrentBlock { get; private set; }
    public int BlocksDone { get; private set; }
    public GuardsChecked? Guards { get; private set; }
    public ImmutableSortedDictionary<string, string> Before { get; private set; } =
        ImmutableSortedDictionary<string, string>.Empty;
    public ImmutableSortedDictionary<string, string> After { get; private set; } =
        ImmutableSortedDictionary<string, string>.Empty;

    /// <summary>Restarts that are owed after the work; null where nobody asked.</summary>
    public ImmutableArray<OwedRestart>? Owed { get; private set; }
    public List<Decided> Decisions { get; } = [];
    public List<PersonSigned> Signed { get; } = [];
    public int AttemptCount { get; private set; }

    /// <summary>Findings, by their names, that were accepted when the run started.</summary>
    public IReadOnlySet<string> Accepted { get; private set; } = new HashSet<string>();

    /// <summary>Steps whose temporary measure is open, in the order they were taken.</summary>
    public IReadOnlyList<string> Measures => _measures;

    /// <summary>What steps took from readings before their first attempts, by step and reading.</summary>
    public IReadOnlyDictionary<string, ImmutableSortedDictionary<string, string>> Parameters => _parameters;

    /// <summary>What steps' own output told of their success, by step and name.</summary>
    public IReadOnlyDictionary<string, ImmutableSortedDictionary<string, double>> Numbers => _told;

    public IReadOnlyDictionary<string, PointState> Points => _points;
    public IReadOnlyDictionary<int, (DateTimeOffset Begun, DateTimeOffset? Ended)> Blocks => _blocks;

    public StepState Of(string step) => _steps.GetValueOrDefault(step, StepState.Pending);

    public bool GuardsPassed(int block) => _guarded.Contains(block);

    public bool IsSettled(int block) => _settled.Contains(block);

    public bool AnyFailed => _failed.Count > 0;

    /// <summary>The steps that failed and that nobody has dealt with, in the order of their identifiers.</summary>
    public IEnumerable<string> FailedSteps => _failed;

    /// <summary>Every attempt that has an intent and no known end.</summary>
    public IEnumerable<(string Step, AttemptState Attempt)> OpenAttempts =>
        _open.Select(step => (step, _steps[step].Open!));

    /// <summary>The steps at work, in the order of their identifiers.</summary>
    public IEnumerable<string> WorkingSteps => _working;

    /// <summary>How many steps are done.</summary>
    public int StepsDone { get; private set; }

    /// <summary>How many members run which version, kept with every event.</summary>
    public Tide Tide => _tide ??= new Tide(Plan, step => (Of(step).Status == StepStatus.Done, Of(step).EndedAt));

    private Tide? _tide;
    private readonly SortedSet<string> _failed = new(StringComparer.Ordinal);
    private readonly SortedSet<string> _open = new(StringComparer.Ordinal);
    private readonly SortedSet<string> _working = new(StringComparer.Ordinal);

    /// <summary>The state that a journal tells.</summary>
    public static RunState Fold(Plan plan, IEnumerable<JournalEntry> journal)
    {
        var state = new RunState(plan);
        foreach (var entry in journal)
            state.Apply(entry);
        return state;
    }

    public RunStatus Status =>
        End is { } end
            ? end switch
            {
                RunEnd.Completed => RunStatus.Completed,
                RunEnd.Returned => RunStatus.Returned,
                RunEnd.StoppedHere => RunStatus.StoppedHere,
                _ => RunStatus.Abandoned,
            }
        : Halt is not null ? RunStatus.Halted
        : ClosingAs is not null ? RunStatus.Closing
        : ReturnWanted ? RunStatus.Returning
        : IsHeld ? RunStatus.Held
        : HoldAskedFor ? RunStatus.Holding
        : StartedAt is null ? RunStatus.Ready
        : Guards is { Hold: false }
        || AwaitsSignOff is not null
        || AwaitsReading is not null
        || AwaitsWindow is not null
            ? RunStatus.Waiting
        : RunStatus.Running;

    /// <summary>What waits for a person: steps of the part at work that are to be done and signed, and measures that
    /// are
    /// to be taken back.</summary>
    public IEnumerable<AwaitedPerson> AwaitedPersons
    {
        get
        {
            if (End is not null)
                yield break;
            if (CurrentBlock > 0)
                foreach (var step in Plan.PersonSteps(CurrentBlock))
                    if (Of(step.Id).Status == StepStatus.Working)
                        yield return new AwaitedPerson(step, false, Of(step.Id).Begun);
            foreach (var (id, asked) in _undoAsked.OrderBy(u => u.Value))
                yield return new AwaitedPerson(Plan.Step(id), true, asked);
        }
    }

    /// <summary>Whether a person was asked to take a measure back and has not said that it is done.</summary>
    public bool IsUndoAsked(string step) => _undoAsked.ContainsKey(step);

    private readonly Dictionary<string, DateTimeOffset> _undoAsked = [];

    /// <summary>Steps whose node does not answer, each since when.</summary>
    public IReadOnlyDictionary<string, DateTimeOffset> Silent => _silent;

    private readonly Dictionary<string, DateTimeOffset> _silent = [];

    /// <summary>Measures that a person said can't be taken back.</summary>
    public List<MeasureKept> Kept { get; } = [];

    /// <summary>What people had to do beforehand and signed for this run.</summary>
    public ImmutableArray<Checks.SignedItem> TasksSigned { get; private set; } = [];

    /// <summary>Whether nothing but what persons do is at work.</summary>
    public bool OnlyPersonsWork =>
        AwaitedPersons.Any() && !OpenAttempts.Any() && _working.All(s => Plan.Step(s).Do is Catalogue.PersonAction);

    /// <summary>Grows the state by the next entry of the journal.</summary>
    public void Apply(JournalEntry entry)
    {
        (Sequence, LastAt) = (entry.Sequence, entry.At);
        Epoch = Math.Max(Epoch, entry.Epoch);
        switch (entry.Event)
        {
            case Opened e:
                (Label, By, Parent, OpenedAt) = (e.Label, e.By, e.Parent, entry.At);
                break;
            case Owned e:
                if (Owner is not null && StartedAt is not null)
                    ReadsAgainAfter = "another owner";
                Owner = e.Owner;
                break;
            case ReadingAwaited e:
                AwaitsReading = e.Why;
                break;
            case ReadAgain e:
                (ReadsAgainAfter, AwaitsReading, Changes) = (null, null, e.Changes);
                break;
            case MembersRead { When: "before" } e:
                (Before, AnswersBefore) = (e.Running, e.Answers ?? AnswersBefore);
                break;
            case AnswersCompared e:
                Comparison = e;
                break;
            case MembersRead e:
                (After, Owed) = (e.Running, e.Owed);
                break;
            case PlanChecked e:
                Accepted = e.Findings.Where(f => f.Waived is not null).Select(f => f.Id).ToHashSet();
                break;
            case Started e:
                (StartedAt, Pace) = (entry.At, e.Pace);
                break;
            case StartPlanned e:
                StartAt = e.At;
                break;
            case WindowAwaited e:
                AwaitsWindow = e;
                break;
            case RanLate e:
                LateAgainst = e.Due;
                break;
            case TurnBackNear e:
                (TurnBack, TurnBackSaid) = (e, e.WindowEnds);
                break;
            case SignOffAwaited e:
                AwaitsSignOff = Plan.SignOffs.First(s => s.Id == e.SignOff);
                break;
            case SignedOff e:
                _signOffs[e.Given.For] = e.Given;
                if (AwaitsSignOff?.Id == e.Given.For)
                    (AwaitsSignOff, ReadsAgainAfter) = (null, "a wait");
                break;
            case SignOffLapsed e:
                _signOffs.Remove(e.SignOff);
                break;
            case OrdersGiven e:
                (Orders, OrdersBy) = (e.Orders, e.By);
                break;
            case BlockEntered e:
                if (AwaitsWindow is not null)
                    ReadsAgainAfter = "a wait";
                (CurrentBlock, LanesDoneAt, Guards, AwaitsWindow) = (e.Block, null, null, null);
                _blocks[e.Block] = (entry.At, null);
                break;
            case GuardsChecked e:
                Guards = e;
                if (e.Hold)
                    _guarded.Add(e.Block);
                break;
            case SuccessorChosen e:
                _successors[e.Lane] = e.Member;
                break;
            case StepBegun e:
                Set(e.Step, s => s with { Status = StepStatus.Working, Begun = s.Begun ?? entry.At });
                break;
            case Intended e:
                AttemptCount++;
                if (!e.Undo && Plan.Step(e.Step).Undo is not null && !_measures.Contains(e.Step))
                    _measures.Add(e.Step);
                if (!e.Undo && Plan.Step(e.Step) is { Voids: not null } voiding)
                    Void(voiding);
                Set(e.Step, s =>
                    s with
                    {
                        Attempts = s.Attempts.Add(
                            new AttemptState(
                                e.Attempt,
                                e.Number,
                                entry.At,
                                entry.Sequence,
                                e.Undo,
                                null,
                                null,
                                null,
                                "",
                                false
                            )
                        ),
                    }
                );
                break;
            case ParametersRead e:
                _parameters.TryAdd(e.Step, e.Values);
                break;
            case Told e:
                _told[e.Step] = e.Numbers;
                break;
            case AttemptEnded e:
                _silent.Remove(e.Step);
                Set(e.Step, s =>
                    s with
                    {
                        Attempts = Replace(s.Attempts, e.Attempt, a =>
                            a with
                            {
                                End = e.End,
                                EndedAt = entry.At,
                                ExitCode = e.ExitCode,
                                Output = e.Output,
                            }
                        ),
                    }
                );
                break;
            case MilestoneReached e:
                Set(e.Step, s =>
                    s with
                    {
                        Attempts = Replace(s.Attempts, e.Attempt, a =>
                            a with
                            {
                                Milestones = a.Milestones.Add((e.Number, entry.At)),
                            }
                        ),
                    }
                );
                break;
            case AttemptOverdue e:
                Set(e.Step, s => s with { Attempts = Replace(s.Attempts, e.Attempt, a => a with { Overdue = true }) });
                break;
            case PointCaptured e:
                _points[e.Point] = new PointState(
                    Plan.Points.First(p => p.Id == e.Point),
                    e.Place,
                    e.Bytes,
                    e.Sha256,
                    e.Entries,
                    entry.At,
                    e.Step,
                    null,
                    null
                );
                break;
            case PointVerified e:
                _points[e.Point] = _points[e.Point] with { Verified = e.How, State = PointState.Usable };
                break;
            case PointGivingUp e:
                _points[e.Point] = _points[e.Point] with { State = PointState.GivingUp, Why = Said(e) };
                break;
            case PointGivenUp e:
                _points[e.Point] = _points[e.Point] with { State = PointState.GivenUp };
                break;
            case PersonSigned e:
                if (Of(e.Step).Begun is { } since && entry.At - since > LongWait)
                    ReadsAgainAfter = "a wait";
                Signed.Add(e);
                // What a person did is to be taken back as well, by a person or not.
                if (!e.Undo && Plan.Step(e.Step).Undo is not null && !_measures.Contains(e.Step))
                    _measures.Add(e.Step);
                break;
            case UndoAsked e:
                _undoAsked[e.Step] = entry.At;
                break;
            case NotAnswering e:
                _silent[e.Step] = e.Since;
                break;
            case AnswersAgain e:
                _silent.Remove(e.Step);
                break;
            case MeasureKept e:
                _measures.Remove(e.Step);
                _undoAsked.Remove(e.Step);
                Kept.Add(e);
                break;
            case TasksSigned e:
                TasksSigned = e.Items;
                break;
            case StepDone e:
                Set(e.Step, s => s with { Status = StepStatus.Done, EndedAt = entry.At, How = e.How, Why = null });
                break;
            case StepFailed e:
                Set(e.Step, s => s with { Status = StepStatus.Failed, EndedAt = entry.At, Why = e.Why });
                break;
            case MemberReverted e:
                _reverted.Add(e.Step);
                break;
            case MeasureTakenBack e:
                _measures.Remove(e.Step);
                _undoAsked.Remove(e.Step);
                break;
            case BlockSettled e:
                _settled.Add(e.Block);
                break;
            case BlockDone e:
                BlocksDone = e.Block;
                _blocks[e.Block] = (_blocks[e.Block].Begun, entry.At);
                break;
            case HoldAsked e:
                var planned = e.AsPlanned || e.By == RestOfThePlan;
                (HoldAskedFor, HoldsAtOnce, RestsAsPlanned, HoldAt) = (
                    true,
                    HoldsAtOnce || e.AtOnce,
                    planned,
                    planned ? HoldAt : null
                );
                break;
            case HoldPlanned e:
                HoldAt = e.At is null ? null : e;
                break;
            case Held:
                IsHeld = true;
                break;
            case WentOn:
                if (IsHeld)
                    ReadsAgainAfter = "a hold";
                (HoldAskedFor, HoldsAtOnce, IsHeld, RestsAsPlanned, Guards, RestedAt) = (
                    false,
                    false,
                    false,
                    false,
                    null,
                    BlocksDone
                );
                break;
            case Halted e:
                (Halt, HaltedAt, _haltNumber) = (e, entry.At, entry.Sequence);
                break;
            case Decided e:
                Decide(e);
                break;
            case ReturnBegun e:
                (Child, ChildEnd) = (e.Run, null);
                break;
            case ReturnEnded e:
                ChildEnd = e.End;
                break;
            case MemberReturned e:
                _returned.Add(e.Member);
                LeaveOut(e.Member);
                (ReturnWanted, ReturningMember, Child, ChildEnd, Guards, ReadsAgainAfter) = (
                    false,
                    null,
                    null,
                    null,
                    null,
                    "a halt"
                );
                break;
            case ClosingBegun e:
                ClosingAs = e.End;
                break;
            case LedBack e:
                LedBackBy = e.Run;
                break;
            case Ended e:
                (End, EndedAt) = (e.End, entry.At);
                break;
        }
    }

    private static string Said(PointGivingUp e) =>
        e.Reason is { Length: > 0 } reason ? $"given up by {e.By}: {reason}" : $"given up by {e.By}";

    // What a step has made useless is so from its intent on: it may have begun.
    private void Void(PlanStep step)
    {
        foreach (
            var (id, point) in _points
                .Where(p => p.Value.LeadsBack && step.MakesVoid(p.Value.Planned.Component, p.Value.Planned.Kind))
                .ToList()
        )
            _points[id] = point with { State = PointState.Void, Why = $"void by {step.Title} on {step.Node}" };
    }

    private void Decide(Decided decided)
    {
        Decisions.Add(decided);
        // A standing order is used up as often as it was given for.
        if (decided.Standing && Orders is [var used, ..])
            Orders = used.Times > 1 ? Orders.SetItem(0, used with { Times = used.Times - 1 }) : Orders.RemoveAt(0);
        if (decided is { Abandons: { } attempt, Step: { } abandoned })
            Abandon(abandoned, attempt);
        // Somebody was left out while the others went on: no halt ends by it, and no hold.
        if (decided.Decision == DecisionKind.LeaveOut && Halt is null)
        {
            LeaveOut(Plan.LaneOf(decided.Step!).Subject);
            return;
        }
        switch (decided.Decision)
        {
            case DecisionKind.CorrectAndTryAgain:
                if (decided is { Step: { } corrected, Amendment: { } amendment })
                    _amendments[corrected] = amendment;
                goto case DecisionKind.TryAgain;
            case DecisionKind.MarkAsDone:
                Set(decided.Step!, s => s with { Status = StepStatus.Working, Why = null, Marked = true });
                goto case DecisionKind.TryAgain;
            case DecisionKind.Skip:
                Set(decided.Step!, s =>
                    s with
                    {
                        Status = StepStatus.Done,
                        EndedAt = LastAt,
                        How = DoneHow.Skipped,
                        Why = null,
                    }
                );
                goto case DecisionKind.TryAgain;
            case DecisionKind.LeaveOut:
                LeaveOut(Plan.LaneOf(decided.Step!).Subject);
                goto case DecisionKind.TryAgain;
            case DecisionKind.AcceptDifferences:
                if (Changes.IsEmpty)
                    DifferencesAccepted = true;
                else
                    _acceptedChanges.UnionWith(Changes);
                goto case DecisionKind.TryAgain;
            case DecisionKind.GoPastWindow:
                PastWindow = true;
                goto case DecisionKind.TryAgain;
            case DecisionKind.TryAgain:
                _reverted.Clear();
                (ReadsAgainAfter, Changes) = ("a halt", []);
                foreach (var step in FailedSteps.ToList())
                    Set(step, s =>
                        s with
                        {
                            Status = s.Begun is null ? StepStatus.Pending : StepStatus.Working,
                            Why = null,
                            Marked = false,
                            DealtWith = s.Attempts.Length,
                        }
                    );
                (Halt, HoldAskedFor, HoldsAtOnce, IsHeld, Guards, TurnBack) = (null, false, false, false, null, null);
                // A member's return that did not come to its end is given up; its step is tried again.
                if (ReturningMember is not null)
                    (ReturnWanted, ReturningMember, Child, ChildEnd) = (false, null, null, null);
                // What differed is asked again, unless it was accepted as it is.
                if (!DifferencesAccepted)
                    Comparison = null;
                // Who takes over is chosen anew as long as nothing was done there.
                foreach (
                    var handing in Plan
                        .Blocks.SelectMany(b => b.Lanes)
                        .Where(l =>
                            l.HandsOver
                            && _successors.ContainsKey(l.Subject)
                            && l.Steps.Where(s => s.On == Catalogue.StepOn.Successor)
                                .All(s => Of(s.Id).Attempts.IsEmpty)
                        )
                )
                    _successors.Remove(handing.Subject);
                break;
            case DecisionKind.ReturnAsFarAs:
                (ReturnWanted, ReturnAsFarAs, Halt, TurnBack) = (true, decided.AsFarAs, null, null);
                break;
            case DecisionKind.ReturnMember:
                (ReturnWanted, ReturnAsFarAs, ReturningMember, Child, ChildEnd, Halt, TurnBack) = (
                    true,
                    null,
                    Plan.LaneOf(decided.Step!).Subject,
                    null,
                    null,
                    null,
                    null
                );
                break;
            case DecisionKind.StopHere:
                (ClosingAs, Halt) = (AttemptCount == 0 ? RunEnd.Abandoned : RunEnd.StoppedHere, null);
                break;
        }
    }

    private readonly Dictionary<string, (string Step, string Node)> _abandoned = [];

    /// <summary>Attempts whose end nobody waited for, since their node did not answer: each may still be at work on its
    /// node.</summary>
    public IReadOnlyDictionary<string, (string Step, string Node)> Abandoned => _abandoned;

    private void Abandon(string step, string attempt)
    {
        _abandoned[attempt] = (step, Plan.Step(step).Node);
        _silent.Remove(step);
        Set(step, s =>
            s with
            {
                Status = StepStatus.Failed,
                Attempts = Replace(s.Attempts, attempt, a => a with { End = AttemptEnd.Lost, EndedAt = LastAt }),
            }
        );
    }

    private void LeaveOut(string lane)
    {
        _leftOut.Add(lane);
        foreach (var step in FailedSteps.Where(f => Plan.LaneOf(f).Subject == lane).ToList())
            Set(step, s => s with { Status = StepStatus.Done, EndedAt = LastAt, How = DoneHow.LeftOut, Why = null });
    }

    private void Set(string step, Func<StepState, StepState> change)
    {
        var (before, after) = (Of(step), change(Of(step)));
        _steps[step] = after;
        Keep(_failed, step, after.Status == StepStatus.Failed);
        Keep(_open, step, after.Open is not null);
        Keep(_working, step, after.Status == StepStatus.Working);
        var (was, done) = (before.Status == StepStatus.Done, after.Status == StepStatus.Done);
        if (was != done)
        {
            StepsDone += done ? 1 : -1;
            _tide?.Changed(step, done, after.EndedAt);
        }
        if (CurrentBlock > 0 && after.Status == StepStatus.Done)
            LanesDoneAt = LastAt;
    }

    private static void Keep(SortedSet<string> set, string step, bool belongs)
    {
        if (belongs)
            set.Add(step);
        else
            set.Remove(step);
    }

    private static ImmutableArray<AttemptState> Replace(
        ImmutableArray<AttemptState> attempts,
        string id,
        Func<AttemptState, AttemptState> change
    ) => [.. attempts.Select(a => a.Id == id ? change(a) : a)];

    /// <summary>What the members of a lane's steps are now, as far as this run knows; null before it touched
    /// them.</summary>
    public MemberState? MemberStateOf(string member)
    {
        MemberState? state = null;
        foreach (var (block, step) in Plan.StepsOf(member))
        {
            if (block > CurrentBlock)
                break;
            var progress = Of(step.Id);
            if (progress.Status == StepStatus.Failed)
                return _reverted.Contains(step.Id) ? MemberState.Reverted : MemberState.Failed;
            if (progress.Status == StepStatus.Working)
                return step.State;
            if (progress.Status == StepStatus.Done)
                state = step.State switch
                {
                    MemberState.Leaving => MemberState.Out,
                    MemberState.Verifying when step.Name == "in-step" => MemberState.InService,
                    var at => at,
                };
        }
        return state;
    }
}
