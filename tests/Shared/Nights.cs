using System.Globalization;
using System.Text.RegularExpressions;

namespace TideStep;

/// <summary>The days of the tests, counted from a Sunday at the end of a November to come: no day stands in a test, and
/// none of them is in summer time where the tests' estates are.</summary>
public static partial class Nights
{
    /// <summary>The last Sunday of November of next year.</summary>
    public static DateOnly Sunday { get; } = LastSunday(11);

    /// <summary>The last Sunday of a month of next year: that of a clock change in March and October.</summary>
    public static DateOnly LastSunday(int month)
    {
        var last = new DateOnly(DateTime.UtcNow.Year + 1, month, 1).AddMonths(1).AddDays(-1);
        return last.AddDays(-(int)last.DayOfWeek);
    }

    public static DateOnly Day(int after) => Sunday.AddDays(after);

    /// <summary>The day as documents have it.</summary>
    public static string On(int after) => Written(Day(after));

    /// <summary>The day as calendars have it.</summary>
    public static string Compact(int after) => Day(after).ToString("yyyyMMdd", CultureInfo.InvariantCulture);

    /// <summary>A text in which <c>@7</c> stands for the day a week after the Sunday.</summary>
    public static string In(string text) =>
        DayMark().Replace(text, found => On(int.Parse(found.Groups[1].Value, CultureInfo.InvariantCulture)));

    public static DateTimeOffset At(int after, int hour, int minute = 0) =>
        new(Day(after), new TimeOnly(hour, minute), TimeSpan.Zero);

    public static string Written(DateOnly day) => day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);

    [GeneratedRegex("@(-?[0-9]+)")]
    private static partial Regex DayMark();
}
