using System.CommandLine;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Paths;
using TideStep.Core.Plans;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep path</c>: the best path to a goal, on files or by the service.</summary>
public static class PathCommand
{
    private static readonly Option<string?> Estate = new("--estate")
    {
        Description = "the estate document; with it no service is asked",
    };
    private static readonly Option<string?> Readings = new("--readings") { Description = "the readings document" };
    private static readonly Option<string?> Catalogue = new("--catalogue")
    {
        Description = "the folder of product documents",
    };
    private static readonly Option<string> GoalFile = new("--goal")
    {
        Description = "the goal document (- for standard input)",
        Required = true,
    };
    private static readonly Option<string?> Day = new("--day")
    {
        Description = "the planning day, 2026-11-23 (default: the goal's, else today)",
    };

    private static readonly Option<bool> EachPair = new("--pairs")
    {
        Description = "every state on the way, with the pairs that changed and their verdicts",
    };

    private static readonly Option<bool> Rules = new("--rules")
    {
        Description = "on files: the rules on which the answer rests; leaving any one of them out would change it",
    };

    public static Command Create(Context context) =>
        context.Command(
            "path",
            "The best path to a goal, or why there is none",
            async (result, output, ct) =>
            {
                if (result.GetValue(Estate) is null)
                {
                    using var client = Profile.Connect(result.GetValue(context.Server));
                    var problems = new List<Problem>();
                    var text = Files.Text(result.GetValue(GoalFile)!, problems);
                    if (problems.Count > 0)
                        throw new MisusedException(problems);
                    var answer = await Searching.ByServiceAsync(
                        client,
                        "/api/paths",
                        text,
                        result.GetValue(GoalFile)!,
                        ct
                    );
                    return Show(answer.Deserialize<PathView>(Json.Options)!, output, result.GetValue(EachPair));
                }
                var (index, found) = await OnFilesAsync(result, forPlan: false, ct);
                var status = Show(PathView.Of(found), output, result.GetValue(EachPair));
                if (result.GetValue(Rules) && output.ForPeople)
                    Relied(new PathRequest(index, Files.Goal(result.GetValue(GoalFile)!), found.Day), found, output);
                return status;
            },
            GoalFile,
            Estate,
            Readings,
            Catalogue,
            Day,
            EachPair,
            Rules
        );

    /// <summary>Finds the path from the files named by the shared options.</summary>
    internal static Task<(EstateIndex Index, PathAnswer Answer)> OnFilesAsync(
        ParseResult result,
        bool forPlan,
        CancellationToken ct
    ) => OnFilesAsync(result, result.GetValue(GoalFile)!, forPlan, ct);

    internal static async Task<(EstateIndex Index, PathAnswer Answer)> OnFilesAsync(
        ParseResult result,
        string goalFile,
        bool forPlan,
        CancellationToken ct
    )
    {
        var missing = new[] { (result.GetValue(Readings), "--readings"), (result.GetValue(Catalogue), "--catalogue") }
            .Where(o => o.Item1 is null)
            .Select(o => new Problem(
                $"{o.Item2} is missing",
                null,
                "Files need --estate, --readings and --catalogue together."
            ))
            .ToList();
        if (missing.Count > 0)
            throw new MisusedException(missing);
        var index = Files.Index(result.GetValue(Estate)!, result.GetValue(Readings)!, result.GetValue(Catalogue)!);
        var goal = Files.Goal(goalFile);
        var day = goal.Day ?? DateOnly.FromDateTime(Times.Now.DateTime);
        if (
            result.GetValue(Day) is { } written
            && !DateOnly.TryParse(written, System.Globalization.CultureInfo.InvariantCulture, out day)
        )
            throw new MisusedException([new Problem($"'{written}' is no day", null, "Write it like 2026-11-23.")]);
        var request = new PathRequest(index, goal, day);
        var answer = await Searching.OnFilesAsync(
            watch =>
                forPlan
                    ? PathFinder.Find(request with { Watch = watch })
                    : PathFinder.FindWithAlternatives(request with { Watch = watch }),
            ct
        );
        return answer.Ok ? (index, answer.Value!) : throw new MisusedException(answer.Problems);
    }

