using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>A run in a list.</summary>
/// <param name="Share">Steps done of all, from 0 to 1.</param>
public sealed record RunLine(
    string Run,
    string Label,
    RunStatus Status,
    string Kind,
    string? Parent,
    string Plan,
    DateTimeOffset Opened,
    DateTimeOffset? Started,
    DateTimeOffset? Ended,
    double Share,
    string By
)
{
    /// <summary>Why the run is set aside: what is kept of it can't be read. Its status is then the last that was known;
    /// null where it can be read.</summary>
    public string? SetAside { get; init; }

    /// <summary>What it waits for, of those that have not ended: a decision and why, a person, an hour; null where for
    /// nothing.</summary>
    public string? WaitsFor { get; init; }

    /// <summary>Whether a run of this state is over.</summary>
    public static bool HasEnded(RunStatus status) =>
        status is RunStatus.Completed or RunStatus.Returned or RunStatus.StoppedHere or RunStatus.Abandoned;

    /// <summary>A run as its state has it.</summary>
    /// <param name="opened">When it was opened, as the journal's list has it.</param>
    public static RunLine Of(string run, RunState state, DateTimeOffset opened) =>
        new(
            run,
            state.Label,
            state.Status,
            state.Plan.Kind,
            state.Parent,
            state.Plan.Digest,
            opened,
            state.StartedAt,
            state.EndedAt,
            state.Plan.StepCount == 0 ? 1 : (double)state.StepsDone / state.Plan.StepCount,
            state.By
        )
        {
            WaitsFor = RunView.WhyHalted(state) is { } halt ? $"for a decision: {halt}" : RunView.Waits(state),
        };

    /// <summary>What people remember a run by, to be searched.</summary>
    public static string WordsOf(string run, RunState state) =>
        string.Join(
            '\n',
            [
                run,
                state.Label,
                state.By,
                state.Plan.Digest,
                .. state.Plan.Goal,
                .. state.Plan.Components,
                .. state.Before.Keys,
                state.Halt?.Why,
                .. state.Decisions.Select(d => $"{d.By} {d.Reason}"),
            ]
        );

    /// <summary>Whether every word of a search is somewhere in those.</summary>
    public static bool Finds(string words, string? search) =>
        (search ?? "")
            .Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)
            .All(w => words.Contains(w, StringComparison.OrdinalIgnoreCase));
}
