using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>One member before and after.</summary>
public sealed record ReportMember(string Member, string Before, string After);

/// <summary>One block's time against the plan.</summary>
public sealed record ReportBlock(int Block, string Title, TimeSpan Planned, TimeSpan? Took);

/// <summary>A step of a component that was done, with its digest.</summary>
public sealed record ReportStep(string Component, string Step, string Digest);

/// <summary>What a step's own output told of its success.</summary>
public sealed record ReportTold(string Step, string Node, ImmutableSortedDictionary<string, double> Numbers);

/// <summary>Something that needed a person: a halt, a decision, a signature.</summary>
public sealed record ReportMark(DateTimeOffset At, string What);

/// <summary>A run's closing report; times are those of the journal.</summary>
public sealed record RunReport(
    string Run,
    string Label,
    string Plan,
    string Kind,
    string Estate,
    string End,
    string OpenedBy,
    string? Parent,
    string? Return,
    DateTimeOffset? Started,
    DateTimeOffset? Ended,
    TimeSpan Planned,
    TimeSpan? Took,
    ImmutableArray<string> Goal,
    ImmutableArray<ReportMember> Members,
    ImmutableArray<ReportBlock> Blocks,
    ImmutableArray<ReportMark> Marks,
    ImmutableArray<PointState> Points,
    ImmutableArray<string> OpenMeasures
)
{
    /// <summary>What was asked before and after, with its differences; none where nothing was asked.</summary>
    public ImmutableArray<Compared> Answers { get; init; } = [];

    /// <summary>The jumps of the plan, in their order.</summary>
    public ImmutableArray<PlannedJump> Jumps { get; init; } = [];

    /// <summary>The steps that were done, each once for a component, with their digests: evidence for plans of the same
    /// steps elsewhere.</summary>
    public ImmutableArray<ReportStep> Steps { get; init; } = [];

    /// <summary>What steps' own output told of their success.</summary>
    public ImmutableArray<ReportTold> Told { get; init; } = [];

    /// <summary>Restarts that are owed after the work; null where nobody asked.</summary>
    public ImmutableArray<OwedRestart>? Owed { get; init; }

    /// <summary>What may be planned next.</summary>
    public ImmutableArray<NextStep> Next { get; init; } = [];

    /// <summary>What is left to be done.</summary>
    public ImmutableArray<FollowUp> FollowUps { get; init; } = [];

    /// <summary>Makes the report from a run's state and journal.</summary>
    public static RunReport Of(string run, RunState state, IEnumerable<JournalEntry> journal)
    {
        string? owner = null;
        var marks = journal
            .Select(e =>
                e.Event switch
                {
                    Opened o => new ReportMark(e.At, $"opened by {o.By}{(o.Reason is null ? "" : $": {o.Reason}")}"),
                    Runs.ReadAgain { Changes.IsEmpty: false } r => new ReportMark(
                        e.At,
                        $"read again after {r.After}: {string.Join("; ", r.Changes)}"
                    ),
                    Runs.Started s => new ReportMark(e.At, $"started by {s.By}"),
                    Owned o when owner is null || owner == o.Owner => Remember(o.Owner),
                    Owned o => new ReportMark(e.At, $"taken over by {owner = o.Owner}"),
                    PlanChecked c => new ReportMark(
                        e.At,
                        $"checked: {c.Checks} checks, {c.Findings.Length} failed or open"
                            + (
                                string.Concat(
                                    c.Findings.Where(f => f.Waived is not null)
                                        .Select(f =>
                                            $"; accepted by {f.Waived!.By}"
                                            + $"{(f.Waived.Second is { } second ? $" and {second}" : "")}: "
                                            + $"{f.Id}, {f.What} ({f.Waived.Reason})"
                                        )
                                )
                            )
                    ),
                    Runs.HoldAsked h => new ReportMark(
                        e.At,
                        $"hold asked for by {h.By}{(h.AtOnce ? ", at once" : "")}"
                    ),
                    HoldPlanned h => new ReportMark(
                        e.At,
                        h.At is { } when
                            ? $"to hold at {when:yyyy-MM-dd HH:mm zzz}, said by {h.By}"
                            : $"not to hold at a time any more, said by {h.By}"
                    ),
                    Runs.Held => new ReportMark(e.At, "held"),
                    WentOn w => new ReportMark(e.At, $"went on by {w.By}"),
                    Runs.Halted h => new ReportMark(e.At, $"halted: {h.Why}"),
                    OrdersGiven o => new ReportMark(e.At, $"standing orders by {o.By}: {Written(o.Orders)}"),
                    SuccessorChosen c => new ReportMark(e.At, $"{c.Lane} hands over to {c.Member}: {c.Why}"),
                    AnswersCompared c => new ReportMark(
                        e.At,
                        $"asked again: {c.Answers.Count} answers, {c.Differences.Length} differ, "
                            + $"{c.Differences.Count(d => !d.Borne)} of them more than they may"
                    ),
                    RanLate l => new ReportMark(
                        e.At,
                        $"late: by its pace it ends {l.Forecast:yyyy-MM-dd HH:mm zzz}, it was to end "
                            + $"{l.Due:yyyy-MM-dd HH:mm zzz}"
                    ),
                    SignOffAwaited w => new ReportMark(e.At, $"waits for a sign-off: {w.SignOff}"),
                    SignedOff { Given: var g } => new ReportMark(
                        e.At,
                        $"signed off by {g.By}: {g.For} of plan {g.Plan}, holds until {g.Ends:yyyy-MM-dd HH:mm zzz}"
                            + (
                                g.TurnBack.IsDefaultOrEmpty
                                    ? ", every halt waits for somebody"
                                    : $", at a halt that nobody decides: {Written(g.TurnBack)}"
                            )
                            + $"{(g.Note is null ? "" : $" ({g.Note})")}"
                    ),
                    SignOffLapsed l => new ReportMark(e.At, $"the sign-off {l.SignOff} held no more"),
                    StartPlanned s => new ReportMark(
                        e.At,
                        s.At is { } begins
                            ? $"to begin at {begins:yyyy-MM-dd HH:mm zzz}, said by {s.By}"
                            : $"not to wait for a time any more, said by {s.By}"
                    ),
                    WindowAwaited w => new ReportMark(e.At, $"waits for its hour, {w.Till:yyyy-MM-dd HH:mm zzz}"),
                    Decided { Step: { } step } d => new ReportMark(
                        e.At,
                        $"decided by {d.By}: {Word(d.Decision)}, {step}"
                            + (d.Amendment is { } a ? $", " + Amended(a) : "")
                            + $" ({d.Reason})"
                    ),
                    Decided d => new ReportMark(
                        e.At,
                        $"decided by {d.By}{(d.Standing ? "'s standing order" : "")}: "
                            + Word(d.Decision, d.AsFarAs)
                            + $"{(d.Reason is null ? "" : $" ({d.Reason})")}"
                    ),
                    PersonSigned p => new ReportMark(
                        e.At,
                        $"signed by {p.By}: {(p.Undo ? "taken back, " : "")}{state.Plan.Step(p.Step).Title}, on "
                            + $"{state.Plan.Step(p.Step).Member} ({EvidenceFile.Beside(p.Evidence, p.File)})"
                    ),
                    MeasureKept k => new ReportMark(
                        e.At,
                        $"not taken back, says {k.By}: {state.Plan.Step(k.Step).Title}, on "
                            + $"{state.Plan.Step(k.Step).Member} "
                            + $"({EvidenceFile.Beside(k.Why, k.File)})"
                    ),
                    TasksSigned t => new ReportMark(
                        e.At,
                        "done beforehand: "
                            + string.Join(
                                "; ",
                                t.Items.Select(i =>
                                    $"{i.Item}, signed by {i.By} ({EvidenceFile.Beside(i.Evidence, i.File)})"
                                )
                            )
                    ),
                    ReturnBegun r => new ReportMark(e.At, $"return began as run {r.Run}"),
                    MemberReverted m => new ReportMark(e.At, $"{m.Member} went back to {m.To} by itself"),
                    MemberReturned m => new ReportMark(
                        e.At,
                        $"{m.Member} was returned by itself; the run goes on without it"
                    ),
                    ReturnEnded r => new ReportMark(e.At, $"return ended: {EndWord(r.End)}"),
                    PointGivingUp g => new ReportMark(
                        e.At,
                        $"rollback point {g.Point} given up by {g.By}{(g.Reason is null ? "" : $" ({g.Reason})")}"
                    ),
                    LedBack l => new ReportMark(e.At, $"led back after its end, by run {l.Run}"),
                    Runs.Ended x => new ReportMark(e.At, $"ended: {EndWord(x.End)}"),
                    _ => null,
                }
            )
            .OfType<ReportMark>()
            .ToImmutableArray();
        var members = state
            .Before.Keys.Union(state.After.Keys)
            .Order(StringComparer.Ordinal)
            .Select(m => new ReportMember(
                m,
                state.Before.GetValueOrDefault(m, "-"),
                state.After.GetValueOrDefault(m, "-")
            ))
            .ToImmutableArray();
        var blocks = state
            .Plan.Blocks.Select(b => new ReportBlock(
                b.Number,
                b.Title,
                b.Expected + b.Settle,
                state.Blocks.TryGetValue(b.Number, out var t) && t.Ended is { } ended ? ended - t.Begun : null
            ))
            .ToImmutableArray();
        ReportMark? Remember(string name)
        {
            owner = name;
            return null;
        }
        return new RunReport(
            run,
            state.Label,
            state.Plan.Digest,
            state.Plan.Kind,
            state.Plan.Estate,
            EndWord(state),
            state.By,
            state.Parent,
            state.Child,
            state.StartedAt,
            state.EndedAt,
            state.Plan.Expected,
            state.StartedAt is { } from ? (state.EndedAt ?? state.LastAt) - from : null,
            state.Plan.Goal,
            members,
            blocks,
            marks,
            [.. state.Points.Values.OrderBy(p => p.Planned.Id, StringComparer.Ordinal)],
            [.. state.Measures]
        )
        {
            Answers = state.Comparison is { } compared
                ? BeforeAndAfter.Of(state.Plan, state.AnswersBefore, compared.Answers)
                : [],
            FollowUps = Runs.FollowUps.Of(state),
            Owed = state.Owed,
            Jumps = [.. state.Plan.Moves.SelectMany(m => m.Jumps)],
            Steps = StepsDone(state),
            Told =
            [
                .. state
                    .Numbers.Select(n => (Step: state.Plan.Step(n.Key), n.Value))
                    .Select(n => new ReportTold(n.Step.Title, n.Step.Node, n.Value))
                    .OrderBy(t => t.Step, StringComparer.Ordinal)
                    .ThenBy(t => t.Node, StringComparer.Ordinal),
            ],
        };
    }

    // Only what was really done or found done by itself is evidence; what a person skipped, marked or left out is none.
    private static string Numbered(KeyValuePair<string, double> number) =>
        $"{number.Key} {number.Value.ToString("0.####", CultureInfo.InvariantCulture)}";

    private static string Amended(Amendment amendment) =>
        string.Join(
            ", ",
            new[]
            {
                amendment.Limit is { } limit ? $"limit {Durations.Write(limit)}" : null,
                amendment.Times is { } times ? $"{times} attempts" : null,
                amendment.Command.IsDefaultOrEmpty ? null : $"arguments {string.Join(' ', amendment.Command)}",
            }.OfType<string>()
        );

    private static ImmutableArray<ReportStep> StepsDone(RunState state) =>
        [
            .. state
                .Plan.Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .Where(s =>
                    s.Digest is not null
                    && state.Of(s.Id)
                        is { Status: StepStatus.Done, How: DoneHow.Done or DoneHow.Already or DoneHow.Signed }
                )
                .Select(s => new ReportStep(s.Component, s.Name, s.Digest!))
                .Distinct()
                .OrderBy(s => s.Component, StringComparer.Ordinal)
                .ThenBy(s => s.Step, StringComparer.Ordinal),
        ];

    /// <summary>Standing orders in words.</summary>
    public static string Written(IEnumerable<StandingOrder> orders) =>
        string.Join(
            ", then ",
            orders.Select(s =>
                $"{Word(s.Decision)} after {Durations.Write(s.After)}{(s.Times > 1 ? $", {s.Times} times" : "")}"
            )
        );

    /// <summary>A decision that was taken, with how far a return was to lead.</summary>
    public static string Word(DecisionKind decision, string? asFarAs) =>
        decision == DecisionKind.ReturnAsFarAs ? ReturnTo(asFarAs) : Word(decision);

    private static string ReturnTo(string? asFarAs) =>
        asFarAs is null or "" or "start" ? "return to the start" : $"return as far as the beginning of {asFarAs}";

    public static string Word(DecisionKind decision) =>
        decision switch
        {
            DecisionKind.TryAgain => "try again",
            DecisionKind.CorrectAndTryAgain => "correct and try again",
            DecisionKind.MarkAsDone => "mark as done",
            DecisionKind.Skip => "skip",
            DecisionKind.LeaveOut => "leave this member out and go on",
            DecisionKind.GoPastWindow => "go past the window",
            DecisionKind.AcceptDifferences => "accept what differs",
            DecisionKind.ReturnMember => "return this member and go on",
            DecisionKind.ReturnAsFarAs => "return",
            _ => "stop here",
        };

    private static string EndWord(RunState state) =>
        state.End is { } end ? EndWord(end) : $"not ended ({state.Status.ToString().ToLowerInvariant()})";

    public static string EndWord(RunEnd end) =>
        end switch
        {
            RunEnd.Completed => "completed",
            RunEnd.Returned => "returned",
            RunEnd.StoppedHere => "stopped here",
            _ => "abandoned",
        };

    /// <summary>The report as Markdown; times in the given zone, with their offset.</summary>
    public string ToMarkdown(TimeZoneInfo zone)
    {
        var text = new StringBuilder();
        string At(DateTimeOffset? time) =>
            time is { } t
                ? TimeZoneInfo.ConvertTime(t, zone).ToString("yyyy-MM-dd HH:mm:ss zzz", CultureInfo.InvariantCulture)
                : "-";
        string Cell(string value) => Harmless.Markdown(value);
        text.Append(CultureInfo.InvariantCulture, $"# {Cell(Label.Length > 0 ? Label : Run)}: {End}\n\n");
        text.Append(
            CultureInfo.InvariantCulture,
            $"| | |\n|---|---|\n| run | {Run}{(Parent is null ? "" : $", the return of {Parent}")} |\n"
                + $"| plan | {Plan} |\n| estate | {Estate} |\n| opened by | {Cell(OpenedBy)} |\n"
                + $"| started | {At(Started)} |\n| ended | {At(Ended)} |\n"
                + $"| took | {(Took is { } took ? Durations.Write(took) : "-")}, planned {Durations.Write(Planned)} "
                + $"|\n"
        );
        if (Return is not null)
            text.Append(CultureInfo.InvariantCulture, $"| returned by | run {Return} |\n");
        text.Append("\n## Goal\n\n");
        foreach (var line in Goal)
            text.Append(CultureInfo.InvariantCulture, $"- {Cell(line)}\n");
        text.Append("\n## Members\n\n| member | before | after |\n|---|---|---|\n");
        foreach (var member in Members)
            text.Append(
                CultureInfo.InvariantCulture,
                $"| {member.Member} | {Cell(member.Before)} | {Cell(member.After)} |\n"
            );
        if (Owed is { } owed)
            text.Append(
                owed.IsEmpty
                    ? "\nNo restart is owed: every member runs what is installed on it.\n"
                    : "\nRestarts are owed: "
                        + string.Join(
                            "; ",
                            owed.Select(o => $"{o.Member} runs {o.Running}, and {o.By} puts {o.Installed} into effect")
                        )
                        + ".\n"
            );
        if (!Answers.IsEmpty)
        {
            var differing = Answers.Where(a => a.What.Length > 0).ToList();
            text.Append(
                CultureInfo.InvariantCulture,
                $"\n## Before and after\n\n{Answers.Length} answers, {Answers.Length - differing.Count} the same.\n"
            );
            if (differing.Count > 0)
                text.Append("\n| member | question | before | after | difference |\n|---|---|---|---|---|\n");
            foreach (var a in differing)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"| {a.Member} | {Cell(a.Ask)} | {Cell(a.Before ?? "-")} | {Cell(a.After ?? "-")} | "
                        + $"{(a.Borne ? "" : "**more than it may:** ")}{Cell(a.What)} |\n"
                );
        }
        if (!Told.IsEmpty)
        {
            text.Append("\n## What steps told of themselves\n\n| step | node | told |\n|---|---|---|\n");
            foreach (var t in Told)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"| {Cell(t.Step)} | {t.Node} | {Cell(string.Join(", ", t.Numbers.Select(Numbered)))} |\n"
                );
        }
        text.Append("\n## Times\n\n| part | planned | took |\n|---|---|---|\n");
        foreach (var block in Blocks)
            text.Append(
                CultureInfo.InvariantCulture,
                $"| {Cell(block.Title)} | {Durations.Write(block.Planned)} | "
                    + $"{(block.Took is { } t ? Durations.Write(t) : "not begun or not ended")} |\n"
            );
        text.Append("\n## What happened\n\n");
        foreach (var mark in Marks)
            text.Append(CultureInfo.InvariantCulture, $"- {At(mark.At)}: {Cell(mark.What)}\n");
        if (!Points.IsEmpty)
        {
            text.Append(
                "\n## Rollback points\n\n| point | leads back to | captured | size | verified | is | place "
                    + "|\n|---|---|---|---|---|---|---|\n"
            );
            foreach (var p in Points)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"| {p.Planned.Id} | {Cell(p.Planned.Version)} | {At(p.CapturedAt)} | "
                        + $"{Expressions.Units.WriteBytes(p.Bytes)} | {Cell(p.Verified ?? "no")} | "
                        + $"{Cell(p.State ?? "not verified")} | {Cell(p.Place)} |\n"
                );
        }
        if (!FollowUps.IsEmpty)
        {
            text.Append("\n## Left to be done\n\n| what | about | whose | until | why |\n|---|---|---|---|---|\n");
            foreach (var f in FollowUps)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"| {Cell(f.What)} | {Cell(f.About)} | {Cell(f.Owner ?? "nobody's yet")} | "
                        + $"{(f.Urgent ? "now" : At(f.Due))} | {Cell(f.Why)} |\n"
                );
        }
        if (!Next.IsEmpty)
        {
            text.Append("\n## What comes next\n\n| component | runs | could go to | why |\n|---|---|---|---|\n");
            foreach (var n in Next)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"| {n.Component} | {Cell(n.Runs)} | {Cell(n.To)} | {Cell(n.Why)} |\n"
                );
        }
        if (!OpenMeasures.IsEmpty)
            text.Append(
                CultureInfo.InvariantCulture,
                $"\n## Temporary measures still open\n\n{string.Join("\n", OpenMeasures.Select(m => "- " + Cell(m)))}\n"
            );
        return text.ToString();
    }
}
