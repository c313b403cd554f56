using System.Collections.Immutable;
using System.Text.Json;
using TideStep.Client;
using TideStep.Core.Documents;

namespace TideStep.Cli;

/// <summary>What a person sets once: the name that stands on everything they do, the service they call, and what they
/// show to each service they signed in to.</summary>
public sealed record Profile(string? Name, string? Server)
{
    /// <summary>What is shown to a service, by its address: a key goes there and nowhere else.</summary>
    public ImmutableDictionary<string, string> Keys { get; init; } = ImmutableDictionary<string, string>.Empty;

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

    /// <summary>Keeps it, for its owner alone.</summary>
    public void Save()
    {
        Directory.CreateDirectory(Path.GetDirectoryName(PathOf)!);
        var next = PathOf + ".next";
        var options = new FileStreamOptions { Mode = FileMode.Create, Access = FileAccess.Write };
        if (!OperatingSystem.IsWindows())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        using (var file = new FileStream(next, options))
            JsonSerializer.Serialize(file, this, Json.Indented);
        File.Move(next, PathOf, overwrite: true);
    }

    /// <summary>The service in use: the option, else the environment, else the profile, else this machine's
    /// own.</summary>
    public static Uri AddressOf(string? server)
    {
        var text = server
            ?? Environment.GetEnvironmentVariable("TIDESTEP_SERVER")
            ?? Load().Server
            ?? "http://127.0.0.1:7470";
        return Uri.TryCreate(text, UriKind.Absolute, out var address) && address.Scheme is "http" or "https"
            ? address
            : throw new MisusedException([
                new Problem($"'{text}' is no address of a service", null, "Write it as in http://127.0.0.1:7470."),
            ]);
    }

    /// <summary>What stands for an address in a profile.</summary>
    public static string PlaceOf(Uri address) => address.GetLeftPart(UriPartial.Authority);

    /// <summary>A client of the service in use, with what is shown to it.</summary>
    public static ServiceClient Connect(string? server)
    {
        var address = AddressOf(server);
        return new ServiceClient(
            address,
            KeyFor(address),
            Environment.GetEnvironmentVariable("TIDESTEP_NAME") ?? Load().Name
        );
    }

    // What was given for this call comes first, then what was signed in with, then the key of this machine's service.
    private static string? KeyFor(Uri address)
    {
        if (Environment.GetEnvironmentVariable("TIDESTEP_KEY") is { Length: > 0 } given)
            return given;
        if (Environment.GetEnvironmentVariable("TIDESTEP_KEY_FILE") is { Length: > 0 } named)
            return File.ReadAllText(named).Trim();
        if (Load().Keys.GetValueOrDefault(PlaceOf(address)) is { } signedIn)
            return signedIn;
        var data = Environment.GetEnvironmentVariable("TIDESTEP_DATA")
            ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".tidestep");
        var file = Path.Combine(data, "access.key");
        // It was made for a service on this machine.
        if (!address.IsLoopback || !File.Exists(file))
            return null;
        try
        {
            return File.ReadAllText(file).Trim();
        }
        catch (UnauthorizedAccessException)
        {
            return null; // said by the service as a missing key
        }
    }
}
