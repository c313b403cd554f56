using Spectre.Console;
using Spectre.Console.Rendering;
using TideStep.Client;
using TideStep.Core.Runs;

namespace TideStep.Cli;

/// <summary>Follows a run over the live feed: a screen that redraws on a terminal, lines otherwise. A lost connection is waited out.</summary>
public static class RunFollower
{
    /// <summary>The exit status that a run's state means.</summary>
    public static int StatusOf(RunView view) => view.Status switch { RunStatus.Halted => Exit.Halted, RunStatus.StoppedHere or RunStatus.Abandoned or RunStatus.Returned => Exit.No, _ => Exit.Done };

    /// <param name="decided">Whether a decision was just sent: an earlier halt is then no reason to stop following.</param>
    public static async Task<int> FollowAsync(ServiceClient client, string run, Output output, CancellationToken ct, bool decided = false)
    {
        var view = await client.GetAsync<RunView>($"/api/runs/{run}", ct);
        if (Rests(view) && !(decided && view.Status == RunStatus.Halted)) { output.Write(view, () => RunScreen.Show(view, output)); return StatusOf(view); }
        if (!output.Terminal.Profile.Out.IsTerminal || !output.ForPeople) return await LinesAsync(client, run, view, output, ct);
        await output.Terminal.Live(Screen(view, false)).StartAsync(async live =>
        {
            await foreach (var _ in client.FollowAsync(run, view.Sequence, away => live.UpdateTarget(Screen(view, away)), ct))
            {
                view = await LookAsync(client, run, view, ct);
                live.UpdateTarget(Screen(view, false));
                if (Rests(view)) break;
            }
        });
        return StatusOf(view);
    }

    private static bool Rests(RunView view) => view.Ended is not null || view.Status is RunStatus.Halted or RunStatus.Held;

    private static async Task<RunView> LookAsync(ServiceClient client, string run, RunView last, CancellationToken ct)
    {
        try { return await client.GetAsync<RunView>($"/api/runs/{run}", ct); }
        catch (HttpRequestException) { return last; } // the feed waits for the service to come back
    }

    private static IRenderable Screen(RunView view, bool away) => new Rows([.. RunScreen.Lines(view).Select(l => (IRenderable)new Markup(l.Length == 0 ? " " : l)), .. away ? new IRenderable[] { new Markup("the connection is lost; waiting for the service") } : []]);

    private static async Task<int> LinesAsync(ServiceClient client, string run, RunView view, Output output, CancellationToken ct)
    {
        await foreach (var entry in client.FollowAsync(run, view.Sequence, away => Console.Error.WriteLine(away ? "the connection is lost; waiting for the service" : "the service is back"), ct))
        {
            if (output.ForPeople) { if (Say(entry.Event) is { } text) output.Line($"{entry.At.ToLocalTime():HH:mm:ss}  {text}"); }
            else output.Write(entry, () => { });
            if (entry.Event is Halted or Held or Ended) break;
        }
        view = await client.GetAsync<RunView>($"/api/runs/{run}", ct);
        if (output.ForPeople) { output.Line(); RunScreen.Show(view, output); }
        return StatusOf(view);
    }

    private static string? Say(RunEvent e) => e switch
    {
        Started s => $"started by {s.By}",
        BlockEntered b => $"part {b.Block}",
        GuardsChecked { Hold: false } g => $"waits: {g.Why}",
        Intended { Undo: false } i => $"{i.Step} begins ({i.Attempt})",
        Intended i => $"{i.Step} is taken back ({i.Attempt})",
        StepDone d => $"{d.Step} {(d.How == DoneHow.Already ? "was so already" : d.How == DoneHow.Signed ? "signed" : "done")}",
        StepFailed f => $"{f.Step} failed: {f.Why}",
        PointVerified p => $"rollback point {p.Point} verified: {p.How}",
        Held => "held",
        Halted h => $"halted: {h.Why}",
        Decided d => $"decided by {d.By}{(d.Standing ? "'s standing order" : "")}: {RunReport.Word(d.Decision)}",
        OrdersGiven o => $"standing orders by {o.By}: {o.Orders.Length}",
        WindowAwaited w => $"waits for its window, {w.Till.ToLocalTime():ddd yyyy-MM-dd HH:mm zzz}",
        ReturnBegun r => $"the return is run {r.Run}",
        Ended x => $"ended: {RunReport.EndWord(x.End)}",
        _ => null,
    };
}
