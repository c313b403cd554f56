using System.Globalization;
using System.Text.RegularExpressions;

namespace TideStep.Core.Documents;

/// <summary>Durations as people write and read them: <c>90 s</c>, <c>6 min</c>, <c>1 h 25 min</c>.</summary>
public static partial class Durations
{
    public static TimeSpan? TryParse(string text)
    {
        var match = Pattern().Match(text);
        if (!match.Success || text.Trim().Length == 0)
            return null;
        double seconds = 0;
        foreach (
            var (group, unit) in (ReadOnlySpan<(string, double)>)
                [("d", 86400), ("h", 3600), ("m", 60), ("s", 1), ("ms", 0.001)]
        )
            if (match.Groups[group] is { Success: true } found)
                seconds += double.Parse(found.Value, CultureInfo.InvariantCulture) * unit;
        return seconds <= TimeSpan.FromDays(3650).TotalSeconds ? TimeSpan.FromSeconds(seconds) : null;
    }

    /// <summary>Writes a duration in the two largest units that matter: <c>1 h 25 min</c>, <c>40 s</c>.</summary>
    public static string Write(TimeSpan span)
    {
        if (span < TimeSpan.Zero)
            return "-" + Write(span.Negate());
        if (span.TotalSeconds < 1 && span > TimeSpan.Zero)
            return $"{span.TotalMilliseconds.ToString("0", CultureInfo.InvariantCulture)} ms";
        if (span.TotalMinutes < 1)
            return $"{span.TotalSeconds.ToString("0.#", CultureInfo.InvariantCulture)} s";
        var whole = TimeSpan.FromSeconds(Math.Round(span.TotalSeconds));
        if (whole.TotalHours < 1)
            return whole.Seconds == 0 ? $"{whole.Minutes} min" : $"{whole.Minutes} min {whole.Seconds} s";
        if (whole.TotalDays < 2)
            return whole.Minutes == 0 ? $"{(int)whole.TotalHours} h" : $"{(int)whole.TotalHours} h {whole.Minutes} min";
        return whole.Hours == 0 ? $"{whole.Days} d" : $"{whole.Days} d {whole.Hours} h";
    }

    [GeneratedRegex(
        @"^\s*(?:(?<d>\d+(?:\.\d+)?)\s*d(?:ays?)?)?\s*(?:(?<h>\d+(?:\.\d+)?)\s*h)?\s*"
            + @"(?:(?<m>\d+(?:\.\d+)?)\s*min)?\s*(?:(?<s>\d+(?:\.\d+)?)\s*s)?\s*"
            + @"(?:(?<ms>\d+(?:\.\d+)?)\s*ms)?\s*$"
    )]
    private static partial Regex Pattern();
}
