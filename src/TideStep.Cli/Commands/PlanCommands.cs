using System.CommandLine;
using System.Text.Json;
using TideStep.Client.Shapes;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep plan</c>: make, list and read plans. A plan read is the dry run: a run does it step for
/// step.</summary>
public static class PlanCommands
{
    public static Command Create(Context context)
    {
        var plan = new Command("plan", "Plans: make, list, show, compare");
        var digest = new Argument<string>("digest") { Description = "the plan's digest, or its beginning" };
        var steps = new Option<bool>("--steps") { Description = "every step, not only the parts" };
        plan.Subcommands.Add(
            context.Command(
                "make",
                "Make the plan of the best path to a goal",
                async (result, output, ct) =>
                {
                    if (PathCommand.OnFiles(result))
                        return await MakeOnFilesAsync(result, output, result.GetValue(steps), ct);
                    using var client = Profile.Connect(result.GetValue(context.Server));
                    var problems = new List<Problem>();
                    var text = Files.Text(PathCommand.GoalPath(result), problems);
                    if (problems.Count > 0)
                        throw new MisusedException(problems);
                    var made = (
                        await Searching.ByServiceAsync(client, "/api/plans", text, PathCommand.GoalPath(result), ct)
                    ).Deserialize<PlanView>(Json.Options)!;
                    return Show(made.Digest, made.Plan, output, result.GetValue(steps));
                },
                [.. PathCommand.FileOptions, steps]
            )
        );
        var most = Lists.Most("plans");
        plan.Subcommands.Add(
            context.Remote(
                "list",
                "Plans, newest first",
                async (result, client, output, ct) =>
                {
                    var (lines, more) = await client.ListAsync<PlanLine>("/api/plans", result.GetValue(most), ct);
                    output.Write(lines, () =>
                        output.Table(
                            ["plan", "kind", "made", "by", "moves", "takes", "goal"],
                            lines.Select(l =>
                                new[]
                                {
                                    Short(l.Digest),
                                    l.Kind,
                                    l.Made.ToLocalTime().ToString("yyyy-MM-dd HH:mm"),
                                    l.By,
                                    l.Moves.ToString(),
                                    Durations.Write(l.Expected),
                                    l.SetAside is null ? string.Join("; ", l.Goal) : "set aside",
                                }
                            )
                        )
                    );
                    foreach (var l in lines.Where(l => l.SetAside is not null && output.ForPeople))
                        output.Line($"{Short(l.Digest)} is set aside: {l.SetAside}.");
                    Lists.TellMore(more, lines.Count, "plans");
                    return Exit.Done;
                },
                most
            )
        );
        plan.Subcommands.Add(
            context.Remote(
                "show",
                "A plan: what a run of it does, step for step",
                async (result, client, output, ct) =>
                {
                    var kept = await client.GetAsync<PlanView>(
                        $"/api/plans/{Uri.EscapeDataString(result.GetValue(digest)!)}",
                        ct
                    );
                    return Show(kept.Digest, kept.Plan, output, result.GetValue(steps));
                },
                digest,
                steps
            )
        );
        plan.Subcommands.Add(
            context.Remote(
                "calendar",
                "The windows of a plan as iCalendar, for people's calendars",
                async (result, client, _, ct) =>
                {
                    Console.Write(
                        await client.GetTextAsync(
                            $"/api/plans/{Uri.EscapeDataString(result.GetValue(digest)!)}/calendar",
                            ct
                        )
                    );
                    return Exit.Done;
                },
                digest
            )
        );
        var after = new Option<int?>("--after")
        {
            Description = "the part of the plan after which it returns; all of it if not given",
        };
        var move = new Option<int?>("--to-move") { Description = "return only to the beginning of this move" };
        var which = new Argument<string?>("digest")
        {
            Description = "the plan's digest, or its beginning; not with files",
            DefaultValueFactory = _ => null,
        };
        plan.Subcommands.Add(
            context.Command(
                "return",
                "The best return path from a part of a plan, with what it takes and loses",
                async (result, output, ct) =>
                {
                    if (PathCommand.OnFiles(result))
                        return await ReturnOnFilesAsync(
                            result,
                            output,
                            result.GetValue(after),
                            result.GetValue(move) ?? 1,
                            ct
                        );
                    using var client = Profile.Connect(result.GetValue(context.Server));
                    if (result.GetValue(which) is not { } named)
                        throw new MisusedException([
                            new Problem(
                                "no plan is named",
                                null,
                                "Name one by its digest, see 'tidestep plan list', or give the files it is made from."
                            ),
                        ]);
                    var query = string.Join(
                        '&',
                        new[]
                        {
                            result.GetValue(after) is { } part ? $"after={part}" : "",
                            result.GetValue(move) is { } to ? $"move={to}" : "",
                        }.Where(q => q.Length > 0)
                    );
                    return PathCommand.Show(
                        await client.GetAsync<Core.Paths.PathView>(
                            $"/api/plans/{Uri.EscapeDataString(named)}/return?{query}",
                            ct
                        ),
                        output,
                        false,
                        back: true
                    );
                },
                [which, after, move, .. PathCommand.FileOptionsIfAny]
            )
        );
        var (earlier, later) = (
            new Argument<string>("earlier")
            {
                Description = "a plan's digest, or a file with one as 'plan make --format json' writes it",
            },
            new Argument<string>("later") { Description = "the plan to compare with it" }
        );
        plan.Subcommands.Add(
            context.Command(
                "compare",
                "What a plan does otherwise than an earlier one",
                async (result, output, ct) =>
                {
                    var (was, now) = (
                        await ReadAsync(result.GetValue(earlier)!, result.GetValue(context.Server), ct),
                        await ReadAsync(result.GetValue(later)!, result.GetValue(context.Server), ct)
                    );
                    var differences = PlanComparison.Of(was, now);
                    output.Write(
                        new
                        {
                            earlier = was.Digest,
                            later = now.Digest,
                            differences,
                        },
                        () =>
                        {
                            output.Heading(
                                differences.IsEmpty
                                    ? $"plan {Short(now.Digest)} is plan {Short(was.Digest)}"
                                    : $"plan {Short(now.Digest)}, compared with {Short(was.Digest)}:"
                            );
                            foreach (var difference in differences)
                                output.Line($"  {difference}");
                        },
                        differences.Select(d => new { difference = d })
                    );
                    return differences.IsEmpty ? Exit.Done : Exit.No;
                },
                earlier,
                later
            )
        );
        foreach (var command in SignOffCommands.Create(context, digest))
            plan.Subcommands.Add(command);
        return plan;
    }