    // Where a kept plan may be named instead, no goal has to be.
    private static readonly Option<string?> GoalFileIfAny = new("--goal")
    {
        Description = "with files: the goal document (- for standard input)",
    };

    internal static Symbol[] FileOptions => [GoalFile, Estate, Readings, Catalogue, Day];

    internal static Symbol[] FileOptionsIfAny => [GoalFileIfAny, Estate, Readings, Catalogue, Day];

    internal static string? GoalPathIfAny(ParseResult result) => result.GetValue(GoalFileIfAny);

    internal static bool OnFiles(ParseResult result) => result.GetValue(Estate) is not null;

    internal static string GoalPath(ParseResult result) => result.GetValue(GoalFile)!;

    /// <param name="back">Whether it is a return path.</param>
    internal static int Show(PathView path, Output output, bool pairs, bool back = false)
    {
        output.Write(
            path,
            () =>
            {
                if (path.AlreadyMet)
                {
                    output.Line(
                        back ? "Nothing has to be led back." : "The goal is met already; there is nothing to do."
                    );
                    Notes(path, output);
                    return;
                }
                if (!path.Found)
                {
                    output.Heading(
                        !path.Proved ? "No path was found before the search was cut off."
                        : back ? "The return path is closed."
                        : "There is no path."
                    );
                    foreach (var reason in path.Reasons)
                    {
                        output.Line($"  {reason.Kind}: {reason.What}");
                        output.Line($"      {reason.Opens}");
                    }
                    if (!path.Nearest.IsEmpty)
                        output.Line(
                            $"  nearest state that can be reached: "
                                + $"{string.Join(", ", path.Nearest.Select(n => $"{n.Component} at {n.Version}"))}"
                        );
                    Notes(path, output);
                    return;
                }
                output.Table(
                    [
                        "move",
                        "component",
                        "from",
                        "to",
                        "method",
                        "waves",
                        "minutes",
                        "outage min",
                        "out; tolerated for now",
                    ],
                    path.Moves.Select(
                        (m, i) =>
                            new[]
                            {
                                (i + 1).ToString(),
                                Each(m, j => j.Component),
                                Each(m, j => j.From),
                                Each(m, j => j.To),
                                Each(m, j => j.Method),
                                m.Waves.IsEmpty ? "-" : m.Waves.Length.ToString(),
                                m.Minutes.ToString("0.#"),
                                m.OutageMinutes.ToString("0.#"),
                                string.Join(", ", m.Out)
                                    + (
                                        m.Transitional.IsEmpty
                                            ? ""
                                            : (m.Out.IsEmpty ? "" : "; ")
                                                + string.Join(
                                                    ", ",
                                                    m.Transitional.Select(t =>
                                                        $"{t.Component} {t.Version} with {t.With} {t.At}"
                                                    )
                                                )
                                    ),
                            }
                    )
                );
                foreach (var why in path.Moves.Select((m, i) => (Move: i + 1, m.WhyOut)).GroupBy(m => m.WhyOut))
                    if (why.Key is not null)
                        output.Line(
                            $"why {(why.Count() == 1 ? "move" : "moves")} {string.Join(", ", why.Select(m => m.Move))} "
                                + $"{(why.Count() == 1 ? "takes" : "take")} an outage: {why.Key}"
                        );
                output.Line();
                output.Line(
                    $"{path.Moves.Length} {(path.Moves.Length == 1 ? "move" : "moves")}, "
                        + $"{path.Moves.Sum(m => m.Minutes):0.#} minutes, "
                        + $"{path.Moves.Sum(m => m.OutageMinutes):0.#} outage minutes; "
                        + $"{(path.Proved ? "proved best" : "not proved: the search was cut off")} on "
                        + $"{path.Day:yyyy-MM-dd}"
                );
                foreach (var other in path.Alternatives)
                    output.Line(
                        (
                            other.First == Core.Paths.Alternatives.Loses
                                ? "beside it, without loss of data: "
                                : $"beside it: with '{other.First}' first, "
                        )
                            + string.Join("; ", other.Differences)
                            + (
                                other.Moves.SequenceEqual(path.Moves.Select(m => m.Written))
                                    ? ""
                                    : ": " + string.Join(" ", other.Moves)
                            )
                    );
                var told = path.Driven.SelectMany(d => d.Twins).ToHashSet();
                foreach (var driven in path.Driven.Where(d => !told.Contains(d.Component)))
                    output.Line(
                        $"{string.Join(" and ", driven.Twins.Prepend(driven.Component))} "
                            + $"{(driven.Twins.IsEmpty ? "moves" : "move")} as well: "
                            + (driven.Because.IsEmpty ? "so the path is better by the criteria" : driven.Because[0])
                            + (driven.Twins.IsEmpty ? "" : ", and so for the other")
                    );
                if (pairs)
                    Pairs(path, output);
                Notes(path, output);
            },
            path.Moves.Select(
                (m, i) =>
                    new
                    {
                        move = i + 1,
                        m.Written,
                        components = m.Jumps.Select(j => j.Component).Distinct(),
                        from = m.Jumps[0].From,
                        to = m.Jumps[^1].To,
                        method = m.Jumps[0].Method,
                        waves = m.Waves.Length,
                        m.Minutes,
                        m.OutageMinutes,
                        m.Out,
                    }
            )
        );
        return path.Found ? Exit.Done : Exit.No;
    }

