using System.CommandLine;
using System.Text.Json;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep secret</c>: what the service keeps for its connectors. Values go in and never come
/// out.</summary>
public static class SecretCommands
{
    public static Command Create(Context context)
    {
        var secret = new Command("secret", "Secrets that the service keeps, encrypted");
        var name = new Argument<string>("name") { Description = "the name that 'secret:NAME' refers to" };
        var file = new Option<string?>("--file")
        {
            Description = "the file that holds the value (default: standard input)",
        };
        secret.Subcommands.Add(context.Remote("list", "The names; never a value", async (_, client, output, ct) =>
            {
                var names = await client.GetAsync<List<string>>("/api/secrets", ct);
                output.Write(
                    names,
                    () =>
                    {
                        foreach (var its in names)
                            output.Line(its);
                    },
                    names.Select(n => new { name = n })
                );
                return Exit.Done;
            }));
        secret.Subcommands.Add(
            context.Remote(
                "set",
                "Keep a value that is read from a file or from standard input, never from the command line",
                async (result, client, output, ct) =>
                {
                    var value = result.GetValue(file) is { } path
                        ? await File.ReadAllTextAsync(path, ct)
                        : await Console.In.ReadToEndAsync(ct);
                    if (value.Trim().Length == 0)
                        throw new MisusedException([
                            new Problem(
                                "nothing was given to keep",
                                null,
                                "Write the value to standard input, or name a file with --file."
                            ),
                        ]);
                    await client.PutAsync(
                        $"/api/secrets/{Uri.EscapeDataString(result.GetValue(name)!)}",
                        new { value },
                        ct
                    );
                    output.Line($"secret:{result.GetValue(name)} is kept.");
                    return Exit.Done;
                },
                name,
                file
            )
        );
        secret.Subcommands.Add(
            context.Remote(
                "remove",
                "Give a secret up",
                async (result, client, output, ct) =>
                {
                    await client.DeleteAsync($"/api/secrets/{Uri.EscapeDataString(result.GetValue(name)!)}", ct);
                    output.Line($"secret:{result.GetValue(name)} is gone.");
                    return Exit.Done;
                },
                name
            )
        );
        secret.Subcommands.Add(
            context.Remote(
                "rotate",
                "Seal all that is kept under a new key; runs go on meanwhile",
                async (_, client, output, ct) =>
                {
                    var anew = (await client.PostAsync("/api/secrets/rotation", null, ct)).Deserialize<SealedAnew>(
                        Json.Options
                    )!;
                    output.Write(anew, () => output.Line($"Sealed under a new key: {anew.Secrets}."));
                    return Exit.Done;
                }
            )
        );
        return secret;
    }
}
