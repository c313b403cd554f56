using TideStep.Core.Documents;
using TideStep.Engine.Keeping;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>Times to be changed, as in <c>180 d</c>; what is null stays.</summary>
public sealed record KeepingRequest(
    string? Answers = null,
    string? Notices = null,
    string? Outputs = null,
    string? Surveys = null,
    string? Runs = null
);

/// <summary>Routes of how long what is kept is kept.</summary>
public static class KeepingRoutes
{
    public static void MapKeeping(this RouteGroupBuilder api)
    {
        api.MapGet("/keeping", async (Tidying tidying, CancellationToken ct) => await tidying.TimesAsync(ct))
            .WithSummary("How long what is kept is kept");
        api.MapPut(
                "/keeping",
                async (HttpContext http, KeepingRequest request, Tidying tidying, CancellationToken ct) =>
                {
                    var findings = new Findings();
                    KeepingTimes Changed(KeepingTimes times) =>
                        times.With(
                            request.Answers,
                            request.Notices,
                            request.Outputs,
                            request.Surveys,
                            request.Runs,
                            findings
                        );
                    Changed(KeepingTimes.Usual);
                    if (findings.Any)
                        return Answers.Problems(422, "nothing was changed", findings.All);
                    await tidying.ChangeAsync(Changed, AccessRules.ActorOf(http), ct);
                    return Results.Ok(await tidying.TimesAsync(ct));
                }
            )
            .Produces<KeepingTimes>()
            .WithSummary("Change how long what is kept is kept; what has had its time is taken away within the hour");
    }
}
