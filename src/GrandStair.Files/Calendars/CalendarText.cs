using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using NodaTime;
using NodaTime.Text;

namespace GrandStair.Files.Calendars;

/// <summary>
/// That an occurrence of a recurring event and all that follow it were moved (RFC 5545 §3.2.13, <c>RANGE=THISANDFUTURE</c>).
/// </summary>
/// <param name="Event">The place among the calendar's events, from 0, of the one that moves them.</param>
/// <param name="After">The occurrence that was moved, by the event's own clock; it is in the calendar itself, those after it are moved by
/// this.</param>
/// <param name="By">By how much, by the event's clock.</param>
internal sealed record CalendarShift(int Event, LocalDateTime After, Period By);

/// <summary>A calendar's text as the library reads it rightly.</summary>
/// <param name="Text">The text.</param>
/// <param name="Lines">By event, in order, the line of the file on which it begins.</param>
/// <param name="Shifts">Series that were moved from one occurrence on.</param>
/// <param name="Problems">What cannot be used, with its line.</param>
internal sealed record ReadableCalendar(
    string Text,
    ImmutableArray<int> Lines,
    ImmutableArray<CalendarShift> Shifts,
    ImmutableArray<FileProblem> Problems
);

/// <summary>
/// Rewrites a calendar as the library understands it. Programs write zones by their own names, name an occurrence in another zone than its
/// event, add periods, move the rest of a series, and write parameters in small letters, all of which the standard allows and the library
/// refuses, or reads as something else.
/// </summary>
internal static partial class CalendarText
{
    private static readonly LocalDateTimePattern TimePattern = LocalDateTimePattern.CreateWithInvariantCulture("uuuuMMdd'T'HHmmss");
    private static readonly LocalDatePattern DatePattern = LocalDatePattern.CreateWithInvariantCulture("uuuuMMdd");
    private static readonly string[] Times = ["DTSTART", "DTEND", "RECURRENCE-ID", "EXDATE", "RDATE"];

    /// <summary>The readable form of a text.</summary>
    public static ReadableCalendar Read(string text, string file)
    {
        var problems = ImmutableArray.CreateBuilder<FileProblem>();
        var (zones, events, rest) = Split(text, file, problems);
        var named = events.Select(e => e with { Properties = [.. e.Properties.Select(p => Named(p, zones))] }).ToArray();
        // An occurrence is named by the clock of the event that it belongs to.
        var series = named
            .Where(e => e.Find("RECURRENCE-ID") is null && e.Find("UID") is not null)
            .GroupBy(e => e.Find("UID")!.Value)
            .ToDictionary(g => g.Key, g => g.First().Find("DTSTART"), StringComparer.Ordinal);
        var shifts = ImmutableArray.CreateBuilder<CalendarShift>();
        var lines = ImmutableArray.CreateBuilder<int>();
        var written = new StringBuilder("BEGIN:VCALENDAR\n");
        foreach (var property in rest)
            written.Append(property.Written).Append('\n');
        foreach (var one in named)
        {
            foreach (var duration in one.Properties.Where(p => p.Name == "DURATION" && !Duration().IsMatch(p.Value)))
                problems.Add(
                    new(file, duration.Line, 0, $"'{duration.Value}' is not a DURATION; expected a length of time such as PT1H30M or P2D.")
                );
            var start = one.Find("UID") is { } uid && series.TryGetValue(uid.Value, out var first) ? first : null;
            var properties = one
                .Properties.Select(p => start is not null && p.Name is "RECURRENCE-ID" or "EXDATE" ? ByClockOf(p, start!) : p)
                .ToList();
            if (properties.Find(p => p.Name == "RECURRENCE-ID" && p.Parameter("RANGE")?.ToUpperInvariant() == "THISANDFUTURE") is { } moved)
            {
                if (start is not null && Moved(one, moved, start, lines.Count) is { } shift)
                    shifts.Add(shift);
                else
                    problems.Add(
                        new(
                            file,
                            moved.Line,
                            0,
                            "It moves the rest of a series (RANGE=THISANDFUTURE) that is not in this calendar, or by an unknown clock; "
                                + "expected the series with the same UID, and times in one zone."
                        )
                    );
            }

            properties = [.. properties.Select(p => p.Name == "RECURRENCE-ID" ? p.With("RANGE", null) : p)];
            var periods = properties.Where(p => p.Name == "RDATE" && p.Parameter("VALUE")?.ToUpperInvariant() == "PERIOD").ToArray();
            Write(written, lines, one.Line, properties.Except(periods));
            // Each period that was added is as long as it says, and not as its series.
            foreach (
                var (period, line) in periods
                    .SelectMany(p => p.Value.Split(',').Select(v => (Property: p, Text: v.Trim(), p.Line)))
                    .Select(p => (Period(p.Property, p.Text), p.Line))
            )
            {
                if (period is { } own)
                    Write(written, lines, line, own);
                else
                    problems.Add(
                        new(
                            file,
                            line,
                            0,
                            "This RDATE has a value that is not a period; expected a begin and an end or a duration, such as "
                                + "20270110T190000Z/PT3H."
                        )
                    );
            }
        }

        return new(written.Append("END:VCALENDAR\n").ToString(), lines.ToImmutable(), shifts.ToImmutable(), problems.ToImmutable());
    }

