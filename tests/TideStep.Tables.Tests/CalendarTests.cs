using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Tables;

namespace TideStep.Tables.Tests;

/// <summary>Freezes out of calendars: repetitions, zones, days, and what can't be meant.</summary>
public sealed class CalendarTests
{
    private static readonly TimeZoneInfo London = TimeZoneInfo.FindSystemTimeZoneById("Europe/London");

    private static string Calendar(params string[] events) =>
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//made up//EN\r\n"
        + string.Concat(
            events.Select(
                (e, i) =>
                    $"BEGIN:VEVENT\r\nUID:e{i}\r\nDTSTAMP:{Nights.Compact(-28)}T000000Z\r\n"
                    + $"{e.Replace("\n", "\r\n")}\r\nEND:VEVENT\r\n"
            )
        )
        + "END:VCALENDAR\r\n";

    private static IReadOnlyList<Freeze> Read(params string[] events) =>
        CalendarFile.Freezes("c.ics", Calendar(events), London, Nights.Day(-9)) is { Value: { } read }
            ? read
            : throw new InvalidOperationException();

    private static DateTime MonthsEnd(int month) => new DateTime(Nights.Sunday.Year, 1, 1).AddMonths(month).AddDays(-1);

    [Fact]
    public void Whole_days_end_before_the_day_that_the_calendar_names()
    {
        var freeze = Assert.Single(
            Read(
                $"SUMMARY:Harbour days\nDTSTART;VALUE=DATE:{Nights.Compact(21)}\nDTEND;VALUE=DATE:{Nights.Compact(36)}"
            )
        );
        Assert.Equal(
            $"harbour-days-{Nights.On(21)}: {{from: {Nights.On(21)}, to: {Nights.On(35)}, why: \"Harbour days\"}}",
            freeze.Line()
        );
    }

    [Fact]
    public void Moments_are_written_in_the_estates_zone()
    {
        // In June London is an hour ahead of UTC; Athens two ahead of London.
        Assert.Equal(
            $"regatta-{Nights.On(188)}: {{from: \"{Nights.On(188)} 10:00\", "
                + $"to: \"{Nights.On(188)} 19:30\", why: \"Regatta\"}}",
            Assert
                .Single(
                    Read($"SUMMARY:Regatta\nDTSTART:{Nights.Compact(188)}T090000Z\nDTEND:{Nights.Compact(188)}T183000Z")
                )
                .Line()
        );
        Assert.Equal(
            Nights.At(41, 8).DateTime,
            Assert
                .Single(
                    Read(
                        $"SUMMARY:x\nDTSTART;TZID=Europe/Athens:{Nights.Compact(41)}T100000\n"
                            + $"DTEND;TZID=Europe/Athens:{Nights.Compact(41)}T110000"
                    )
                )
                .From
        );
    }

    [Fact]
    public void Repetitions_count_by_themselves_and_what_is_over_is_left_out()
    {
        var monthly = Read(
            $"SUMMARY:Month's end\nDTSTART;VALUE=DATE:{MonthsEnd(1):yyyyMMdd}\n"
                + $"DTEND;VALUE=DATE:{MonthsEnd(1).AddDays(1):yyyyMMdd}\n"
                + "RRULE:FREQ=MONTHLY;BYMONTHDAY=-1;COUNT=14"
        );
        Assert.Equal([.. new[] { 11, 12, 13, 14 }.Select(MonthsEnd)], monthly.Select(f => f.From));
        Assert.Equal($"month-s-end-{Nights.Written(DateOnly.FromDateTime(MonthsEnd(11)))}", monthly[0].Id);
        Assert.Empty(
            Read($"SUMMARY:gone\nDTSTART;VALUE=DATE:{Nights.Compact(-332)}\nDTEND;VALUE=DATE:{Nights.Compact(-331)}")
        );
    }

    [Fact]
    public void Names_are_told_apart_and_signs_do_no_harm()
    {
        var two = Read(
            $"SUMMARY:A \\\"quoted\\\" day: yes\nDTSTART;VALUE=DATE:{Nights.Compact(21)}",
            $"SUMMARY:A \\\"quoted\\\" day: yes\nDTSTART;VALUE=DATE:{Nights.Compact(21)}"
        );
        Assert.Equal(2, two.Select(f => f.Id).Distinct().Count());
        const string estate =
            "tidestep: estate/1\nestate: {id: t, zone: Europe/London}\n"
            + "sites: {s: {}}\nnodes: {n1: {site: s}}\ncomponents: {app: {product: p, members: [n1]}}\n";
        var written = Freeze.Into(estate, "e.yaml", [.. two]);
        Assert.Empty(written.Problems);
        Assert.Equal(
            two.Select(f => f.Why),
            EstateDocument.Read(written.Value!, "e.yaml").Value!.Freezes.Select(f => f.Why)
        );
        Assert.Equal(
            3,
            EstateDocument
                .Read(Freeze.Into(written.Value!, "e.yaml", [two[0] with { Id = "third" }]).Value!, "e.yaml")
                .Value!.Freezes.Length
        );
    }

    [Theory]
    [InlineData("this is no calendar")]
    [InlineData("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nEND:VCALENDAR\r\n")]
    [InlineData("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:x\r\n")]
    public void What_is_no_calendar_is_refused_with_its_name(string text)
    {
        var read = CalendarFile.Freezes("c.ics", text, London, Nights.Day(-9));
        Assert.Null(read.Value);
        Assert.Equal("c.ics", Assert.Single(read.Problems).At!.File);
    }

    [Theory]
    [InlineData("FREQ=SECONDLY")]
    [InlineData("FREQ=MINUTELY;INTERVAL=7")]
    [InlineData("FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30")]
    public void An_event_that_repeats_without_end_is_refused_before_it_is_gone_through(string rule)
    {
        var read = CalendarFile.Freezes(
            "c.ics",
            Calendar($"SUMMARY:tick\nDTSTART:{Nights.Compact(-2500)}T000000Z\nDURATION:PT1S\nRRULE:{rule}"),
            London,
            Nights.Day(-9)
        );
        Assert.Contains("'tick' repeats too often to be a freeze", Assert.Single(read.Problems).What);
    }

    [Fact]
    public void An_event_that_never_comes_freezes_nothing() =>
        Assert.DoesNotContain(
            Read(
                $"SUMMARY:never\nDTSTART:{Nights.Compact(-301)}T000000Z\nDURATION:PT1H\n"
                    + "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"
            ),
            f => f.From.Year >= Nights.Sunday.Year
        );
}
