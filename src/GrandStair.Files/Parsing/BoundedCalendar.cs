using System.Collections.Immutable;
using System.Globalization;
using GrandStair.Files.Calendars;
using Ical.Net;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using NodaTime;
using Calendar = Ical.Net.Calendar;

namespace GrandStair.Files.Parsing;

/// <summary>
/// The only way to a calendar (RFC 5545). The library accepts rules that it then evaluates without end, and events that it cannot
/// evaluate at all; every calendar is checked here before anything else sees it.
/// </summary>
internal static class BoundedCalendar
{
    /// <summary>The longest text, in characters.</summary>
    public const int LongestText = 1 << 20;

    /// <summary>The most events, a recurring one counted once.</summary>
    public const int MostEvents = 10_000;

    /// <summary>
    /// How many instants the recurrence rules of one calendar may have between their beginnings and <see cref="Horizon"/>.
    /// </summary>
    public const long MostInstants = 2_000_000;

    /// <summary>How many steps a rule may take without an occurrence.</summary>
    public const int MostUnmatchedSteps = 1000;

    /// <summary>The longest event.</summary>
    public static readonly TimeSpan LongestEvent = TimeSpan.FromDays(366);

    /// <summary>Until when rules are counted; no plan reaches this far.</summary>
    private static readonly DateTime Horizon = new(2050, 1, 1);

    // How often a day may be divided by BYHOUR, BYMINUTE and BYSECOND together: every quarter of an hour.
    private const int MostTimesADay = 96;
    private const int LeastMinutes = 15;
    private const int MostZoneTimes = 500;
    private const string EventBegins = "BEGIN:VEVENT\n";

    /// <summary>Reads and checks a calendar.</summary>
    /// <exception cref="FileException">It is not a calendar, or an event cannot be used; the error names the line on which the event
    /// begins.</exception>
    public static (Calendar Calendar, ImmutableArray<CalendarShift> Shifts) Load(string text, string file)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (text.Length > LongestText)
            throw Wrong(
                file,
                1,
                $"The file has {text.Length} characters; expected at most {LongestText}. Leave out past events, or split the calendar."
            );
        if (!text.TrimStart('\uFEFF', ' ', '\r', '\n').StartsWith("BEGIN:VCALENDAR", StringComparison.OrdinalIgnoreCase))
            throw Wrong(file, 1, "This is not a calendar; expected the iCalendar format, which begins with BEGIN:VCALENDAR.");
        var readable = CalendarText.Read(text, file);
        var lines = readable.Lines;
        if (lines.Length > MostEvents)
            throw Wrong(
                file,
                lines[MostEvents],
                $"The calendar has {lines.Length} events; expected at most {MostEvents}. Leave out past events, or split the calendar."
            );
        if (!readable.Problems.IsEmpty)
            throw new FileException([.. readable.Problems.Take(Yaml.Problems.MostShown)]);
        var calendar = Parse(readable, file);
        if (calendar is null || calendar.Events.Count == 0)
            throw Wrong(file, 1, "The calendar has no events; expected at least one VEVENT.");
        var problems = new List<FileProblem>();
        long instants = 0;
        foreach (var (e, line) in calendar.Events.Select((e, i) => (e, i < lines.Length ? lines[i] : 1)))
        {
            try
            {
                Check(e);
                instants += Instants(e);
                if (instants > MostInstants)
                    throw new FormatException(
                        $"with it the rules of this calendar have more than "
                            + $"{MostInstants.ToString("N0", CultureInfo.InvariantCulture)} instants; give rules an UNTIL or a later "
                            + $"DTSTART, or let them recur less often"
                    );
            }
            catch (Exception error) when (error is not FormatException and not OutOfMemoryException)
            {
                problems.Add(
                    new(
                        file,
                        line,
                        0,
                        $"Event '{Name(e)}': it cannot be evaluated; check its dates and their time zones, its RRULE, RDATE, EXDATE "
                            + $"and DURATION."
                    )
                );
            }
            catch (FormatException error)
            {
                problems.Add(new(file, line, 0, $"Event '{Name(e)}': {error.Message}."));
            }

            if (problems.Count >= Yaml.Problems.MostShown || instants > MostInstants)
                break;
        }

