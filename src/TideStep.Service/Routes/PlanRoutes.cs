using TideStep.Core.Documents;
using TideStep.Core.Paths;
using TideStep.Core.Plans;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.Plans;
using TideStep.Engine.Runs;
using TideStep.Service.Access;
using TideStep.Storage;
using TideStep.Tables;

namespace TideStep.Service.Routes;

/// <summary>A goal document and what to call it in messages; under the name of <paramref name="Search"/> the search can
/// be looked at and stopped.</summary>
public sealed record GoalRequest(string Goal, string? Name, string? Search = null);

/// <summary>A plan with its digest.</summary>
public sealed record PlanView(string Digest, Plan Plan);

/// <summary>Routes of paths and plans.</summary>
public static class PlanRoutes
{
    public static void MapPlans(this RouteGroupBuilder api)
    {
        api.MapPost("/paths", async (GoalRequest request, EstateDesk desk, Searches searches, CancellationToken ct) =>
            {
                if (request.Search is { } name && searches.Of(name) is not null)
                    return Answers.Problem(409, Running(name));
                var (_, answer) = await searches.RunAsync(
                    request.Search,
                    watch => desk.PathAsync(request.Goal, request.Name ?? "goal", forPlan: false, watch, ct),
                    ct
                );
                return answer.Ok
                    ? Results.Ok(PathView.Of(answer.Value!))
                    : Answers.Problems(422, "no path can be asked for", answer.Problems);
            })
            .Produces<PathView>()
            .WithSummary("The best path to a goal, or why there is none");
        api.MapPost(
                "/plans",
                async (
                    HttpContext http,
                    GoalRequest request,
                    EstateDesk desk,
                    Searches searches,
                    CancellationToken ct
                ) =>
                {
                    if (request.Search is { } name && searches.Of(name) is not null)
                        return Answers.Problem(409, Running(name));
                    var (plan, path) = await searches.RunAsync(
                        request.Search,
                        watch =>
                            desk.MakePlanAsync(
                                request.Goal,
                                request.Name ?? "goal",
                                AccessRules.ActorOf(http),
                                watch,
                                ct
                            ),
                        ct
                    );
                    return plan.Ok
                        ? Results.Created(
                            $"/api/plans/{plan.Value!.Digest}",
                            new PlanView(plan.Value.Digest, plan.Value)
                        )
                        : Answers.Problems(
                            path is { Found: false } ? 409 : 422,
                            path is { AlreadyMet: true } ? "the goal is met already" : "no plan was made",
                            plan.Problems
                        );
                }
            )
            .Produces<PlanView>(201)
            .WithSummary("Make and keep the plan of the best path to a goal");
        api.MapGet("/searches/{id}", (string id, Searches searches) =>
                searches.Of(id) is { } found ? Results.Ok(found) : Answers.Problem(404, NotRunning(id))
            )
            .Produces<Searches.Standing>()
            .WithSummary("How a search for a path stands while it runs");
        api.MapDelete("/searches/{id}", (string id, Searches searches) =>
                searches.Stop(id) ? Results.NoContent() : Answers.Problem(404, NotRunning(id))
            )
            .Produces(204)
            .WithSummary("Stop a search; it answers with what it has");
        api.MapGet(
                "/plans",
                async (
                    HttpContext http,
                    PlanList plans,
                    IDocumentStore store,
                    int? limit,
                    string? after,
                    DateTimeOffset? since,
                    DateTimeOffset? before,
                    CancellationToken ct
                ) =>
                {
                    if (after is not null && await store.FindPlanAsync(after, ct) is null)
                        return Pages.NoPlace(after);
                    var found = await plans.OfAsync(Pages.Size(limit) + 1, after, (since, before), ct);
                    return Results.Ok(Pages.Of(http, found, Pages.Size(limit), p => p.Digest));
                }
            )
            .Produces<PlanLine[]>()
            .WithSummary(
                "Plans, newest first; the Link header names the next page; since= and before= for those made from a "
                    + "moment on and before another"
            );
        api.MapGet("/plans/{digest}", async (string digest, EstateDesk desk, CancellationToken ct) =>
                await desk.FindPlanAsync(digest, ct) is { } plan
                    ? Results.Ok(new PlanView(plan.Digest, plan))
                    : Answers.Problem(404, RunDesk.NoPlan(digest))
            )
            .Produces<PlanView>()
            .WithSummary("A plan by its digest, or the beginning of it");
        api.MapGet("/plans/{digest}/calendar", async (string digest, EstateDesk desk, CancellationToken ct) =>
            {
                if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                    return Answers.Problem(404, RunDesk.NoPlan(digest));
                var calendar = CalendarFile.Of(
                    plan,
                    (await desk.CurrentEstateAsync(ct))?.Title ?? plan.Estate,
                    plan.Digest
                );
                return calendar.Ok
                    ? Results.Text(calendar.Value, "text/calendar", System.Text.Encoding.UTF8)
                    : Answers.Problems(409, "the plan has no hours", calendar.Problems);
            })
            .Produces<string>(200, "text/calendar")
            .WithSummary("The windows of a plan as iCalendar");
        api.MapGet(
                "/plans/{digest}/return",
                async (string digest, int? after, int? move, EstateDesk desk, CancellationToken ct) =>
                {
                    var back = await desk.ReturnPathAsync(digest, after, move ?? 1, ct);
                    return back.Ok
                        ? Results.Ok(PathView.Of(back.Value!))
                        : Answers.Problems(422, "no return path can be asked for", back.Problems);
                }
            )
            .Produces<PathView>()
            .WithSummary(
                "The return path of a plan once its parts up to 'after' are done, to its start or to the "
                    + "beginning of a move"
            );
        api.MapGet(
                "/plans/{digest}/differences",
                async (string digest, string from, EstateDesk desk, CancellationToken ct) =>
                {
                    foreach (var wanted in (string[])[digest, from])
                        if (await desk.FindPlanAsync(wanted, ct) is null)
                            return Answers.Problem(404, RunDesk.NoPlan(wanted));
                    return Results.Ok(
                        new PlanDifferences(
                            PlanComparison.Of(
                                (await desk.FindPlanAsync(from, ct))!,
                                (await desk.FindPlanAsync(digest, ct))!
                            )
                        )
                    );
                }
            )
            .Produces<PlanDifferences>()
            .WithSummary("What a plan does otherwise than an earlier one, in words");
    }

    private static Problem Running(string id) =>
        new($"a search is running under the name {id} already", null, "Give it another name.");

    private static Problem NotRunning(string id) =>
        new($"no search is running under the name {id}", "It has ended, or never began.");
}
