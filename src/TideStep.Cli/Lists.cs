using System.CommandLine;

namespace TideStep.Cli;

/// <summary>Long lists: how many lines are told, and that there are more.</summary>
public static class Lists
{
    /// <summary>The option that says how many lines are told.</summary>
    public static Option<int> Most(string what, int usual = 50)
    {
        var most = new Option<int>("--most")
        {
            Description = $"how many {what} at most",
            DefaultValueFactory = _ => usual,
        };
        most.Validators.Add(r =>
        {
            if (r.GetValueOrDefault<int>() < 1)
                r.AddError("--most: say a number from 1 on");
        });
        return most;
    }

    /// <summary>Says beside the list, to whoever looks on, that it was cut.</summary>
    public static void TellMore(bool more, int most, string what)
    {
        if (more)
            Console.Error.WriteLine($"There are more {what} than the newest {most}: say --most.");
    }
}
