using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Core.Notices;

/// <summary>What is told of a run at a moment; the data of an event for systems, and the words of a mail.</summary>
/// <param name="Why">What happened, in a sentence.</param>
/// <param name="Decisions">What may be decided now, by their words.</param>
/// <param name="Default">What holds when nobody decides, in words, or null.</param>
/// <param name="ForecastEnd">When it ends by its own pace, where it is at work.</param>
/// <param name="ReturnPath">How the return path stands after the part at work, in words, or null.</param>
public sealed record RunNotice(
    string Run,
    string Label,
    NoticeMoment Moment,
    RunStatus Status,
    string Kind,
    string Plan,
    string Estate,
    string By,
    DateTimeOffset At,
    string Why,
    ImmutableArray<string> Goal,
    ImmutableArray<string> Decisions,
    string? Default,
    DateTimeOffset? ForecastEnd,
    string? ReturnPath
)
{
    /// <summary>The moments that an entry of a run's journal is; most are none.</summary>
    public static ImmutableArray<NoticeMoment> MomentsOf(RunEvent e, Plan plan) =>
        e is StepBegun s && plan.Step(s.Step).Do is not Catalogue.PersonAction ? [] : PossibleMomentsOf(e);

    /// <summary>The moments that an entry may be, whatever the plan: of most nothing else need be asked.</summary>
    public static ImmutableArray<NoticeMoment> PossibleMomentsOf(RunEvent e) =>
        e switch
        {
            Opened { Parent: null } => [NoticeMoment.Planned],
            Started => [NoticeMoment.Started],
            Runs.Halted => [NoticeMoment.Halted, NoticeMoment.DecisionOpen],
            SignOffAwaited => [NoticeMoment.DecisionOpen],
            StepBegun or UndoAsked => [NoticeMoment.DecisionOpen],
            RanLate => [NoticeMoment.Late],
            Ended { End: RunEnd.Returned } => [NoticeMoment.Returned],
            Ended => [NoticeMoment.Done],
            _ => [],
        };

    /// <summary>A notice of a run as it stood right after an entry.</summary>
    /// <param name="run">The run.</param>
    /// <param name="state">Its state, folded up to the entry.</param>
    /// <param name="entry">The entry.</param>
    /// <param name="moment">Which of its moments.</param>
    /// <param name="pace">By how much the installation's time runs faster than the plan's.</param>
    public static RunNotice Of(string run, RunState state, JournalEntry entry, NoticeMoment moment, double pace)
    {
        var view = RunView.Of(run, state, pace, lanes: _ => false);
        var why = entry.Event switch
        {
            Opened o => $"a run was opened by {o.By}"
                + (
                    state.Plan.Windows is [var first, ..]
                        ? $"; its window begins {first.From:yyyy-MM-dd HH:mm zzz}"
                        : ""
                ),
            Started s => $"started by {s.By}",
            Runs.Halted h => h.Why,
            SignOffAwaited => view.WaitsFor ?? "it waits for a sign-off",
            StepBegun s => $"{state.Plan.Step(s.Step).Title} waits for a person",
            RanLate l =>
                $"by its pace it ends {l.Forecast:yyyy-MM-dd HH:mm zzz}; it was to end {l.Due:yyyy-MM-dd HH:mm zzz}",
            Ended x => $"it ended: {RunReport.EndWord(x.End)}",
            _ => "",
        };
        var open = moment is NoticeMoment.DecisionOpen or NoticeMoment.Halted;
        var block = view.Blocks.FirstOrDefault(b => b.Number == state.CurrentBlock);
        return new RunNotice(
            run,
            state.Label,
            moment,
            state.Status,
            state.Plan.Kind,
            state.Plan.Digest,
            state.Plan.Estate,
            state.By,
            entry.At,
            why,
            state.Plan.Goal,
            open ? [.. view.Decisions.Select(d => RunReport.Word(d.Decision))] : [],
            open && state.Status == RunStatus.Halted && state.Orders is [var order, ..]
                ? $"{RunReport.Word(order.Decision)} after {Durations.Write(order.After)}"
                : null,
            view.ForecastEnd,
            block is null
                ? null
                : (
                    block.Return.State switch
                    {
                        ReturnState.WithLoss => "with loss",
                        ReturnState.Closed => "closed",
                        _ => "clean",
                    }
                ) + $"{(block.Return.Length > TimeSpan.Zero ? $", {Durations.Write(block.Return.Length)}" : "")}"
        );
    }

    /// <summary>The subject of a mail.</summary>
    public string Subject =>
        $"{(Label.Length > 0 ? Label : Run)}: "
        + (
            Moment switch
            {
                NoticeMoment.DecisionOpen => "a decision is open",
                NoticeMoment.Planned => "planned",
                NoticeMoment.Late => "late",
                NoticeMoment.Done => RunStatusWord,
                var m => m.ToString().ToLowerInvariant(),
            }
        );

    private string RunStatusWord => Orders.Word(Status);

    /// <summary>The text of a mail; times in the given zone.</summary>
    public string Text(TimeZoneInfo zone, string? link)
    {
        string Local(DateTimeOffset at) =>
            TimeZoneInfo
                .ConvertTime(at, zone)
                .ToString("yyyy-MM-dd HH:mm zzz", System.Globalization.CultureInfo.InvariantCulture);
        string?[] lines =
        [
            $"{Why}.",
            "",
            $"Run: {Run}{(Label.Length > 0 ? $", {Label}" : "")}, {Orders.Word(Status)}, {Local(At)}",
            $"Goal: {string.Join("; ", Goal)}",
            ReturnPath is null ? null : $"Return path: {ReturnPath}",
            ForecastEnd is { } end ? $"By its pace it ends {Local(end)}" : null,
            Decisions.IsEmpty ? null : $"It can be decided: {string.Join(", ", Decisions)}.",
            Moment != NoticeMoment.DecisionOpen ? null
            : Default is null ? "Nothing is decided by itself."
            : $"If nobody decides: {Default}.",
            link is null ? null : $"\n{link}",
        ];
        return string.Join('\n', lines.OfType<string>()) + "\n";
    }
}
