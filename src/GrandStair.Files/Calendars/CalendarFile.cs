using GrandStair.Core.Waves;
using Ical.Net;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Ical.Net.Serialization;
using NodaTime;

namespace GrandStair.Files.Calendars;

/// <summary>A calendar in the iCalendar format (RFC 5545): its events are stretches of time, those that come back and whole days among them.</summary>
public sealed class CalendarFile : ICalendar
{
    /// <summary>The longest text that is taken.</summary>
    public const int LongestText = 1 << 20;

    /// <summary>How many occurrences of all its events together are looked at within one span; what says more is no calendar of windows.</summary>
    private const int MostOccurrences = 20_000;

    /// <summary>How much longer than a span is looked back for an event that still lasts when it begins.</summary>
    private static readonly TimeSpan LongestEvent = TimeSpan.FromDays(62);

    private readonly Calendar _calendar;

    private CalendarFile(Calendar calendar) => _calendar = calendar;

    /// <summary>How many events it has, each that comes back counted once.</summary>
    public int Events => _calendar.Events.Count;

    /// <summary>Reads a calendar.</summary>
    /// <param name="text">The file's content.</param>
    /// <param name="file">What to call the file in errors.</param>
    /// <exception cref="FileException">It is none, or has no events.</exception>
    public static CalendarFile Parse(string text, string file)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (text.Length > LongestText) throw Wrong(file, $"The file has {text.Length} signs; expected at most {LongestText}.");
        if (!text.TrimStart('\uFEFF', ' ', '\r', '\n').StartsWith("BEGIN:VCALENDAR", StringComparison.OrdinalIgnoreCase)) throw Wrong(file, "This is no calendar; expected the iCalendar format, which begins with BEGIN:VCALENDAR.");
        Calendar? calendar;
        try
        {
            calendar = Calendar.Load(text);
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            throw Wrong(file, $"This is no calendar as RFC 5545 has it: {error.Message}");
        }

        if (calendar is null || calendar.Events.Count == 0) throw Wrong(file, "The calendar has no events; expected at least one VEVENT.");
        if (calendar.Events.FirstOrDefault(e => e.DtStart is null) is { } without) throw Wrong(file, $"The event '{without.Summary ?? without.Uid}' says no begin; expected DTSTART.");
        foreach (var zone in calendar.Events.SelectMany(e => new[] { e.DtStart?.TzId, e.DtEnd?.TzId }).OfType<string>().Distinct().Where(z => z != "UTC" && DateTimeZoneProviders.Tzdb.GetZoneOrNull(z) is null))
            throw Wrong(file, $"The zone '{zone}' is not known; expected a name of the IANA database such as Europe/London.");
        return new(calendar);
    }

    /// <inheritdoc />
    public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone)
    {
        var begin = new CalDateTime((from - LongestEvent).UtcDateTime, "UTC");
        foreach (var occurrence in _calendar.GetOccurrences<CalendarEvent>(begin).Take(MostOccurrences))
        {
            if (occurrence.Source is CalendarEvent { Status: "CANCELLED" }) continue;
            var start = At(occurrence.Period.StartTime, zone);
            // A zone is at most some hours off, by which those that are written in another one come out of order.
            if (start > to.AddDays(2)) yield break;
            var end = occurrence.Period.EffectiveEndTime is { } ends ? At(ends, zone) : start;
            if (start < to && end > from && start < end) yield return new(start, end);
        }
    }

    private static DateTimeOffset At(CalDateTime time, DateTimeZone zone)
    {
        if (!time.HasTime) return zone.AtStartOfDay(new LocalDate(time.Year, time.Month, time.Day)).ToInstant().ToDateTimeOffset();
        if (time.TzId is not null) return new DateTimeOffset(DateTime.SpecifyKind(time.AsUtc, DateTimeKind.Utc));
        return zone.AtLeniently(LocalDateTime.FromDateTime(time.Value)).ToInstant().ToDateTimeOffset();
    }

    private static FileException Wrong(string file, string message) => new([new(file, 1, 0, message)]);
}

/// <summary>An appointment as it is written into a calendar.</summary>
/// <param name="Id">What tells it from all others, for ever: the same appointment moved has the same.</param>
/// <param name="Start">When it begins, UTC.</param>
/// <param name="End">When it ends, UTC.</param>
/// <param name="Summary">What it is, in a line.</param>
/// <param name="Details">What there is to know of it.</param>
/// <param name="Where">Where it is.</param>
public sealed record Appointment(string Id, DateTimeOffset Start, DateTimeOffset End, string Summary, string Details, string Where);

/// <summary>Writes appointments in the iCalendar format (RFC 5545).</summary>
public static class CalendarWriter
{
    /// <summary>A calendar of appointments.</summary>
    /// <param name="name">What it is called.</param>
    /// <param name="appointments">The appointments.</param>
    /// <param name="now">When it is written, UTC.</param>
    public static string Write(string name, IEnumerable<Appointment> appointments, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(appointments);
        var calendar = new Calendar { ProductId = "-//Grand Stair//slots//EN", Method = "PUBLISH" };
        calendar.AddProperty("X-WR-CALNAME", Plain(name));
        calendar.Events.AddRange(appointments.Select(a => new CalendarEvent
        {
            Uid = a.Id,
            DtStamp = Time(now),
            DtStart = Time(a.Start),
            DtEnd = Time(a.End),
            Summary = Plain(a.Summary),
            Description = Plain(a.Details),
            Location = Plain(a.Where),
        }));
        return new CalendarSerializer().SerializeToString(calendar)!;
    }

    private static CalDateTime Time(DateTimeOffset time) => new(time.UtcDateTime, "UTC");

    /// <summary>What could not stand in a text, such as codes for a terminal, is left out.</summary>
    private static string Plain(string text) => string.Concat(text.Where(c => c == '\n' || !char.IsControl(c)));
}
