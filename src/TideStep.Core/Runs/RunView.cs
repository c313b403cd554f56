using System.Collections.Immutable;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>One step as people and programs watch it.</summary>
public sealed record StepView(
    string Id,
    string Title,
    StepStatus Status,
    DateTimeOffset? Begun,
    DateTimeOffset? Ended,
    TimeSpan Expected,
    DoneHow? How,
    string? Why,
    string? Attempt,
    int Attempts,
    bool Person,
    string? Instructions,
    bool Overdue
)
{
    /// <summary>The parts of a long step; null where it has none.</summary>
    public ImmutableArray<MilestoneView>? Milestones { get; init; }
}

/// <summary>A part of a long step: since when its last attempt is at it or was, and how long it takes where that is
/// known.</summary>
public sealed record MilestoneView(string Title, TimeSpan? Takes, DateTimeOffset? Begun);

/// <summary>A lane: one subject and its steps.</summary>
public sealed record LaneView(string Subject, MemberState? State, ImmutableArray<StepView> Steps);

/// <summary>A block: ahead, at work, settling, done, or failed.</summary>
public sealed record BlockView(
    int Number,
    int Move,
    Phase Phase,
    int Wave,
    string Title,
    string Status,
    DateTimeOffset? Begun,
    DateTimeOffset? Ended,
    TimeSpan Expected,
    TimeSpan Settle,
    ImmutableArray<string> ComponentsOut,
    ReturnPath Return,
    ImmutableArray<LaneView> Lanes
)
{
    /// <summary>How many lanes it has, told or not.</summary>
    public int Members { get; init; }
}

/// <summary>A decision that is open to a person now, with what it means.</summary>
public sealed record DecisionView(DecisionKind Decision, string Means);

/// <summary>How many members of a component run which version, as far as the run knows.</summary>
public sealed record TideView(string Component, string From, string To, int Old, int New);

/// <summary>A sign-off that the plan asks for: whether the run waits for it now, and what was given.</summary>
public sealed record SignOffView(PlannedSignOff Asked, bool Awaited, SignOff? Given);

/// <summary>A step that waits for a person: what it is, on which member, since when, whose, how it is done, and the
/// command that signs it.</summary>
public sealed record PersonAwaited(
    string Step,
    string Title,
    string Member,
    DateTimeOffset? Since,
    string? Owner,
    string Instructions,
    string Command
)
{
    /// <summary>Whether a measure is to be taken back; then it can also be said that it can't be.</summary>
    public bool Undo { get; init; }
}

