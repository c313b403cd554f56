using System.CommandLine;

namespace TideStep.StandIn;

/// <summary>What the stand-in fleet may be started with, and what is said of anything else.</summary>
public static class FleetOptions
{
    /// <summary>Reads the arguments.</summary>
    /// <returns>The exit status where nothing is to be started: 0 after the help that was asked for, 2 where an
    /// argument is wrong; null where the fleet is to start.</returns>
    public static int? Answered(string[] arguments)
    {
        var parsed = new RootCommand("Simulated nodes of an estate behind an HTTP API, on loopback.")
        {
            new Option<string>("--estate") { Description = "the estate's document; else demo/estate.yaml" },
            new Option<string>("--readings") { Description = "what its nodes are to tell; else demo/readings.yaml" },
            new Option<string>("--port") { Description = "the loopback port; else 7471" },
            new Option<string>("--pace") { Description = "divides the time that actions take; else 1" },
        }.Parse(arguments);
        if (parsed.Errors.Count > 0)
        {
            foreach (var error in parsed.Errors)
                Console.Error.WriteLine(error.Message);
            Console.Error.WriteLine("See 'tidestep-standin --help'.");
            return 2;
        }
        return parsed.Action is null ? null : parsed.Invoke();
    }
}
