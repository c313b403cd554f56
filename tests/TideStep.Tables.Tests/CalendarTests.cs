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
                    $"BEGIN:VEVENT\r\nUID:e{i}\r\nDTSTAMP:20261101T000000Z\r\n"
                    + $"{e.Replace("\n", "\r\n")}\r\nEND:VEVENT\r\n"
            )
        )
        + "END:VCALENDAR\r\n";

    private static IReadOnlyList<Freeze> Read(params string[] events) =>
        CalendarFile.Freezes("c.ics", Calendar(events), London, new DateOnly(2026, 11, 20)) is { Value: { } read }
            ? read
            : throw new InvalidOperationException();

    [Fact]
    public void Whole_days_end_before_the_day_that_the_calendar_names()
    {
        var freeze = Assert.Single(
            Read("SUMMARY:Harbour days\nDTSTART;VALUE=DATE:20261220\nDTEND;VALUE=DATE:20270104")
        );
        Assert.Equal(
            "harbour-days-2026-12-20: {from: 2026-12-20, to: 2027-01-03, why: \"Harbour days\"}",
            freeze.Line()
        );
    }

    [Fact]
    public void Moments_are_written_in_the_estates_zone()
    {
        // In June London is an hour ahead of UTC; Athens two ahead of London.
        Assert.Equal(
            "regatta-2027-06-05: {from: \"2027-06-05 10:00\", to: \"2027-06-05 19:30\", why: \"Regatta\"}",
            Assert.Single(Read("SUMMARY:Regatta\nDTSTART:20270605T090000Z\nDTEND:20270605T183000Z")).Line()
        );
        Assert.Equal(
            new DateTime(2027, 1, 9, 8, 0, 0),
            Assert
                .Single(
                    Read(
                        "SUMMARY:x\nDTSTART;TZID=Europe/Athens:20270109T100000\n"
                            + "DTEND;TZID=Europe/Athens:20270109T110000"
                    )
                )
                .From
        );
    }

    [Fact]
    public void Repetitions_count_by_themselves_and_what_is_over_is_left_out()
    {
        var monthly = Read(
            "SUMMARY:Month's end\nDTSTART;VALUE=DATE:20260131\nDTEND;VALUE=DATE:20260201\n"
                + "RRULE:FREQ=MONTHLY;BYMONTHDAY=-1;COUNT=14"
        );
        Assert.Equal(
            [
                new DateTime(2026, 11, 30),
                new DateTime(2026, 12, 31),
                new DateTime(2027, 1, 31),
                new DateTime(2027, 2, 28),
            ],
            monthly.Select(f => f.From)
        );
        Assert.Equal("month-s-end-2026-11-30", monthly[0].Id);
        Assert.Empty(Read("SUMMARY:gone\nDTSTART;VALUE=DATE:20260101\nDTEND;VALUE=DATE:20260102"));
    }

    [Fact]
    public void Names_are_told_apart_and_signs_do_no_harm()
    {
        var two = Read(
            "SUMMARY:A \\\"quoted\\\" day: yes\nDTSTART;VALUE=DATE:20261220",
            "SUMMARY:A \\\"quoted\\\" day: yes\nDTSTART;VALUE=DATE:20261220"
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
        var read = CalendarFile.Freezes("c.ics", text, London, new DateOnly(2026, 11, 20));
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
            Calendar($"SUMMARY:tick\nDTSTART:20200101T000000Z\nDURATION:PT1S\nRRULE:{rule}"),
            London,
            new DateOnly(2026, 11, 20)
        );
        Assert.Contains("'tick' repeats too often to be a freeze", Assert.Single(read.Problems).What);
    }

    [Fact]
    public void An_event_that_never_comes_freezes_nothing() =>
        Assert.DoesNotContain(
            Read("SUMMARY:never\nDTSTART:20200201T000000Z\nDURATION:PT1H\nRRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"),
            f => f.From.Year > 2020
        );
}
