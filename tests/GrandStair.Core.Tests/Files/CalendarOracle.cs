using System.Globalization;
using GrandStair.Core.Waves;
using NodaTime;

namespace GrandStair.Core.Tests.Files;

/// <summary>
/// Says when the events of a calendar are, from the text of RFC 5545 alone and with none of the code that the product reads calendars with:
/// day by day it asks whether a rule has that day. It knows what the corpus uses and nothing more.
/// </summary>
internal sealed class CalendarOracle
{
    /// <summary>What the zones of the corpus are that are named in a program's own way.</summary>
    private static readonly Dictionary<string, string> Zones = new()
    {
        ["W. Europe Standard Time"] = "Europe/Berlin",
        ["(UTC+01:00) Harbour, Quay"] = "Europe/Berlin",
        ["/northmere.example/20260101_1/America/New_York"] = "America/New_York",
        ["Customized Time Zone"] = "Europe/Berlin",
        ["Head office"] = "America/New_York",
        ["Fixed five"] = "Asia/Tashkent",
    };

    private readonly DateTimeZone _here;
    private readonly List<Event> _events = [];

    private CalendarOracle(string text, DateTimeZone here)
    {
        _here = here;
        var lines = text.Replace("\r\n", "\n", StringComparison.Ordinal).Replace("\n ", "", StringComparison.Ordinal).Split('\n');
        Event? own = null;
        var inner = 0;
        foreach (var line in lines)
        {
            if (line == "BEGIN:VEVENT")
                own = new();
            else if (line == "END:VEVENT")
                _events.Add(own!);
            else if (line.StartsWith("BEGIN:", StringComparison.Ordinal))
                inner++;
            else if (line.StartsWith("END:", StringComparison.Ordinal))
                inner--;
            if (own is null || line is "BEGIN:VEVENT" || inner > 1)
                continue;
            if (line == "END:VEVENT")
                own = null;
            else
                own.Add(line);
        }
    }

    /// <summary>The stretches that begin before a moment and end after another, in order.</summary>
    public static IReadOnlyList<Stretch> Between(string text, DateTimeOffset from, DateTimeOffset to, DateTimeZone here) =>
        [
            .. new CalendarOracle(text, here)
                .All()
                .Where(s => s.From < to && s.To > from && s.From < s.To)
                .OrderBy(s => s.From)
                .ThenBy(s => s.To),
        ];

    private IEnumerable<Stretch> All()
    {
        foreach (var master in _events.Where(e => e.One("RECURRENCE-ID") is null))
        {
            var others = _events
                .Where(e => e.One("RECURRENCE-ID") is not null && e.One("UID")!.Value == master.One("UID")!.Value)
                .ToArray();
            var first = Time(master.One("DTSTART")!);
            Instant Begin(LocalDateTime local) => At(local, ZoneOf(master.One("DTSTART")!));
            LocalDateTime ByMaster(Line line, string value) =>
                line.IsDay ? Local(value) : At(Local(value), ZoneOf(line, value)).InZone(ZoneOf(master.One("DTSTART")!)).LocalDateTime;
            var without = master.Many("EXDATE").SelectMany(x => x.Value.Split(',').Select(v => ByMaster(x, v))).ToHashSet();
            var moved = others.ToDictionary(o => ByMaster(o.One("RECURRENCE-ID")!, o.One("RECURRENCE-ID")!.Value));
            var rests = moved
                .Where(m => m.Value.One("RECURRENCE-ID")!.Text.Contains("THISANDFUTURE", StringComparison.Ordinal))
                .OrderBy(m => m.Key)
                .ToArray();
            var added = master
                .Many("RDATE")
                .Where(r => !r.Text.Contains("PERIOD", StringComparison.Ordinal))
                .SelectMany(r => r.Value.Split(',').Select(Local));
            foreach (var local in Occurrences(master, first).Concat(added).Distinct().Where(o => !without.Contains(o)))
            {
                var (of, start) = (master, local);
                if (moved.TryGetValue(local, out var own))
                    (of, start) = (own, ByMaster(own.One("DTSTART")!, own.One("DTSTART")!.Value));
                else if (rests.LastOrDefault(r => r.Key < local) is { Value: { } rest } last)
                    (of, start) = (rest, local + Period.Between(last.Key, ByMaster(rest.One("DTSTART")!, rest.One("DTSTART")!.Value)));
                if (of.One("STATUS")?.Value.ToUpperInvariant() != "CANCELLED")
                    yield return Stretch(Begin(start), End(of, start, Begin(start)));
            }

            foreach (
                var period in master
                    .Many("RDATE")
                    .Where(r => r.Text.Contains("PERIOD", StringComparison.Ordinal))
                    .SelectMany(r => r.Value.Split(','))
            )
            {
                var parts = period.Split('/');
                var begin = At(Local(parts[0]), DateTimeZone.Utc);
                yield return Stretch(begin, parts[1][0] == 'P' ? begin + Lasts(parts[1]).Exact : At(Local(parts[1]), DateTimeZone.Utc));
            }
        }
    }

