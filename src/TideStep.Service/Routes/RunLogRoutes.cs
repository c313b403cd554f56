using System.Buffers;
using System.Text;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>Routes of a run's journal: as entries, as a log of words, and as they come.</summary>
public static class RunLogRoutes
{
    public static void MapRunLogs(this RouteGroupBuilder api)
    {
        api.MapGet("/runs/{run}/journal", async (string run, long? after, IJournal journal, CancellationToken ct) =>
                await journal.ReadAsync(run, after ?? 0, ct)
            )
            .WithSummary("The journal after a sequence number");
        api.MapGet("/runs/{run}/log", LogAsync)
            .Produces<string>(200, "text/plain")
            .WithSummary(
                "The journal as a log for people: all of it or what is about one member, with the outputs of "
                    + "the attempts if they are wanted"
            );
        api.MapGet("/runs/{run}/events", FollowAsync)
            .Produces(200, contentType: "text/event-stream")
            .WithSummary("The journal as server-sent events; resumes by Last-Event-ID");
    }

    private static async Task LogAsync(
        HttpContext http,
        string run,
        string? member,
        bool? outputs,
        RunDesk desk,
        EstateDesk estates,
        IJournal journal,
        CancellationToken ct
    )
    {
        if (await RunRoutes.Look(desk, run, s => s.Plan, ct) is not { } plan)
        {
            await RunRoutes.Missing(run).ExecuteAsync(http);
            return;
        }
        var members = plan
            .Blocks.SelectMany(b => b.Lanes)
            .SelectMany(l => l.Steps)
            .Select(s => s.Member)
            .Distinct()
            .ToList();
        if (member is not null && !members.Contains(member))
        {
            await Answers
                .Problem(
                    404,
                    new Problem(
                        $"run {run} has nothing to do with '{member}'",
                        null,
                        Nearest.Hint(member, members) ?? "Name it as component/node."
                    )
                )
                .ExecuteAsync(http);
            return;
        }
        var zone = TimeZoneInfo.FindSystemTimeZoneById((await estates.CurrentEstateAsync(ct))?.Zone ?? "UTC");
        http.Response.ContentType = "text/plain; charset=utf-8";
        foreach (var entry in await journal.ReadAsync(run, 0, ct))
        {
            if (member is not null && RunLogText.MemberOf(entry.Event, plan) != member)
                continue;
            await http.Response.WriteAsync(
                $"{TimeZoneInfo.ConvertTime(entry.At, zone):yyyy-MM-dd HH:mm:ss zzz}  "
                    + $"{RunLogText.Words(entry.Event, zone)}\n",
                ct
            );
            if (outputs != true || entry.Event is not AttemptEnded { Output.Length: > 0 } ended)
                continue;
            foreach (
                var line in (await journal.FindOutputAsync(run, ended.Attempt, ct) ?? ended.Output)
                    .TrimEnd('\n')
                    .Split('\n')
            )
                await http.Response.WriteAsync($"    {line}\n", ct);
        }
    }

    /// <summary>Everything after <c>Last-Event-ID</c> from the journal, then what is appended, without a gap: the
    /// listener is set up before the journal is read.</summary>
    private static async Task FollowAsync(
        HttpContext http,
        string run,
        RunDesk desk,
        RunFeed feed,
        IJournal journal,
        CancellationToken ct
    )
    {
        if (await journal.FindRunAsync(run, ct) is null)
        {
            await RunRoutes.Missing(run).ExecuteAsync(http);
            return;
        }
        var last = long.TryParse(
            http.Request.Headers["Last-Event-ID"].ToString() is { Length: > 0 } header
                ? header
                : http.Request.Query["after"].ToString(),
            out var given
        )
            ? given
            : 0;
        http.Response.ContentType = "text/event-stream";
        http.Response.Headers.CacheControl = "no-store";
        using var listener = feed.Listen(run);
        try
        {
            var line = http.Response.BodyWriter;
            foreach (var entries in (await journal.ReadAsync(run, last, ct)).Chunk(200))
            {
                foreach (var entry in entries)
                {
                    line.Write(new FeedEntry(entry).Event);
                    last = entry.Sequence;
                }
                await line.FlushAsync(ct);
            }
            await line.FlushAsync(ct);
            var (more, beat) = (listener.Entries.WaitToReadAsync(ct).AsTask(), Task.Delay(Beat, ct));
            while (true)
            {
                // A comment now and then lets both ends notice a dead link.
                if (await Task.WhenAny(more, beat) == beat)
                {
                    line.Write(": here\n\n"u8);
                    await line.FlushAsync(ct);
                    beat = Task.Delay(Beat, ct);
                    continue;
                }
                if (!await more)
                    return;
                // What has come meanwhile goes out together. With very many listeners it is waited for a little: a
                // burst then costs each of them one write, and all of them get it sooner.
                if (listener.Company > ManyListen)
                    await Task.Delay(Gather, ct);
                while (listener.Entries.TryRead(out var passed))
                    if (passed.Entry.Sequence > last)
                    {
                        line.Write(passed.Event);
                        last = passed.Entry.Sequence;
                    }
                await line.FlushAsync(ct);
                more = listener.Entries.WaitToReadAsync(ct).AsTask();
            }
        }
        catch (OperationCanceledException)
        { /* the listener left */
        }
    }

    private const int ManyListen = 100;
    private static readonly TimeSpan Gather = TimeSpan.FromMilliseconds(15);
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(15);
}