    /// <summary>
    /// The zones, the events, and what else stands in the calendar itself. What lies within other components says nothing of when.
    /// </summary>
    private static (CalendarZones Zones, List<Event> Events, List<CalendarProperty> Others) Split(
        string text,
        string file,
        ImmutableArray<FileProblem>.Builder problems
    )
    {
        var (zones, events, rest) = (new CalendarZones(), new List<Event>(), new List<CalendarProperty>());
        var (path, own) = (new Stack<(string Name, int Line)>(), new List<CalendarProperty>());
        // A zone is what its parts say; an event's alarms are left out.
        var isZone = false;
        foreach (var property in CalendarLines.Read(text))
        {
            if (property.Name == "BEGIN")
            {
                path.Push((property.Value.Trim().ToUpperInvariant(), property.Line));
                if (path.Count <= 2)
                    (own, isZone) = ([], path.Peek().Name == "VTIMEZONE");
                else if (isZone)
                    own.Add(property);
            }
            else if (property.Name == "END")
            {
                var name = property.Value.Trim().ToUpperInvariant();
                if (!path.TryPop(out var ended) || ended.Name != name)
                {
                    problems.Add(
                        new(
                            file,
                            property.Line,
                            0,
                            ended.Name is null
                                ? $"END:{name} ends nothing that has begun."
                                : $"END:{name} is within {ended.Name}, which began on line {ended.Line}; expected END:{ended.Name} first."
                        )
                    );
                    return (zones, events, rest);
                }

                if (path.Count > 1 && isZone)
                    own.Add(property);
                else if (path.Count == 1 && name == "VTIMEZONE")
                    zones.Add(own);
                else if (path.Count == 1 && name == "VEVENT")
                    events.Add(new(ended.Line, [.. own]));
            }
            else if (path.Count == 1)
            {
                rest.Add(property);
            }
            else if (path.Count == 2 || isZone)
            {
                own.Add(property);
            }
        }

        if (path.TryPeek(out var open))
            problems.Add(new(file, open.Line, 0, $"{open.Name} has no end; expected END:{open.Name}. The file may have been cut off."));
        return (zones, events, rest);
    }

    private static CalendarProperty Named(CalendarProperty property, CalendarZones zones)
    {
        if (property.Name == "STATUS")
            return property with { Value = property.Value.Trim().ToUpperInvariant() };
        if (!Times.Contains(property.Name) || property.Parameter("TZID") is not { } zone)
            return property;
        // A time in UTC has no zone beside it (RFC 5545 §3.2.19).
        if (property.Value.EndsWith('Z'))
            return property.With("TZID", null);
        return zones.Find(zone) is { } known ? property.With("TZID", known) : property;
    }

