using System.Buffers;
using System.Text;
using TideStep.Core.Documents;
using TideStep.Core.Learnt;
using TideStep.Core.Runs;
using TideStep.Engine;
using TideStep.Engine.Estates;
using TideStep.Engine.Plans;
using TideStep.Engine.Runs;
using TideStep.Service.Access;
using TideStep.Storage;

namespace TideStep.Service.Routes;

/// <summary>A plan to run, what to call the run, and whether to start it as well; a start that is refused opens
/// nothing.</summary>
/// <param name="At">Before when a started run begins nothing but what only lies ready.</param>
public sealed record OpenRequest(string Plan, string? Label, bool Start = false, DateTimeOffset? At = null);

/// <summary>When a run is to begin; now where nothing is said.</summary>
/// <param name="At">Before when it begins nothing but what only lies ready.</param>
/// <param name="NotAtATime">Takes such a time back.</param>
public sealed record StartRequest(DateTimeOffset? At = null, bool NotAtATime = false);

/// <summary>How a run is to hold; at the next safe place where nothing is said.</summary>
/// <param name="AtOnce">Whether no further step is begun, even with members in the middle.</param>
/// <param name="At">From when on it is to hold at the next safe place.</param>
/// <param name="NotAtATime">Takes such a time back.</param>
public sealed record HoldRequest(bool AtOnce = false, DateTimeOffset? At = null, bool NotAtATime = false);

/// <summary>A standing order: the decision, after how long ("10 min"), and how many times at most.</summary>
public sealed record OrderRequest(DecisionKind Decision, string After, int Times = 1)
{
    /// <summary>Orders with their times read, or what can't be read.</summary>
    public static Checked<IReadOnlyList<StandingOrder>> Read(IReadOnlyList<OrderRequest> orders) =>
        orders.FirstOrDefault(o => Durations.TryParse(o.After) is null) is { } wrong
            ? new(null, [new Problem($"'{wrong.After}' is no length of time", null, "Write it like 10 min.")])
            : new(
                orders.Select(o => new StandingOrder(o.Decision, Durations.TryParse(o.After)!.Value, o.Times)).ToList(),
                []
            );
}

/// <summary>The standing orders of a run, in their order; none takes back what was given.</summary>
public sealed record OrdersRequest(IReadOnlyList<OrderRequest> Orders);

/// <summary>A signature under a person's step.</summary>
/// <param name="CannotBeUndone">Of a measure that a person is to take back: that it can't be, with why as the
/// evidence; then it is left to be done after the run.</param>
/// <param name="Owner">Whose it is then.</param>
/// <param name="File">A file that shows it, of at most 5 MiB, kept beside the words.</param>
public sealed record SignatureRequest(
    string? Step,
    string Evidence,
    string? Member = null,
    bool CannotBeUndone = false,
    string? Owner = null,
    UploadedFile? File = null
);

/// <summary>What a step took in earlier runs, and whether plans reckon with it already.</summary>
public sealed record TimeLine(string Step, bool Used, LearntTime Time);

/// <summary>Routes of runs: open, start, watch, hold, decide, report.</summary>
public static class RunRoutes
{
    // Of all states of a run those in which it has not ended.
    private const string Open = "open";

