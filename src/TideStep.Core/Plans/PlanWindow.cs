using TideStep.Core.Estates;

namespace TideStep.Core.Plans;

/// <summary>A window that a plan uses: which moves are made in it, when the last of them ends, and in which resting
/// place it leaves the estate.</summary>
/// <param name="From">When it opens; with the offset of the estate's zone at that moment.</param>
/// <param name="Ends">When the plan's work in it ends by its own figures.</param>
/// <param name="Rests">Why the work may pause after it; null for the last one.</param>
public sealed record PlanWindow(
    string Name,
    DateTimeOffset From,
    DateTimeOffset To,
    int FirstMove,
    int LastMove,
    DateTimeOffset Ends,
    string? Rests
);

/// <summary>A freeze that the plan's work has to keep out of.</summary>
public sealed record PlannedFreeze(string Name, DateTimeOffset From, DateTimeOffset To, string? Why);

/// <summary>Works out when an estate's windows open.</summary>
public static class WindowCalendar
{
    /// <summary>The windows that open on the days after a day, in the order of their opening.</summary>
    /// <param name="days">How many days to look at.</param>
    public static IEnumerable<(string Name, DateTimeOffset From, DateTimeOffset To)> After(
        IEnumerable<WindowRule> rules,
        TimeZoneInfo zone,
        DateOnly day,
        int days
    )
    {
        var all = rules.ToList();
        return Enumerable
            .Range(1, days)
            .Select(day.AddDays)
            .SelectMany(d =>
                all.Where(r => r.On == d || r.Every == d.DayOfWeek)
                    .Select(r => (r.Id, From: At(zone, d.ToDateTime(r.From)), r.Lasts))
            )
            .Select(w => (w.Id, w.From, InZone(zone, w.From + w.Lasts)))
            .OrderBy(w => w.From)
            .ThenBy(w => w.Id, StringComparer.Ordinal);
    }

    /// <summary>The freezes that are not over on a day, in the order of their beginning.</summary>
    public static IEnumerable<PlannedFreeze> Freezes(IEnumerable<Freeze> freezes, TimeZoneInfo zone, DateOnly day) =>
        freezes
            .Where(f => f.To > day.ToDateTime(TimeOnly.MinValue))
            .Select(f => new PlannedFreeze(f.Id, At(zone, f.From), At(zone, f.To), f.Why))
            .OrderBy(f => f.From)
            .ThenBy(f => f.Name, StringComparer.Ordinal);

    // A time that the clocks jump over is the moment of the jump; of a time that comes twice the first is meant.
    private static DateTimeOffset At(TimeZoneInfo zone, DateTime local)
    {
        if (zone.IsInvalidTime(local))
        {
            while (zone.IsInvalidTime(local))
                local = local.AddMinutes(1);
            return new DateTimeOffset(local, zone.GetUtcOffset(local));
        }
        return new DateTimeOffset(
            local,
            zone.IsAmbiguousTime(local) ? zone.GetAmbiguousTimeOffsets(local).Max() : zone.GetUtcOffset(local)
        );
    }

    private static DateTimeOffset InZone(TimeZoneInfo zone, DateTimeOffset time) =>
        TimeZoneInfo.ConvertTime(time, zone);
}
