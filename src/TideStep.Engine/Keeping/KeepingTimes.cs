using TideStep.Core.Documents;

namespace TideStep.Engine.Keeping;

/// <summary>How long what is kept is kept. What may still be needed stays longer: the last survey, notices that wait,
/// runs with rollback points on nodes or with something left to be done.</summary>
/// <param name="Answers">Answers to requests, for those who ask again with the same key.</param>
/// <param name="Notices">Notices that were sent or given up.</param>
/// <param name="Outputs">Outputs of steps, from the last word on their run.</param>
/// <param name="Surveys">Readings and rounds of checks, each but the last.</param>
/// <param name="Runs">Entries of ended runs, from the last word on them; their reports are kept for good.</param>
public sealed record KeepingTimes(TimeSpan Answers, TimeSpan Notices, TimeSpan Outputs, TimeSpan Surveys, TimeSpan Runs)
{
    /// <summary>What holds where nobody said otherwise.</summary>
    public static readonly KeepingTimes Usual = new(
        TimeSpan.FromDays(7),
        TimeSpan.FromDays(180),
        TimeSpan.FromDays(180),
        TimeSpan.FromDays(365),
        TimeSpan.FromDays(1095)
    );

    /// <summary>Lines of the record of who did what; a line that tells how many they were stays in their
    /// place.</summary>
    public TimeSpan Record { get; init; } = TimeSpan.FromDays(1095);

    private static readonly TimeSpan Shortest = TimeSpan.FromDays(1);

    /// <summary>The same with other times; what is null stays.</summary>
    public KeepingTimes With(
        string? answers,
        string? notices,
        string? outputs,
        string? surveys,
        string? runs,
        string? record,
        Findings findings
    )
    {
        TimeSpan Read(string name, string? text, TimeSpan stays)
        {
            if (text is null)
                return stays;
            if (Durations.TryParse(text) is not { } time)
                findings.Add($"{name}: '{text}' is no time, or one above 3650 d", null, "Write it as in '180 d'.");
            else if (time < Shortest)
                findings.Add($"{name}: {text} is too short", null, $"At least {Durations.Write(Shortest)} is kept.");
            else
                return time;
            return stays;
        }
        return new KeepingTimes(
            Read("answers", answers, Answers),
            Read("notices", notices, Notices),
            Read("outputs", outputs, Outputs),
            Read("surveys", surveys, Surveys),
            Read("runs", runs, Runs)
        )
        {
            Record = Read("record", record, Record),
        };
    }
}
