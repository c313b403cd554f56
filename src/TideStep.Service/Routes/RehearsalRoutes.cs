using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Rehearsals;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.Plans;
using TideStep.Engine.Runs;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>How a plan is to be rehearsed; what is not said is as usual.</summary>
/// <param name="Person">How long a person takes for what only a person does, as in "10 min".</param>
public sealed record RehearsalRequest(
    int? Draws = null,
    ulong? Seed = null,
    IReadOnlyList<ChosenFault>? Faults = null,
    double? FailsPerThousand = null,
    string? Person = null
);

/// <summary>The report of a run in a test estate, and which of its components stood for which of the plan's.</summary>
public sealed record EvidenceRequest(RunReport Report, IReadOnlyDictionary<string, string>? Map = null);

/// <summary>The last rehearsals of a plan, and why it may not start yet for want of one; null where it may.</summary>
public sealed record RehearsalsView(KeptRehearsal? Drawn, KeptRehearsal? Evidence, string? Missing);

/// <summary>Routes of rehearsals.</summary>
public static class RehearsalRoutes
{
    public static void MapRehearsals(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/plans/{digest}/rehearsals",
                async (string digest, EstateDesk desk, RehearsalDesk rehearsals, CancellationToken ct) =>
                {
                    if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                        return NoPlan(digest);
                    var (drawn, evidence) = await rehearsals.OfAsync(plan.Digest, ct);
                    return Results.Ok(
                        new RehearsalsView(drawn, evidence, (await rehearsals.MissingAsync(plan, ct))?.What)
                    );
                }
            )
            .Produces<RehearsalsView>()
            .WithSummary("The last rehearsals of a plan");
        api.MapPost(
                "/plans/{digest}/rehearsals",
                async (
                    HttpContext http,
                    string digest,
                    RehearsalRequest request,
                    EstateDesk desk,
                    RehearsalDesk rehearsals,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                        return NoPlan(digest);
                    var usual = RehearsalWish.Usual;
                    var person = request.Person is null ? usual.Person : Durations.TryParse(request.Person);
                    if (person is null)
                        return Answers.Problem(
                            422,
                            new Problem($"'{request.Person}' is no length of time", null, "Write it like 10 min.")
                        );
                    var kept = await rehearsals.DrawAsync(
                        plan,
                        new RehearsalWish(
                            request.Draws ?? usual.Draws,
                            request.Seed ?? usual.Seed,
                            [.. request.Faults ?? []],
                            request.FailsPerThousand ?? usual.FailsPerThousand,
                            person.Value
                        ),
                        AccessRules.ActorOf(http),
                        ct
                    );
                    return kept.Ok
                        ? Results.Ok(kept.Value)
                        : Answers.Problems(422, "nothing was rehearsed", kept.Problems);
                }
            )
            .Produces<KeptRehearsal>()
            .WithSummary("Rehearse a plan against stand-ins, many times in simulated time");
        api.MapPost(
                "/plans/{digest}/rehearsals/evidence",
                async (
                    HttpContext http,
                    string digest,
                    EvidenceRequest request,
                    EstateDesk desk,
                    RehearsalDesk rehearsals,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.FindPlanAsync(digest, ct) is not { } plan)
                        return NoPlan(digest);
                    var kept = await rehearsals.TakeAsync(
                        plan,
                        request.Report,
                        request.Map ?? ImmutableDictionary<string, string>.Empty,
                        AccessRules.ActorOf(http),
                        ct
                    );
                    return kept.Ok
                        ? Results.Ok(kept.Value)
                        : Answers.Problems(409, "the report is no evidence for this plan", kept.Problems);
                }
            )
            .Produces<KeptRehearsal>()
            .WithSummary("Take the report of a run in a test estate as evidence for a plan's steps");
    }

    private static IResult NoPlan(string digest) => Answers.Problem(404, RunDesk.NoPlan(digest));
}
