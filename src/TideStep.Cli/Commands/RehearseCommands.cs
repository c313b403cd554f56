using System.CommandLine;
using System.Globalization;
using System.Text.Json;
using System.Text.Json.Nodes;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;
using TideStep.Core.Rehearsals;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep rehearse</c>: carry a plan out against stand-ins in simulated time, or take a test estate's
/// report as evidence.</summary>
public static class RehearseCommands
{
    public static Command Create(Context context)
    {
        var rehearse = new Command(
            "rehearse",
            "Rehearse plans: against stand-ins in simulated time, or by a test estate's report"
        );
        var plan = new Argument<string>("plan") { Description = "the plan's digest, or its beginning" };
        string Path(ParseResult result) => $"/api/plans/{Uri.EscapeDataString(result.GetValue(plan)!)}/rehearsals";
        var (draws, seed, fails, person) = (
            new Option<int?>("--draws") { Description = "how often it is carried out (default 200)" },
            new Option<ulong?>("--seed") { Description = "the same seed gives the same draws (default 1)" },
            new Option<double?>("--fails") { Description = "how many of a thousand steps fail at random (default 2)" },
            new Option<string?>("--person")
            {
                Description = "how long a person takes to decide or to do something (default 10 min)",
            }
        );
        var fault = new Option<string[]>("--fault")
        {
            Description =
                "a step that fails or takes longer: 'install fails twice', 'ss-rel-2/start takes 3 times'; "
                + "several may be given",
        };
        rehearse.Subcommands.Add(
            context.Remote(
                "draw",
                "Carry a plan out against stand-ins, many times: how its end spreads, and which steps decide it",
                async (result, client, output, ct) =>
                {
                    var faults = (result.GetValue(fault) ?? []).Select(Fault).ToList();
                    var kept = (
                        await client.PostAsync(
                            Path(result),
                            new
                            {
                                draws = result.GetValue(draws),
                                seed = result.GetValue(seed),
                                failsPerThousand = result.GetValue(fails),
                                person = result.GetValue(person),
                                faults,
                            },
                            ct
                        )
                    ).Deserialize<KeptRehearsal>(Json.Options)!;
                    output.Write(kept.Drawn!, () => Show(kept.Drawn!, output), kept.Drawn!.Deciding);
                    return kept.Drawn!.Broken.IsEmpty ? Exit.Done : Exit.No;
                },
                plan,
                draws,
                seed,
                fails,
                person,
                fault
            )
        );
        var file = new Argument<string>("report")
        {
            Description = "the report of a run in a test estate, as 'run report --format json' writes it",
        };
        var map = new Option<string[]>("--map")
        {
            Description =
                "which of its components stood for which of the plan's: ledger-north=ledger-test; one of the "
                + "same name stands for itself",
            AllowMultipleArgumentsPerToken = true,
        };
        rehearse.Subcommands.Add(
            context.Remote(
                "report",
                "Take a test estate's report as evidence for a plan's steps",
                async (result, client, output, ct) =>
                {
                    var problems = new List<Problem>();
                    var text = Files.Text(result.GetValue(file)!, problems);
                    if (problems.Count > 0)
                        throw new MisusedException(problems);
                    JsonNode? report;
                    try
                    {
                        report = JsonNode.Parse(text);
                    }
                    catch (JsonException e)
                    {
                        throw new MisusedException([
                            new Problem(
                                $"{result.GetValue(file)} is no report: it is not JSON from here on",
                                null,
                                "Write one with 'tidestep run report RUN --format json'.",
                                new Place(
                                    result.GetValue(file)!,
                                    (int)(e.LineNumber ?? 0) + 1,
                                    (int)(e.BytePositionInLine ?? 0) + 1
                                )
                            ),
                        ]);
                    }
                    var pairs = new Dictionary<string, string>();
                    foreach (var pair in result.GetValue(map) ?? [])
                        if (pair.Split('=') is [{ Length: > 0 } ours, { Length: > 0 } theirs])
                            pairs[ours] = theirs;
                        else
                            throw new MisusedException([
                                new Problem($"'{pair}' maps nothing", null, "Write it like ledger-north=ledger-test."),
                            ]);
                    var kept = (
                        await client.PostAsync($"{Path(result)}/evidence", new { report, map = pairs }, ct)
                    ).Deserialize<KeptRehearsal>(Json.Options)!;
                    output.Write(kept.Evidence!, () =>
                        output.Line(
                            $"It counts: run {kept.Evidence!.Run} in {kept.Evidence.Estate} took the same steps."
                        )
                    );
                    return Exit.Done;
                },
                plan,
                file,
                map
            )
        );
        rehearse.Subcommands.Add(
            context.Remote(
                "show",
                "The last rehearsals of a plan",
                async (result, client, output, ct) =>
                {
                    var view = await client.GetAsync<RehearsalsView>(Path(result), ct);
                    output.Write(view, () =>
                    {
                        if (view.Drawn is { } drawn)
                        {
                            output.Line($"rehearsed by {drawn.By} on {drawn.At.ToLocalTime():yyyy-MM-dd HH:mm}");
                            Show(drawn.Drawn!, output);
                        }
                        if (view.Evidence is { Evidence: { } evidence } taken)
                            output.Line(
                                $"in a test estate: run {evidence.Run} in {evidence.Estate}, taken by "
                                    + $"{taken.By} on {taken.At.ToLocalTime():yyyy-MM-dd HH:mm}"
                            );
                        if (view is { Drawn: null, Evidence: null })
                            output.Line("It was never rehearsed.");
                        if (view.Missing is { } missing)
                            output.Line($"It can't start: {missing}.");
                    });
                    return view.Missing is null ? Exit.Done : Exit.No;
                },
                plan
            )
        );
        return rehearse;
    }

