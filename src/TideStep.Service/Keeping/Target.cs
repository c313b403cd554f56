using System.CommandLine;
using System.Data.Common;
using TideStep.Storage;

namespace TideStep.Service.Keeping;

/// <summary>Which service's data a command is about: the folder and, where it has one, the PostgreSQL
/// database.</summary>
/// <param name="Data">The data folder.</param>
/// <param name="Database">The connection text; null where the database is the file in the folder.</param>
public sealed record Target(string Data, string? Database)
{
    /// <summary>The SQLite file in the folder.</summary>
    public string File => Path.Combine(Data, ServiceSettings.DatabaseFile);

    /// <summary>Opens the database to look at it; a service may be at work on it.</summary>
    public DbConnection Open() => Database is { } text ? StoreCopy.OpenServer(text) : StoreCopy.OpenFile(File);

    /// <summary>As the service itself would take it from arguments and environment.</summary>
    public static Target Of(ParseResult given, Option<string> data, Option<string> database)
    {
        var settings = ServiceSettings.From(
            new ConfigurationBuilder()
                .AddEnvironmentVariables()
                .AddInMemoryCollection(
                    new[]
                    {
                        KeyValuePair.Create<string, string?>("data", given.GetValue(data)),
                        KeyValuePair.Create<string, string?>("database", given.GetValue(database)),
                    }.Where(v => v.Value is not null)
                )
                .Build()
        );
        return new Target(settings.Data, settings.Database);
    }
}
