using System.CommandLine;
using TideStep.Service.Keeping;

namespace TideStep.Service;

/// <summary>What the service may be started with, what else its program does, and what is said of anything
/// else.</summary>
public static class ServiceOptions
{
    /// <inheritdoc cref="CommandLineAnswer.Of"/>
    public static int? Answered(string[] arguments)
    {
        var data = new Option<string>("--data")
        {
            Description =
                "the folder of its database, key, secrets and artefacts; else TIDESTEP_DATA, else ~/.tidestep",
            Recursive = true,
        };
        var database = new Option<string>("--database")
        {
            Description = "the connection text of a PostgreSQL database; else SQLite",
            Recursive = true,
        };
        var program = new RootCommand("The Tide Step service: plans and runs upgrades, on loopback.")
        {
            data,
            database,
            new Option<string>("--port") { Description = "the loopback port; else 7470" },
            new Option<string>("--pace")
            {
                Description = "divides settle times and limits, for demonstrations; else 1",
            },
            new Option<string>("--console") { Description = "the folder of the built console" },
            new Option<string>("--node-limit")
            {
                Description = "how long a survey and a reading wait for one node, as 2 min; else 30 s",
            },
            new Option<string>("--guide")
            {
                Description = "a Markdown file that the console shows as its page 'what to try', as the demo does",
            },
            new Option<string>("--vault-key") { Description = "the file of the key that secrets are kept under" },
        };
        foreach (var command in KeepingCommands.Create(data, database))
            program.Subcommands.Add(command);
        return CommandLineAnswer.Of("tidestep-service", program, arguments);
    }
}