        return problems.Count == 0 ? (calendar, readable.Shifts) : throw new FileException(problems);
    }

    /// <summary>How long an event lasts; whole days count 24 hours.</summary>
    public static TimeSpan LengthOf(CalendarEvent e)
    {
        ArgumentNullException.ThrowIfNull(e);
        if (e.DtEnd is { } end)
            return end.HasTime && e.DtStart!.HasTime ? end.AsUtc - e.DtStart.AsUtc : end.Value - e.DtStart!.Value;
        if (e.Duration is not { } lasts)
            return e.DtStart!.HasTime ? TimeSpan.Zero : TimeSpan.FromDays(1);
        return lasts.ToTimeSpanUnspecified();
    }

    /// <summary>
    /// The times of a rule of a time zone (VTIMEZONE): the first, and those from a year to another. A clock is put forward and back once a
    /// year each; a rule that recurs more often would be evaluated for ages.
    /// </summary>
    /// <returns>The times in order; null where the rule cannot be read, or is not yearly.</returns>
    public static IReadOnlyList<DateTime>? YearlyTimes(string start, IEnumerable<string> rules, int fromYear, int toYear)
    {
        try
        {
            var rule = Calendar
                .Load(
                    $"BEGIN:VCALENDAR\nVERSION:2.0\n{EventBegins}UID:zone\nDTSTART:{start}\n"
                        + $"{string.Concat(rules.Select(r => $"{r}\n"))}END:VEVENT\nEND:VCALENDAR\n"
                )!
                .Events[0]!;
            if (rule.RecurrenceRule is { Frequency: not FrequencyType.Yearly })
                return null;
            var first = rule.DtStart!.Value;
            var from = first.Year < fromYear ? new CalDateTime(fromYear, 1, 1, 0, 0, 0) : rule.DtStart;
            return
            [
                first,
                .. rule.GetOccurrences(from, new() { MaxUnmatchedIncrementsLimit = MostUnmatchedSteps })
                    .Select(o => o.Period.StartTime.Value)
                    .TakeWhile(t => t.Year <= toYear)
                    .Take(MostZoneTimes),
            ];
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            return null;
        }
    }

    private static Calendar? Parse(ReadableCalendar readable, string file)
    {
        try
        {
            return Calendar.Load(readable.Text);
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            // The library does not say where it stopped. The first event that it cannot read alone is the place.
            throw Wrong(
                file,
                FirstUnreadable(readable),
                "The calendar cannot be read from here on: a property has a value that RFC 5545 does not allow. Check the dates, the "
                    + "RRULE and the DURATION of this event."
            );
        }
    }

    private static int FirstUnreadable(ReadableCalendar readable)
    {
        foreach (var (own, line) in readable.Text.Split(EventBegins).Skip(1).Zip(readable.Lines))
        {
            try
            {
                Calendar.Load(
                    $"BEGIN:VCALENDAR\nVERSION:2.0\n"
                        + $"{EventBegins}{own[..own.IndexOf("END:VEVENT", StringComparison.Ordinal)]}END:VEVENT\nEND:VCALENDAR\n"
                );
            }
            catch (Exception error) when (error is not OutOfMemoryException)
            {
                return line;
            }
        }

        return 1;
    }

    private static void Check(CalendarEvent e)
    {
        if (e.DtStart is null)
            throw new FormatException("it has no DTSTART; expected when it begins");
        foreach (
            var zone in new[] { e.DtStart.TzId, e.DtEnd?.TzId }
                .OfType<string>()
                .Where(z => z != "UTC" && DateTimeZoneProviders.Tzdb.GetZoneOrNull(z) is null)
        )
            throw new FormatException(
                $"its time zone '{zone}' is not known; expected a name of the IANA database such as Europe/London, or a VTIMEZONE in "
                    + $"the file with the rules of such a zone"
            );
        if (e.DtEnd is { } end && end.HasTime != e.DtStart.HasTime)
            throw new FormatException("DTSTART is a date and DTEND a time, or the other way round; expected both of one kind");
        var lasts = LengthOf(e);
        if (lasts < TimeSpan.Zero)
            throw new FormatException(e.DtEnd is null ? "its DURATION is negative" : "DTEND is before DTSTART");
        if (lasts > LongestEvent)
            throw new FormatException($"it lasts {lasts.TotalDays:0} days; expected at most {LongestEvent.TotalDays:0}");
        if (HasSeveralRules(e))
            throw new FormatException("it has several RRULEs; expected one (RFC 5545 §3.8.5.3). Make an event of each");
        if (e.RecurrenceRule is not { } rule)
            return;
        Check(rule);
        if (!Happens(e))
            throw new FormatException($"its RRULE never happens: {rule}");
    }