    // A file is read as it is; anything else is asked of the service.
    private static async Task<Plan> ReadAsync(string given, string? server, CancellationToken ct)
    {
        if (!File.Exists(given) && !given.Contains('/') && !given.EndsWith(".json", StringComparison.Ordinal))
        {
            using var client = Profile.Connect(server);
            return (await client.GetAsync<PlanView>($"/api/plans/{Uri.EscapeDataString(given)}", ct)).Plan;
        }
        try
        {
            if (
                JsonSerializer.Deserialize<PlanView>(await File.ReadAllTextAsync(given, ct), Json.Options)
                is not { Plan.Moves.IsDefault: false } kept
            )
                throw new MisusedException([
                    new Problem($"{given} holds no plan", null, "Write one with 'tidestep plan make --format json'."),
                ]);
            return kept.Digest == kept.Plan.Digest
                ? kept.Plan
                : throw new MisusedException([
                    new Problem(
                        $"the plan in {given} was changed: it is not what its digest names",
                        $"it says {kept.Digest}, and is {kept.Plan.Digest}",
                        "Make it again."
                    ),
                ]);
        }
        catch (JsonException e)
        {
            throw new MisusedException([
                new Problem(
                    $"{given} is no plan: it is not JSON from here on",
                    null,
                    "Write one with 'tidestep plan make --format json'.",
                    new Place(given, (int)(e.LineNumber ?? 0) + 1, (int)(e.BytePositionInLine ?? 0) + 1)
                ),
            ]);
        }
    }

