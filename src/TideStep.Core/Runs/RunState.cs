using System.Collections.Immutable;
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

/// <summary>A run as its journal tells it; nothing else is kept of a run. Made by <see cref="Fold"/> or grown by <see
/// cref="Apply"/>.</summary>
public sealed partial class RunState(Plan plan)
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
    /// are to be taken back.</summary>
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

    private readonly Dictionary<string, (string Step, string Node)> _abandoned = [];

    /// <summary>Attempts whose end nobody waited for, since their node did not answer: each may still be at work on its
    /// node.</summary>
    public IReadOnlyDictionary<string, (string Step, string Node)> Abandoned => _abandoned;

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
                    MemberState.Verifying when step.PutsInStep => MemberState.InService,
                    var at => at,
                };
        }
        return state;
    }
}
