using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Runs;

namespace TideStep.Service.Watching;

/// <summary>What somebody wants to see of a run: of which parts the members, and how many of them.</summary>
/// <param name="Lanes">all, current, or a part's number.</param>
/// <param name="Most">How many members of each part; all of them where null.</param>
public sealed record RunPage(string Run, string Lanes, int? Most)
{
    /// <summary>What was asked for, or why it can't be shown.</summary>
    public static (RunPage? Page, Problem? Problem) Of(string run, string? lanes, int? most) =>
        lanes is null or "all" or "current" || int.TryParse(lanes, out _)
            ? (new RunPage(run, lanes ?? "all", most is { } few ? Math.Max(0, few) : null), null)
            : (null, new Problem($"'{lanes}' names no parts", null, "Say all, current, or a part's number."));

    /// <summary>The run as it stands; null where there is none.</summary>
    /// <param name="pace">How fast its time goes by: 1, but in demos.</param>
    public async Task<RunView?> LookAsync(RunDesk desk, double pace, CancellationToken ct) =>
        desk.ExecutorOf(Run) is { } executor ? executor.Log.Look(s => ViewOf(s, pace))
        : await desk.StateAsync(Run, ct) is { } state ? ViewOf(state, pace)
        : null;

    private RunView ViewOf(RunState state, double pace)
    {
        Func<int, bool>? shown = Lanes switch
        {
            "all" => null,
            "current" => n => n == Math.Max(1, state.CurrentBlock),
            _ => n => n == int.Parse(Lanes),
        };
        return RunView.Of(Run, state, pace, shown, Most);
    }
}
