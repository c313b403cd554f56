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
            Description = "the connection text of a PostgreSQL database; else TIDESTEP_DATABASE, else SQLite",
            Recursive = true,
        };
        var program = new RootCommand("The Tide Step service: plans and runs upgrades.")
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
            new Option<string>("--listen")
            {
                Description =
                    "addresses besides loopback, as 0.0.0.0:7443,[::]:7443; with --certificate or --trusted-proxy",
            },
            new Option<string>("--certificate")
            {
                Description = "a PEM file with the certificate and those above it; read again when it changes",
            },
            new Option<string>("--certificate-key")
            {
                Description = "the PEM file of the certificate's key, where it is another",
            },
            new Option<string>("--trusted-proxy")
            {
                Description = "the addresses of proxies that pass on calls and have a certificate of their own",
            },
            new Option<string>("--proxy-name-header")
            {
                Description = "the header by which a trusted proxy says who was signed in there",
            },
            new Option<string>("--hosts")
            {
                Description = "host names that it answers to, besides those in its certificate and --url",
            },
            new Option<string>("--url")
            {
                Description = "the address that people call it by, for links that are sent to them",
            },
            new Option<string>("--vault-key") { Description = "the file of the key that secrets are kept under" },
        };
        foreach (var command in KeepingCommands.Create(data, database))
            program.Subcommands.Add(command);
        return CommandLineAnswer.Of("tidestep-service", program, arguments);
    }
}
