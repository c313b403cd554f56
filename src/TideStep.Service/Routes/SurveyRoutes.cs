using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.Surveys;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>How often everything is surveyed by itself: a duration such as <c>6 h</c>, or null for never.</summary>
public sealed record ScheduleRequest(string? Every);

/// <summary>The schedule, and when the next survey is due.</summary>
public sealed record ScheduleView(TimeSpan? Every, string By, DateTimeOffset? Next);

/// <summary>Routes of surveys and of what they read.</summary>
public static class SurveyRoutes
{
    public static void MapSurveys(this RouteGroupBuilder api)
    {
        api.MapPost(
                "/surveys",
                async (
                    HttpContext http,
                    string? platform,
                    string? component,
                    string? node,
                    string? site,
                    EstateDesk desk,
                    CancellationToken ct
                ) =>
                {
                    if (await desk.CurrentEstateAsync(ct) is not { } estate)
                        return Answers.Problem(404, EstateDesk.NoEstate);
                    var scope = new SurveyScope(platform, component, node, site);
                    if (scope.Wrong(estate) is { } wrong)
                        return Answers.Problem(422, wrong);
                    var (readings, unreached) = await desk.SurveyAsync(AccessRules.ActorOf(http), scope, ct);
                    var read = Membership
                        .Candidates(estate)
                        .Count(m => scope.Holds(estate, m) && readings.Members.ContainsKey(m.Id));
                    return Results.Ok(
                        new SurveyAnswer(
                            readings.Taken,
                            scope.Words,
                            read,
                            [.. unreached.Select(u => new UnreachedLine(u.Member, u.Why))],
                            readings
                                .Members.Where(m =>
                                    estate.FindMember(m.Key) is { } member && scope.Holds(estate, member)
                                )
                                .Sum(m => m.Value.Missed.Count)
                        )
                    );
                }
            )
            .Produces<SurveyAnswer>()
            .WithSummary("Read members live: everything, or a platform, component, node or site");
        api.MapGet("/surveys/current", (EstateDesk desk) =>
                desk.Surveying is { } now ? Results.Ok(now) : Results.NoContent()
            )
            .Produces<SurveyProgress>()
            .WithSummary("How far the survey that is being taken has come");
        api.MapGet(
                "/surveys",
                async (HttpContext http, int? limit, long? after, EstateDesk desk, CancellationToken ct) =>
                    Pages.Of(
                        http,
                        await desk.SurveysAsync(Pages.Size(limit, 20, 200) + 1, after, ct),
                        Pages.Size(limit, 20, 200),
                        s => s.Number.ToString(System.Globalization.CultureInfo.InvariantCulture)
                    )
            )
            .Produces<SurveyLine[]>()
            .WithSummary("The surveys kept, newest first; the Link header names the next page");
        api.MapGet(
                "/surveys/{number:long}/differences",
                async (long number, long from, EstateDesk desk, CancellationToken ct) =>
                    await desk.CompareSurveysAsync(from, number, ct) is { } differences
                        ? Results.Ok(differences)
                        : Answers.Problem(
                            404,
                            new Problem(
                                $"there are no surveys {from} and {number} of this estate",
                                null,
                                "See 'tidestep survey list'."
                            )
                        )
            )
            .Produces<Difference[]>()
            .WithSummary("What a survey found otherwise than an earlier one");
        api.MapGet(
                "/surveys/schedule",
                async (SurveySchedule schedule, EstateDesk desk, TimeProvider time, CancellationToken ct) =>
                    await ViewAsync(schedule, desk, time, ct)
            )
            .Produces<ScheduleView>()
            .WithSummary("How often everything is surveyed by itself");
        api.MapPut(
                "/surveys/schedule",
                async (
                    HttpContext http,
                    ScheduleRequest request,
                    SurveySchedule schedule,
                    EstateDesk desk,
                    TimeProvider time,
                    CancellationToken ct
                ) =>
                {
                    TimeSpan? every = null;
                    if (request.Every is { } written && (every = Durations.TryParse(written)) is null)
                        return Answers.Problem(
                            422,
                            new Problem($"'{written}' is no length of time", null, "Write it like 6 h or 30 min.")
                        );
                    return await schedule.KeepAsync(every, AccessRules.ActorOf(http), ct) is { } wrong
                        ? Answers.Problem(422, wrong)
                        : Results.Ok(await ViewAsync(schedule, desk, time, ct));
                }
            )
            .Produces<ScheduleView>()
            .WithSummary("Survey everything every so often, or never by itself");
        api.MapGet(
                "/members/{component}/{node}",
                async (string component, string node, EstateDesk desk, CancellationToken ct) =>
                    await desk.MemberAsync($"{component}/{node}", ct) is { } view
                        ? Results.Ok(view)
                        : await NoneAsync(desk, component, node, ct)
            )
            .Produces<MemberView>()
            .WithSummary("All readings of a member: value, kind, source, and why one is missing");
        api.MapGet(
                "/members/{component}/{node}/history",
                async (
                    string component,
                    string node,
                    string reading,
                    int? limit,
                    EstateDesk desk,
                    CancellationToken ct
                ) => await desk.HistoryAsync($"{component}/{node}", reading, Math.Clamp(limit ?? 20, 1, 200), ct)
            )
            .Produces<ReadingThen[]>()
            .WithSummary("How one reading of a member went through the surveys");
    }

    private static async Task<IResult> NoneAsync(
        EstateDesk desk,
        string component,
        string node,
        CancellationToken ct
    ) =>
        await desk.CurrentEstateAsync(ct) is { } estate
            ? Answers.Problem(
                404,
                new Problem(
                    $"there is no member '{component}/{node}'",
                    null,
                    Nearest.Hint($"{component}/{node}", estate.Components.SelectMany(c => c.Members).Select(m => m.Id))
                )
            )
            : Answers.Problem(404, EstateDesk.NoEstate);

    private static async Task<ScheduleView> ViewAsync(
        SurveySchedule schedule,
        EstateDesk desk,
        TimeProvider time,
        CancellationToken ct
    )
    {
        var kept = await schedule.FindAsync(ct);
        return new ScheduleView(
            kept.Every,
            kept.By,
            SurveySchedule.Due(kept, (await desk.ReadingsAsync(ct)).Taken, time.GetUtcNow())
        );
    }
}
