using System.CommandLine;

namespace TideStep;

/// <summary>What a server program says of the arguments that it was started with.</summary>
internal static class CommandLineAnswer
{
    private const int Starts = int.MinValue;

    /// <summary>Reads the arguments.</summary>
    /// <param name="program">How the program is called.</param>
    /// <returns>The exit status where nothing is to be started: 0 after the help that was asked for, 2 where an
    /// argument is wrong; null where the program is to start.</returns>
    public static int? Of(string program, RootCommand command, string[] arguments)
    {
        command.SetAction(_ => Starts); // without one a program that has commands demands one of them
        var parsed = command.Parse(arguments);
        if (parsed.Errors.Count == 0)
            return parsed.Invoke() is var status && status == Starts ? null : status;
        foreach (var error in parsed.Errors)
            Console.Error.WriteLine(error.Message);
        Console.Error.WriteLine($"See '{program} --help'.");
        return 2;
    }
}
