using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.People;
using TideStep.Engine.Runs;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>A word on a plan: the digest that was read, what holds at halts that nobody decides in time, and what the
/// signer has to say.</summary>
public sealed record PlanSignOffRequest(string? Digest, IReadOnlyList<OrderRequest>? TurnBack, string? Note);

/// <summary>A word on a part of a run: which of its sign-offs (<c>part 7</c>).</summary>
public sealed record RunSignOffRequest(string SignOff, string? Note);

/// <summary>What a plan asks to be signed, what was signed of it, and why it may not start yet; null where it
/// may.</summary>
public sealed record PlanSignOffs(
    IReadOnlyList<PlannedSignOff> Asked,
    IReadOnlyList<SignOff> Given,
    string Author,
    string? Missing
);

/// <summary>Routes of sign-offs.</summary>
public static class SignOffRoutes
{
    public static void MapSignOffs(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/plans/{digest}/sign-offs",
                async (string digest, EstateDesk desk, SignOffDesk signing, TimeProvider time, CancellationToken ct) =>
                    await desk.FindPlanAsync(digest, ct) is { } plan
                        ? Results.Ok(await ViewAsync(plan, signing, time, ct))
                        : NoPlan(digest)
            )
            .Produces<PlanSignOffs>()
            .WithSummary("What a plan asks to be signed, and what was");
        api.MapPost(
                "/plans/{digest}/sign-offs",
                async (
                    HttpContext http,
                    string digest,
                    PlanSignOffRequest request,
                    EstateDesk desk,
                    SignOffDesk signing,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                        return NoPlan(digest);
                    var orders = OrderRequest.Read(request.TurnBack ?? []);
                    if (!orders.Ok)
                        return Answers.Problems(422, "nothing was signed", orders.Problems);
                    var made = await signing.SignAsync(
                        plan,
                        AccessRules.ActorOf(http),
                        [.. orders.Value!],
                        request.Note,
                        request.Digest,
                        ct
                    );
                    return made.Ok
                        ? Results.Created($"/api/plans/{plan.Digest}/sign-offs", made.Value)
                        : Answers.Problems(409, "nothing was signed", made.Problems);
                }
            )
            .Produces<SignOff>(201)
            .WithSummary(
                "Sign a plan before its start: its digest, and what holds at halts that nobody decides in time"
            );
        api.MapDelete(
                "/plans/{digest}/sign-offs",
                async (HttpContext http, string digest, EstateDesk desk, SignOffDesk signing, CancellationToken ct) =>
                    await desk.FindPlanAsync(digest, ct) is not { } plan ? NoPlan(digest)
                    : await signing.WithdrawAsync(plan, AccessRules.ActorOf(http), ct) is { } problem
                        ? Answers.Problem(409, problem)
                    : Results.NoContent()
            )
            .Produces(204)
            .WithSummary("Take one's own word on a plan back");
        api.MapPost(
                "/runs/{run}/sign-offs",
                async (
                    HttpContext http,
                    string run,
                    RunSignOffRequest request,
                    RunDesk desk,
                    SignOffDesk signing,
                    IJournal journal,
                    TimeProvider time,
                    Idempotency once,
                    CancellationToken ct
                ) =>
                {
                    var author = await journal.FindRunAsync(run, ct) is { } stored
                        ? await signing.AuthorAsync(stored.Plan, ct)
                        : "";
                    return await RunRoutes.SayAsync(
                        http,
                        run,
                        request,
                        desk,
                        once,
                        s =>
                            SignOffRules.Sign(
                                s,
                                request.SignOff,
                                AccessRules.ActorOf(http),
                                author,
                                request.Note,
                                time.GetUtcNow()
                            ),
                        ct
                    );
                }
            )
            .Produces(202)
            .WithSummary("Sign that a part of a run may begin");
    }

    private static async Task<PlanSignOffs> ViewAsync(
        Plan plan,
        SignOffDesk signing,
        TimeProvider time,
        CancellationToken ct
    )
    {
        var given = await signing.OfAsync(plan.Digest, ct);
        return new PlanSignOffs(
            plan.SignOffs,
            given,
            await signing.AuthorAsync(plan.Digest, ct),
            SignOffRules.Missing(plan, given, time.GetUtcNow())?.What
        );
    }

    private static IResult NoPlan(string digest) => Answers.Problem(404, RunDesk.NoPlan(digest));
}
