using System.CommandLine;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep follow-up</c>: what runs left to be done.</summary>
public static class FollowUpCommands
{
    public static Command Create(Context context)
    {
        var command = new Command(
            "follow-up",
            "What runs left to be done: list it, say whose it is, say that it is done"
        );
        var (run, all) = (
            new Option<string?>("--run") { Description = "only of this run" },
            new Option<bool>("--all") { Description = "what is done as well" }
        );
        command.Subcommands.Add(
            context.Remote(
                "list",
                "What is left to be done, the urgent first",
                async (result, client, output, ct) =>
                {
                    var (lines, _) = await client.ListAsync<FollowUpLine>(
                        $"/api/follow-ups?all={(result.GetValue(all) ? "true" : "false")}"
                            + $"{(result.GetValue(run) is { } id ? "&run=" + Uri.EscapeDataString(id) : "")}",
                        null,
                        ct
                    );
                    output.Write(lines, () =>
                    {
                        if (lines.Count == 0)
                        {
                            output.Line("Nothing is left to be done.");
                            return;
                        }
                        foreach (var group in lines.GroupBy(l => l.Run))
                        {
                            output.Heading(
                                $"{group.Key}{(group.First().Label.Length > 0 ? $"  {group.First().Label}" : "")}"
                            );
                            foreach (var l in group)
                            {
                                output.Line(
                                    $"{(l.Done ? "done  " : l.Urgent ? "now   " : "      ")}{l.What} ({l.About})"
                                );
                                output.Line(
                                    $"          {l.Id}; "
                                        + (
                                            l.Done
                                                ? $"said by {l.By}{(l.Note is null ? "" : $": {l.Note}")}"
                                                : $"{l.Owner ?? "nobody's yet"}, until "
                                                    + $"{l.Due.ToLocalTime():yyyy-MM-dd HH:mm}"
                                        )
                                        + $"; {l.Why}"
                                );
                            }
                        }
                    });
                    return Exit.Done;
                },
                run,
                all
            )
        );
        var (of, item) = (
            new Argument<string>("run") { Description = "the run's identifier" },
            new Argument<string>("follow-up")
            {
                Description = "its name as the list writes it, or words that only it has",
            }
        );
        var (note, owner, until) = (
            new Option<string?>("--note") { Description = "what you have to say to it" },
            new Option<string?>("--owner") { Description = "whose it is" },
            new Option<string?>("--until") { Description = "the day until which it is to be done, 2026-12-06" }
        );
        command.Subcommands.Add(
            context.Remote(
                "done",
                "Say that it is done",
                async (result, client, output, ct) =>
                {
                    await client.PostAsync(
                        "/api/follow-ups",
                        new
                        {
                            run = result.GetValue(of),
                            followUp = result.GetValue(item),
                            done = true,
                            note = result.GetValue(note),
                        },
                        ct
                    );
                    output.Line("Done.");
                    return Exit.Done;
                },
                of,
                item,
                note
            )
        );
        command.Subcommands.Add(
            context.Remote(
                "give",
                "Say whose it is, or until when",
                async (result, client, output, ct) =>
                {
                    DateTimeOffset? due = null;
                    if (result.GetValue(until) is { } day)
                        due = DateOnly.TryParseExact(day, "yyyy-MM-dd", out var read)
                            ? new DateTimeOffset(
                                read.ToDateTime(new TimeOnly(23, 59)),
                                TimeZoneInfo.Local.GetUtcOffset(read.ToDateTime(TimeOnly.MinValue))
                            )
                            : throw new MisusedException([
                                new Problem($"'{day}' is no day", null, "Write it like 2026-12-06."),
                            ]);
                    await client.PostAsync(
                        "/api/follow-ups",
                        new
                        {
                            run = result.GetValue(of),
                            followUp = result.GetValue(item),
                            owner = result.GetValue(owner),
                            due,
                        },
                        ct
                    );
                    output.Line("Given.");
                    return Exit.Done;
                },
                of,
                item,
                owner,
                until
            )
        );
        return command;
    }
}