    /// <summary>Times by the clock of an event: in its zone, or as days where it is about days.</summary>
    private static CalendarProperty ByClockOf(CalendarProperty times, CalendarProperty start)
    {
        var zone = ZoneOf(start);
        var days = IsDay(start);
        if (
            IsDay(times)
            || (times.Parameter("TZID") == start.Parameter("TZID") && times.Value.EndsWith('Z') == start.Value.EndsWith('Z') && !days)
        )
            return times;
        var values = times
            .Value.Split(',')
            .Select(v =>
                ToInstant(v.Trim(), times) is { } at && zone is not null ? (LocalDateTime?)at.InZone(zone).LocalDateTime : Local(v.Trim())
            )
            .ToArray();
        if (values.Any(v => v is null))
            return times;
        var written = string.Join(
            ',',
            values.Select(v =>
                days ? DatePattern.Format(v!.Value.Date) : TimePattern.Format(v!.Value) + (start.Value.EndsWith('Z') ? "Z" : "")
            )
        );
        return times.With("TZID", days ? null : start.Parameter("TZID")).With("VALUE", days ? "DATE" : null) with { Value = written };
    }

    private static CalendarShift? Moved(Event one, CalendarProperty moved, CalendarProperty start, int place)
    {
        var clock = ByClockOf(moved.With("RANGE", null), start);
        if (one.Find("DTSTART") is not { } now || Local(clock.Value) is not { } from)
            return null;
        var to = Local(ByClockOf(now, start).Value);
        return to is null ? null : new(place, from, NodaTime.Period.Between(from, to.Value, PeriodUnits.Days | PeriodUnits.AllTimeUnits));
    }

    private static IEnumerable<CalendarProperty>? Period(CalendarProperty of, string text)
    {
        if (text.Split('/') is not [var from, var to] || Local(from) is null)
            return null;
        var start = of.With("VALUE", null) with { Name = "DTSTART", Value = from };
        if (Duration().IsMatch(to))
            return [Uid(of, text), start, new(of.Line, "DURATION", [], to)];
        return Local(to) is null ? null : [Uid(of, text), start, start with { Name = "DTEND", Value = to }];

        static CalendarProperty Uid(CalendarProperty of, string text) =>
            new(of.Line, "UID", [], string.Create(CultureInfo.InvariantCulture, $"period-{of.Line}-{text}"));
    }

    private static void Write(StringBuilder written, ImmutableArray<int>.Builder lines, int line, IEnumerable<CalendarProperty> properties)
    {
        lines.Add(line);
        written.Append("BEGIN:VEVENT\n");
        foreach (var property in properties)
            written.Append(property.Written).Append('\n');
        written.Append("END:VEVENT\n");
    }

    private static bool IsDay(CalendarProperty times) => times.Parameter("VALUE")?.ToUpperInvariant() == "DATE" || times.Value.Length == 8;

    private static DateTimeZone? ZoneOf(CalendarProperty times) =>
        times.Value.EndsWith('Z') ? DateTimeZone.Utc
        : times.Parameter("TZID") is { } id ? DateTimeZoneProviders.Tzdb.GetZoneOrNull(id)
        : null;

    private static Instant? ToInstant(string value, CalendarProperty of)
    {
        var zone = value.EndsWith('Z') ? DateTimeZone.Utc : ZoneOf(of);
        return zone is not null && Local(value) is { } local ? zone.AtLeniently(local).ToInstant() : null;
    }

    private static LocalDateTime? Local(string value)
    {
        var time = TimePattern.Parse(value.TrimEnd('Z'));
        if (time.Success)
            return time.Value;
        var day = DatePattern.Parse(value);
        return day.Success ? day.Value.AtMidnight() : null;
    }

    [GeneratedRegex(@"^[+-]?P(\d+W|(?=.)(\d+D)?(T(?=\d)(\d+H)?(\d+M)?(\d+S)?)?)$")]
    private static partial Regex Duration();

    /// <summary>An event as it stands in the file.</summary>
    /// <param name="Line">The line on which it begins.</param>
    /// <param name="Properties">Its properties.</param>
    private sealed record Event(int Line, ImmutableArray<CalendarProperty> Properties)
    {
        public CalendarProperty? Find(string name) => Properties.FirstOrDefault(p => p.Name == name);
    }
}
