using System.CommandLine;
using TideStep.Client;
using TideStep.Core.Documents;

namespace TideStep.Cli;

/// <summary>Options that every command shares, and how its work is run and its errors are told.</summary>
public sealed class Context
{
    public Option<string> Format { get; } =
        new("--format")
        {
            Description = "table, json, yaml or csv",
            DefaultValueFactory = _ => "table",
            Recursive = true,
        };
    public Option<string?> Server { get; } =
        new("--server")
        {
            Description = "the service's address (default: TIDESTEP_SERVER, the profile, http://127.0.0.1:7470)",
            Recursive = true,
        };

    public Context() => Format.AcceptOnlyFromAmong("table", "json", "yaml", "csv");

    /// <summary>A command that works by itself.</summary>
    public Command Command(
        string name,
        string description,
        Func<ParseResult, Output, CancellationToken, Task<int>> work,
        params Symbol[] symbols
    )
    {
        var command = new Command(name, description);
        Add(command, symbols);
        command.SetAction((result, ct) => GuardAsync(result, output => work(result, output, ct)));
        return command;
    }

    /// <summary>A command that asks the service.</summary>
    public Command Remote(
        string name,
        string description,
        Func<ParseResult, ServiceClient, Output, CancellationToken, Task<int>> work,
        params Symbol[] symbols
    ) =>
        Command(
            name,
            description,
            async (result, output, ct) =>
            {
                using var client = Profile.Connect(result.GetValue(Server));
                return await work(result, client, output, ct);
            },
            symbols
        );

    private static void Add(Command command, Symbol[] symbols)
    {
        foreach (var symbol in symbols)
        {
            if (symbol is Argument argument)
                command.Arguments.Add(argument);
            else
                command.Options.Add((Option)symbol);
        }
    }

    private async Task<int> GuardAsync(ParseResult result, Func<Output, Task<int>> work)
    {
        try
        {
            return await work(new Output(result.GetValue(Format)!));
        }
        catch (RefusedException e)
        {
            if (e.Problems.Count > 1)
                Console.Error.WriteLine(e.Message);
            Output.Problems(e.Problems);
            return e.Status is 409 or 410 ? Exit.No
                : e.Status >= 500 ? Exit.Unreached
                : Exit.Misused;
        }
        catch (HttpRequestException e)
        {
            Output.Problems([
                ServiceClient.Distrusted is { } why
                    ? new Problem(
                        "the service can't be trusted to be what it says",
                        why,
                        "Name who vouches for it with 'tidestep login --authority FILE' or TIDESTEP_AUTHORITY, or call "
                            + "it by the name in its certificate."
                    )
                    : new Problem("the service does not answer", e.Message, "Start it, or name another with --server."),
            ]);
            return Exit.Unreached;
        }
        catch (System.Text.Json.JsonException e)
        {
            Output.Problems([
                new Problem(
                    "what the service answered is not what was expected",
                    e.Message.Split('\n')[0],
                    "It may be another program, or one of another version: see 'tidestep --version'."
                ),
            ]);
            return Exit.Unreached;
        }
        catch (MisusedException e)
        {
            Output.Problems(e.Problems);
            return Exit.Misused;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            Output.Problems([new Problem(e.Message)]);
            return Exit.Misused;
        }
        catch (OperationCanceledException)
        {
            return Exit.Done;
        }
    }
}

/// <summary>What was given can't be used; every problem of it.</summary>
public sealed class MisusedException(IEnumerable<Problem> problems) : Exception
{
    public IReadOnlyList<Problem> Problems { get; } = [.. problems];
}