    private static void Show(RehearsalResult r, Output output)
    {
        output.Heading(
            $"plan {PlanCommands.Short(r.Plan)}, {r.Wish.Draws} draws with seed {r.Wish.Seed}: "
                + (
                    r.Ended == 0
                        ? "none came to its end"
                        : $"half end within {Durations.Write(r.Middle)}, one in ten takes more than "
                            + $"{Durations.Write(r.Late)}"
                )
        );
        output.Line(
            $"{Durations.Write(r.Planned)} of work are "
                + $"planned{(r.Ended == 0 ? "" : $"; one in ten ends within {Durations.Write(r.Early)}")}; "
                + $"{r.Ended * 100:0.#} % came to their "
                + $"end{(r.Windows.Length > 1 ? ", from the first window's beginning to the last part's end" : "")}"
        );
        foreach (var w in r.Windows)
            output.Line($"  window {w.Window} to {w.To:yyyy-MM-dd HH:mm}: kept in {w.Chance * 100:0.#} %");
        if (!r.Deciding.IsEmpty)
        {
            output.Line();
            output.Table(
                ["decides the end", "of", "share %", "its spread"],
                r.Deciding.Select(d =>
                    new[]
                    {
                        d.Step,
                        d.Component,
                        (d.Share * 100).ToString("0", CultureInfo.InvariantCulture),
                        d.Assumed ? "assumed" : "learnt",
                    }
                )
            );
        }
        foreach (var halt in r.Halts)
            output.Line($"halts: {halt}");
        foreach (var broken in r.Broken)
            output.Line($"A GUARD BREAKS: {broken}");
        output.Line(
            $"Of the time {r.AssumedShare * 100:0} % lies in steps whose spread is assumed. It proves order, "
                + $"times and decisions, not the products' steps."
        );
    }

    // 'install fails twice', 'start takes 3 times', both with a comma between.
    private static ChosenFault Fault(string text)
    {
        var (fails, longer) = (0, 1.0);
        var words = text.Split((char[])[' ', ','], StringSplitOptions.RemoveEmptyEntries);
        var good = words.Length >= 3;
        for (var i = 1; good && i < words.Length; i++)
        {
            var count =
                i + 1 >= words.Length
                    ? null
                    : words[i + 1] switch
                    {
                        "once" => 1,
                        "twice" => 2,
                        var n
                            when double.TryParse(n, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) =>
                            (double?)number,
                        _ => null,
                    };
            if (words[i] == "times")
                continue;
            if (count is null)
                good = false;
            else if (words[i] == "fails")
            {
                fails = (int)count;
                i++;
            }
            else if (words[i] == "takes")
            {
                longer = count.Value;
                i++;
            }
            else
                good = false;
        }
        return good
            ? new ChosenFault(words[0], fails, longer)
            : throw new MisusedException([
                new Problem(
                    $"'{text}' is no fault",
                    null,
                    "Write it like 'install fails twice' or 'ss-rel-2/start takes 3 times'."
                ),
            ]);
    }
}
