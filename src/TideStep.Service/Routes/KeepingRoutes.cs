using TideStep.Core.Documents;
using TideStep.Engine;
using TideStep.Engine.Keeping;
using TideStep.Engine.Runs;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>Times to be changed, as in <c>180 d</c>; what is null stays.</summary>
public sealed record KeepingRequest(
    string? Answers = null,
    string? Notices = null,
    string? Outputs = null,
    string? Surveys = null,
    string? Runs = null,
    string? Record = null
);

/// <summary>Rows of lists that were made anew.</summary>
/// <param name="Gone">How many rows there were.</param>
/// <param name="Runs">How many runs are in the list.</param>
/// <param name="Readable">Of how many of them it is known what they left.</param>
public sealed record RebuiltView(int Gone, int Runs, int Readable);

/// <summary>Routes of how long what is kept is kept.</summary>
public static class KeepingRoutes
{
    private const int Page = 200;

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
                            request.Record,
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
        api.MapPost("/keeping/rebuild", async (RunList list, RunTraces traces, IRunLines rows, CancellationToken ct) =>
            {
                var gone = await rows.ForgetRowsAsync(ct);
                string? after = null;
                int runs = 0,
                    readable = 0;
                while ((await list.OfAsync(Page, after, null, null, null, ct)) is { Count: > 0 } page)
                    (runs, after) = (runs + page.Count, page[^1].Run);
                await foreach (var _ in traces.AllAsync(ct))
                    readable++;
                return new RebuiltView(gone, runs, readable);
            })
            .Produces<RebuiltView>()
            .WithSummary("Make the rows of lists anew from the journals of runs");
    }
}
