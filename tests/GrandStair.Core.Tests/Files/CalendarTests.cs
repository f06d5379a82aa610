using GrandStair.Core.Waves;
using GrandStair.Files;
using GrandStair.Files.Calendars;
using NodaTime;
using Xunit;

namespace GrandStair.Core.Tests.Files;

public sealed class CalendarTests
{
    /// <summary>
    /// The examples of RFC 5545 §3.8.5.3, all of which begin on 2 September 1997 at 9:00 in New York unless said otherwise; what is
    /// expected are the first days, as month/day. The hourly one has the end that erratum 3883 gives it.
    /// </summary>
    [Theory]
    [InlineData("FREQ=DAILY;COUNT=10", "9/2 9/3 9/4 9/5 9/6 9/7 9/8 9/9 9/10 9/11")]
    [InlineData("FREQ=DAILY;INTERVAL=2", "9/2 9/4 9/6 9/8 9/10 9/12 9/14 9/16 9/18 9/20 9/22 9/24 9/26 9/28 9/30 10/2")]
    [InlineData("FREQ=DAILY;INTERVAL=10;COUNT=5", "9/2 9/12 9/22 10/2 10/12")]
    [InlineData("FREQ=WEEKLY;COUNT=10", "9/2 9/9 9/16 9/23 9/30 10/7 10/14 10/21 10/28 11/4")]
    [InlineData(
        "FREQ=WEEKLY;UNTIL=19971224T000000Z",
        "9/2 9/9 9/16 9/23 9/30 10/7 10/14 10/21 10/28 11/4 11/11 11/18 11/25 12/2 12/9 12/16 12/23"
    )]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;WKST=SU", "9/2 9/16 9/30 10/14 10/28 11/11 11/25")]
    [InlineData("FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH", "9/2 9/4 9/9 9/11 9/16 9/18 9/23 9/25 9/30 10/2")]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "9/2 9/4 9/16 9/18 9/30 10/2 10/14 10/16")]
    [InlineData("FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "9/5 10/3 11/7 12/5", "19970905T090000")]
    [InlineData("FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "9/7 9/28 11/2 11/30", "19970907T090000")]
    [InlineData("FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "9/22 10/20 11/17 12/22", "19970922T090000")]
    [InlineData("FREQ=MONTHLY;BYMONTHDAY=-3", "9/28 10/29 11/28 12/29", "19970928T090000")]
    [InlineData("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15", "9/2 9/15 10/2 10/15 11/2 11/15 12/2 12/15")]
    [InlineData("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1", "9/30 10/1 10/31 11/1 11/30 12/1 12/31", "19970930T090000")]
    [InlineData("FREQ=MONTHLY;INTERVAL=2;BYDAY=TU", "9/2 9/9 9/16 9/23 9/30 11/4 11/11 11/18 11/25")]
    [InlineData("FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "9/13 10/11 11/8 12/13", "19970913T090000")]
    [InlineData("FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "9/4 10/7 11/6", "19970904T090000")]
    [InlineData("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "9/29 10/30 11/27 12/30", "19970929T090000")]
    [InlineData("FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T210000Z", "9/2 9/2 9/2")]
    [InlineData("FREQ=MINUTELY;INTERVAL=90;COUNT=4", "9/2 9/2 9/2 9/2")]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "8/5 8/10 8/19 8/24", "19970805T090000")]
    [InlineData("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "8/5 8/17 8/19 8/31", "19970805T090000")]
    [InlineData("FREQ=YEARLY;BYDAY=20MO;COUNT=3", "5/19 5/18 5/17", "19970519T090000")]
    [InlineData("FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO;COUNT=3", "5/12 5/11 5/17", "19970512T090000")]
    public void The_examples_of_the_standard_fall_on_the_days_that_it_says(string rule, string days, string start = "19970902T090000")
    {
        var found = Parse($"DTSTART;TZID=America/New_York:{start}\nDURATION:PT1H\nRRULE:{rule}")
            .Between(Utc(1997, 1, 1), Utc(2000, 1, 1), DateTimeZone.Utc)
            .Select(s => s.From)
            .Order()
            .ToArray();
        var expected = days.Split(' ');
        Assert.Equal(expected, found.Take(expected.Length).Select(f => $"{NewYork(f).Month}/{NewYork(f).Day}"));
        if (!rule.Contains("HOURLY", StringComparison.Ordinal) && !rule.Contains("MINUTELY", StringComparison.Ordinal))
            Assert.All(found, f => Assert.Equal(9, NewYork(f).Hour));
    }

    [Fact]
    public void Days_that_are_left_out_or_added_and_single_ones_that_were_moved_are_heeded()
    {
        var calendar = CalendarFile.Parse(
            """
            BEGIN:VCALENDAR
            VERSION:2.0
            PRODID:-//Northmere Ferries//berths//EN
            BEGIN:VEVENT
            UID:kittiwake
            DTSTART;TZID=Europe/London:20270320T184000
            DTEND;TZID=Europe/London:20270321T041000
            RRULE:FREQ=WEEKLY;COUNT=4
            EXDATE;TZID=Europe/London:20270403T184000
            RDATE;TZID=Europe/London:20270405T200000
            END:VEVENT
            BEGIN:VEVENT
            UID:kittiwake
            RECURRENCE-ID;TZID=Europe/London:20270410T184000
            DTSTART;TZID=Europe/London:20270411T190000
            DTEND;TZID=Europe/London:20270411T230000
            END:VEVENT
            BEGIN:VEVENT
            UID:cancelled
            STATUS:CANCELLED
            DTSTART:20270325T100000Z
            DTEND:20270325T120000Z
            END:VEVENT
            END:VCALENDAR
            """,
            "berths.ics"
        );
        var found = calendar.Between(Utc(2027, 3, 1), Utc(2027, 5, 1), DateTimeZone.Utc).OrderBy(s => s.From).ToArray();
        // Summer time begins in the second night. An event that says its end lasts equally long each time (RFC 5545 §3.8.5.3), so it ends
        // an hour later in local time.
        Assert.Equal(
            [
                new(Utc(2027, 3, 20, 18, 40), Utc(2027, 3, 21, 4, 10)),
                new(Utc(2027, 3, 27, 18, 40), Utc(2027, 3, 28, 4, 10)),
                new(Utc(2027, 4, 5, 19), Utc(2027, 4, 6, 4, 30)),
                new(Utc(2027, 4, 11, 18), Utc(2027, 4, 11, 22)),
            ],
            found
        );
    }

    [Theory]
    [InlineData("DTSTART;VALUE=DATE:20270328\nDTEND;VALUE=DATE:20270329", 0, 23)]
    [InlineData("DTSTART;VALUE=DATE:20271031", 0, 25)]
    [InlineData("DTSTART:20270615T090000\nDTEND:20270615T170000", 8, 8)]
    [InlineData("DTSTART:20270615T090000Z\nDURATION:PT8H", 9, 8)]
    public void Whole_days_and_times_without_a_zone_are_meant_where_the_machines_stand(string lines, int hourUtc, int hours)
    {
        var stretch = Parse(lines).Between(Utc(2027, 1, 1), Utc(2028, 1, 1), DateTimeZoneProviders.Tzdb["Europe/London"]).Single();
        Assert.Equal(
            (hourUtc, hours),
            (lines.Contains("1031", StringComparison.Ordinal) ? 0 : stretch.From.Hour, (int)(stretch.To - stretch.From).TotalHours)
        );
    }

    [Fact]
    public void A_calendar_is_evaluated_no_longer_than_its_caller_waits()
    {
        var calendar = Parse("DTSTART:20270101T080000Z\nDURATION:PT15M\nRRULE:FREQ=HOURLY");
        Assert.Throws<OperationCanceledException>(() =>
            calendar.EvaluateBetween(Utc(2027, 1, 1), Utc(2027, 12, 1), DateTimeZone.Utc, new CancellationToken(canceled: true)).Count()
        );
        // Nothing of the evaluation that was given up is kept.
        Assert.Equal(
            24,
            calendar.EvaluateBetween(Utc(2027, 3, 1), Utc(2027, 3, 2), DateTimeZone.Utc, TestContext.Current.CancellationToken).Count()
        );
    }

    /// <summary>What other programs write, which the standard allows; what is expected are the begins and ends within 2027, UTC.</summary>
    [Theory]
    [InlineData(
        "DTSTART;TZID=W. Europe Standard Time:20270615T200000\nDTEND;TZID=W. Europe Standard Time:20270615T230000",
        "06-15 18:00-21:00"
    )]
    [InlineData("DTSTART;tzid=europe/london:20270615T200000\nDTEND;tzid=europe/london:20270615T230000", "06-15 19:00-22:00")]
    [InlineData("DTSTART;TZID=\"/citadel.org/20260101_1/Europe/London\":20270615T200000\nDURATION:PT1H", "06-15 19:00-20:00")]
    [InlineData("DTSTART:20270615T200000Z\nDURATION:PT1H\nSTATUS:cancelled", "")]
    // The hour that comes twice: the first of them is meant. What begins before it and says its end lasts so long in truth.
    [InlineData("DTSTART;TZID=Europe/London:20271031T013000\nDURATION:PT1H", "10-31 00:30-01:30")]
    [InlineData("DTSTART;TZID=Europe/London:20271031T003000\nDTEND;TZID=Europe/London:20271031T013000", "10-30 23:30-00:30")]
    [InlineData("DTSTART;TZID=Europe/London:20271031T003000\nDTEND;TZID=Europe/London:20271031T023000", "10-30 23:30-02:30")]
    [InlineData("DTSTART;TZID=Europe/London:20270328T013000\nDURATION:PT1H", "03-28 01:30-02:30")]
    [InlineData("DTSTART;TZID=Europe/London:20270327T200000\nDURATION:P1D", "03-27 20:00-19:00")]
    [InlineData(
        "DTSTART:20270110T190000Z\nDTEND:20270110T200000Z\nRDATE;VALUE=PERIOD:20270112T190000Z/PT3H,20270113T190000Z/20270113T193000Z",
        "01-10 19:00-20:00 01-12 19:00-22:00 01-13 19:00-19:30"
    )]
    [InlineData(
        "DTSTART;TZID=Europe/London:20270601T200000\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=3\nEXDATE:20270602T190000Z",
        "06-01 19:00-20:00 06-03 19:00-20:00"
    )]
    public void What_other_programs_write_is_understood(string lines, string expected) => Assert.Equal(expected, Shown(Parse(lines)));

    [Theory]
    [InlineData(
        "RECURRENCE-ID:20270602T190000Z\nDTSTART;TZID=Europe/London:20270602T210000\nDURATION:PT2H",
        "06-01 19:00-20:00 06-02 20:00-22:00 06-03 19:00-20:00 06-04 19:00-20:00"
    )]
    [InlineData(
        "RECURRENCE-ID;TZID=America/New_York:20270602T150000\nDTSTART;TZID=Europe/London:20270602T210000\nDURATION:PT2H",
        "06-01 19:00-20:00 06-02 20:00-22:00 06-03 19:00-20:00 06-04 19:00-20:00"
    )]
    [InlineData(
        "RECURRENCE-ID;RANGE=THISANDFUTURE;TZID=Europe/London:20270602T200000\nDTSTART;TZID=Europe/London:20270602T213000\nDURATION:PT2H",
        "06-01 19:00-20:00 06-02 20:30-22:30 06-03 20:30-22:30 06-04 20:30-22:30"
    )]
    [InlineData(
        "RECURRENCE-ID;RANGE=THISANDFUTURE:20270603T190000Z\nDTSTART;TZID=Europe/London:20270605T080000\nDURATION:PT2H",
        "06-01 19:00-20:00 06-02 19:00-20:00 06-05 07:00-09:00 06-06 07:00-09:00"
    )]
    [InlineData(
        "RECURRENCE-ID;RANGE=THISANDFUTURE;TZID=Europe/London:20270603T200000\nDTSTART;TZID=Europe/London:20270603T200000\n"
            + "STATUS:CANCELLED",
        "06-01 19:00-20:00 06-02 19:00-20:00"
    )]
    public void One_occurrence_or_all_that_follow_can_be_moved_by_any_clock(string moved, string expected) =>
        Assert.Equal(
            expected,
            Shown(
                CalendarFile.Parse(
                    $"BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//test//EN\nBEGIN:VEVENT\nUID:one\\, two\n"
                        + $"DTSTART;TZID=Europe/London:20270601T200000\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=4\nEND:VEVENT\n"
                        + $"BEGIN:VEVENT\nUID:one\\, two\n{moved}\nEND:VEVENT\nEND:VCALENDAR\n",
                    "test.ics"
                )
            )
        );

    /// <summary>Zones by names of a program's own, with their rules beside them.</summary>
    [Theory]
    [InlineData(
        "16011028T030000\nRRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10",
        "+0200",
        "+0100",
        "16010325T020000\nRRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=3",
        "01-15 19:00-20:00 07-15 18:00-19:00"
    )]
    [InlineData(
        "20071104T020000\nRRULE:FREQ=YEARLY;BYMONTH=11;BYDAY=1SU",
        "-0400",
        "-0500",
        "20070311T020000\nRRULE:FREQ=YEARLY;BYMONTH=3;BYDAY=2SU",
        "01-16 01:00-02:00 07-16 00:00-01:00"
    )]
    public void A_zone_with_a_name_of_its_own_counts_by_its_rules(
        string standard,
        string summer,
        string winter,
        string daylight,
        string expected
    )
    {
        var zone =
            $"BEGIN:VTIMEZONE\nTZID:Harbour time\nBEGIN:STANDARD\nDTSTART:{standard}\nTZOFFSETFROM:{summer}\nTZOFFSETTO:{winter}\n"
            + $"END:STANDARD\nBEGIN:DAYLIGHT\nDTSTART:{daylight}\nTZOFFSETFROM:{winter}\nTZOFFSETTO:{summer}\nEND:DAYLIGHT\n"
            + $"END:VTIMEZONE\n";
        Assert.Equal(
            expected,
            Shown(
                CalendarFile.Parse(
                    $"BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//test//EN\n{zone}BEGIN:VEVENT\nUID:one\nDTSTART;TZID=Harbour "
                        + $"time:20270115T200000\nDURATION:PT1H\nRRULE:FREQ=MONTHLY;INTERVAL=6;COUNT=2\nEND:VEVENT\nEND:VCALENDAR\n",
                    "test.ics"
                )
            )
        );
    }

    [Theory]
    [InlineData("BEGIN:VEVENT\nUID:one\nDTSTART:20270101T080000Z\nDURATION:PT1H\n", "VEVENT has no end", 2)]
    [InlineData("BEGIN:VEVENT\nUID:one\nDTSTART:20270101T080000Z\nDURATION:PT1H\nEND:VCALENDAR\n", "expected END:VEVENT first", 6)]
    [InlineData("END:VCALENDAR\nBEGIN:VEVENT\nUID:one\nEND:VEVENT\nEND:VCALENDAR\n", "ends nothing that has begun", 6)]
    public void What_has_no_end_or_ends_something_else_is_named_with_its_line(string rest, string why, int line)
    {
        var error = Assert.Throws<FileException>(() => CalendarFile.Parse("BEGIN:VCALENDAR\n" + rest, "test.ics"));
        Assert.Contains(why, error.Message, StringComparison.Ordinal);
        Assert.Equal(line, error.Problems[0].Line);
    }

    /// <summary>Rules of zones are evaluated too, and are as little trusted as those of events.</summary>
    [Fact]
    public void A_zone_whose_rules_recur_every_second_is_not_evaluated()
    {
        var zones = string.Concat(
            Enumerable
                .Range(0, 2000)
                .Select(i =>
                    $"BEGIN:VTIMEZONE\nTZID:Z{i}\nBEGIN:STANDARD\nDTSTART:19700101T000000\nTZOFFSETFROM:+0100\nTZOFFSETTO:+0200\n"
                    + $"RRULE:FREQ={(i % 2 == 0 ? "SECONDLY" : "YEARLY")}\nEND:STANDARD\nEND:VTIMEZONE\n"
                )
        );
        var events = string.Concat(
            Enumerable.Range(0, 2000).Select(i => $"BEGIN:VEVENT\nUID:{i}\nDTSTART;TZID=Z{i}:20270101T080000\nDURATION:PT1H\nEND:VEVENT\n")
        );
        var error = Assert.Throws<FileException>(() =>
            CalendarFile.Parse($"BEGIN:VCALENDAR\nVERSION:2.0\n{zones}{events}END:VCALENDAR\n", "test.ics")
        );
        Assert.Contains("its time zone 'Z0' is not known", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void An_event_that_began_long_before_the_span_and_still_lasts_counts()
    {
        Assert.Single(
            Parse("DTSTART:20261220T000000Z\nDTEND:20270110T000000Z").Between(Utc(2027, 1, 5), Utc(2027, 1, 6), DateTimeZone.Utc)
        );
        Assert.Single(
            Parse("DTSTART:20260801T000000Z\nDTEND:20270110T000000Z").Between(Utc(2027, 1, 5), Utc(2027, 1, 6), DateTimeZone.Utc)
        );
    }

    [Theory]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:PT1S\nRRULE:FREQ=SECONDLY", "recurs more often than every 15 minutes")]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:PT1S\nRRULE:FREQ=MINUTELY;INTERVAL=2", "recurs more often than every 15 minutes")]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30", "never happens")]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:PT1H\nRRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "never happens")]
    [InlineData("DTSTART:20270101T080000Z\nDTEND:20261231T080000Z", "DTEND is before DTSTART")]
    [InlineData("DTSTART;VALUE=DATE:20270101\nDTEND:20270102T080000Z", "expected both of one kind")]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:-PT1H", "DURATION is negative")]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:1 hour", "'1 hour' is not a DURATION", 8)]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:PT", "'PT' is not a DURATION", 8)]
    [InlineData(
        "DTSTART:20270101T080000Z\nDURATION:PT1H\nRDATE;VALUE=PERIOD:20270105T080000Z",
        "This RDATE has a value that is not a period",
        9
    )]
    [InlineData(
        "RECURRENCE-ID;RANGE=THISANDFUTURE:20270105T080000Z\nDTSTART:20270101T080000Z\nDURATION:PT1H",
        "moves the rest of a series",
        7
    )]
    [InlineData("DTSTART:20270101T080000Z\nDTEND:20290102T080000Z", "expected at most 366")]
    [InlineData("DTSTART:20270101T080000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;INTERVAL=0", "cannot be read from here on")]
    [InlineData("DTSTART:18270101T080000Z\nDURATION:PT15M\nRRULE:FREQ=MINUTELY;INTERVAL=15", "more than 2,000,000 instants")]
    public void An_event_that_cannot_be_evaluated_or_not_in_a_bounded_time_is_refused_with_its_line(string lines, string why, int line = 4)
    {
        var error = Assert.Throws<FileException>(() => Parse(lines));
        Assert.Contains(why, error.Message, StringComparison.Ordinal);
        Assert.Equal(line, error.Problems[0].Line);
    }

    [Fact]
    public void A_rule_with_thousands_of_times_a_day_is_refused()
    {
        var all = string.Join(',', Enumerable.Range(0, 60));
        var error = Assert.Throws<FileException>(() =>
            Parse($"DTSTART:20270101T080000Z\nDURATION:PT1H\nRRULE:FREQ=YEARLY;BYMINUTE={all};BYSECOND={all}")
        );
        Assert.Contains("3600 times a day", error.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("name,site\na,b", "expected the iCalendar format")]
    [InlineData("BEGIN:VCALENDAR\nVERSION:2.0\nEND:VCALENDAR", "has no events")]
    [InlineData("BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nSUMMARY:berth\nEND:VEVENT\nEND:VCALENDAR", "it has no DTSTART")]
    [InlineData(
        "BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nDTSTART;TZID=Atlantis/Deep:20270101T000000\nEND:VEVENT\nEND:VCALENDAR",
        "time zone 'Atlantis/Deep' is not known"
    )]
    [InlineData("BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nDTSTART:tomorrow\nEND:VEVENT\nEND:VCALENDAR", "")]
    public void What_is_no_calendar_is_refused(string text, string why)
    {
        var error = Assert.Throws<FileException>(() => CalendarFile.Parse(text, "berths.ics"));
        Assert.Contains(why, error.Message, StringComparison.Ordinal);
        Assert.Contains("berths.ics", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void What_we_write_we_read_and_nothing_in_a_name_breaks_out_of_its_line()
    {
        var hostile = "deck-1, the \"first\"; \\ne\nEND:VEVENT\u001b[31m " + new string('ö', 60);
        var text = CalendarWriter.Write(
            "Pilot",
            [
                new("m1@winter", Utc(2027, 1, 12, 19), Utc(2027, 1, 12, 20), hostile, "by image", "Westhaven")
                {
                    Changes = 2,
                    Changed = Utc(2027, 1, 1),
                },
            ]
        );
        Assert.Equal(
            new Stretch(Utc(2027, 1, 12, 19), Utc(2027, 1, 12, 20)),
            CalendarFile.Parse(text, "own").Between(Utc(2027, 1, 1), Utc(2027, 2, 1), DateTimeZone.Utc).Single()
        );
        Assert.DoesNotContain('\u001b', text);
        Assert.All(text.Split("\r\n"), line =>
            Assert.True(System.Text.Encoding.UTF8.GetByteCount(line) <= 75 && !line.Contains('\n', StringComparison.Ordinal))
        );
        Assert.Equal(1, text.Split("\r\n").Count(l => l == "END:VEVENT"));
    }

    private static string Shown(CalendarFile calendar) =>
        string.Join(
            ' ',
            calendar
                .Between(Utc(2027, 1, 1), Utc(2028, 1, 1), DateTimeZone.Utc)
                .OrderBy(s => s.From)
                .Select(s => $"{s.From:MM-dd HH:mm}-{s.To:HH:mm}")
        );

    private static CalendarFile Parse(string lines) =>
        CalendarFile.Parse(
            $"BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//test//EN\nBEGIN:VEVENT\nUID:one\nDTSTAMP:20270101T000000Z\n{lines}\nEND:VEVENT\n"
                + $"END:VCALENDAR\n",
            "test.ics"
        );

    private static ZonedDateTime NewYork(DateTimeOffset t) =>
        Instant.FromDateTimeOffset(t).InZone(DateTimeZoneProviders.Tzdb["America/New_York"]);

    private static DateTimeOffset Utc(int year, int month, int day, int hour = 0, int minute = 0) =>
        new(year, month, day, hour, minute, 0, TimeSpan.Zero);
}