/// <summary>A run as people and programs watch it, folded from its journal.</summary>
/// <param name="Share">Steps done of all, from 0 to 1.</param>
public sealed record RunView(
    string Run,
    string Label,
    RunStatus Status,
    string Plan,
    string Kind,
    string By,
    string? Parent,
    string? Child,
    DateTimeOffset? Opened,
    DateTimeOffset? Started,
    DateTimeOffset? Ended,
    DateTimeOffset LastAt,
    long Sequence,
    int StepsDone,
    int StepsTotal,
    double Share,
    TimeSpan Planned,
    DateTimeOffset? ForecastEnd,
    int CurrentBlock,
    string? WaitsFor,
    string? Halt,
    string? HaltStep,
    ImmutableArray<DecisionView> Decisions,
    ImmutableArray<string> Goal,
    ImmutableArray<TideView> Tide,
    ImmutableArray<BlockView> Blocks,
    ImmutableArray<PointState> Points,
    ImmutableArray<string> Measures,
    ImmutableArray<SignOffView> SignOffs
)
{
    /// <summary>The steps that wait for a person now.</summary>
    public ImmutableArray<PersonAwaited> Persons { get; init; } = [];

    /// <summary>Whether nothing goes on till a person has signed.</summary>
    public bool OnlyPersonsWork { get; init; }

    /// <summary>The run that leads this one back after its end, where one was begun.</summary>
    public string? LedBackBy { get; init; }

    /// <summary>The number of the halt that waits for a decision; null where none does.</summary>
    public long? HaltNumber { get; init; }

    /// <summary>Before when it begins nothing but what only lies ready, where somebody said so.</summary>
    public DateTimeOffset? StartsAt { get; init; }

    /// <summary>When it is to hold, where somebody said so.</summary>
    public DateTimeOffset? HoldsAt { get; init; }

    /// <summary>When the window ends in which it works, or which it waits for; null where it has none or has
    /// ended.</summary>
    public DateTimeOffset? WindowEnds { get; init; }

    /// <summary>How long before the end of its last window it is forecast to end; negative where it will be late. Null
    /// where it is not in its last window.</summary>
    public TimeSpan? Spare { get; init; }

    /// <summary>Whether it can be led back after its end, as far as its own journal tells.</summary>
    public bool MayBeLedBack { get; init; }

    /// <summary>When members of waves were back on their new versions.</summary>
    public ImmutableArray<ArrivalView> Arrivals { get; init; } = [];

    private const int MostArrivals = 300;

    /// <summary>The view of a run's state.</summary>
    /// <param name="run">The run's identifier.</param>
    /// <param name="state">Its state.</param>
    /// <param name="pace">By how much the installation's time runs faster than the plan's.</param>
    /// <param name="lanes">Of which parts the lanes are told; of all where null.</param>
    /// <param name="most">How many lanes of a part are told at most, those that failed or are at work before others;
    /// all where null.</param>
    public static RunView Of(string run, RunState state, double pace, Func<int, bool>? lanes = null, int? most = null)
    {
        var blocks = state
            .Plan.Blocks.Select(b => ViewOf(state, b, lanes?.Invoke(b.Number) == false ? 0 : most ?? int.MaxValue))
            .ToImmutableArray();
        var (window, last) = WindowOf(state);
        var forecast = Forecast.EndOf(state, pace);
        var (done, total) = (state.StepsDone, state.Plan.StepCount);
        return new RunView(
            run,
            state.Label,
            state.Status,
            state.Plan.Digest,
            state.Plan.Kind,
            state.By,
            state.Parent,
            state.Child,
            state.OpenedAt,
            state.StartedAt,
            state.EndedAt,
            state.LastAt,
            state.Sequence,
            done,
            total,
            total == 0 ? 1 : (double)done / total,
            state.Plan.Expected,
            forecast,
            state.CurrentBlock,
            Waits(state),
            WhyHalted(state),
            state.Halt?.Step,
            DecisionsOf(state),
            state.Plan.Goal,
            state.Tide.Views,
            blocks,
            [.. state.Points.Values.OrderBy(p => p.Planned.Id, StringComparer.Ordinal)],
            [.. state.Measures],
            [
                .. state.Plan.SignOffs.Select(s => new SignOffView(
                    s,
                    state.AwaitsSignOff == s,
                    state.SignOffs.GetValueOrDefault(s.Id)
                )),
            ]
        )
        {
            Persons = PersonsOf(run, state),
            OnlyPersonsWork = state.OnlyPersonsWork,
            LedBackBy = state.LedBackBy,
            StartsAt = state.StartAt,
            HaltNumber = state.HaltNumber,
            WindowEnds = window?.To,
            Spare = last ? window?.To - forecast : null,
            HoldsAt = state.HoldAt?.At,
            Arrivals = state.Tide.Arrivals(MostArrivals),
            MayBeLedBack = state.End is not null && Orders.ReturnEnded(state) is null && LeadsBack(state),
        };
    }

    // The window of the part that is at work or comes next, and whether it is the last.
    private static (PlanWindow? Window, bool Last) WindowOf(RunState state)
    {
        var windows = state.Plan.Windows;
        if (state.End is not null || windows.IsEmpty || state.Plan.Blocks.IsEmpty)
            return default;
        var block = state.Plan.Blocks[Math.Clamp(state.BlocksDone, 0, state.Plan.Blocks.Length - 1)];
        var window = windows.FirstOrDefault(w => block.Move <= w.LastMove) ?? windows[^1];
        return (window, window == windows[^1]);
    }

    // By what the plan showed for the parts that were done, and the one in which it was stopped.
    private static bool LeadsBack(RunState state) =>
        state
            .Plan.Blocks.Where(b => b.Number == state.BlocksDone || b.Number == state.CurrentBlock)
            .Any(b => b.Return.State != ReturnState.Closed || b.Return.Partly is not null);

    private static ImmutableArray<PersonAwaited> PersonsOf(string run, RunState state) =>
        [
            .. state.AwaitedPersons.Select(a => new PersonAwaited(
                a.Step.Id,
                a.Title,
                a.Step.Member,
                a.Since,
                a.Step.Owner,
                a.Instructions,
                $"tidestep run sign {run} {Quoted(a.Title)} --member {a.Step.Member} --evidence 'what you did and saw'"
            )
            {
                Undo = a.Undo,
            }),
        ];

    private static string Quoted(string text) => $"'{text.Replace("'", "'\\''", StringComparison.Ordinal)}'";

    // A halt is kept true: what has come since is said with it.
    internal static string? WhyHalted(RunState state)
    {
        if (state.Halt is not { } halt)
            return null;
        if (halt.Step is not { } step || state.Of(step).Attempts.LastOrDefault(a => !a.Undo) is not { } last)
            return halt.Why;
        if (last is { End: AttemptEnd.Succeeded, EndedAt: { } ended } && ended > state.HaltedAt)
            return $"{halt.Why}. Since then it has ended well: with 'try again' the run goes on from there";
        return state.Silent.TryGetValue(step, out var since)
            ? $"{halt.Why}. {state.Plan.Step(step).Node} has not answered since "
                + $"{since:yyyy-MM-dd HH:mm zzz}: what was begun "
                + "there may still be at work"
            : halt.Why;
    }

    internal static string? Waits(RunState state)
    {
        if (state is { Halt: null, End: null } && state.Silent.FirstOrDefault() is { Key: { } silent } its)
            return $"for {state.Plan.Step(silent).Node}, which has not answered since "
                + $"{its.Value:yyyy-MM-dd HH:mm zzz}: "
                + state.Plan.Step(silent).Title;
        if (state.Halt is null && state.AwaitedPersons.FirstOrDefault() is { } person)
            return $"for {person.Step.Owner ?? "a person"}: {person.Title}, on {person.Step.Member}"
                + (state.AwaitedPersons.Count() is > 1 and var all ? $", and {all - 1} more" : "");
        if (state.Status == RunStatus.Waiting)
            return state.AwaitsSignOff is { } asked
                ? $"for a sign-off, "
                    + $"{asked.Why}{(asked.ByAnother ? ", by somebody else than those whose plan and run it is" : "")}"
                : state.AwaitsReading ?? (state.AwaitsWindow is { } hour ? Hour(state, hour) : state.Guards?.Why);
        if (state is { Status: RunStatus.Held, HoldsAtOnce: true } && state.CurrentBlock > state.BlocksDone)
        {
            var middle = state
                .Plan.Blocks[state.CurrentBlock - 1]
                .Lanes.Select(l =>
                    (
                        l.Subject,
                        Next: l.Steps.FirstOrDefault(s => state.Of(s.Id).Status != StepStatus.Done),
                        Before: l.Steps.LastOrDefault(s => state.Of(s.Id).Status == StepStatus.Done)
                    )
                )
                .Where(l => l is { Next: not null, Before.SafeAfter: false })
                .Select(l => $"{l.Subject} before '{l.Next!.Title}'")
                .ToList();
            return middle.Count == 0
                ? null
                : $"held at once, with members in the middle: {string.Join(", ", middle)}; say go-on soon";
        }
        if (
            state.Status != RunStatus.Held
            || state.BlocksDone == 0
            || !state.Plan.Blocks[state.BlocksDone - 1].RestsAfter
            || state.BlocksDone >= state.Plan.Blocks.Length
        )
            return null;
        var next = state.Plan.Windows.FirstOrDefault(w => w.FirstMove >= state.Plan.Blocks[state.BlocksDone].Move);
        return $"it rests, as planned, till "
            + $"{(next is null ? "its next window" : $"{next.Name} opens on {next.From:ddd yyyy-MM-dd HH:mm zzz}")}; "
            + $"say go-on then";
    }

    private static string Hour(RunState state, WindowAwaited awaited)
    {
        if (awaited.Till == state.StartAt)
            return $"for the time to begin, {awaited.Till:ddd yyyy-MM-dd HH:mm zzz}";
        var block = state.Plan.Blocks[awaited.Block - 1];
        return state.Plan.Windows.FirstOrDefault(w => w.From == awaited.Till) is { } window
            ? $"for its window: {window.Name} opens on {window.From:ddd yyyy-MM-dd HH:mm zzz}"
            : $"for the end of a freeze, {awaited.Till:ddd yyyy-MM-dd HH:mm zzz}, before {block.Title}";
    }

    private static BlockView ViewOf(RunState state, Block block, int most)
    {
        ImmutableArray<LaneView> lanes =
        [
            .. Told(state, block, most)
                .Select(l => new LaneView(
                    l.Subject,
                    block.Number <= state.CurrentBlock ? state.MemberStateOf(l.Subject) ?? AtWork(state, l) : null,
                    [.. l.Steps.Select(s => ViewOf(state, s))]
                )),
        ];
        var status =
            block.Number <= state.BlocksDone ? "done"
            : block.Number > state.CurrentBlock ? "ahead"
            : state.FailedSteps.Any(f => state.Plan.BlockOf(f) == block.Number) ? "failed"
            : block.CheckGuards && !state.GuardsPassed(block.Number) ? "checking guards"
            : block.Lanes.All(l => l.Steps.All(s => state.Of(s.Id).Status == StepStatus.Done)) ? "settling"
            : "at work";
        var (begun, ended) = state.Blocks.TryGetValue(block.Number, out var times)
            ? ((DateTimeOffset?)times.Begun, times.Ended)
            : (null, null);
        return new BlockView(
            block.Number,
            block.Move,
            block.Phase,
            block.Wave,
            block.Title,
            status,
            begun,
            ended,
            block.Expected,
            block.Settle,
            block.ComponentsOut,
            block.Return,
            lanes
        )
        {
            Members = block.Lanes.Length,
        };
    }

    // Of very many what failed and what is at work matters most; they stay in the plan's order.
    private static IEnumerable<Lane> Told(RunState state, Block block, int most)
    {
        if (most == 0 || block.Lanes.Length <= most)
            return most == 0 ? [] : block.Lanes;
        var told = new HashSet<Lane>(ReferenceEqualityComparer.Instance);
        foreach (var step in state.FailedSteps.Concat(state.WorkingSteps))
            if (told.Count < most && state.Plan.BlockOf(step) == block.Number)
                told.Add(state.Plan.LaneOf(step));
        foreach (var done in new[] { false, true })
        foreach (var lane in block.Lanes)
            if (told.Count >= most)
                break;
            else if (done || state.Of(lane.Steps[^1].Id).Status != StepStatus.Done)
                told.Add(lane);
        return block.Lanes.Where(told.Contains);
    }

    // Before a lane's own member leaves, what stands on its node does: the lane shows that.
    private static MemberState? AtWork(RunState state, Lane lane) =>
        lane.Steps.LastOrDefault(s =>
            state.Of(s.Id).Status is StepStatus.Working or StepStatus.Failed or StepStatus.Done
        )
            is { } step
            ? state.Of(step.Id).Status == StepStatus.Failed
                ? MemberState.Failed
                : step.State
            : null;

    private static StepView ViewOf(RunState state, PlanStep step)
    {
        var progress = state.Of(step.Id);
        var last = progress.Attempts.LastOrDefault();
        return new StepView(
            step.Id,
            step.Title,
            progress.Status,
            progress.Begun,
            progress.EndedAt,
            step.Expected,
            progress.How,
            progress.Why,
            last?.Id,
            progress.Attempts.Length,
            step.Do is Catalogue.PersonAction,
            (step.Do as Catalogue.PersonAction)?.Instructions,
            last?.Overdue ?? false
        )
        {
            Milestones = step.Milestones is { } milestones
                ?
                [
                    .. milestones.Select(
                        (p, i) =>
                            new MilestoneView(
                                p.Title,
                                p.Takes,
                                last?.Milestones.Where(r => r.Number == i + 1)
                                    .Select(r => (DateTimeOffset?)r.At)
                                    .FirstOrDefault()
                            )
                    ),
                ]
                : null,
        };
    }

    private static DecisionView LeavesOutSilent(
        RunState state,
        (string Member, string Step, DateTimeOffset Since) silent
    ) =>
        new(
            DecisionKind.LeaveOut,
            $"nobody waits for {silent.Member} any more, whose node has not answered since "
                + $"{silent.Since:yyyy-MM-dd HH:mm zzz}; '{state.Plan.Step(silent.Step).Title}' was begun there and "
                + "may still be at work. Nothing more is done on it, it counts as out, the guards of what comes "
                + "after have to hold without it, and the report names it"
        );

    private static ImmutableArray<DecisionView> DecisionsOf(RunState state)
    {
        if (state.Status is not (RunStatus.Halted or RunStatus.Held))
            return Orders.SilentMember(state) is { } absent ? [LeavesOutSilent(state, absent)] : [];
        var (entry, back) = (
            state.Plan.Blocks.LastOrDefault(b => b.Number <= state.CurrentBlock),
            state.Plan.Kind == Plans.Plan.Return
                ? "leads this return itself back"
                : "begins the return path as a run of its own"
        );
        var list = ImmutableArray.CreateBuilder<DecisionView>();
        if (state.Status == RunStatus.Halted)
            list.Add(
                new DecisionView(
                    DecisionKind.TryAgain,
                    state.Halt!.Step is { } step
                            ? $"{state.Plan.Step(step).Title} on {state.Plan.Step(step).Node} is tried again; "
                                + $"then the run goes on"
                        : state.Changes.IsEmpty ? "what the run waits for is looked at again"
                        : state.Changes is [{ Subject: OutsideChanges.WayBack }]
                            ? "it is asked again what leads back, and the run goes on if the way to the start is open"
                        : "the members and documents are read again, and the run goes on if they are as it left them"
                )
            );
        if (Orders.SilentMember(state) is { } silent)
            list.Add(LeavesOutSilent(state, silent));
        else if (state.Status == RunStatus.Halted && state.Halt!.Step is { } halted)
        {
            var its = state.Plan.Step(halted);
            foreach (
                var (kind, means) in new[]
                {
                    (
                        DecisionKind.CorrectAndTryAgain,
                        $"another limit, number of attempts or other arguments for {its.Title}; then it is tried again"
                    ),
                    (
                        DecisionKind.MarkAsDone,
                        its.Verify is null
                            ? "it counts as done on your word"
                            : $"it counts as done once this holds: {its.Verify.Text}"
                    ),
                    (DecisionKind.Skip, "it is not done, and the run goes on; what comes after it has to do without"),
                    (
                        DecisionKind.ReturnMember,
                        $"a run of its own leads {state.Plan.LaneOf(halted).Subject} back to what it ran; "
                            + $"then the others go on without it"
                    ),
                    (
                        DecisionKind.LeaveOut,
                        $"nothing more is done on {state.Plan.LaneOf(halted).Subject}; it stays as it is, "
                            + $"counts as out, and the report names it"
                    ),
                }
            )
                if (
                    Orders
                        .Decide(
                            state,
                            kind,
                            "somebody",
                            "a reason",
                            null,
                            new Amendment(TimeSpan.FromHours(1), null, [])
                        )
                        .Refused
                    is null
                )
                    list.Add(new DecisionView(kind, means));
        }
        if (
            state.Status == RunStatus.Halted
            && state.Halt!.Step is null
            && state.Changes.IsEmpty
            && !(state.Plan.Windows.IsEmpty && state.Plan.Freezes.IsEmpty)
            && !state.PastWindow
        )
            list.Add(
                new DecisionView(
                    DecisionKind.GoPastWindow,
                    "the run goes on although its window ends, or a freeze stands; nothing keeps it to the "
                        + "hours any more"
                )
            );
        if (
            state.Status == RunStatus.Halted
            && Orders.Decide(state, DecisionKind.AcceptDifferences, "somebody", "a reason", null).Refused is null
        )
            list.Add(
                new DecisionView(
                    DecisionKind.AcceptDifferences,
                    state.Changes is [{ Subject: OutsideChanges.WayBack }]
                            ? "the run goes on although nothing leads back to the start any more; the report "
                                + "names it with your reason"
                        : state.Changes.IsEmpty
                            ? "the run closes with what differs; the report names it with your reason"
                        : "the run goes on with what was changed as it is; what is right already is not done "
                            + "again, and every member still has to pass its verification"
                )
            );
        if (state.Plan.Kind == Plans.Plan.Upgrade && MayBe(state, DecisionKind.ReturnAsFarAs))
            list.Add(
                new DecisionView(
                    DecisionKind.ReturnAsFarAs,
                    $"{back}: "
                        + (
                            entry?.Return.State switch
                            {
                                ReturnState.WithLoss => "with loss, ",
                                ReturnState.Closed => entry.Return.Partly is { } partly
                                    ? $"as far as move {partly.Move}, "
                                        + (partly.State == ReturnState.WithLoss ? "with loss" : "clean")
                                        + $", {Documents.Durations.Write(partly.Length)}; to the start it is closed: "
                                    : "closed for what is planned here: ",
                                _ => "clean, ",
                            }
                        )
                        + $"{entry?.Return.Why}"
                )
            );
        if (MayBe(state, DecisionKind.StopHere))
            list.Add(
                new DecisionView(
                    DecisionKind.StopHere,
                    "temporary measures are taken back, everything else stays as it is; the run ends"
                )
            );
        return list.ToImmutable();
    }

    // What would be refused, while something still runs, is not offered.
    private static bool MayBe(RunState state, DecisionKind kind) =>
        Orders.Decide(state, kind, "somebody", "a reason", null).Refused is null;
}
