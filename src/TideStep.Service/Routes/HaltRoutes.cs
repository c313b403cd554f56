using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Core.Waves;
using TideStep.Engine;
using TideStep.Engine.Runs;
using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>Leads an ended run back. As far as: start, or move N.</summary>
public sealed record ReturnRequest(string? AsFarAs = null, string? Reason = null);

/// <summary>A decision at a halt. As far as: start, or move N; for returns.</summary>
public sealed record DecisionRequest(DecisionKind Decision, string? Reason, string? AsFarAs)
{
    /// <summary>The number of the halt that it is about, as the run's view has it; for another halt it is refused.
    /// Whichever there is where it is left out.</summary>
    public long? Halt { get; init; }

    /// <summary>For correct-and-try-again: another limit, as in "2 h".</summary>
    public string? Limit { get; init; }

    /// <summary>For correct-and-try-again: another number of attempts.</summary>
    public int? Times { get; init; }

    /// <summary>For correct-and-try-again: other arguments of a command.</summary>
    public IReadOnlyList<string>? Command { get; init; }
}

/// <summary>Routes of what is asked and said at a halt: how the guards stand, the ways out, and the way back.</summary>
public static class HaltRoutes
{
    public static void MapHalts(this RouteGroupBuilder api)
    {
        api.MapGet("/runs/{run}/guards", async (string run, RunDesk desk, CancellationToken ct) => desk.ExecutorOf(run)
                    is { } carried
                    ? Results.Ok(await carried.GuardsAsync(ct))
                : await desk.StateAsync(run, ct) is null ? RunRoutes.Missing(run)
                : Results.Ok(Array.Empty<GuardStanding>()))
            .Produces<IReadOnlyList<GuardStanding>>()
            .WithSummary(
                "How the guards stand, read now from the nodes, of all that the run works on or has out; of none "
                    + "where it works on nothing"
            );
        api.MapPost(
                "/runs/{run}/decisions",
                async (
                    HttpContext http,
                    string run,
                    DecisionRequest request,
                    RunDesk desk,
                    Idempotency once,
                    CancellationToken ct
                ) =>
                {
                    if (
                        request.Decision == DecisionKind.ReturnAsFarAs
                        && await desk.StateAsync(run, ct) is { } state
                        && Orders.AnotherHalt(state, request.Halt) is null
                    )
                    {
                        var plan = await desk.WayBack.PlanAsync(run, state, request.AsFarAs, ct);
                        if (!plan.Ok)
                            return Answers.Problems(409, "this return path can't be taken", plan.Problems);
                    }
                    if (request.Limit is { } written && Durations.TryParse(written) is null)
                        return Answers.Problem(
                            422,
                            new Problem($"'{written}' is no length of time", null, "Write it like 2 h or 30 min.")
                        );
                    var amendment =
                        request.Limit is null && request.Times is null && request.Command is not { Count: > 0 }
                            ? null
                            : new Amendment(
                                request.Limit is { } limit ? Durations.TryParse(limit) : null,
                                request.Times,
                                [.. request.Command ?? []]
                            );
                    return await RunRoutes.SayAsync(
                        http,
                        run,
                        request,
                        desk,
                        once,
                        s =>
                            Orders.AnotherHalt(s, request.Halt) is { } other
                                ? ([], other)
                                : Orders.Decide(
                                    s,
                                    request.Decision,
                                    AccessRules.ActorOf(http),
                                    request.Reason,
                                    request.AsFarAs,
                                    amendment
                                ),
                        ct
                    );
                }
            )
            .Produces(202)
            .WithSummary(
                "Decide at a halt: try-again, correct-and-try-again, mark-as-done, skip, leave-out, "
                    + "go-past-window, return-as-far-as, stop-here"
            );
        api.MapGet(
                "/runs/{run}/return-path",
                async (string run, string? asFarAs, RunDesk desk, ReturnDesk returns, CancellationToken ct) =>
                {
                    if (await desk.StateAsync(run, ct) is not { } state)
                        return RunRoutes.Missing(run);
                    var plan = await returns.PlanAsync(run, state, asFarAs, ct);
                    return plan.Ok
                        ? Results.Ok(
                            new ReturnPathView(true)
                            {
                                Length = plan.Value!.Expected,
                                Loss = plan.Value.Notes,
                                Goal = plan.Value.Goal,
                                Blocks = [.. plan.Value.Blocks.Select(b => b.Title)],
                            }
                        )
                        : Results.Ok(new ReturnPathView(false) { Why = [.. plan.Problems.Select(p => p.What)] });
                }
            )
            .Produces<ReturnPathView>()
            .WithSummary("The return path from where the run stands, its loss and length");
        api.MapPost(
                "/runs/{run}/return",
                (
                    HttpContext http,
                    string run,
                    ReturnRequest request,
                    ReturnDesk returns,
                    Idempotency once,
                    CancellationToken ct
                ) =>
                {
                    IReadOnlyList<Problem> refused = [];
                    return once.OnceAsync(
                        http,
                        request,
                        async alive =>
                        {
                            (var back, refused) = await returns.StartAsync(
                                run,
                                request.AsFarAs,
                                request.Reason ?? "",
                                AccessRules.ActorOf(http),
                                alive
                            );
                            return back is null ? null : (201, new OpenedRun(back));
                        },
                        () =>
                            refused is [{ Absent: true }]
                                ? Answers.Problem(404, refused[0])
                                : Answers.Problems(409, $"run {run} was not returned", refused)
                    );
                }
            )
            .Produces<OpenedRun>(201)
            .WithSummary("Lead a run back that has ended, as a run of its own; nothing is opened when that is refused");
    }
}
