using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Points;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>One point to be given up: the run that captured it and its name there.</summary>
public sealed record PointName(string Run, string Point);

/// <summary>Gives points up, or says what that would do.</summary>
public sealed record GiveUpRequest(List<PointName> Points, string? Reason = null, bool Dry = false);

/// <summary>A rollback point as it stands now.</summary>
/// <param name="LeadsTo">The version that it leads back to.</param>
/// <param name="State">usable, used, expired, void, giving up, given up or not verified.</param>
/// <param name="TakesRoom">Whether it still lies on its node.</param>
public sealed record PointView(
    string Run,
    string Label,
    string Id,
    string Component,
    string Member,
    string Node,
    string Kind,
    string LeadsTo,
    DateTimeOffset CapturedAt,
    string By,
    string Place,
    long Bytes,
    string Sha256,
    int Entries,
    string? Verified,
    string State,
    string? Why,
    DateTimeOffset? Until,
    DateTimeOffset? Settled,
    bool TakesRoom
)
{
    public static PointView Of(PointLine l) =>
        new(
            l.Run,
            l.Label,
            l.Point.Planned.Id,
            l.Point.Planned.Component,
            l.Point.Planned.Member,
            l.Point.Planned.Node,
            l.Point.Planned.Kind,
            l.Point.Planned.Version,
            l.Point.CapturedAt,
            l.Point.Step,
            l.Point.Place,
            l.Point.Bytes,
            l.Point.Sha256,
            l.Point.Entries,
            l.Point.Verified,
            l.Point.State ?? "not verified",
            l.Point.Why,
            l.Until,
            l.Settled,
            l.TakesRoom
        );
}

/// <summary>Routes of rollback points.</summary>
public static class PointRoutes
{
    private static string Place(PointLine line) => $"{line.Run} {line.Point.Planned.Id}";

    public static void MapPoints(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/points",
                async (
                    HttpContext http,
                    string? run,
                    string? component,
                    string? state,
                    string? after,
                    int? limit,
                    PointDesk desk,
                    CancellationToken ct
                ) =>
                {
                    var all = (await desk.ListAsync(ct)).Where(l =>
                        (run is null || l.Run == run)
                        && (component is null || l.Point.Planned.Component == component)
                        && (state is null || l.Point.State == state)
                    );
                    return Pages.Of(http, [.. all], after, Pages.Size(limit, 500, 2000), Place) is { } page
                        ? Results.Ok(page.Select(PointView.Of))
                        : Pages.NoPlace(after!);
                }
            )
            .Produces<PointView[]>()
            .WithSummary(
                "Rollback points of all runs, newest first, each as it stands now; the Link header names the next page"
            );
        api.MapPost(
                "/points/give-up",
                (HttpContext http, GiveUpRequest request, PointDesk desk, Idempotency once, CancellationToken ct) =>
                {
                    IReadOnlyList<Problem> refused = [];
                    return once.OnceAsync(
                        http,
                        request,
                        async alive =>
                        {
                            (var answers, refused) = await desk.GiveUpAsync(
                                [.. (request.Points ?? []).Select(p => (p.Run, p.Point))],
                                AccessRules.ActorOf(http),
                                request.Reason,
                                request.Dry,
                                alive
                            );
                            return refused.Count > 0 ? null : (200, answers);
                        },
                        () => Answers.Problems(409, "no rollback point was given up", refused)
                    );
                }
            )
            .Produces<PointAnswer[]>()
            .WithSummary(
                "Give rollback points up: what they hold is taken away on their nodes; one that may not be "
                    + "given up stops them all"
            );
    }
}