    private static async Task<int> MakeOnFilesAsync(ParseResult result, Output output, bool steps, CancellationToken ct)
    {
        var (index, path) = await PathCommand.OnFilesAsync(result, forPlan: true, ct);
        if (!path.Found || path.AlreadyMet)
        {
            output.Line(
                path.Found
                    ? "The goal is met already; there is nothing to do."
                    : "There is no path, so there is no plan; 'tidestep path' says why."
            );
            return path.Found ? Exit.Done : Exit.No;
        }
        var plan = PlanMaker.Make(index, path, "files", "files");
        return plan.Ok
            ? Show(plan.Value!.Digest, plan.Value, output, steps)
            : throw new MisusedException(plan.Problems);
    }

    private static async Task<int> ReturnOnFilesAsync(
        ParseResult result,
        Output output,
        int? after,
        int move,
        CancellationToken ct
    )
    {
        if (PathCommand.GoalPathIfAny(result) is not { } goal)
            throw new MisusedException([
                new Problem("--goal is missing", null, "Files need --goal with --estate, --readings and --catalogue."),
            ]);
        var (index, path) = await PathCommand.OnFilesAsync(result, goal, forPlan: true, ct);
        var plan = path is { Found: true, AlreadyMet: false }
            ? PlanMaker.Make(index, path, "files", "files")
            : throw new MisusedException([
                new Problem("there is no plan to return from", null, "'tidestep path' says why."),
            ]);
        if (!plan.Ok)
            throw new MisusedException(plan.Problems);
        var back = Core.Returns.ReturnPlanner.PathFrom(index, plan.Value!, after ?? plan.Value!.Blocks.Length, move);
        return back.Ok
            ? PathCommand.Show(Core.Paths.PathView.Of(back.Value!), output, false, back: true)
            : throw new MisusedException(back.Problems);
    }

    internal static string Short(string digest) =>
        digest.StartsWith("sha256:", StringComparison.Ordinal) ? digest[7..17] : digest;

