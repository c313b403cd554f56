using System.CommandLine;
using System.Text.Json;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep plan</c>: make, list and read plans. A plan read is the dry run: a run does it step for step.</summary>
public static class PlanCommands
{
    private sealed record Line(string Digest, string Kind, IReadOnlyList<string> Goal, TimeSpan Expected, int Moves, DateTimeOffset Made, string By);
    private sealed record Kept(string Digest, Plan Plan);

    public static Command Create(Context context)
    {
        var plan = new Command("plan", "Plans: make, list, show");
        var digest = new Argument<string>("digest") { Description = "the plan's digest, or its beginning" };
        var steps = new Option<bool>("--steps") { Description = "every step, not only the parts" };
        plan.Subcommands.Add(context.Command("make", "Make the plan of the best path to a goal", async (result, output, ct) =>
        {
            if (PathCommand.OnFiles(result)) return MakeOnFiles(result, output, result.GetValue(steps));
            using var client = Profile.Connect(result.GetValue(context.Server));
            var problems = new List<Problem>();
            var text = Files.Text(PathCommand.GoalPath(result), problems);
            if (problems.Count > 0) throw new MisusedException(problems);
            var made = (await client.PostAsync("/api/plans", new { goal = text, name = PathCommand.GoalPath(result) }, ct)).Deserialize<Kept>(Json.Options)!;
            return Show(made.Digest, made.Plan, output, result.GetValue(steps));
        }, [.. PathCommand.FileOptions, steps]));
        plan.Subcommands.Add(context.Remote("list", "Plans, newest first", async (_, client, output, ct) =>
        {
            var lines = await client.GetAsync<List<Line>>("/api/plans", ct);
            output.Write(lines, () => output.Table(["plan", "kind", "made", "by", "moves", "takes", "goal"], lines.Select(l => new[] { Short(l.Digest), l.Kind, l.Made.ToLocalTime().ToString("yyyy-MM-dd HH:mm"), l.By, l.Moves.ToString(), Durations.Write(l.Expected), string.Join("; ", l.Goal) })));
            return Exit.Done;
        }));
        plan.Subcommands.Add(context.Remote("show", "A plan: what a run of it does, step for step", async (result, client, output, ct) =>
        {
            var kept = await client.GetAsync<Kept>($"/api/plans/{Uri.EscapeDataString(result.GetValue(digest)!)}", ct);
            return Show(kept.Digest, kept.Plan, output, result.GetValue(steps));
        }, digest, steps));
        return plan;
    }

    private static int MakeOnFiles(ParseResult result, Output output, bool steps)
    {
        var (index, path) = PathCommand.OnFiles(result, PlanMaker.Methods);
        if (!path.Found || path.AlreadyMet)
        {
            output.Line(path.Found ? "The goal is met already; there is nothing to do." : "There is no path, so there is no plan; 'tidestep path' says why.");
            return path.Found ? Exit.Done : Exit.No;
        }
        var plan = PlanMaker.Make(index, path, "files", "files");
        return plan.Ok ? Show(plan.Value!.Digest, plan.Value, output, steps) : throw new MisusedException(plan.Problems);
    }

    internal static string Short(string digest) => digest.StartsWith("sha256:", StringComparison.Ordinal) ? digest[7..17] : digest;

    private static int Show(string digest, Plan plan, Output output, bool steps)
    {
        output.Write(new Kept(digest, plan), () =>
        {
            output.Heading($"plan {Short(digest)}  {plan.Kind} of {plan.Estate}, {Durations.Write(plan.Expected)}");
            foreach (var goal in plan.Goal) output.Line($"  goal: {goal}");
            output.Line();
            output.Table(["move", "component", "from", "to", "method", "waves", "at least", "takes"], plan.Moves.Select(m => new[] { m.Number.ToString(), m.Component, m.From, m.To, m.Method.Word(), m.Waves.ToString(), m.WavesAtLeast.ToString(), Durations.Write(m.Takes) }));
            output.Line();
            var at = TimeSpan.Zero;
            var rows = new List<string[]>();
            foreach (var block in plan.Blocks)
            {
                rows.Add([block.Number.ToString(), Durations.Write(at), block.Phase.ToString().ToLowerInvariant(), block.Title, Durations.Write(block.Expected + block.Settle), $"{ReturnWord(block.Return)}{(block.Return.Length > TimeSpan.Zero ? ", " + Durations.Write(block.Return.Length) : "")}", block.ComponentsOut.IsEmpty ? "" : string.Join(", ", block.ComponentsOut)]);
                if (steps)
                    foreach (var lane in block.Lanes)
                        foreach (var step in lane.Steps) rows.Add(["", "", "", $"  {step.Member}: {step.Title}", Durations.Write(step.Expected), "", step.Closes ? "closes the return path" : step.Impact ?? ""]);
                at += block.Expected + block.Settle;
            }
            output.Table(["part", "after", "phase", "what", "takes", "return path", "out, impact"], rows);
            output.Line();
            if (!plan.Points.IsEmpty) output.Line($"{plan.Points.Length} rollback points: {string.Join(", ", plan.Points.Select(p => p.Id).Take(6))}{(plan.Points.Length > 6 ? ", …" : "")}");
            if (plan.Blocks.FirstOrDefault(b => b.Return.State == ReturnState.Closed) is { } closes) output.Line($"point of no return: part {closes.Number}, {closes.Title}: {closes.Return.Why}");
            else if (plan.Blocks.FirstOrDefault(b => b.Return.State == ReturnState.WithLoss) is { } loss) output.Line($"loss begins: part {loss.Number}, {loss.Title}: {loss.Return.Why}");
            foreach (var note in plan.Notes) output.Line($"note: {note}");
        }, plan.Blocks.Select(b => new { part = b.Number, b.Move, phase = b.Phase, b.Title, minutes = (b.Expected + b.Settle).TotalMinutes, returnPath = ReturnWord(b.Return), returnMinutes = b.Return.Length.TotalMinutes, componentsOut = b.ComponentsOut }));
        return Exit.Done;
    }

    private static string ReturnWord(ReturnPath path) => path.State switch { ReturnState.WithLoss => "with loss", ReturnState.Closed => "closed", _ => "clean" };
}
