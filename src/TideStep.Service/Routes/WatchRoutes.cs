using System.Buffers;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Runs;
using TideStep.Service.Watching;

namespace TideStep.Service.Routes;

/// <summary>Routes of watching runs: a page as it stands, and what changes on it.</summary>
public static class WatchRoutes
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(15);

    public static void MapWatching(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/runs/{run}",
                async (
                    string run,
                    string? lanes,
                    int? most,
                    RunDesk desk,
                    ServiceSettings settings,
                    CancellationToken ct
                ) =>
                {
                    var (page, problem) = RunPage.Of(run, lanes, most);
                    if (page is null)
                        return Answers.Problem(422, problem!);
                    return await page.LookAsync(desk, settings.Pace, ct) is { } view
                        ? Results.Ok(view)
                        : RunRoutes.Missing(run);
                }
            )
            .Produces<RunView>()
            .WithSummary(
                "A run as it stands; lanes= says of which parts the members are told: all, current, or one; "
                    + "most= how many of each, those that failed or are at work before others"
            );
        api.MapGet("/runs/{run}/changes", WatchAsync)
            .Produces(200, contentType: "text/event-stream")
            .WithSummary(
                "The same as it changes, as server-sent events: view with all of it, then change with a JSON Patch "
                    + "(RFC 6902) of it; who comes again gets a whole view first"
            );
    }

    private static async Task<IResult> WatchAsync(
        HttpContext http,
        string run,
        string? lanes,
        int? most,
        ViewFeeds feeds,
        RunDesk desk,
        CancellationToken ct
    )
    {
        var (page, problem) = RunPage.Of(run, lanes, most);
        if (page is null)
            return Answers.Problem(422, problem!);
        // What can't be shown is said as such, before the stream begins.
        if (desk.ExecutorOf(run) is null && await desk.StateAsync(run, ct) is null)
            return RunRoutes.Missing(run);
        http.Response.ContentType = "text/event-stream";
        http.Response.Headers.CacheControl = "no-store";
        using var watcher = feeds.Watch(page);
        try
        {
            await PassAsync(watcher, http, ct);
        }
        catch (OperationCanceledException)
        { /* the watcher left */
        }
        return Results.Empty;
    }

    private static async Task PassAsync(ViewFeeds.Watcher watcher, HttpContext http, CancellationToken ct)
    {
        var line = http.Response.BodyWriter;
        var (more, beat) = (watcher.Frames.WaitToReadAsync(ct).AsTask(), Task.Delay(Beat, ct));
        while (true)
        {
            // A comment now and then lets both ends notice a dead link.
            if (await Task.WhenAny(more, beat) == beat)
            {
                line.Write(": here\n\n"u8);
                beat = Task.Delay(Beat, ct);
            }
            else if (!await more)
                return;
            else
            {
                while (watcher.Frames.TryRead(out var frame))
                    line.Write(frame);
                more = watcher.Frames.WaitToReadAsync(ct).AsTask();
            }
            await line.FlushAsync(ct);
        }
    }
}
