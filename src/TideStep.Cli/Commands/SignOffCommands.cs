using System.Collections.Immutable;
using System.CommandLine;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;
using TideStep.Core.Plans;
using TideStep.Core.Runs;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep plan sign-off</c> and <c>plan sign-offs</c>: people's words on plans.</summary>
internal static class SignOffCommands
{
    public static IEnumerable<Command> Create(Context context, Argument<string> digest)
    {
        string Path(ParseResult result) => $"/api/plans/{Uri.EscapeDataString(result.GetValue(digest)!)}/sign-offs";
        var turnBack = new Option<string[]>("--turn-back")
        {
            Description =
                "what holds at a halt that nobody decides in time: 'try-again after 5 min, twice', 'return "
                + "after 20 min'; several in their order",
        };
        var (note, withdraw) = (
            new Option<string?>("--note") { Description = "what you have to say to it" },
            new Option<bool>("--withdraw") { Description = "take your own word back" }
        );
        yield return context.Remote(
            "sign-off",
            "Say that a plan may be started",
            async (result, client, output, ct) =>
            {
                if (result.GetValue(withdraw))
                {
                    await client.DeleteAsync(Path(result), ct);
                    output.Line("Taken back.");
                    return Exit.Done;
                }
                var orders = (result.GetValue(turnBack) ?? []).Select(StandingOrders.Read).ToList();
                var made = System.Text.Json.JsonSerializer.Deserialize<SignOff>(
                    (
                        await client.PostAsync(
                            Path(result),
                            new { turnBack = orders, note = result.GetValue(note) },
                            ct
                        )
                    )!,
                    Json.Options
                )!;
                output.Write(made, () =>
                {
                    output.Line(
                        $"Signed by {made.By}, holds until {made.Ends.ToLocalTime():yyyy-MM-dd HH:mm}: plan {made.Plan}"
                    );
                    output.Line(Agreed(made));
                });
                return Exit.Done;
            },
            digest,
            turnBack,
            note,
            withdraw
        );
        yield return context.Remote(
            "sign-offs",
            "What a plan asks to be signed, and what was",
            async (result, client, output, ct) =>
            {
                var view = await client.GetAsync<PlanSignOffs>(Path(result), ct);
                output.Write(
                    view,
                    () =>
                    {
                        if (view.Asked.Count == 0)
                            output.Line("This plan asks for no sign-off.");
                        else
                            output.Table(
                                ["sign-off", "why", "by", "holds for"],
                                view.Asked.Select(s =>
                                    new[]
                                    {
                                        s.Id,
                                        s.Why,
                                        s.ByAnother ? $"another than {view.Author}" : "anybody",
                                        Durations.Write(s.Lasts),
                                    }
                                )
                            );
                        foreach (var given in view.Given)
                        {
                            output.Line(
                                $"signed by {given.By} on {given.At.ToLocalTime():yyyy-MM-dd HH:mm}, "
                                    + $"{(given.Ends <= Times.Now ? "held" : "holds")} until "
                                    + $"{given.Ends.ToLocalTime():yyyy-MM-dd HH:mm}"
                                    + $"{(given.Note is null ? "" : $": {given.Note}")}"
                            );
                            output.Line("  " + Agreed(given));
                        }
                        if (view.Missing is { } missing)
                            output.Line($"It can't start: {missing}.");
                    },
                    view.Asked
                );
                return view.Missing is null ? Exit.Done : Exit.No;
            },
            digest
        );
    }

    private static string Agreed(SignOff given) =>
        given.TurnBack.IsDefaultOrEmpty
            ? "At a halt the run waits for somebody."
            : $"At a halt that nobody decides in time: {RunReport.Written(given.TurnBack)}.";
}
