using Spectre.Console;
using Spectre.Console.Rendering;
using TideStep.Client;
using TideStep.Core.Runs;

namespace TideStep.Cli;

/// <summary>Follows a run over the live feed: a screen that redraws on a terminal, lines otherwise. A lost connection
/// is waited out.</summary>
public static class RunFollower
{
    /// <summary>The exit status that a run's state means.</summary>
    public static int StatusOf(RunView view) =>
        view.Status switch
        {
            RunStatus.Halted => Exit.Halted,
            _ when view.OnlyPersonsWork => Exit.Halted,
            RunStatus.StoppedHere or RunStatus.Abandoned or RunStatus.Returned => Exit.No,
            _ => Exit.Done,
        };

    /// <param name="since">Where a decision was just sent: the run's last entry before it. What came since is told,
    /// also where the run rests again already.</param>
    public static async Task<int> FollowAsync(
        ServiceClient client,
        string run,
        Output output,
        CancellationToken ct,
        long? since = null
    )
    {
        var view = await client.GetAsync<RunView>($"/api/runs/{run}", ct);
        var decided = since is not null;
        var lines = !output.Terminal.Profile.Out.IsTerminal || !output.ForPeople;
        if (Rests(view) && !(lines && since < view.Sequence))
        {
            await RunScreen.ShowAsync(client, view, output, ct);
            return StatusOf(view);
        }
        if (lines)
            return await LinesAsync(client, run, view, output, since, ct);
        int? ofReturn = null;
        while (true)
        {
            if (!Returns(view))
                await output
                    .Terminal.Live(Screen(view, false))
                    .StartAsync(async live =>
                    {
                        await foreach (
                            var seen in client.WatchAsync(
                                run,
                                "current",
                                away => live.UpdateTarget(Screen(view, away)),
                                ct
                            )
                        )
                        {
                            view = seen;
                            live.UpdateTarget(Screen(view, false));
                            if (Rests(view) || Returns(view))
                                break;
                        }
                    });
            if (!Returns(view))
                return EndOf(view, decided, ofReturn);
            // What happens now happens in the run that returns this one, and what is to be decided is decided there.
            var its = await FollowAsync(client, view.Child!, output, ct);
            if ((await client.GetAsync<RunView>($"/api/runs/{view.Child}", ct)).Ended is null)
                return its;
            ofReturn = its;
            view = await AfterReturnAsync(client, run, view.Child!, ct);
            if (Rests(view))
            {
                await RunScreen.ShowAsync(client, view, output, ct);
                return EndOf(view, decided, ofReturn);
            }
        }
    }

    // Who decided to return wants to know how the return ended.
    private static int EndOf(RunView view, bool decided, int? ofReturn) =>
        decided && ofReturn is { } status && view.Status == RunStatus.Returned ? status : StatusOf(view);

    private static bool Returns(RunView view) =>
        view is { Status: RunStatus.Returning, Child: not null and not "none" };

    // The run learns of its return's end a moment after that has ended.
    private static async Task<RunView> AfterReturnAsync(
        ServiceClient client,
        string run,
        string child,
        CancellationToken ct
    )
    {
        while (true)
        {
            var view = await client.GetAsync<RunView>($"/api/runs/{run}?lanes=current", ct);
            if (!Returns(view) || view.Child != child)
                return view;
            await Task.Delay(100, ct);
        }
    }

    private static bool Rests(RunView view) =>
        view.Ended is not null || view.Status is RunStatus.Halted or RunStatus.Held || view.OnlyPersonsWork;

    private static async Task<RunView> LookAsync(ServiceClient client, string run, RunView last, CancellationToken ct)
    {
        try
        {
            return await client.GetAsync<RunView>($"/api/runs/{run}?lanes=current", ct);
        }
        catch (HttpRequestException)
        {
            return last;
        } // the feed waits for the service to come back
    }

    private static IRenderable Screen(RunView view, bool away) =>
        new Rows([
            .. RunScreen.Lines(view).Select(l => (IRenderable)new Markup(l.Length == 0 ? " " : l)),
            .. away ? new IRenderable[] { new Markup("the connection is lost; waiting for the service") } : [],
        ]);

    private static async Task<int> LinesAsync(
        ServiceClient client,
        string run,
        RunView view,
        Output output,
        long? since,
        CancellationToken ct
    )
    {
        int? ofReturn = null;
        var last = since ?? view.Sequence;
        // A run that rests already is told up to there: nothing more may ever come.
        var upTo = Rests(view) ? view.Sequence : long.MaxValue;
        var persons = view
            .Blocks.SelectMany(b => b.Lanes)
            .SelectMany(l => l.Steps)
            .Where(s => s.Person)
            .Select(s => s.Id)
            .ToHashSet();
        var asked = false;
        while (true)
        {
            var child = Returns(view) ? view.Child : await TellAsync();
            if (child is null)
                break;
            var its = await FollowAsync(client, child, output, ct);
            if ((await client.GetAsync<RunView>($"/api/runs/{child}", ct)).Ended is null)
                return its;
            ofReturn = its;
            view = await AfterReturnAsync(client, run, child, ct);
        }
        view = await client.GetAsync<RunView>($"/api/runs/{run}", ct);
        if (output.ForPeople)
        {
            output.Line();
            await RunScreen.ShowAsync(client, view, output, ct);
        }
        return EndOf(view, since is not null, ofReturn);

        // Tells what happens till the run rests, or another begins to return it: that one is given.
        async Task<string?> TellAsync()
        {
            await foreach (
                var entry in client.FollowAsync(
                    run,
                    last,
                    away =>
                        Console.Error.WriteLine(
                            away ? "the connection is lost; waiting for the service" : "the service is back"
                        ),
                    ct
                )
            )
            {
                if (output.ForPeople)
                {
                    if (Say(entry.Event) is { } text)
                        output.Line($"{entry.At.ToLocalTime():HH:mm:ss}  {text}");
                }
                else
                    output.Write(entry, () => { });
                last = entry.Sequence;
                if (entry.Event is Halted or Held or Ended || last >= upTo)
                    return null;
                asked |= entry.Event is UndoAsked || (entry.Event is StepBegun begun && persons.Contains(begun.Step));
                // Where nothing goes on till somebody has signed, there is nothing more to follow.
                if (asked && entry.Event is StepBegun or StepDone or UndoAsked)
                {
                    view = await LookAsync(client, run, view, ct);
                    if (view.OnlyPersonsWork)
                        return null;
                    asked = !view.Persons.IsEmpty;
                }
                if (entry.Event is ReturnBegun { Run: not "none" } back)
                    return back.Run;
            }
            return null;
        }
    }

    // Of all that the log tells, what somebody who watches wants to know.
    private static string? Say(RunEvent e) =>
        e
            is MilestoneReached
                or Started
                or StartPlanned
                or BlockEntered
                or ReadingAwaited
                or ReadAgain { Changes.IsEmpty: false }
                or GuardsChecked { Hold: false }
                or Intended
                or StepDone
                or StepFailed
                or PointVerified
                or Held
                or Halted
                or Decided
                or OrdersGiven
                or WindowAwaited
                or ReturnBegun
                or UndoAsked
                or MeasureKept
                or Ended
            ? RunLogText.Words(e, TimeZoneInfo.Local)
            : null;
}
