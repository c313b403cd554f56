using System.CommandLine;
using System.Text.Json;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep keeping</c>: how long the service keeps what it keeps.</summary>
public static class KeepingCommands
{
    private static readonly (string Name, string Means)[] Kinds =
    [
        ("answers", "answers to requests, for who asks again with the same key"),
        ("notices", "notices that were sent or given up"),
        ("outputs", "outputs of steps, from the last word on their run"),
        ("surveys", "readings and rounds of checks; the last of each stays"),
        ("runs", "entries of ended runs, from the last word on them; their reports stay"),
        ("record", "lines of who did what; how many went stands in their place"),
    ];

    public static Command Create(Context context)
    {
        var keeping = new Command("keeping", "How long the service keeps what it keeps");
        keeping.Subcommands.Add(context.Remote("show", "How long what is kept is kept", async (_, client, output, ct) =>
            {
                Show(await client.GetAsync<KeepingTimes>("/api/keeping", ct), output);
                return Exit.Done;
            }));
        var options = Kinds
            .Select(k => new Option<string?>($"--{k.Name}") { Description = $"{k.Means}; as in '180 d'" })
            .ToArray();
        keeping.Subcommands.Add(
            context.Remote(
                "set",
                "Change it; what is not named stays",
                async (result, client, output, ct) =>
                {
                    await client.PutAsync(
                        "/api/keeping",
                        Kinds.Zip(options).ToDictionary(k => k.First.Name, k => result.GetValue(k.Second)),
                        ct
                    );
                    Show(await client.GetAsync<KeepingTimes>("/api/keeping", ct), output);
                    return Exit.Done;
                },
                [.. options]
            )
        );
        keeping.Subcommands.Add(
            context.Remote(
                "rebuild",
                "Make the rows of lists anew from the journals of runs, where a list seems to be wrong",
                async (_, client, output, ct) =>
                {
                    var rebuilt = (await client.PostAsync("/api/keeping/rebuild", null, ct)).Deserialize<RebuiltView>(
                        Json.Options
                    )!;
                    output.Write(rebuilt, () =>
                        output.Line(
                            $"{rebuilt.Gone} rows were taken away; those of {rebuilt.Runs} runs are made anew"
                                + (
                                    rebuilt.Runs == rebuilt.Readable
                                        ? "."
                                        : $"; {rebuilt.Runs - rebuilt.Readable} can't be read, see 'run list'."
                                )
                        )
                    );
                    return Exit.Done;
                }
            )
        );
        return keeping;
    }

    private static void Show(KeepingTimes times, Output output) => output.Write(times, () =>
        {
            output.Table(
                ["kept", "for", "which are"],
                Kinds
                    .Zip([times.Answers, times.Notices, times.Outputs, times.Surveys, times.Runs, times.Record])
                    .Select(k => new[] { k.First.Name, Durations.Write(k.Second), k.First.Means })
            );
            output.Line();
            output.Line("A run with rollback points on nodes, or with something left to be done, stays whole.");
        });
}
