using System.Globalization;

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

    /// <summary>The file of the key that secrets are kept under, where it lies elsewhere than in the data
    /// folder.</summary>
    public string? VaultKey { get; init; }

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
            int.Parse(configuration["port"] ?? "7470", CultureInfo.InvariantCulture),
            configuration["database"],
            double.Parse(configuration["pace"] ?? "1", CultureInfo.InvariantCulture),
            new[] { configuration["console"], beside }.FirstOrDefault(c => c is not null && Directory.Exists(c))
        )
        {
            VaultKey = configuration["vault-key"],
        };
    }
}
