using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using TideStep.Core.Catalogue;

namespace TideStep.Core.Runs;

/// <summary>Reads the numbers that a step's own output tells of its success, such as how many objects a conversion did
/// and how many failed; pure.</summary>
public static class ToldNumbers
{
    /// <summary>The numbers by name, and what is wrong with them; null where nothing is. Of several places the last
    /// counts: reports end with their sums.</summary>
    public static (ImmutableSortedDictionary<string, double> Numbers, string? Wrong) Of(
        ImmutableArray<ToldNumber> tells,
        string output
    )
    {
        var numbers = ImmutableSortedDictionary.CreateBuilder<string, double>(StringComparer.Ordinal);
        var wrong = new List<string>();
        foreach (var told in tells)
        {
            var match = Regex
                .Matches(output, told.Pattern, RegexOptions.NonBacktracking | RegexOptions.Multiline)
                .LastOrDefault();
            if (
                match is null
                || !double.TryParse(
                    match.Groups[1].Value,
                    NumberStyles.Float,
                    CultureInfo.InvariantCulture,
                    out var number
                )
            )
            {
                wrong.Add($"its output does not tell '{told.Name}'");
                continue;
            }
            numbers[told.Name] = number;
            if (told.AtMost is { } most && number > most)
                wrong.Add($"it tells {told.Name} {Text(number)}, at most {Text(most)} may be");
            if (told.AtLeast is { } least && number < least)
                wrong.Add($"it tells {told.Name} {Text(number)}, at least {Text(least)} must be");
        }
        return (numbers.ToImmutable(), wrong.Count == 0 ? null : string.Join("; ", wrong));
    }

    private static string Text(double number) => number.ToString("0.####", CultureInfo.InvariantCulture);
}