    private static int Show(string digest, Plan plan, Output output, bool steps)
    {
        output.Write(
            new PlanView(digest, plan),
            () =>
            {
                output.Heading($"plan {Short(digest)}  {plan.Kind} of {plan.Estate}, {Durations.Write(plan.Expected)}");
                foreach (var goal in plan.Goal)
                    output.Line($"  goal: {goal}");
                output.Line();
                output.Table(
                    ["move", "component", "from", "to", "method", "waves", "at least", "takes"],
                    plan.Moves.Select(m =>
                        new[]
                        {
                            m.Number.ToString(),
                            string.Join(" + ", m.Components),
                            string.Join(" + ", m.Components.Select(c => m.Jumps.First(j => j.Component == c).From)),
                            string.Join(" + ", m.Components.Select(c => m.Jumps.Last(j => j.Component == c).To)),
                            m.Method.Word(),
                            m.Waves.ToString(),
                            m.WavesAtLeast.ToString(),
                            Durations.Write(m.Takes),
                        }
                    )
                );
                output.Line();
                foreach (var (window, number) in plan.Windows.Select((w, i) => (w, i + 1)))
                    output.Line(
                        $"window {number}  {window.Name}, {window.From:ddd yyyy-MM-dd HH:mm zzz} to "
                            + $"{window.To:HH:mm}: "
                            + (
                                window.FirstMove == window.LastMove
                                    ? $"move {window.FirstMove}"
                                    : $"moves {window.FirstMove} to {window.LastMove}"
                            )
                            + $", end {window.Ends:HH:mm}{(window.Rests is null ? "" : "; rests after it")}"
                    );
                if (!plan.Windows.IsEmpty)
                    output.Line();
                var (at, timed) = (TimeSpan.Zero, !plan.Windows.IsEmpty);
                var said = steps || plan.Blocks.Any(b => !b.ComponentsOut.IsEmpty);
                var rows = new List<string[]>();
                foreach (var block in plan.Blocks)
                {
                    rows.Add([
                        block.Number.ToString(),
                        block.Begins is { } begins ? begins.ToString("HH:mm") : Durations.Write(at),
                        block.Phase.ToString().ToLowerInvariant(),
                        block.Title,
                        Took(block.Expected + block.Settle, block.AtMost + block.Settle),
                        .. timed ? new[] { block.TurnBack?.ToString("HH:mm") ?? "" } : [],
                        $"{ReturnWord(block.Return)}"
                            + (block.Return.Length > TimeSpan.Zero ? ", " + Durations.Write(block.Return.Length) : "")
                            + Partly(block.Return),
                        .. said ? new[] { string.Join(", ", block.ComponentsOut) } : [],
                    ]);
                    if (steps && !block.StillServing.IsEmpty)
                        rows.Add(["", "", "", $"  goes on: {string.Join(", ", block.StillServing)}", ""]);
                    if (steps)
                        foreach (var lane in block.Lanes)
                        foreach (var step in lane.Steps)
                            rows.Add([
                                "",
                                "",
                                "",
                                $"  {step.Member}: {step.Title}",
                                Took(step.Expected, step.AtMost),
                                .. timed ? new[] { "" } : [],
                                "",
                                string.Join(
                                    "; ",
                                    new[]
                                    {
                                        step.Closes ? "closes the return path" : step.Impact,
                                        step.Reckoning,
                                        step.Milestones is { } milestones
                                            ? $"in parts: "
                                                + (
                                                    string.Join(
                                                        ", ",
                                                        milestones.Select(p =>
                                                            p.Takes is { } takes
                                                                ? $"{p.Title} {Durations.Write(takes)}"
                                                                : p.Title
                                                        )
                                                    )
                                                )
                                            : null,
                                        step.Account is { } account ? $"as {account}" : null,
                                        step.Undo is null ? null : $"taken back {TakenBack(step)}",
                                    }.OfType<string>()
                                ),
                            ]);
                    at += block.Expected + block.Settle;
                    if (block.RestsAfter)
                        rows.Add(["", "", "rest", "resting place, till the next window", ""]);
                }
                string[] heads =
                [
                    "part",
                    timed ? "begins" : "after",
                    "phase",
                    "what",
                    "takes",
                    .. timed ? new[] { "turn back by" } : [],
                    "return path",
                    .. said ? new[] { "out, impact" } : [],
                ];
                output.Table(
                    heads,
                    rows.Select(r =>
                        r.Take(heads.Length)
                            .Concat(Enumerable.Repeat("", Math.Max(0, heads.Length - r.Length)))
                            .ToArray()
                    )
                );
                output.Line();
                if (!plan.Points.IsEmpty)
                    output.Line(
                        $"{plan.Points.Length} rollback points: "
                            + $"{string.Join(", ", plan.Points.Select(p => p.Id).Take(6))}"
                            + $"{(plan.Points.Length > 6 ? $" and {plan.Points.Length - 6} more" : "")}"
                    );
                if (plan.Blocks.FirstOrDefault(b => b.Return.State == ReturnState.Closed) is { } closes)
                    output.Line($"point of no return: part {closes.Number}, {closes.Title}: {closes.Return.Why}");
                else if (plan.Blocks.FirstOrDefault(b => b.Return.State == ReturnState.WithLoss) is { } loss)
                    output.Line($"loss begins: part {loss.Number}, {loss.Title}: {loss.Return.Why}");
                foreach (var block in plan.Blocks.Where(b => !b.VoidsCaptures.IsEmpty))
                    output.Line(
                        $"part {block.Number} makes void what was captured before: "
                            + $"{string.Join(", ", block.VoidsCaptures)}"
                            + (block.Voids.IsEmpty ? "" : $"; of this plan {string.Join(", ", block.Voids)}")
                    );
                foreach (var why in plan.Moves.Where(m => m.WhyOut is not null).GroupBy(m => m.WhyOut))
                    output.Line(
                        $"why {(why.Count() == 1 ? "move" : "moves")} {string.Join(", ", why.Select(m => m.Number))} "
                            + $"{(why.Count() == 1 ? "takes" : "take")} an outage: {why.Key}"
                    );
                Needs(plan, output, steps);
                foreach (var note in plan.Notes)
                    output.Line($"note: {note}");
            },
            plan.Blocks.Select(b => new
            {
                part = b.Number,
                b.Move,
                phase = b.Phase,
                b.Title,
                minutes = (b.Expected + b.Settle).TotalMinutes,
                returnPath = ReturnWord(b.Return),
                returnMinutes = b.Return.Length.TotalMinutes,
                componentsOut = b.ComponentsOut,
                stillServing = b.StillServing,
            })
        );
        return Exit.Done;
    }

