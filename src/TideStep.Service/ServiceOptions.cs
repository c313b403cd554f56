using System.CommandLine;

namespace TideStep.Service;

/// <summary>What the service may be started with, and what is said of anything else.</summary>
public static class ServiceOptions
{
    /// <inheritdoc cref="CommandLineAnswer.Of"/>
    public static int? Answered(string[] arguments) =>
        CommandLineAnswer.Of(
            "tidestep-service",
            new RootCommand("The Tide Step service: plans and runs upgrades, on loopback.")
            {
                new Option<string>("--data")
                {
                    Description =
                        "the folder of its database, key, secrets and artefacts; else TIDESTEP_DATA, else ~/.tidestep",
                },
                new Option<string>("--port") { Description = "the loopback port; else 7470" },
                new Option<string>("--database")
                {
                    Description = "the connection text of a PostgreSQL database; else SQLite",
                },
                new Option<string>("--pace")
                {
                    Description = "divides settle times and limits, for demonstrations; else 1",
                },
                new Option<string>("--console") { Description = "the folder of the built console" },
                new Option<string>("--vault-key") { Description = "the file of the key that secrets are kept under" },
            },
            arguments
        );
}
