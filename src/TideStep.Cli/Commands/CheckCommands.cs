using System.CommandLine;
using System.Text.Json;
using TideStep.Client.Shapes;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep check</c>: prove a plan ready, see what it lacks in numbers, accept what may be
/// borne.</summary>
public static class CheckCommands
{
    private static readonly Argument<string?> Named = new("plan")
    {
        Description = "the plan's digest, or its beginning; not with files",
        DefaultValueFactory = _ => null,
    };
    private static readonly Option<bool> Every = new("--all")
    {
        Description = "what passed and what does not apply as well",
    };
    private static readonly Option<string?> Report = new("--report")
    {
        Description = "write it as markdown or junit instead",
    };

    public static Command Create(Context context)
    {
        Report.AcceptOnlyFromAmong("markdown", "junit");
        var check = new Command("check", "Checks: prove a plan ready, accept what may be borne");
        var last = new Option<bool>("--last-readings") { Description = "take no survey, stay with the last readings" };
        var failed = new Option<bool>("--failed")
        {
            Description = "read only the nodes again for which something stands",
        };
        check.Subcommands.Add(
            context.Command(
                "run",
                "Check a plan on readings taken now, or on files",
                async (result, output, ct) =>
                {
                    if (PathCommand.OnFiles(result))
                        return await OnFilesAsync(result, output, ct);
                    using var client = Profile.Connect(result.GetValue(context.Server));
                    var view = (
                        await client.PostAsync(
                            $"/api/plans/{PlanOf(result)}/checks?survey="
                                + $"{(result.GetValue(last) ? "false" : "true")}&failed="
                                + $"{(result.GetValue(failed) ? "true" : "false")}",
                            null,
                            ct
                        )
                    ).Deserialize<RoundView>(Json.Options)!;
                    return Show(view, result, output);
                },
                [
                    Named,
                    last,
                    failed,
                    Every,
                    Report,
                    .. PathCommand.FileOptions.Select(o => o is Option<string> { Required: true } ? GoalFile : o),
                ]
            )
        );
        var round = new Option<long?>("--round") { Description = "an earlier round by its number" };
        check.Subcommands.Add(
            context.Remote(
                "show",
                "The last round of a plan's checks",
                async (result, client, output, ct) =>
                    Show(
                        await client.GetAsync<RoundView>(
                            $"/api/plans/{PlanOf(result)}/checks"
                                + $"{(result.GetValue(round) is { } n ? $"?round={n}" : "")}",
                            ct
                        ),
                        result,
                        output
                    ),
                Named,
                round,
                Every,
                Report
            )
        );
        var (finding, reason, until) = (
            new Argument<string>("finding") { Description = "check and subject, as 'check show' writes them" },
            new Option<string>("--reason") { Description = "why it may be borne", Required = true },
            new Option<string?>("--until") { Description = "the day it ends, 2026-12-06 (default: a week from now)" }
        );
        check.Subcommands.Add(
            context.Remote(
                "waive",
                "Accept a finding of the last round as it stands there",
                async (result, client, output, ct) =>
                {
                    DateTimeOffset? ends = null;
                    if (result.GetValue(until) is { } day)
                        ends = DateOnly.TryParseExact(day, "yyyy-MM-dd", out var read)
                            ? Times.EndOf(read)
                            : throw new MisusedException([
                                new Problem($"'{day}' is no day", null, "Write it like 2026-12-06."),
                            ]);
                    var made = (
                        await client.PostAsync(
                            "/api/waivers",
                            new
                            {
                                plan = Uri.UnescapeDataString(PlanOf(result)),
                                finding = result.GetValue(finding),
                                reason = result.GetValue(reason),
                                ends,
                            },
                            ct
                        )
                    ).Deserialize<Waiver>(Json.Options)!;
                    output.Write(made, () =>
                        output.Line(
                            $"accepted until {Times.Until(made.Ends)}: {made.Finding}"
                                + (
                                    made.NeedsSecond
                                        ? $"\na second person has to agree: tidestep check second "
                                            + $"{Quoted(made.Finding)}"
                                        : ""
                                )
                        )
                    );
                    return Exit.Done;
                },
                Named,
                finding,
                reason,
                until
            )
        );
        var (item, evidence, file) = (
            new Argument<string>("item")
            {
                Description = "what people had to do, as 'check show' writes it after 'manual'",
            },
            new Option<string?>("--evidence") { Description = "what you did or saw" },
            new Option<string?>("--evidence-file")
            {
                Description = "a file that shows it, kept beside the words; a text file may stand for them",
            }
        );
        check.Subcommands.Add(
            context.Remote(
                "sign",
                "Sign that a manual prerequisite of a plan is done",
                async (result, client, output, ct) =>
                {
                    var problems = new List<Problem>();
                    var said = result.GetValue(evidence)
                        ?? (result.GetValue(file) is { } path ? Files.Text(path, problems) : "");
                    if (problems.Count > 0)
                        throw new MisusedException(problems);
                    var along =
                        result.GetValue(evidence) is not null && result.GetValue(file) is { } shown
                            ? new { name = Path.GetFileName(shown), content = Files.Bytes(shown) }
                            : null;
                    var signed = (
                        await client.PostAsync(
                            $"/api/plans/{PlanOf(result)}/signatures",
                            new
                            {
                                item = result.GetValue(item),
                                evidence = said,
                                file = along,
                            },
                            ct
                        )
                    ).Deserialize<SignedItem>(Json.Options)!;
                    output.Write(signed, () =>
                        output.Line(
                            $"signed by {signed.By}: {signed.Item}"
                                + $"{(signed.File is { } kept ? $" ({kept.Name}, {kept.Sha256[..12]}…)" : "")}"
                        )
                    );
                    return Exit.Done;
                },
                Named,
                item,
                evidence,
                file
            )
        );
        check.Subcommands.Add(
            context.Remote(
                "second",
                "Agree to a waiver that needs two",
                async (result, client, output, ct) =>
                {
                    var made = (
                        await client.PostAsync("/api/waivers/second", new { finding = result.GetValue(finding) }, ct)
                    ).Deserialize<Waiver>(Json.Options)!;
                    output.Write(made, () => output.Line($"{made.Second} agrees with {made.By}: {made.Finding}"));
                    return Exit.Done;
                },
                finding
            )
        );
        check.Subcommands.Add(
            context.Remote("waivers", "What was accepted, by whom, why and until when", async (_, client, output, ct) =>
            {
                var waivers = await client.GetAsync<List<Waiver>>("/api/waivers", ct);
                output.Write(waivers, () =>
                {
                    if (waivers.Count == 0)
                        output.Line("Nothing is accepted.");
                    else
                        output.Table(
                            ["finding", "by", "until", "state", "reason"],
                            waivers
                                .OrderBy(w => w.Ends)
                                .Select(w =>
                                    new[]
                                    {
                                        w.Finding,
                                        w.Second is { } second ? $"{w.By}, {second}" : w.By,
                                        Times.Until(w.Ends),
                                        w.Ends <= Times.Now ? "ended"
                                        : w.Stands ? "holds"
                                        : "needs a second person",
                                        w.Reason,
                                    }
                                )
                        );
                });
                return Exit.Done;
            })
        );
        return check;
    }