#pragma warning disable CS0618 // The list is obsolete since only one rule is allowed; that there are more is what is asked here.
    private static bool HasSeveralRules(CalendarEvent e) => e.RecurrenceRules.Count > 1;
#pragma warning restore CS0618

    private static void Check(RecurrenceRule rule)
    {
        if (rule.Frequency == FrequencyType.Secondly || (rule.Frequency == FrequencyType.Minutely && rule.Interval < LeastMinutes))
            throw new FormatException(
                $"its RRULE recurs more often than every {LeastMinutes} minutes; expected FREQ=MINUTELY;INTERVAL={LeastMinutes} or "
                    + $"less often"
            );
        if (TimesADay(rule) > MostTimesADay)
            throw new FormatException(
                $"its RRULE has {TimesADay(rule)} times a day (BYHOUR, BYMINUTE, BYSECOND); expected at most {MostTimesADay}"
            );
    }

    private static bool Happens(CalendarEvent e)
    {
        try
        {
            return e.GetOccurrences(e.DtStart, new() { MaxUnmatchedIncrementsLimit = MostUnmatchedSteps }).Any();
        }
        catch (Ical.Net.Evaluation.EvaluationLimitExceededException)
        {
            return false;
        }
    }

    /// <summary>An upper estimate of the instants that an event's rules have until the horizon.</summary>
    private static long Instants(CalendarEvent e)
    {
        if (e.RecurrenceRule is not { } r)
            return 1;
        var last = r.Until is { } until && until.Value < Horizon ? until.Value : Horizon;
        var days = Math.Max(0, (last - e.DtStart!.Value).TotalDays);
        var every = Math.Max(1, r.Interval);
        var dates = r.Frequency switch
        {
            FrequencyType.Minutely => 24.0 * 60,
            FrequencyType.Hourly => 24,
            FrequencyType.Daily => 1,
            FrequencyType.Weekly => Math.Max(1, r.ByDay.Count) / 7.0,
            FrequencyType.Monthly => (r.ByDay.Count > 0 ? 31 : Math.Max(1, r.ByMonthDay.Count)) / 30.0,
            _ => r.ByDay.Count + r.ByYearDay.Count + r.ByWeekNo.Count + r.ByMonth.Count > 0 ? 1 : 1 / 365.0,
        };
        var all = days * dates / every * TimesADay(r);
        return (long)(r.Count is { } count && count < all ? count : all) + 1;
    }

    private static int TimesADay(RecurrenceRule rule) =>
        Math.Max(1, rule.ByHour.Count) * Math.Max(1, rule.ByMinute.Count) * Math.Max(1, rule.BySecond.Count);

    private static string Name(CalendarEvent e) =>
        (e.Summary ?? e.Uid ?? "without a name") is { Length: <= 60 } name ? name : "with a long name";

    private static FileException Wrong(string file, int line, string message) => new([new(file, line, 0, message)]);
}