    private Instant End(Event of, LocalDateTime start, Instant begin)
    {
        var dtStart = of.One("DTSTART")!;
        if (of.One("DTEND") is { } end)
            return end.IsDay
                ? _here
                    .AtStartOfDay(start.Date + Period.FromDays(Period.DaysBetween(Local(dtStart.Value).Date, Local(end.Value).Date)))
                    .ToInstant()
                : begin + (At(Local(end.Value), ZoneOf(end)) - At(Local(dtStart.Value), ZoneOf(dtStart)));
        if (of.One("DURATION") is not { } duration)
            return dtStart.IsDay ? _here.AtStartOfDay(start.Date.PlusDays(1)).ToInstant() : begin;
        var (days, exact) = Lasts(duration.Value);
        if (dtStart.IsDay)
            return _here.AtStartOfDay(start.Date.PlusDays(days)).ToInstant();
        return days == 0 ? begin + exact : At(start.PlusDays(days), ZoneOf(dtStart)) + exact;
    }

    /// <summary>Every begin that the rule has, by the clock of the event; without a rule the first alone.</summary>
    private IEnumerable<LocalDateTime> Occurrences(Event e, LocalDateTime first)
    {
        if (e.One("RRULE") is not { } line)
            return [first];
        var rule = line.Value.Split(';').Select(p => p.Split('=')).ToDictionary(p => p[0], p => p[1]);
        var until = rule.GetValueOrDefault("UNTIL");
        var count = rule.TryGetValue("COUNT", out var text) ? int.Parse(text, CultureInfo.InvariantCulture) : int.MaxValue;
        var all = rule["FREQ"] == "HOURLY" ? Hours(rule, first) : Days(rule, first.Date).Select(d => d + first.TimeOfDay);
        return all.TakeWhile(o =>
                until is null
                || (until.EndsWith('Z') ? At(o, ZoneOf(e.One("DTSTART")!)) <= At(Local(until), DateTimeZone.Utc) : o <= Local(until))
            )
            .Take(count);
    }

    private static IEnumerable<LocalDateTime> Hours(Dictionary<string, string> rule, LocalDateTime first)
    {
        for (var at = first; at.Year < 2029; at = at.PlusHours(int.Parse(rule["INTERVAL"], CultureInfo.InvariantCulture)))
            yield return at;
    }

    private static IEnumerable<LocalDate> Days(Dictionary<string, string> rule, LocalDate first)
    {
        for (var day = first; day.Year < 2029; day = day.PlusDays(1))
        {
            if (IsOn(rule, first, day) && IsInPosition(rule, first, day))
                yield return day;
        }
    }

    private static bool IsInPosition(Dictionary<string, string> rule, LocalDate first, LocalDate day)
    {
        if (!rule.TryGetValue("BYSETPOS", out var position))
            return true;
        var month = Enumerable
            .Range(1, day.Calendar.GetDaysInMonth(day.Year, day.Month))
            .Select(d => new LocalDate(day.Year, day.Month, d))
            .Where(d => IsOn(rule, first, d))
            .ToArray();
        var at = int.Parse(position, CultureInfo.InvariantCulture);
        return month[at < 0 ? ^-at : at - 1] == day;
    }

    private static bool IsOn(Dictionary<string, string> rule, LocalDate first, LocalDate day)
    {
        var interval = rule.TryGetValue("INTERVAL", out var text) ? int.Parse(text, CultureInfo.InvariantCulture) : 1;
        var days = rule.GetValueOrDefault("BYDAY")?.Split(',');
        var monthDays = rule.GetValueOrDefault("BYMONTHDAY")?.Split(',').Select(d => int.Parse(d, CultureInfo.InvariantCulture)).ToArray();
        if (rule.TryGetValue("BYMONTH", out var months) && !months.Split(',').Contains($"{day.Month}"))
            return false;
        var length = day.Calendar.GetDaysInMonth(day.Year, day.Month);
        if (monthDays is not null && !monthDays.Contains(day.Day) && !monthDays.Contains(day.Day - length - 1))
            return false;
        if (days is not null && !days.Any(d => IsWeekday(d, day, length)))
            return false;
        switch (rule["FREQ"])
        {
            case "DAILY":
                return Period.DaysBetween(first, day) % interval == 0;
            case "WEEKLY":
                var begins = rule.GetValueOrDefault("WKST") == "SU" ? IsoDayOfWeek.Sunday : IsoDayOfWeek.Monday;
                return Period.DaysBetween(Week(first, begins), Week(day, begins)) / 7 % interval == 0
                    && (days is not null || day.DayOfWeek == first.DayOfWeek);
            case "MONTHLY":
                return (((day.Year - first.Year) * 12) + day.Month - first.Month) % interval == 0
                    && (days is not null || monthDays is not null || day.Day == first.Day);
            default:
                return (day.Year - first.Year) % interval == 0 && (days is not null || (day.Month == first.Month && day.Day == first.Day));
        }
    }