    private static string Took(TimeSpan expected, TimeSpan? atMost) =>
        atMost is { } most && most > expected
            ? $"{Durations.Write(expected)} to {Durations.Write(most)}"
            : Durations.Write(expected);

    private static void Needs(Plan plan, Output output, bool everything)
    {
        foreach (var answer in plan.Answers)
            output.Line(
                $"asked once: {answer.Asks} {answer.Answer}{(answer.Given ? "" : ", as nobody answered")} "
                    + $"({answer.Id}, move {string.Join(", ", answer.Moves)})"
            );
        foreach (var artefact in plan.Artefacts.Where(a => everything || !a.ForReturn || a.Sha256 is null))
            output.Line(
                $"artefact: {artefact.File ?? artefact.Id}"
                    + $"{(artefact.Bytes is { } bytes ? ", " + Core.Expressions.Units.WriteBytes(bytes) : "")} for "
                    + (artefact.Nodes.Length > 4 ? $"{artefact.Nodes.Length} nodes" : string.Join(", ", artefact.Nodes))
                    + $"{(artefact.ForReturn ? ", for the return path" : "")}"
            );
        foreach (var move in plan.Moves)
        foreach (var what in move.Converts)
            output.Line($"converts: move {move.Number}, {what}");
        foreach (var task in plan.Tasks.GroupBy(t => (t.When, t.Title)))
            output.Line(
                (
                    task.Key.When switch
                    {
                        TaskTime.Before => "before the window",
                        TaskTime.Inside => "inside the window",
                        TaskTime.After => "after it, before the first job",
                        _ => "later",
                    }
                )
                    + $": {task.Key.Title} ({string.Join(", ", task.Select(t => t.Component).Distinct())}"
                    + (task.Select(t => t.Owner).FirstOrDefault(o => o is not null) is { } owner ? $"; {owner}" : "")
                    + $"{(task.Max(t => t.Ahead) is { } ahead ? $", {Durations.Write(ahead)} ahead" : "")})"
            );
    }

    private static string TakenBack(PlanStep step) =>
        (step.Undo is Core.Catalogue.PersonAction ? "by a person " : "")
        + step.Lasts switch
        {
            Core.Catalogue.MeasureScope.Wave => "when its wave is done",
            Core.Catalogue.MeasureScope.Jump => "when its move is done",
            Core.Catalogue.MeasureScope.Run => "before the run closes",
            _ => "when its member is done",
        };

    private static string Partly(ReturnPath path) =>
        path.Partly is not { } partly
            ? ""
            : $"; as far as move {partly.Move}: {Durations.Write(partly.Length)}"
                + (partly.State == ReturnState.WithLoss ? ", with loss" : "");

    private static string ReturnWord(ReturnPath path) =>
        path.State switch
        {
            ReturnState.WithLoss => "with loss",
            ReturnState.Closed => "closed",
            _ => "clean",
        };
}
