using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Ical.Net.Evaluation;
using Ical.Net.Serialization;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Plans;

namespace TideStep.Tables;

/// <summary>Freezes out of other people's calendars, and planned work into them (iCalendar, RFC 5545).</summary>
public static class CalendarFile
{
    /// <summary>How far ahead repeated events are looked at.</summary>
    public static readonly TimeSpan Ahead = TimeSpan.FromDays(366);

    private const int MostEvents = 500;

    // How often an event may repeat from its first day on: daily for more than fifty years.
    private const int MostLooked = 20_000;

    /// <summary>The events of a calendar that are not over on a day, each repetition by itself, as freezes of an
    /// estate.</summary>
    /// <param name="name">The name of the file, for messages.</param>
    /// <param name="text">The calendar.</param>
    /// <param name="zone">The estate's zone, in which the freezes are written.</param>
    /// <param name="day">The day.</param>
    public static Checked<IReadOnlyList<Freeze>> Freezes(string name, string text, TimeZoneInfo zone, DateOnly day)
    {
        Ical.Net.Calendar? calendar;
        try
        {
            calendar = Ical.Net.Calendar.Load(text);
        }
        catch (Exception e)
            when (e
                    is System.Runtime.Serialization.SerializationException
                        or FormatException
                        or ArgumentException
                        or InvalidOperationException
            )
        {
            return Wrong(name, $"the calendar can't be read: {e.Message.Split('\n')[0].Trim()}");
        }
        if (calendar is null || calendar.Events.Count == 0)
            return Wrong(name, "the file holds no event of a calendar");
        var from = new DateTimeOffset(
            day.ToDateTime(TimeOnly.MinValue),
            zone.GetUtcOffset(day.ToDateTime(TimeOnly.MinValue))
        );
        var (freezes, ids) = (new List<Freeze>(), new HashSet<string>());
        foreach (var happening in calendar.Events)
        {
            if (happening.Start is null)
                return Wrong(name, $"the event '{happening.Summary}' does not say when it begins");
            var looked = 0;
            foreach (var period in PeriodsOf(happening, (from + Ahead).UtcDateTime))
            {
                if (period is null || ++looked > MostLooked)
                    return Wrong(
                        name,
                        $"the event '{happening.Summary}' repeats too often to be a freeze: {MostLooked} times and "
                            + "more up to the coming year"
                    );
                var (begins, ends) = (
                    Local(period.StartTime, zone),
                    Local(period.EffectiveEndTime ?? period.StartTime, zone)
                );
                // A day that says no end is whole; a moment without length freezes nothing.
                if (ends <= begins && !period.StartTime.HasTime)
                    ends = begins.AddDays(1);
                if (ends <= begins || ends <= from.DateTime)
                    continue;
                if (freezes.Count == MostEvents)
                    return Wrong(name, $"the calendar holds more than {MostEvents} events of the coming year");
                freezes.Add(
                    new Freeze(
                        IdOf(happening, begins, ids),
                        begins,
                        ends,
                        string.IsNullOrWhiteSpace(happening.Summary) ? null : OneLine(happening.Summary)
                    )
                );
            }
        }
        return new Checked<IReadOnlyList<Freeze>>([.. freezes.OrderBy(f => f.From)], []);
    }

    // Null where the rule goes on without end and gives none.
    private static IEnumerable<Period?> PeriodsOf(CalendarEvent happening, DateTime until)
    {
        using var occurrences = happening
            .GetOccurrences(
                new CalDateTime(DateTime.UnixEpoch, "UTC"),
                new EvaluationOptions { MaxUnmatchedIncrementsLimit = MostLooked }
            )
            .GetEnumerator();
        while (true)
        {
            var more = false;
            var endless = false;
            try
            {
                more = occurrences.MoveNext();
            }
            catch (EvaluationLimitExceededException)
            {
                endless = true;
            }
            catch (EvaluationOutOfRangeException)
            { /* up to the end of all years there is none */
            }
            if (endless)
                yield return null;
            if (endless || !more || occurrences.Current.Period.StartTime.AsUtc > until)
                yield break;
            yield return occurrences.Current.Period;
        }
    }

