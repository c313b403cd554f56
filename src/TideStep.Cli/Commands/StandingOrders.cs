using System.Text.RegularExpressions;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary>Reads standing orders as people write them: <c>try-again after 5 min, twice</c>, <c>return after 20
/// min</c>, <c>stop-here after 1 h, 3 times</c>.</summary>
internal static partial class StandingOrders
{
    public sealed record Written(string Decision, string After, int Times);

    public static Written Read(string text)
    {
        var match = Form().Match(text.Trim());
        if (!match.Success || Durations.TryParse(match.Groups["after"].Value) is null)
            throw new MisusedException([
                new Problem(
                    $"'{text}' is no standing order",
                    null,
                    "Write it like 'try-again after 5 min, twice', 'return after 20 min' or 'stop-here after 1 h'."
                ),
            ]);
        var times = match.Groups["times"].Value switch
        {
            "" or "once" => 1,
            "twice" => 2,
            var number => int.Parse(number[..number.IndexOf(' ')], System.Globalization.CultureInfo.InvariantCulture),
        };
        return new Written(
            match.Groups["what"].Value == "return" ? "return-as-far-as" : match.Groups["what"].Value,
            match.Groups["after"].Value,
            times
        );
    }

    [GeneratedRegex(
        @"^(?<what>try-again|return|stop-here) after (?<after>[^,]+?)(, (?<times>once|twice|\d{1,2} times))?$"
    )]
    private static partial Regex Form();
}
