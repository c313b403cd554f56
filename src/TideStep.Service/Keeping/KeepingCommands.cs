using System.CommandLine;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Service.Keeping;

/// <summary>What can be done with a service's data besides starting the service: look whether it is whole, take a
/// backup of it, bring one back.</summary>
public static class KeepingCommands
{
    private const int Refused = 1;
    private const int Failed = 3;

    public static IEnumerable<Command> Create(Option<string> data, Option<string> database)
    {
        var json = new Option<bool>("--json") { Description = "for programs" };
        var check = new Command("check", "Walk everything that is kept and name what is not as it was written")
        {
            json,
        };
        check.SetAction(
            (given, ct) => SayingAsync(() => CheckAsync(Target.Of(given, data, database), given.GetValue(json)))
        );
        var to = new Argument<string>("folder") { Description = "an empty folder, or one to be made" };
        var backup = new Command("backup", "Write a backup of everything, also while the service works") { to };
        backup.SetAction(
            (given, ct) =>
                SayingAsync(async () =>
                {
                    var made = await Backup.WriteAsync(Target.Of(given, data, database), given.GetValue(to)!, ct);
                    Console.WriteLine(
                        $"{made.Files.Count} file{(made.Files.Count == 1 ? "" : "s")} in "
                            + $"{Path.GetFullPath(given.GetValue(to)!)}. It holds secrets and "
                            + $"the keys to them: keep it as safe as the data folder."
                    );
                    return 0;
                })
        );
        var from = new Argument<string>("folder") { Description = "a backup" };
        var damaged = new Option<bool>("--damaged")
        {
            Description = "also where some of what was backed up was damaged already; check names it",
        };
        var restore = new Command("restore", "Bring a backup back, into a data folder and a database that are empty")
        {
            from,
            damaged,
        };
        restore.SetAction(
            (given, ct) =>
                SayingAsync(async () =>
                {
                    var target = Target.Of(given, data, database);
                    await Backup.RestoreAsync(given.GetValue(from)!, target, given.GetValue(damaged), ct);
                    Console.WriteLine(
                        $"Everything is in {target.Data}{(target.Database is null ? "" : " and the database")}. Start "
                            + $"the service only where the one that the backup was made of is gone for good: the "
                            + $"new one takes its runs up."
                    );
                    return 0;
                })
        );
        return [check, backup, restore];
    }

    private static Task<int> CheckAsync(Target target, bool json)
    {
        using var connection = target.Open();
        var found = SqlStore.Check(connection).ToList();
        if (json)
            Console.WriteLine(JsonSerializer.Serialize(found, Json.Options));
        else
        {
            foreach (var damage in found)
                Console.WriteLine(
                    $"{damage.Of}: {damage.What}{(damage.Rebuilt ? " (made anew by the service itself)" : "")}"
                );
            Console.WriteLine(
                found.Count == 0 ? "Everything is as it was written."
                : found.All(d => d.Rebuilt) ? "Nothing is lost."
                : "Runs and documents that are named are set aside; everything else works. Bring the database back "
                    + "from a backup of before, or go on without them."
            );
        }
        return Task.FromResult(found.All(d => d.Rebuilt) ? 0 : Refused);
    }

    private static async Task<int> SayingAsync(Func<Task<int>> act)
    {
        try
        {
            return await act();
        }
        catch (Exception e)
            when (e is StoreUnavailableException or IOException or UnauthorizedAccessException or FormatException)
        {
            Console.Error.WriteLine(e.Message);
            return Failed;
        }
    }
}
