using System.CommandLine;
using System.Text.Json;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep token</c>: programs that may call the service.</summary>
public static class TokenCommands
{
    public static Command Create(Context context)
    {
        var token = new Command("token", "Tokens of programs that may call the service");
        token.Subcommands.Add(
            context.Remote(
                "list",
                "All of them, with what they may do and when they were used",
                async (_, client, output, ct) =>
                {
                    var tokens = await client.GetAsync<List<TokenView>>("/api/tokens", ct);
                    output.Write(tokens, () =>
                    {
                        if (tokens.Count == 0)
                            output.Line("There is none.");
                        else
                            output.Table(
                                ["program", "roles", "state", "last day", "last used", "identifier"],
                                tokens.Select(t =>
                                    new[]
                                    {
                                        t.Name,
                                        string.Join(", ", t.Roles),
                                        t.State,
                                        t.LastDay,
                                        t.UsedAt is { } used ? $"{used.ToLocalTime():yyyy-MM-dd HH:mm}" : "never",
                                        t.Id,
                                    }
                                )
                            );
                    });
                    return Exit.Done;
                }
            )
        );
        token.Subcommands.Add(Make(context));
        var id = new Argument<string>("token") { Description = "its identifier" };
        token.Subcommands.Add(
            context.Remote(
                "revoke",
                "Let a program in no more",
                async (result, client, output, ct) =>
                {
                    await client.DeleteAsync($"/api/tokens/{Uri.EscapeDataString(result.GetValue(id)!)}", ct);
                    output.Line($"Token {result.GetValue(id)} counts no more.");
                    return Exit.Done;
                },
                id
            )
        );
        return token;
    }

    private static Command Make(Context context)
    {
        var name = new Argument<string>("name") { Description = "what the program is called; never given again" };
        var roles = new Option<string[]>("--role")
        {
            Description = "what it may do, as of people",
            AllowMultipleArgumentsPerToken = true,
            Required = true,
        };
        var last = new Option<string?>("--last-day") { Description = "as 2027-03-31 (default: in 90 days)" };
        return context.Remote(
            "make",
            "Make one: it is printed once, on a line of its own",
            async (result, client, output, ct) =>
            {
                var made = (
                    await client.PostAsync(
                        "/api/tokens",
                        new
                        {
                            name = result.GetValue(name),
                            roles = result.GetValue(roles),
                            lastDay = result.GetValue(last) ?? $"{Times.Now.AddDays(90):yyyy-MM-dd}",
                        },
                        ct
                    )
                ).Deserialize<MadeToken>(Json.Options)!;
                output.Write(made, () =>
                {
                    output.Line(made.Shown);
                    Console.Error.WriteLine(
                        $"{made.Token.Name} may {string.Join(", ", made.Token.Roles)} until {made.Token.LastDay}. "
                            + "Keep it safe: it is not shown again."
                    );
                });
                return Exit.Done;
            },
            name,
            roles,
            last
        );
    }
}