    // On files the goal must be named; with the service the plan.
    private static readonly Option<string?> GoalFile = new("--goal")
    {
        Description = "on files: the goal document (- for standard input)",
    };

    private static string PlanOf(ParseResult result) =>
        Uri.EscapeDataString(
            result.GetValue(Named)
                ?? throw new MisusedException([
                    new Problem(
                        "no plan is named",
                        null,
                        "Name one by its digest, see 'tidestep plan list', or give the files it is made from."
                    ),
                ])
        );

    private static async Task<int> OnFilesAsync(ParseResult result, Output output, CancellationToken ct)
    {
        if (result.GetValue(GoalFile) is not { } goal)
            throw new MisusedException([
                new Problem("--goal is missing", null, "Files need a goal, of whose plan the checks are made."),
            ]);
        var (index, path) = await PathCommand.OnFilesAsync(result, goal, forPlan: true, ct);
        if (!path.Found || path.AlreadyMet)
        {
            output.Line(
                path.Found
                    ? "The goal is met already; there is nothing to check."
                    : "There is no path, so there is nothing to check; 'tidestep path' says why."
            );
            return path.Found ? Exit.Done : Exit.No;
        }
        var plan = PlanMaker.Make(index, path, "files", "files");
        if (!plan.Ok)
            throw new MisusedException(plan.Problems);
        var round = PlanChecks.Of(index, plan.Value!, new CheckContext(Times.Now));
        return Show(new RoundView(number: 0, round: round, summary: CheckReport.Summary(round)), result, output);
    }

    private static int Show(RoundView view, ParseResult result, Output output)
    {
        var round = view.Round;
        if (result.GetValue(Report) is { } report)
            Console.Out.WriteLine(report == "junit" ? CheckReport.JUnit(round) : CheckReport.Markdown(round));
        else
        {
            var shown = round
                .Findings.Where(f => result.GetValue(Every) || f.Result is CheckResult.Failed or CheckResult.Open)
                .ToList();
            output.Write(
                view,
                () =>
                {
                    output.Heading(
                        $"plan {PlanCommands.Short(round.Plan)}{(view.Number > 0 ? $", round {view.Number}" : "")}: "
                            + $"{view.Summary}"
                    );
                    foreach (var f in shown)
                    {
                        output.Line("");
                        output.Line(
                            (
                                f.Waived is not null || f.Result is CheckResult.Passed or CheckResult.NotApplicable
                                    ? CheckReport.Word(f)
                                : f.Result == CheckResult.Open ? $"{f.Level.ToString().ToLowerInvariant()}, open"
                                : f.Level.ToString().ToLowerInvariant()
                            ) + $": {f.Id}"
                        );
                        output.Line($"    {f.What}");
                        if (!f.Moves.IsEmpty && f.Result is CheckResult.Failed or CheckResult.Open)
                            output.Line($"    for move{(f.Moves.Length == 1 ? "" : "s")} {string.Join(", ", f.Moves)}");
                        if (f.Waived is { } w)
                            output.Line(
                                $"    accepted by {w.By}{(w.Second is { } s ? $" and {s}" : "")} until "
                                    + $"{Times.Until(w.Ends)}: {w.Reason}"
                            );
                        else if (f.Remedy is not null)
                            output.Line($"    {f.Remedy}");
                    }
                },
                shown.Select(f => new
                {
                    level = f.Level,
                    result = CheckReport.Word(f),
                    f.Check,
                    f.Subject,
                    f.Node,
                    f.Found,
                    f.Needed,
                    f.Short,
                    f.What,
                    f.Remedy,
                })
            );
        }
        return round.Blocking.Any() ? Exit.No : Exit.Done;
    }

    // As a shell takes it, whatever signs it holds.
    private static string Quoted(string text) => $"'{text.Replace("'", "'\\''", StringComparison.Ordinal)}'";
}
