using System.Globalization;
using TideStep.Core.Documents;
using TideStep.Service.World;

namespace TideStep.Service;

/// <summary>What the service is started with.</summary>
/// <param name="Data">The folder of the database, the access key, secrets and artefacts.</param>
/// <param name="Port">The loopback port.</param>
/// <param name="Database">A PostgreSQL connection text, or null for SQLite in the data folder.</param>
/// <param name="Pace">Divides settle times and limits; for demonstrations against stand-ins.</param>
/// <param name="Console">The folder of the built console, or null where it is not served.</param>
public sealed record ServiceSettings(string Data, int Port, string? Database, double Pace, string? Console)
{
    /// <summary>Tide Step's own version.</summary>
    public const string Version = "0.1.0";

    /// <summary>The name of the SQLite database in the data folder.</summary>
    public const string DatabaseFile = "tidestep.db";

    /// <summary>The file of the key that secrets are kept under, where it lies elsewhere than in the data
    /// folder.</summary>
    public string? VaultKey { get; init; }

    /// <summary>How long a survey and a reading wait for one node.</summary>
    public TimeSpan NodeLimit { get; init; } = TimeSpan.FromSeconds(30);

    /// <summary>A Markdown file that the console shows as a page of its own, or null.</summary>
    public string? Guide { get; init; }

    /// <summary>Where it can be called besides loopback.</summary>
    public Doors Doors { get; init; } = Doors.None;

    /// <summary>The address that stands in links that are sent to people, without a slash at its end.</summary>
    public string ForPeople => Doors.Url?.GetLeftPart(UriPartial.Authority) ?? $"http://127.0.0.1:{Port}";

    /// <exception cref="FormatException">A port or a pace is none, in words.</exception>
    public static ServiceSettings From(IConfiguration configuration)
    {
        var home = Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
        var beside = Path.Combine(AppContext.BaseDirectory, "console");
        return new ServiceSettings(
            Path.GetFullPath(
                configuration["data"]
                    ?? Environment.GetEnvironmentVariable("TIDESTEP_DATA")
                    ?? Path.Combine(home, ".tidestep")
            ),
            PortOf(configuration["port"] ?? "7470"),
            DatabaseOf(configuration),
            PaceOf(configuration["pace"] ?? "1"),
            new[] { configuration["console"], beside }.FirstOrDefault(c => c is not null && Directory.Exists(c))
        )
        {
            VaultKey = configuration["vault-key"] ?? CredentialOf("vault-key"),
            Doors = Doors.From(configuration),
            NodeLimit = LimitOf(configuration["node-limit"] ?? "30 s"),
            Guide =
                configuration["guide"] is not { } guide ? null
                : File.Exists(guide) ? Path.GetFullPath(guide)
                : throw new FormatException($"there is no file {guide}: name another with --guide"),
        };
    }

    // It may hold a password: on a command line everybody on the machine could read it.
    private static string? DatabaseOf(IConfiguration configuration) =>
        configuration["database"] is { Length: > 0 } said ? said
        : Environment.GetEnvironmentVariable("TIDESTEP_DATABASE") is { Length: > 0 } given ? given
        : CredentialOf("database") is { } file ? File.ReadAllText(file).Trim()
        : null;

    // Where a service manager gives credentials, as systemd does by this variable.
    private static string? CredentialOf(string name) =>
        Environment.GetEnvironmentVariable("CREDENTIALS_DIRECTORY") is { Length: > 0 } folder
        && Path.Combine(folder, name) is var file
        && File.Exists(file)
            ? file
            : null;

    private static int PortOf(string text) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var port) && port <= 65535
            ? port
            : throw new FormatException($"'{text}' is no port: give a number up to 65535 with --port");

    private static TimeSpan LimitOf(string text) =>
        Durations.TryParse(text) is { } limit && limit > TimeSpan.Zero
            ? limit
            : throw new FormatException($"'{text}' is no span of time: give one like 30 s or 2 min with --node-limit");

    private static double PaceOf(string text) =>
        double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var pace)
        && pace > 0
        && double.IsFinite(pace)
            ? pace
            : throw new FormatException($"'{text}' is no pace: give a number above nought with --pace");
}
