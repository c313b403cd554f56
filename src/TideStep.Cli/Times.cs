using System.Globalization;
using TideStep.Core.Documents;

namespace TideStep.Cli;

/// <summary>Times as people write them, in the zone of their machine.</summary>
public static class Times
{
    /// <summary>Now, by the clock of this process.</summary>
    public static DateTimeOffset Now => ShiftedClock.OfProcess.GetLocalNow();

    /// <summary>An end as it is said: of one at midnight the day that is counted whole, as it was given.</summary>
    public static string Until(DateTimeOffset end)
    {
        var local = end.ToLocalTime();
        return local.TimeOfDay == TimeSpan.Zero
            ? $"the end of {local.AddDays(-1):yyyy-MM-dd}"
            : local.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);
    }

    /// <summary>The moment at which a day is over.</summary>
    public static DateTimeOffset EndOf(DateOnly day)
    {
        var end = day.AddDays(1).ToDateTime(TimeOnly.MinValue);
        return new DateTimeOffset(end, TimeZoneInfo.Local.GetUtcOffset(end));
    }

    /// <summary>A moment: a day with a time, or a time alone for the next such time.</summary>
    /// <exception cref="MisusedException">The text is no time.</exception>
    public static DateTimeOffset Next(string text)
    {
        var zone = TimeZoneInfo.Local;
        if (
            DateTime.TryParseExact(
                text,
                ["yyyy-MM-dd HH:mm", "yyyy-MM-dd'T'HH:mm"],
                CultureInfo.InvariantCulture,
                DateTimeStyles.None,
                out var whole
            )
        )
            return new DateTimeOffset(whole, zone.GetUtcOffset(whole));
        if (!TimeOnly.TryParseExact(text, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var time))
            throw new MisusedException([
                new Problem($"'{text}' is no time", null, "Write it like 03:30, or 2026-11-29 03:30."),
            ]);
        var at = Now.Date + time.ToTimeSpan();
        if (at <= Now.DateTime)
            at = at.AddDays(1);
        return new DateTimeOffset(at, zone.GetUtcOffset(at));
    }
}