    private static void Relied(PathRequest request, PathAnswer answer, Output output)
    {
        var rules = RulesRelied.Of(request, answer);
        output.Line();
        output.Line(
            rules.IsEmpty
                ? "The answer rests on no rule: without any of them it would be the same."
                : $"The answer rests on {rules.Length} of "
                    + $"{request.Index.Catalogue.Products.Sum(p => p.Rules.Length)} rules; without any one of them "
                    + $"it would be another:"
        );
        foreach (var rule in rules)
            output.Line(
                $"  {rule.Place?.ToString() ?? rule.Id}: "
                    + $"{rule.Id}{(rule.Source is { } source ? $", {source.Title}" : "")}"
            );
        Bounds(request, answer, output);
    }

    // Where a range ends is as much a reason as where it begins.
    private static void Bounds(PathRequest request, PathAnswer answer, Output output)
    {
        var bounds = RulesRelied.Bounds(request, answer);
        if (!bounds.IsEmpty)
            output.Line("It rests as well on where these ranges end; if one went on, it would be another:");
        foreach (var (rule, bounded) in bounds)
            output.Line($"  {rule.Place?.ToString() ?? rule.Id}: {bounded.Text} of {rule.Id}");
    }

    private static void Pairs(PathView path, Output output)
    {
        output.Line();
        output.Table(
            ["after move", "pair", "relation", "with", "verdict", "by"],
            path.Moves.SelectMany(
                (m, i) =>
                    m.Pairs.Select(p =>
                        new[]
                        {
                            (i + 1).ToString(),
                            $"{p.Component} {p.Version}",
                            Relation(p.Relation),
                            $"{p.With} {p.At}",
                            p.Verdict.ToString().ToLowerInvariant()
                                + (p.Inherited && p.Verdict != Core.Catalogue.Verdict.Supported ? ", inherited" : ""),
                            p.Why,
                        }
                    )
            )
        );
        output.Line();
    }

    private static string Relation(RelationKind kind) =>
        kind switch
        {
            RelationKind.DependsOn => "depends on",
            RelationKind.StandsOn => "stands on",
            RelationKind.Inside => "inside",
            _ => "peer of",
        };

    // A joint move shows each of its jumps; what they have in common once.
    private static string Each(MoveView move, Func<JumpView, string> part) =>
        move.Jumps.Select(part).Distinct().Count() == 1
            ? part(move.Jumps[0])
            : string.Join(" + ", move.Jumps.Select(part));

    private static void Notes(PathView path, Output output)
    {
        foreach (var note in path.Notes)
            output.Line($"note: {note}");
    }
}
