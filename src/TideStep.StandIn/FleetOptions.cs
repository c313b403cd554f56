using System.CommandLine;

namespace TideStep.StandIn;

/// <summary>What the stand-in fleet may be started with, and what is said of anything else.</summary>
public static class FleetOptions
{
    /// <inheritdoc cref="CommandLineAnswer.Of"/>
    public static int? Answered(string[] arguments) =>
        CommandLineAnswer.Of(
            "tidestep-standin",
            new RootCommand("Simulated nodes of an estate behind an HTTP API, on loopback.")
            {
                new Option<string>("--estate") { Description = "the estate's document; else demo/estate.yaml" },
                new Option<string>("--readings")
                {
                    Description = "what its nodes are to tell; else demo/readings.yaml",
                },
                new Option<string>("--port") { Description = "the loopback port; else 7471" },
                new Option<string>("--pace") { Description = "divides the time that actions take; else 1" },
            },
            arguments
        );
}
