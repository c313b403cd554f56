using TideStep.Core.Documents;
using TideStep.Core.Notices;
using TideStep.Engine.Notices;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>A notice in a list: sent, waiting for its next try, or given up.</summary>
public sealed record NoticeLine(
    string Id,
    string Run,
    string Rule,
    string Moment,
    DateTimeOffset At,
    string State,
    int Attempts,
    DateTimeOffset? NextAt,
    string? Said
);

/// <summary>Who is told of what, as the imported document says.</summary>
public sealed record NoticeRuleLine(string Id, string To, string Target, IReadOnlyList<string> At);

/// <summary>Routes of notices.</summary>
public static class NoticeRoutes
{
    public static void MapNotices(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/notices",
                async (
                    HttpContext http,
                    int? limit,
                    string? run,
                    string? after,
                    INoticeStore store,
                    CancellationToken ct
                ) =>
                    Pages
                        .Of(
                            http,
                            await store.NoticesAsync(Pages.Size(limit) + 1, run, after, ct),
                            Pages.Size(limit),
                            n => n.Id
                        )
                        .Select(n => new NoticeLine(
                            n.Id,
                            n.Run,
                            n.Rule,
                            n.Moment,
                            n.At,
                            n.State,
                            n.Attempts,
                            n.State == StoredNotice.Waiting ? n.NextAt : null,
                            n.Said
                        ))
                        .ToList()
            )
            .WithSummary(
                "Notices, newest first: sent, waiting, or given up; the Link header names the next page, and a page "
                    + "behind a notice that was taken away since is empty"
            );
        api.MapGet("/notices/rules", async (NoticeDesk desk, CancellationToken ct) =>
                (await desk.SettingsAsync(ct))
                    .Rules.Select(r => new NoticeRuleLine(
                        r.Id,
                        r.To.ToString().ToLowerInvariant(),
                        r.Address?.ToString() ?? string.Join(", ", r.People),
                        [.. r.At.Order().Select(NoticesDocument.Word)]
                    ))
                    .ToList()
            )
            .WithSummary("Who is told of what");
        api.MapPost(
                "/notices/rules/{rule}/try",
                async (HttpContext http, string rule, NoticeDesk desk, CancellationToken ct) =>
                {
                    var (known, why) = await desk.TryAsync(rule, AccessRules.ActorOf(http), ct);
                    if (!known)
                        return Answers.Problem(
                            404,
                            new Problem(
                                $"there is no notice '{rule}'",
                                null,
                                Nearest.Hint(rule, (await desk.SettingsAsync(ct)).Rules.Select(r => r.Id))
                                    ?? "See 'tidestep notice rules'."
                            )
                        );
                    return why is null
                        ? Results.NoContent()
                        : Answers.Problem(
                            409,
                            new Problem(
                                $"the notice was not taken: {why}",
                                null,
                                "Correct its address, key or way, and try again."
                            )
                        );
                }
            )
            .Produces(204)
            .WithSummary("Send a made-up notice at once");
    }
}