    /// <summary>The hours of a plan as a calendar, one event for each window that it uses; the same plan gives the same
    /// text.</summary>
    public static Checked<string> Of(Plan plan, string title, string digest)
    {
        if (plan.Windows.IsEmpty)
            return new Checked<string>(
                null,
                [
                    new Problem(
                        "the plan keeps to no windows, so it has no hours to put into a calendar",
                        null,
                        "Give the estate windows, and make the plan again."
                    ),
                ]
            );
        var calendar = new Ical.Net.Calendar { ProductId = "-//Tide Step//EN" };
        foreach (var window in plan.Windows)
        {
            var moves = plan.Moves.Where(m => m.Number >= window.FirstMove && m.Number <= window.LastMove).ToList();
            var stops = moves.SelectMany(m => m.Out).Distinct().Order(StringComparer.Ordinal).ToList();
            calendar.Events.Add(
                new CalendarEvent
                {
                    Uid = $"{digest.Replace(':', '-')}-{window.From.UtcDateTime:yyyyMMddTHHmm}@tidestep",
                    DtStamp = new CalDateTime(plan.Day.ToDateTime(TimeOnly.MinValue), "UTC"),
                    Start = new CalDateTime(window.From.UtcDateTime, "UTC"),
                    End = new CalDateTime(window.To.UtcDateTime, "UTC"),
                    Summary =
                        $"{title}: "
                        + $"{(moves.Count == 1 ? moves[0].Words : $"moves {window.FirstMove} to {window.LastMove}")}",
                    Description = string.Join(
                        "\n",
                        moves
                            .Select(m => $"{m.Number}. {m.Words}")
                            .Append($"The work ends {window.Ends:HH:mm}.")
                            .Append(
                                stops.Count == 0
                                    ? "Nothing is out of service as a whole."
                                    : $"Out of service for a time: {string.Join(", ", stops)}."
                            )
                            .Append($"Plan {digest}")
                    ),
                }
            );
        }
        return new Checked<string>(new CalendarSerializer().SerializeToString(calendar), []);
    }

    /// <summary>An invitation to the hours of a plan (RFC 5546, REQUEST); the same plan and label give the same events,
    /// so that a calendar brings them up to date. Null where the plan keeps to no windows.</summary>
    /// <param name="from">The mail address that invites.</param>
    /// <param name="people">The mail addresses of those who are invited.</param>
    public static string? Invitation(Plan plan, string title, string digest, string from, IEnumerable<string> people)
    {
        var made = Of(plan, title, digest);
        if (!made.Ok)
            return null;
        var calendar = Ical.Net.Calendar.Load(made.Value!)!;
        calendar.Method = "REQUEST";
        foreach (var happening in calendar.Events)
        {
            happening.Organizer = new Organizer($"mailto:{from}");
            foreach (var person in people)
                happening.Attendees.Add(new Attendee($"mailto:{person}") { Rsvp = true });
        }
        return new CalendarSerializer().SerializeToString(calendar);
    }

    private static DateTime Local(CalDateTime at, TimeZoneInfo zone) =>
        !at.HasTime || at.IsFloating ? at.Value : TimeZoneInfo.ConvertTimeFromUtc(at.AsUtc, zone);

    private static string OneLine(string text) =>
        string.Join(' ', text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));

    // A name that documents may have: letters of the summary, and the day.
    private static string IdOf(CalendarEvent happening, DateTime begins, HashSet<string> taken)
    {
        var words = new StringBuilder();
        foreach (var sign in (happening.Summary ?? "").ToLowerInvariant())
            if (char.IsAsciiLetterOrDigit(sign))
                words.Append(sign);
            else if (words.Length > 0 && words[^1] != '-')
                words.Append('-');
        var name = words.ToString().Trim('-');
        name =
            (
                name.Length == 0 || !char.IsAsciiLetter(name[0])
                    ? "freeze"
                    : name[..Math.Min(name.Length, 30)].TrimEnd('-')
            ) + $"-{begins.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)}";
        var own = name;
        for (var i = 2; !taken.Add(own); i++)
            own = $"{name}-{i}";
        return own;
    }

    private static Checked<IReadOnlyList<Freeze>> Wrong(string name, string what) =>
        new(null, [new Problem(what, null, "Export it anew as iCalendar (.ics).", new Place(name, 1, 1))]);
}
