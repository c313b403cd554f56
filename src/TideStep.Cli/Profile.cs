using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
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

    /// <summary>The PEM file of who vouches for a service's certificate, by its address.</summary>
    public ImmutableDictionary<string, string> Authorities { get; init; } = ImmutableDictionary<string, string>.Empty;

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
        return Connect(address, KeyFor(address), Environment.GetEnvironmentVariable("TIDESTEP_NAME") ?? Load().Name);
    }

    /// <summary>A client of a service; nothing is shown where others could read it.</summary>
    /// <param name="authority">The PEM file of who vouches for its certificate; as the environment or the profile say
    /// where null.</param>
    public static ServiceClient Connect(Uri address, string? key, string? name, string? authority = null)
    {
        if (address.Scheme == "http" && !address.IsLoopback)
            throw new MisusedException([
                new Problem(
                    $"what is said to {PlaceOf(address)} could be read on its way",
                    null,
                    "Call it by https; a service without a certificate stands behind a proxy that has one."
                ),
            ]);
        authority ??= Environment.GetEnvironmentVariable("TIDESTEP_AUTHORITY") is { Length: > 0 } given
            ? given
            : Load().Authorities.GetValueOrDefault(PlaceOf(address));
        return new ServiceClient(address, key, name, authority is null ? null : AuthorityIn(authority));
    }

    private static X509Certificate2Collection AuthorityIn(string file)
    {
        var authority = new X509Certificate2Collection();
        try
        {
            authority.ImportFromPemFile(file);
        }
        catch (CryptographicException e)
        {
            throw new MisusedException([new Problem($"{file} holds no certificate", e.Message)]);
        }
        return authority.Count > 0
            ? authority
            : throw new MisusedException([
                new Problem($"{file} holds no certificate", null, "Give a PEM file with --authority."),
            ]);
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
