using System.CommandLine;
using System.Text.Json.Nodes;
using TideStep.Client;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep survey</c>: take readings, look at them, compare them, have them taken by itself.</summary>
public static class SurveyCommands
{
    public static Command Create(Context context)
    {
        var survey = new Command("survey", "Surveys: what runs where, and everything else that is read of members");
        survey.Subcommands.Add(Take(context));
        var most = Lists.Most("surveys", 20);
        survey.Subcommands.Add(
            context.Remote(
                "list",
                "Surveys, newest first",
                async (result, client, output, ct) =>
                {
                    var (lines, more) = await client.ListAsync<SurveyLine>("/api/surveys", result.GetValue(most), ct);
                    output.Write(lines, () =>
                        output.Table(
                            ["survey", "taken", "by", "members", "not reached"],
                            lines.Select(l =>
                                new[]
                                {
                                    l.Number.ToString(),
                                    Moment(l.Taken),
                                    l.By,
                                    l.Members.ToString(),
                                    l.Unreached.ToString(),
                                }
                            )
                        )
                    );
                    Lists.TellMore(more, lines.Count, "surveys");
                    return Exit.Done;
                },
                most
            )
        );
        var (earlier, later) = (
            new Argument<long>("earlier") { Description = "the number of a survey, see 'survey list'" },
            new Argument<long>("later") { Description = "the survey to compare with it" }
        );
        survey.Subcommands.Add(
            context.Remote(
                "compare",
                "What a survey found otherwise than an earlier one",
                async (result, client, output, ct) =>
                    EstateCommands.Differences(
                        await client.GetAsync<List<Difference>>(
                            $"/api/surveys/{result.GetValue(later)}/differences?from={result.GetValue(earlier)}",
                            ct
                        ),
                        "They found the same.",
                        output
                    ),
                earlier,
                later
            )
        );
        survey.Subcommands.Add(Show(context));
        var every = new Argument<string>("every") { Description = "how often, as in 6h, or 'never'" };
        survey.Subcommands.Add(
            context.Remote(
                "every",
                "Have everything surveyed by itself every so often, or never",
                async (result, client, output, ct) =>
                {
                    var given = result.GetValue(every)!;
                    await client.PutAsync("/api/surveys/schedule", new { every = given == "never" ? null : given }, ct);
                    var schedule = await client.GetAsync<ScheduleView>("/api/surveys/schedule", ct);
                    output.Write(schedule, () =>
                        output.Line(
                            schedule.Every is { } span
                                ? $"Everything is surveyed every {Durations.Write(span)}; next at "
                                    + $"{Moment(schedule.Next!.Value)}."
                                : "Nothing is surveyed by itself."
                        )
                    );
                    return Exit.Done;
                },
                every
            )
        );
        return survey;
    }

    private static Command Take(Context context)
    {
        var scopes = new[] { "platform", "component", "node", "site" }
            .Select(s => new Option<string?>($"--{s}") { Description = $"only of this {s}" })
            .ToArray();
        return context.Remote(
            "take",
            "Read members live and keep the readings: all, or of a platform, component, node or site",
            async (result, client, output, ct) =>
            {
                var query = string.Join(
                    '&',
                    scopes
                        .Where(s => result.GetValue(s) is not null)
                        .Select(s => $"{s.Name[2..]}={Uri.EscapeDataString(result.GetValue(s)!)}")
                );
                var asked = client.PostAsync($"/api/surveys?{query}", null, ct);
                while (await Task.WhenAny(asked, Task.Delay(500, ct)) != asked)
                    await TellAsync(client, output, ct);
                output.EndProgress();
                var taken = (JsonObject)(await asked)!;
                var unreached = (JsonArray)taken["unreached"]!;
                output.Write(taken, () =>
                {
                    output.Line(
                        $"{taken["members"]} members read, {unreached.Count} not reached"
                            + (
                                (int)taken["missed"]! is > 0 and var missed
                                    ? $"; {missed} readings could not be taken (survey show MEMBER says why)"
                                    : ""
                            )
                    );
                    if (unreached.Count > 0)
                        output.Table(
                            ["member", "why"],
                            unreached.Select(u => new[] { (string)u!["member"]!, (string)u["why"]! })
                        );
                });
                return unreached.Count > 0 ? Exit.No : Exit.Done;
            },
            [.. scopes]
        );
    }

    private static async Task TellAsync(ServiceClient client, Output output, CancellationToken ct)
    {
        try
        {
            if (
                await client.GetTextAsync("/api/surveys/current", ct) is { Length: > 0 } text
                && System.Text.Json.JsonSerializer.Deserialize<SurveyProgress>(text, Json.Options) is { } now
            )
                output.Progress($"surveying {now.Of}: {now.Read} of {now.All} members");
        }
        catch (HttpRequestException)
        { /* the answer itself will tell */
        }
    }

    private static Command Show(Context context)
    {
        var member = new Argument<string>("member") { Description = "a member, component/node" };
        var history = new Option<string?>("--history") { Description = "how this reading went through the surveys" };
        return context.Remote(
            "show",
            "Everything read of a member: value, kind, source, and why something is missing",
            async (result, client, output, ct) =>
            {
                var id = result.GetValue(member)!;
                if (MemberId.TryParse(id) is not { } its)
                    throw new MisusedException([
                        new Problem(
                            $"'{id}' is no member",
                            null,
                            "A member is written component/node; see 'tidestep estate show --members'."
                        ),
                    ]);
                var place = $"/api/members/{Uri.EscapeDataString(its.Component)}/{Uri.EscapeDataString(its.Node)}";
                if (result.GetValue(history) is { } reading)
                {
                    var then = await client.GetAsync<List<ReadingThen>>(
                        $"{place}/history?reading={Uri.EscapeDataString(reading)}",
                        ct
                    );
                    output.Write(then, () =>
                        output.Table(
                            ["taken", reading],
                            then.Select(t =>
                                new[] { Moment(t.At), t.Value ?? (t.Missed is { } why ? $"not read: {why}" : "-") }
                            )
                        )
                    );
                    return Exit.Done;
                }
                var view = await client.GetAsync<MemberView>(place, ct);
                output.Write(
                    view,
                    () =>
                    {
                        output.Heading(
                            $"{view.Member}  {view.Product} at {view.Site}, "
                                + $"{(view.At is { } at ? $"read {Moment(at)}" : "never read")}"
                        );
                        if (view.Lost is { } lost)
                            output.Line($"  not current: the last survey could not read it: {lost}");
                        output.Table(
                            ["reading", "value", "kind", "source"],
                            view.Readings.Select(r =>
                                new[]
                                {
                                    r.Name,
                                    r.Value is { Length: 0 } ? "(none)" : r.Value ?? $"not read: {r.Missed}",
                                    r.Kind,
                                    r.Source,
                                }
                            )
                        );
                    },
                    view.Readings
                );
                return view.Lost is null ? Exit.Done : Exit.No;
            },
            member,
            history
        );
    }

    private static string Moment(DateTimeOffset at) => at.ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss");
}
