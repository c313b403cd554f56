using System.Globalization;
using System.Text;
using System.Xml.Linq;
using TideStep.Core.Documents;

namespace TideStep.Core.Checks;

/// <summary>A round of checks for people to keep and for other programs to read.</summary>
public static class CheckReport
{
    /// <summary>How many findings there are of what kind, in words.</summary>
    public static string Summary(CheckRound round)
    {
        int Count(Level level) => round.Findings.Count(f => f.Level == level && f.Stands(level));
        var parts = new[]
        {
            (Count(Level.Blocker), "blocker"),
            (Count(Level.Caution), "caution"),
            (Count(Level.Advice), "advice"),
            (round.Findings.Count(f => f.Waived is not null), "accepted"),
            (round.Findings.Count(f => f.Result == CheckResult.Passed), "passed"),
            (round.Findings.Count(f => f.Result == CheckResult.NotApplicable), "not applicable"),
        };
        return string.Join(
            ", ",
            parts
                .Where(p => p.Item1 > 0)
                .Select(p =>
                    $"{p.Item1} "
                    + $"{p.Item2}{(p.Item1 > 1 && p.Item2 is "blocker" or "caution" && p.Item1 != 1 ? "s" : "")}"
                )
        );
    }

    /// <summary>The word of a result as people read it.</summary>
    public static string Word(Finding finding) =>
        finding switch
        {
            { Waived: not null } => "accepted",
            { Result: CheckResult.NotApplicable } => "not applicable",
            _ => finding.Result.ToString().ToLowerInvariant(),
        };

    public static string Markdown(CheckRound round)
    {
        var text = new StringBuilder();
        text.Append(
            CultureInfo.InvariantCulture,
            $"# Checks of plan {round.Plan}\n\n{round.At:yyyy-MM-dd HH:mm zzz}, on readings of "
                + $"{round.ReadingsOf:yyyy-MM-dd HH:mm zzz}: {Summary(round)}\n"
                + $"\n| level | result | check | of | what | remedy |\n|---|---|---|---|---|---|\n"
        );
        foreach (var f in round.Findings)
            text.Append(
                CultureInfo.InvariantCulture,
                $"| {f.Level.ToString().ToLowerInvariant()} | {Word(f)} | {Cell(f.Check)} | {Cell(f.Subject)} "
                    + $"| {Cell(f.What)} | {Cell(f.Waived is { } waiver ? Accepted(waiver) : f.Remedy ?? "")} |\n"
            );
        return text.ToString();
    }

    private static string Accepted(Waiver waiver) =>
        $"accepted by {waiver.By}{(waiver.Second is { } second ? $" and {second}" : "")} "
        + $"until {waiver.Ends:yyyy-MM-dd}: {waiver.Reason}";

    private static string Cell(string text) => Harmless.Markdown(text);

    /// <summary>JUnit XML: a suite for each check, a case for each subject; what is open or does not apply is skipped,
    /// what was accepted too.</summary>
    public static string JUnit(CheckRound round)
    {
        var suites = round
            .Findings.GroupBy(f => f.Check)
            .OrderBy(g => g.Key, StringComparer.Ordinal)
            .Select(g => new XElement(
                "testsuite",
                new XAttribute("name", g.Key),
                new XAttribute("tests", g.Count()),
                new XAttribute("failures", g.Count(Fails)),
                new XAttribute("skipped", g.Count(f => !Fails(f) && f.Result != CheckResult.Passed)),
                g.Select(f => new XElement(
                    "testcase",
                    new XAttribute("classname", g.Key),
                    new XAttribute("name", f.Subject),
                    Fails(f)
                            ? new XElement(
                                "failure",
                                new XAttribute("type", f.Level.ToString().ToLowerInvariant()),
                                new XAttribute("message", Clean(f.What)),
                                Clean(f.Remedy ?? "")
                            )
                        : f.Result == CheckResult.Passed ? null
                        : new XElement("skipped", new XAttribute("message", Clean($"{Word(f)}: {f.What}")))
                ))
            ));
        return new XDocument(new XElement("testsuites", new XAttribute("name", round.Plan), suites)).ToString();
    }

    private static bool Fails(Finding f) =>
        f.Waived is null
        && (f.Result == CheckResult.Failed || (f.Result == CheckResult.Open && f.Level == Level.Blocker));

    // Output of far sides may hold signs that XML has no place for.
    private static string Clean(string text) => new([.. text.Where(System.Xml.XmlConvert.IsXmlChar)]);
}
