using System.CommandLine;
using TideStep.Client.Shapes;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep notice</c>: who is told of what, what was sent, and a try.</summary>
public static class NoticeCommands
{
    public static Command Create(Context context)
    {
        var notice = new Command("notice", "Notices to people and systems: rules, what was sent, a try");
        var run = new Option<string?>("--run") { Description = "only those of this run" };
        var most = Lists.Most("notices");
        notice.Subcommands.Add(
            context.Remote(
                "list",
                "Notices, newest first: sent, waiting for their next try, or given up",
                async (result, client, output, ct) =>
                {
                    var (lines, more) = await client.ListAsync<NoticeLine>(
                        $"/api/notices{(result.GetValue(run) is { } id ? "?run=" + Uri.EscapeDataString(id) : "")}",
                        result.GetValue(most),
                        ct
                    );
                    output.Write(lines, () =>
                    {
                        if (lines.Count == 0)
                            output.Line("No notice yet.");
                        else
                            output.Table(
                                ["at", "run", "moment", "to", "state", "tries", "why not"],
                                lines.Select(l =>
                                    new[]
                                    {
                                        l.At.ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss"),
                                        l.Run,
                                        l.Moment,
                                        l.Rule,
                                        l.State,
                                        l.Attempts.ToString(),
                                        l.Said ?? "",
                                    }
                                )
                            );
                    });
                    Lists.TellMore(more, lines.Count, "notices");
                    return Exit.Done;
                },
                run,
                most
            )
        );
        notice.Subcommands.Add(context.Remote("rules", "Who is told of what", async (_, client, output, ct) =>
            {
                var rules = await client.GetAsync<List<NoticeRuleLine>>("/api/notices/rules", ct);
                output.Write(rules, () =>
                {
                    if (rules.Count == 0)
                        output.Line(
                            "Nobody is told of anything. Import a document of the kind notices/1: tidestep "
                                + "estate import FILE."
                        );
                    else
                        output.Table(
                            ["notice", "to", "target", "at"],
                            rules.Select(r => new[] { r.Id, r.To, r.Target, string.Join(", ", r.At) })
                        );
                });
                return Exit.Done;
            }));
        var which = new Argument<string>("notice") { Description = "the rule's name, see 'notice rules'" };
        notice.Subcommands.Add(
            context.Remote(
                "try",
                "Send a made-up notice at once",
                async (result, client, output, ct) =>
                {
                    await client.PostAsync(
                        $"/api/notices/rules/{Uri.EscapeDataString(result.GetValue(which)!)}/try",
                        null,
                        ct
                    );
                    output.Line("It was taken.");
                    return Exit.Done;
                },
                which
            )
        );
        return notice;
    }
}
