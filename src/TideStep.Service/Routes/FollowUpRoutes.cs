using TideStep.Core.Documents;
using TideStep.Engine;
using TideStep.Engine.People;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>What is said of something left to be done: that it is done, whose it is, until when.</summary>
public sealed record FollowUpRequest(
    string Run,
    string FollowUp,
    bool Done = false,
    string? Owner = null,
    DateTimeOffset? Due = null,
    string? Note = null
);

/// <summary>Routes of what runs leave to be done.</summary>
public static class FollowUpRoutes
{
    private static string Place(FollowUpLine line) => $"{line.Run} {line.Id}";

    public static void MapFollowUps(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/follow-ups",
                async (
                    HttpContext http,
                    string? run,
                    bool? all,
                    string? after,
                    int? limit,
                    FollowUpDesk desk,
                    CancellationToken ct
                ) =>
                    Pages.Of(http, await desk.ListAsync(run, all ?? false, ct), after, Pages.Size(limit, 500), Place)
                        is { } page
                        ? Results.Ok(page)
                        : Pages.NoPlace(after!)
            )
            .Produces<FollowUpLine[]>()
            .WithSummary(
                "What runs left to be done; all=true for what is done as well; the Link header names the next page"
            );
        api.MapPost(
                "/follow-ups",
                async (HttpContext http, FollowUpRequest request, FollowUpDesk desk, CancellationToken ct) =>
                    await desk.MarkAsync(
                        request.Run,
                        request.FollowUp,
                        request.Done,
                        request.Owner,
                        request.Due,
                        request.Note,
                        AccessRules.ActorOf(http),
                        ct
                    )
                        is { } problem
                        ? Answers.Problem(problem.Absent ? 404 : 409, problem)
                        : Results.NoContent()
            )
            .Produces(204)
            .WithSummary("Say that something left to be done is done, whose it is, or until when");
    }
}