    public static void MapRuns(this RouteGroupBuilder api)
    {
        api.MapGet(
                "/runs",
                async (
                    HttpContext http,
                    RunList list,
                    IJournal journal,
                    int? limit,
                    string? after,
                    DateTimeOffset? before,
                    string? search,
                    string? state,
                    CancellationToken ct
                ) =>
                {
                    Func<RunStatus, bool>? stands = state == Open ? s => !RunLine.HasEnded(s) : null;
                    if (state is not (null or Open))
                    {
                        var all = Enum.GetValues<RunStatus>();
                        var at = Array.FindIndex(all, s => Orders.Word(s) == state.Replace('-', ' '));
                        if (at < 0)
                            return Answers.Problem(
                                422,
                                new Problem(
                                    $"'{state}' is no state of a run",
                                    null,
                                    $"Say {Open}, or one of {string.Join(", ", all.Select(s => Orders.Word(s)))}."
                                )
                            );
                        var wanted = all[at];
                        stands = s => s == wanted;
                    }
                    if (after is not null && await journal.FindRunAsync(after, ct) is null)
                        return Pages.NoPlace(after);
                    var found = await list.OfAsync(Pages.Size(limit) + 1, after, before, search, stands, ct);
                    return Results.Ok(Pages.Of(http, found, Pages.Size(limit), r => r.Run));
                }
            )
            .Produces<IReadOnlyList<RunLine>>()
            .WithSummary(
                "Runs, newest first; the Link header names the next page; before= for those opened before a moment, "
                    + "search= finds words in label, goal, names, members and halts, state= a state, or open for all "
                    + "that have not ended"
            );
        api.MapGet("/runs/{run}/differences", async (string run, string from, RunDesk desk, CancellationToken ct) =>
            {
                foreach (var wanted in (string[])[run, from])
                    if (await desk.StateAsync(wanted, ct) is null)
                        return Missing(wanted);
                return Results.Ok(
                    RunComparison.Of((await desk.StateAsync(from, ct))!, (await desk.StateAsync(run, ct))!)
                );
            })
            .Produces<RunDifferences>()
            .WithSummary("What a run did otherwise than an earlier one, and how long its parts took in both");
        api.MapPost(
                "/runs",
                (HttpContext http, OpenRequest request, RunDesk desk, Idempotency once, CancellationToken ct) =>
                {
                    IReadOnlyList<Problem> refused = [];
                    return once.OnceAsync(
                        http,
                        request,
                        async alive =>
                        {
                            var (label, by) = (request.Label ?? "", AccessRules.ActorOf(http));
                            string? run;
                            if (request.Start)
                                (run, refused) = await desk.OpenAndStartAsync(
                                    request.Plan,
                                    label,
                                    by,
                                    alive,
                                    request.At
                                );
                            else
                            {
                                (run, var problem) = await desk.OpenAsync(request.Plan, label, by, alive);
                                refused = problem is null ? [] : [problem];
                            }
                            if (run is null)
                                return null;
                            http.Response.Headers.Location = $"/api/runs/{run}";
                            return (201, new OpenedRun(run));
                        },
                        () =>
                            refused is [{ Absent: true }]
                                ? Answers.Problem(404, refused[0])
                                : Answers.Problems(
                                    409,
                                    $"no run of plan {request.Plan} was {(request.Start ? "started" : "opened")}",
                                    refused
                                )
                    );
                }
            )
            .Produces<OpenedRun>(201)
            .WithSummary("Open a run of a plan, and start it where asked; nothing is opened when that is refused");
        api.MapPost(
                "/runs/{run}/start",
                async (
                    HttpContext http,
                    string run,
                    StartRequest? request,
                    RunDesk desk,
                    Idempotency once,
                    TimeProvider time,
                    CancellationToken ct
                ) =>
                {
                    // Of a run that waits for its time already, the time can be said anew.
                    if (
                        request is { At: not null } or { NotAtATime: true }
                        && await desk.StateAsync(run, ct) is { StartedAt: not null }
                    )
                        return await SayAsync(
                            http,
                            run,
                            request,
                            desk,
                            once,
                            s => Orders.StartAt(s, AccessRules.ActorOf(http), request.At, time.GetUtcNow()),
                            ct
                        );
                    IReadOnlyList<Problem> refused = [];
                    return await once.OnceAsync(
                        http,
                        request ?? new StartRequest(),
                        async alive =>
                        {
                            refused = await desk.StartAsync(run, AccessRules.ActorOf(http), alive, request?.At);
                            return refused.Count > 0 ? null : (202, null);
                        },
                        () => Answers.Problems(409, $"run {run} was not started", refused)
                    );
                }
            )
            .Produces(202)
            .WithSummary(
                "Start a run, now or at a time: premises are read again, what it works on is reserved; what "
                    + "only lies ready is done at once"
            );
        api.MapPost(
                "/runs/{run}/hold",
                (
                    HttpContext http,
                    string run,
                    HoldRequest? request,
                    RunDesk desk,
                    Idempotency once,
                    TimeProvider time,
                    CancellationToken ct
                ) =>
                    SayAsync(
                        http,
                        run,
                        request ?? new HoldRequest(),
                        desk,
                        once,
                        s =>
                            request is { At: not null } or { NotAtATime: true }
                                ? Orders.HoldAt(s, AccessRules.ActorOf(http), request.At, time.GetUtcNow())
                                : Orders.Hold(s, AccessRules.ActorOf(http), request?.AtOnce ?? false),
                        ct
                    )
            )
            .Produces(202)
            .WithSummary("Hold at the next safe place of every member, at once, or at a time");
        MapSay(api, "go-on", (state, http, _) => Orders.GoOn(state, AccessRules.ActorOf(http)), "Let a held run go on");
        api.MapPost(
                "/runs/{run}/orders",
                async (
                    HttpContext http,
                    string run,
                    OrdersRequest request,
                    RunDesk desk,
                    Idempotency once,
                    CancellationToken ct
                ) =>
                {
                    var orders = OrderRequest.Read(request.Orders);
                    return orders.Ok
                        ? await SayAsync(
                            http,
                            run,
                            request,
                            desk,
                            once,
                            s => Orders.Give(s, orders.Value!, AccessRules.ActorOf(http)),
                            ct
                        )
                        : Answers.Problem(422, orders.Problems[0]);
                }
            )
            .Produces(202)
            .WithSummary("Standing orders: what is decided at halts that nobody decides in time");
        api.MapPost(
                "/runs/{run}/signatures",
                async (
                    HttpContext http,
                    string run,
                    SignatureRequest request,
                    RunDesk desk,
                    CheckDesk checks,
                    Idempotency once,
                    CancellationToken ct
                ) =>
                {
                    var by = AccessRules.ActorOf(http);
                    var kept = request.File is { } file
                        ? await checks.Evidence.KeepAsync(file.Name, file.Content, by, ct)
                        : null;
                    if (kept is { Ok: false })
                        return Answers.Problems(422, "nothing was signed", kept.Problems);
                    return await SayAsync(
                        http,
                        run,
                        request,
                        desk,
                        once,
                        s =>
                            Orders.Sign(
                                s,
                                request.Step,
                                by,
                                request.Evidence,
                                request.Member,
                                request.CannotBeUndone,
                                request.Owner,
                                kept?.Value
                            ),
                        ct
                    );
                }
            )
            .Produces(202)
            .WithSummary("Sign a step that a person does");
        api.MapGet(
                "/runs/{run}/outputs/{attempt}",
                async (string run, string attempt, RunDesk desk, IJournal journal, CancellationToken ct) =>
                {
                    if (desk.ExecutorOf(run)?.LiveOutput(attempt) is { } live)
                        return Results.Text(live);
                    if (await journal.FindOutputAsync(run, attempt, ct) is { } kept)
                        return Results.Text(kept);
                    var ended = (await journal.ReadAsync(run, 0, ct))
                        .Select(e => e.Event)
                        .OfType<AttemptEnded>()
                        .FirstOrDefault(e => e.Attempt == attempt);
                    return ended is null
                        ? Answers.Problem(404, new Problem($"there is no attempt {attempt} in run {run}"))
                        : Results.Text(ended.Output);
                }
            )
            .Produces<string>(200, "text/plain")
            .WithSummary("The output of an attempt, while it runs and afterwards");
        api.MapGet(
                "/runs/{run}/report",
                async (
                    string run,
                    string? format,
                    RunDesk desk,
                    EstateDesk estates,
                    IJournal journal,
                    IKeeping kept,
                    TimeProvider time,
                    CancellationToken ct
                ) =>
                {
                    if (await kept.FindArchiveAsync(run, ct) is { } archive)
                        return format == "markdown"
                            ? Results.Text(archive.WordsOfReport, "text/markdown", Encoding.UTF8)
                            : Results.Text(archive.Report, "application/json", Encoding.UTF8);
                    if (await Look(desk, run, s => s, ct) is not { } state)
                        return Missing(run);
                    var report = RunReport.Of(run, state, await journal.ReadAsync(run, 0, ct));
                    if (await estates.IndexAsync(ct) is { } index)
                        report = report with
                        {
                            Next = WhatComesNext.Of(state, index, DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime)),
                        };
                    var zone = TimeZoneInfo.FindSystemTimeZoneById(
                        (await estates.CurrentEstateAsync(ct))?.Zone ?? "UTC"
                    );
                    return format == "markdown"
                        ? Results.Text(report.ToMarkdown(zone), "text/markdown", Encoding.UTF8)
                        : Results.Ok(report);
                }
            )
            .Produces<RunReport>()
            .WithSummary("The closing report; format=markdown for text");
        api.MapGet("/times", async (EstateDesk estates, CancellationToken ct) =>
                await estates.CurrentEstateAsync(ct) is not { } estate
                    ? Answers.Problem(404, EstateDesk.NoEstate)
                    : Results.Ok(
                        (await estates.LearntAsync(estate.Id, ct))
                            .Seconds.Select(s => new TimeLine(
                                s.Key,
                                s.Value.Length >= LearntTimes.Enough,
                                LearntTimes.Of(s.Value)
                            ))
                            .ToList()
                    )
            )
            .Produces<TimeLine[]>()
            .WithSummary("What steps took in earlier runs, by product and step; used in plans from three times on");
    }

    private static void MapSay(
        RouteGroupBuilder api,
        string verb,
        Func<RunState, HttpContext, object?, (RunEvent[], Problem?)> rule,
        string summary
    ) =>
        api.MapPost(
                $"/runs/{{run}}/{verb}",
                (HttpContext http, string run, RunDesk desk, Idempotency once, CancellationToken ct) =>
                    SayAsync(http, run, verb, desk, once, s => rule(s, http, null), ct)
            )
            .Produces(202)
            .WithSummary(summary);

    internal static Task<IResult> SayAsync(
        HttpContext http,
        string run,
        object request,
        RunDesk desk,
        Idempotency once,
        Rule rule,
        CancellationToken ct
    )
    {
        Problem? refused = null;
        return once.OnceAsync(
            http,
            request,
            async alive =>
            {
                refused = await desk.SayAsync(run, rule, alive);
                return refused is null ? (202, null) : null;
            },
            () => Answers.Problem(refused!.Absent ? 404 : 409, refused)
        );
    }

    internal static IResult Missing(string run) => Answers.Problem(404, RunDesk.NoRun(run));

    // A run that this service carries is looked at in memory; any other is folded from its journal.
    internal static async Task<T?> Look<T>(RunDesk desk, string run, Func<RunState, T?> look, CancellationToken ct)
        where T : class =>
        desk.ExecutorOf(run) is { } executor ? executor.Log.Look(look)
        : await desk.StateAsync(run, ct) is { } state ? look(state)
        : null;
}
