using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.Plans;
using TideStep.Engine.Runs;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>What is accepted, why, and until when; a week where no end is given.</summary>
public sealed record WaiverRequest(string Plan, string Finding, string Reason, DateTimeOffset? Ends);

/// <summary>The waiver of which finding a second person agrees to.</summary>
public sealed record SecondRequest(string Finding);

/// <summary>A manual prerequisite by its title, and what shows that it is done: words, and a file where they are not
/// enough.</summary>
public sealed record ItemSignature(string Item, string Evidence, UploadedFile? File = null);

/// <summary>A round of checks with its number among those of the plan.</summary>
public sealed record RoundView(long Number, string Summary, CheckRound Round);

/// <summary>Routes of checks and waivers.</summary>
public static class CheckRoutes
{
    public static void MapChecks(this RouteGroupBuilder api)
    {
        api.MapPost(
                "/plans/{digest}/checks",
                async (
                    HttpContext http,
                    string digest,
                    bool? survey,
                    bool? failed,
                    EstateDesk desk,
                    CheckDesk checks,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                        return NoPlan(digest);
                    var round = await checks.RunAsync(
                        plan,
                        survey ?? true,
                        AccessRules.ActorOf(http),
                        null,
                        ct,
                        failed ?? false
                    );
                    return round.Ok && await checks.FindAsync(plan.Digest, null, ct) is var (kept, number)
                        ? Results.Ok(new RoundView(number, CheckReport.Summary(kept), kept))
                        : Answers.Problems(422, "nothing was checked", round.Problems);
                }
            )
            .Produces<RoundView>()
            .WithSummary(
                "Check a plan: its prerequisites and what must hold anyway, on readings taken now or on the last ones"
            );
        api.MapGet(
                "/plans/{digest}/checks",
                async (
                    string digest,
                    long? round,
                    string? format,
                    EstateDesk desk,
                    CheckDesk checks,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                        return NoPlan(digest);
                    if (await checks.FindAsync(plan.Digest, round, ct) is not var (found, number))
                        return Answers.Problem(
                            404,
                            new Problem(
                                round is null ? "this plan was never checked" : $"it has no round {round}",
                                null,
                                "Run: tidestep check run PLAN."
                            )
                        );
                    return format switch
                    {
                        null or "json" => Results.Ok(new RoundView(number, CheckReport.Summary(found), found)),
                        "markdown" => Results.Text(CheckReport.Markdown(found), "text/markdown"),
                        "junit" => Results.Text(CheckReport.JUnit(found), "application/xml"),
                        _ => Answers.Problem(
                            400,
                            new Problem(
                                $"there is no report as '{format}'",
                                null,
                                Nearest.Hint(format, ["json", "markdown", "junit"])
                            )
                        ),
                    };
                }
            )
            .Produces<RoundView>()
            .WithSummary(
                "The last round of a plan's checks, or an earlier one by its number; as JSON, Markdown or JUnit XML"
            );
        api.MapPost(
                "/plans/{digest}/signatures",
                async (
                    HttpContext http,
                    string digest,
                    ItemSignature request,
                    EstateDesk desk,
                    CheckDesk checks,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                        return NoPlan(digest);
                    var signed = await checks.SignAsync(
                        plan,
                        request.Item,
                        request.Evidence,
                        request.File is { } file ? (file.Name, file.Content) : null,
                        AccessRules.ActorOf(http),
                        ct
                    );
                    return signed.Ok
                        ? Results.Ok(signed.Value)
                        : Answers.Problems(422, "nothing was signed", signed.Problems);
                }
            )
            .Produces<SignedItem>()
            .WithSummary("Sign that a manual prerequisite of a plan is done, with what shows it");
        api.MapGet("/evidence/{sha256}", async (string sha256, string? name, CheckDesk checks, CancellationToken ct) =>
                await checks.Evidence.FindAsync(sha256, ct) is { } kept
                    ? Results.File(kept, "application/octet-stream", name ?? sha256)
                    : Answers.Problem(404, new Problem($"no evidence with the checksum {sha256} is kept"))
            )
            .Produces<string>(200, "application/octet-stream")
            .WithSummary("A file that was kept as evidence, by its checksum");
        api.MapGet("/waivers", async (EstateDesk desk, CheckDesk checks, CancellationToken ct) =>
                await desk.CurrentEstateAsync(ct) is { } estate
                    ? Results.Ok(await checks.WaiversAsync(estate, ct))
                    : Answers.Problem(404, EstateDesk.NoEstate)
            )
            .Produces<Waiver[]>()
            .WithSummary("What was accepted, ended or not");
        api.MapPost(
                "/waivers",
                async (
                    HttpContext http,
                    WaiverRequest request,
                    EstateDesk desk,
                    CheckDesk checks,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.FindPlanAsync(request.Plan, ct) is not { } plan)
                        return NoPlan(request.Plan);
                    var made = await checks.WaiveAsync(
                        plan,
                        request.Finding,
                        request.Reason,
                        request.Ends,
                        AccessRules.ActorOf(http),
                        ct
                    );
                    return made.Ok
                        ? Results.Created("/api/waivers", made.Value)
                        : Answers.Problems(422, "nothing was accepted", made.Problems);
                }
            )
            .Produces<Waiver>(201)
            .WithSummary("Accept a finding of a plan's last round as it stands there, with a reason and an end");
        api.MapPost(
                "/waivers/second",
                async (HttpContext http, SecondRequest request, CheckDesk checks, CancellationToken ct) =>
                {
                    var seconded = await checks.SecondAsync(request.Finding, AccessRules.ActorOf(http), ct);
                    return seconded.Ok
                        ? Results.Ok(seconded.Value)
                        : Answers.Problems(422, "nothing was agreed to", seconded.Problems);
                }
            )
            .Produces<Waiver>()
            .WithSummary("Agree, as another person, to a waiver that needs two");
    }

    private static IResult NoPlan(string digest) => Answers.Problem(404, RunDesk.NoPlan(digest));
}
