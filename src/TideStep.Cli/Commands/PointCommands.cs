using System.CommandLine;
using System.Text.Json;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep point</c>: rollback points of all runs, and giving them up.</summary>
public static class PointCommands
{
    public static Command Create(Context context)
    {
        var command = new Command("point", "Rollback points: what each leads back to, how it stands, and giving it up");
        var (run, component) = (
            new Option<string?>("--run") { Description = "only those of this run" },
            new Option<string?>("--component") { Description = "only those of this component" }
        );
        var state = new Option<string?>("--state")
        {
            Description = "only those that are so: usable, used, expired, void, giving-up, given-up, not-verified",
        };
        state.AcceptOnlyFromAmong("usable", "used", "expired", "void", "giving-up", "given-up", "not-verified");
        command.Subcommands.Add(
            context.Remote(
                "list",
                "Rollback points of all runs, newest first",
                async (result, client, output, ct) =>
                {
                    var points = await FindAsync(
                        client,
                        result.GetValue(run),
                        result.GetValue(component),
                        result.GetValue(state),
                        ct
                    );
                    output.Write(
                        points,
                        () =>
                        {
                            if (points.Count == 0)
                            {
                                output.Line("There is no such rollback point.");
                                return;
                            }
                            output.Table(
                                ["run", "point", "state", "leads to", "serves till", "size"],
                                points.Select(p =>
                                    new[]
                                    {
                                        p.Run,
                                        p.Id,
                                        p.State,
                                        p.LeadsTo,
                                        p.Until is { } until ? $"{until.ToLocalTime():yyyy-MM-dd}" : "run at work",
                                        Units.WriteBytes(p.Bytes),
                                    }
                                )
                            );
                            output.Line();
                            foreach (
                                var node in points
                                    .Where(p => p.TakesRoom)
                                    .GroupBy(p => p.Node)
                                    .OrderByDescending(g => g.Sum(p => p.Bytes))
                                    .Take(8)
                            )
                                output.Line(
                                    $"{node.Key}: {node.Count()} "
                                        + $"{(node.Count() == 1 ? "point takes" : "points take")} "
                                        + $"{Units.WriteBytes(node.Sum(p => (double)p.Bytes))}"
                                );
                        },
                        points
                    );
                    return Exit.Done;
                },
                run,
                component,
                state
            )
        );
        var (of, name) = (
            new Argument<string>("run") { Description = "the run that captured it" },
            new Argument<string>("point") { Description = "its name" }
        );
        command.Subcommands.Add(
            context.Remote(
                "show",
                "One rollback point: where it lies, what was verified of it, how it stands",
                async (result, client, output, ct) =>
                {
                    var points = await FindAsync(client, result.GetValue(of), null, null, ct);
                    var p = points.FirstOrDefault(p => p.Id == result.GetValue(name))
                        ?? throw new MisusedException([
                            new Problem(
                                $"run {result.GetValue(of)} has no rollback point '{result.GetValue(name)}'",
                                null,
                                Nearest.Hint(result.GetValue(name)!, points.Select(p => p.Id))
                                    ?? "See 'tidestep point list'."
                            ),
                        ]);
                    output.Write(p, () =>
                    {
                        output.Heading($"{p.Id}: {p.State}{(p.Why is null ? "" : $" ({p.Why})")}");
                        output.Line($"leads back to   {p.Component} {p.LeadsTo}, on {p.Member}");
                        output.Line(
                            $"captured        {Written(p.CapturedAt)} by step {p.By} of run "
                                + $"{p.Run}{(p.Label.Length > 0 ? $", {p.Label}" : "")}"
                        );
                        output.Line(
                            $"lies at         {p.Node}:{p.Place}{(p.TakesRoom ? "" : " (nothing is left of it)")}"
                        );
                        output.Line(
                            p.Sha256.Length > 0
                                ? $"holds           {Units.WriteBytes(p.Bytes)}, {p.Entries} entries, SHA-256 "
                                    + $"{p.Sha256}"
                                : $"holds           "
                                    + $"{(p.Bytes > 0 ? Units.WriteBytes(p.Bytes) : "a size that is not told")}; "
                                    + $"kept by {p.Node} itself"
                        );
                        output.Line($"verified        {p.Verified ?? "no"}");
                        output.Line(
                            p.Until is { } until
                                ? $"serves till     {Written(until)}; its component settles till "
                                    + $"{Written(p.Settled!.Value)}"
                                : "serves          its run, which is at work"
                        );
                    });
                    return Exit.Done;
                },
                of,
                name
            )
        );
        var (points, reason) = (
            new Argument<string[]>("points")
            {
                Description = "their names, where not all that the options choose",
                Arity = ArgumentArity.ZeroOrMore,
            },
            new Option<string?>("--reason") { Description = "why; it stands in the run's journal" }
        );
        var dry = new Option<bool>("--dry-run") { Description = "only say what would be taken away" };
        command.Subcommands.Add(
            context.Remote(
                "give-up",
                "Give rollback points up: what they hold is taken away on their nodes",
                async (result, client, output, ct) =>
                {
                    var (its, only, so, names) = (
                        result.GetValue(run),
                        result.GetValue(component),
                        result.GetValue(state),
                        result.GetValue(points)!
                    );
                    if (its is null && only is null && so is null)
                        throw new MisusedException([
                            new Problem(
                                "nothing is said of which points",
                                null,
                                "Say --run, --component or --state, and their names where not all of those are meant."
                            ),
                        ]);
                    var found = (await FindAsync(client, its, only, so, ct))
                        .Where(p => names.Length == 0 ? p.TakesRoom : names.Contains(p.Id))
                        .ToList();
                    foreach (var stray in names.Where(n => found.All(p => p.Id != n)))
                        throw new MisusedException([
                            new Problem(
                                $"there is no such rollback point '{stray}'",
                                null,
                                Nearest.Hint(stray, (await FindAsync(client, its, only, so, ct)).Select(p => p.Id))
                                    ?? "See 'tidestep point list'."
                            ),
                        ]);
                    if (found.Count == 0)
                    {
                        output.Line("There is no such rollback point that takes room.");
                        return Exit.Done;
                    }
                    var answers = (
                        await client.PostAsync(
                            "/api/points/give-up",
                            new
                            {
                                points = found.Select(p => new { run = p.Run, point = p.Id }),
                                reason = result.GetValue(reason),
                                dry = result.GetValue(dry),
                            },
                            ct
                        )
                    ).Deserialize<List<PointAnswer>>(Json.Options)!;
                    output.Write(
                        answers,
                        () =>
                        {
                            foreach (var a in answers)
                                output.Line(
                                    $"{(a.Gone ? "given up" : result.GetValue(dry) ? "would go" : "left    ")}  "
                                        + $"{a.Point}  {a.Told}"
                                );
                            output.Line(
                                (
                                    Units.WriteBytes(
                                        answers.Where(a => a.Gone || result.GetValue(dry)).Sum(a => (double)a.Bytes)
                                    )
                                ) + $" {(result.GetValue(dry) ? "would be free" : "are free")} again."
                            );
                        },
                        answers
                    );
                    return result.GetValue(dry) || answers.All(a => a.Gone) ? Exit.Done : Exit.No;
                },
                points,
                run,
                component,
                state,
                reason,
                dry
            )
        );
        return command;
    }

    private static string Written(DateTimeOffset at) => at.ToLocalTime().ToString("yyyy-MM-dd HH:mm");

    private static async Task<List<PointView>> FindAsync(
        Client.ServiceClient client,
        string? run,
        string? component,
        string? state,
        CancellationToken ct
    )
    {
        string[] wanted =
        [
            run is null ? "" : $"run={Uri.EscapeDataString(run)}",
            component is null ? "" : $"component={Uri.EscapeDataString(component)}",
            state is null ? "" : $"state={Uri.EscapeDataString(state.Replace('-', ' '))}",
        ];
        return (
            await client.ListAsync<PointView>(
                $"/api/points?limit=2000&{string.Join('&', wanted.Where(w => w.Length > 0))}",
                null,
                ct
            )
        ).Lines;
    }
}
