using System.CommandLine;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep record</c>: who did what.</summary>
public static class RecordCommands
{
    public static Command Create(Context context)
    {
        var record = new Command("record", "The record of who did what, refusals too");
        record.Subcommands.Add(List(context));
        record.Subcommands.Add(
            context.Remote(
                "verify",
                "Walk it along its chain of digests, and say whether it is whole",
                async (_, client, output, ct) =>
                {
                    var verdict = await client.GetAsync<RecordVerdict>("/api/record/verify", ct);
                    output.Write(verdict, () =>
                    {
                        foreach (var problem in verdict.Problems)
                            output.Line(problem);
                        output.Line(
                            $"{(verdict.Whole ? "The record is whole" : "The record is not what was written")}: "
                                + $"{verdict.Lines} lines"
                                + (
                                    verdict.Removed > 0
                                        ? $", {verdict.Removed} before them were taken away in their time."
                                        : "."
                                )
                        );
                    });
                    return verdict.Whole ? Exit.Done : Exit.No;
                }
            )
        );
        record.Subcommands.Add(
            context.Remote("export", "All of it as JSON Lines, oldest first", async (_, client, _, ct) =>
            {
                Console.Out.Write(await client.GetTextAsync("/api/record/export", ct));
                return Exit.Done;
            })
        );
        return record;
    }

    private static Command List(Context context)
    {
        var by = new Option<string?>("--by") { Description = "only what this person or program did" };
        var about = new Option<string?>("--about") { Description = "only what was about this, as runs/r1a2b3c4" };
        var since = new Option<string?>("--since") { Description = "only from then on, as 2026-11-21 or 90 min" };
        var most = Lists.Most("lines");
        return context.Remote(
            "list",
            "Who did what, newest first",
            async (result, client, output, ct) =>
            {
                var asked = new[]
                {
                    ("by", result.GetValue(by)),
                    ("about", result.GetValue(about)),
                    ("since", result.GetValue(since) is { } text ? $"{SinceOf(text).UtcDateTime:O}" : null),
                }.Where(a => a.Item2 is not null);
                var (lines, more) = await client.ListAsync<RecordLineView>(
                    "/api/record?" + string.Join('&', asked.Select(a => $"{a.Item1}={Uri.EscapeDataString(a.Item2!)}")),
                    result.GetValue(most),
                    ct
                );
                output.Write(lines, () =>
                {
                    output.Table(
                        ["when", "who", "what", "result", "from"],
                        lines.Select(l =>
                            l.Removed is { } removed
                                ? new[]
                                {
                                    $"{l.At.ToLocalTime():yyyy-MM-dd HH:mm:ss}",
                                    "",
                                    $"{removed} lines before were taken away",
                                    "",
                                    "",
                                }
                                :
                                [
                                    $"{l.At.ToLocalTime():yyyy-MM-dd HH:mm:ss}",
                                    l.Name.Length > 0 ? l.Name : "(unknown)",
                                    $"{(l.Words.Length > 0 ? l.Words : l.What)}: {l.About}".TrimEnd(' ', ':'),
                                    l.Result == "done" ? "done" : $"{l.Result} ({l.Status})",
                                    $"{l.From} {l.By}",
                                ]
                        )
                    );
                    Lists.TellMore(more, result.GetValue(most), "lines");
                });
                return Exit.Done;
            },
            by,
            about,
            since,
            most
        );
    }

    private static DateTimeOffset SinceOf(string text) =>
        Durations.TryParse(text) is { } ago ? Times.Now - ago
        : DateOnly.TryParseExact(text, "yyyy-MM-dd", out var day) ? Times.EndOf(day.AddDays(-1))
        : Times.Next(text);
}
