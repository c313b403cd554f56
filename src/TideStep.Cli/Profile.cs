using System.Text.Json;
using TideStep.Client;
using TideStep.Core.Documents;

namespace TideStep.Cli;

/// <summary>What a person sets once: the name that stands on everything they do, and the service they call.</summary>
public sealed record Profile(string? Name, string? Server)
{
    private static string PathOf =>
        Path.Combine(
            Environment.GetEnvironmentVariable("TIDESTEP_HOME")
                ?? Path.Combine(
                    Environment.GetFolderPath(Environment.SpecialFolder.UserProfile),
                    ".config",
                    "tidestep"
                ),
            "profile.json"
        );

    public static Profile Load()
    {
        try
        {
            return File.Exists(PathOf)
                ? JsonSerializer.Deserialize<Profile>(File.ReadAllText(PathOf), Json.Options) ?? new Profile(null, null)
                : new Profile(null, null);
        }
        catch (JsonException)
        {
            return new Profile(null, null);
        }
    }

    public void Save()
    {
        Directory.CreateDirectory(Path.GetDirectoryName(PathOf)!);
        File.WriteAllText(PathOf, JsonSerializer.Serialize(this, Json.Indented));
    }

    /// <summary>A client of the service in use: the option, else the environment, else the profile, else this machine's
    /// own.</summary>
    public static ServiceClient Connect(string? server)
    {
        var profile = Load();
        var address = server
            ?? Environment.GetEnvironmentVariable("TIDESTEP_SERVER")
            ?? profile.Server
            ?? "http://127.0.0.1:7470";
        var data = Environment.GetEnvironmentVariable("TIDESTEP_DATA")
            ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".tidestep");
        var file = Path.Combine(data, "access.key");
        string? key = Environment.GetEnvironmentVariable("TIDESTEP_KEY");
        if (key is null && File.Exists(file))
            try
            {
                key = File.ReadAllText(file).Trim();
            }
            catch (UnauthorizedAccessException)
            { /* said by the service as a missing key */
            }
        return new ServiceClient(
            new Uri(address),
            key,
            Environment.GetEnvironmentVariable("TIDESTEP_NAME") ?? profile.Name
        );
    }
}