    /// <summary>Whether a day is such as <c>MO</c>, or of its month such as <c>2TU</c> or <c>-1FR</c>.</summary>
    private static bool IsWeekday(string text, LocalDate day, int length)
    {
        string[] names = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];
        if (names[(int)day.DayOfWeek - 1] != text[^2..])
            return false;
        if (text.Length == 2)
            return true;
        var which = int.Parse(text[..^2], CultureInfo.InvariantCulture);
        return which > 0 ? ((day.Day - 1) / 7) + 1 == which : ((length - day.Day) / 7) + 1 == -which;
    }

    private static LocalDate Week(LocalDate day, IsoDayOfWeek begins) => day.DayOfWeek == begins ? day : day.Previous(begins);

    private static LocalDateTime Time(Line line) => Local(line.Value);

    private static LocalDateTime Local(string text)
    {
        int Part(int at, int length) => int.Parse(text.AsSpan(at, length), NumberStyles.None, CultureInfo.InvariantCulture);
        return text.Length == 8
            ? new(Part(0, 4), Part(4, 2), Part(6, 2), 0, 0)
            : new(Part(0, 4), Part(4, 2), Part(6, 2), Part(9, 2), Part(11, 2), Part(13, 2));
    }

    private DateTimeZone ZoneOf(Line line, string? value = null) =>
        (value ?? line.Value).EndsWith('Z') ? DateTimeZone.Utc
        : line.Zone is { } zone ? DateTimeZoneProviders.Tzdb[Zones.GetValueOrDefault(zone, zone)]
        : _here;

    /// <summary>Of an hour that comes twice the first; one that is skipped is counted on from before it.</summary>
    private static Instant At(LocalDateTime local, DateTimeZone zone)
    {
        var mapping = zone.MapLocal(local);
        return mapping.Count == 0
            ? (local.InUtc().ToInstant() - mapping.EarlyInterval.WallOffset.ToTimeSpan().ToDuration())
            : mapping.First().ToInstant();
    }

    private static (int Days, Duration Exact) Lasts(string text)
    {
        var (days, exact, number) = (0, Duration.Zero, 0);
        foreach (var c in text.TrimStart('P'))
        {
            if (char.IsAsciiDigit(c))
                number = (number * 10) + (c - '0');
            else
            {
                if (c is 'W' or 'D')
                    days += number * (c == 'W' ? 7 : 1);
                else if (c != 'T')
                    exact += c switch
                    {
                        'H' => Duration.FromHours(number),
                        'M' => Duration.FromMinutes(number),
                        _ => Duration.FromSeconds(number),
                    };
                number = 0;
            }
        }

        return (days, exact);
    }

    private static Stretch Stretch(Instant from, Instant to) => new(from.ToDateTimeOffset(), to.ToDateTimeOffset());

    /// <summary>A line of an event.</summary>
    private sealed record Line(string Name, string Text, string Value, string? Zone)
    {
        public bool IsDay => Value.Length == 8 || Value.IndexOf(',', StringComparison.Ordinal) == 8;
    }

    private sealed class Event
    {
        private readonly List<Line> _lines = [];

        public void Add(string text)
        {
            // A colon between quotes is not the one before the value.
            var quoted = false;
            var colon = Enumerable.Range(0, text.Length).First(i => (quoted ^= text[i] == '"') is false && text[i] == ':');
            var head = text[..colon];
            var zone = head.IndexOf("TZID=", StringComparison.OrdinalIgnoreCase);
            var name = head.Split(';')[0].ToUpperInvariant();
            _lines.Add(new(name, text, text[(colon + 1)..], zone < 0 ? null : head[(zone + 5)..].Trim('"')));
        }

        public Line? One(string name) => _lines.FirstOrDefault(l => l.Name == name);

        public IEnumerable<Line> Many(string name) => _lines.Where(l => l.Name == name);
    }
}

internal static class Times
{
    /// <summary>A length of time in NodaTime's own form.</summary>
    public static Duration ToDuration(this TimeSpan time) => Duration.FromTimeSpan(time);
}
