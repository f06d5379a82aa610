using System.Collections.Immutable;
using GrandStair.Core.Waves;
using GrandStair.Files.Parsing;
using Ical.Net;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Ical.Net.Serialization;
using NodaTime;

namespace GrandStair.Files.Calendars;

/// <summary>
/// A calendar in the iCalendar format (RFC 5545): its events, whole days and recurring ones among them, are stretches of time.
/// </summary>
public sealed class CalendarFile : ICalendar
{
    /// <summary>The longest text that is accepted, in characters.</summary>
    public const int LongestText = BoundedCalendar.LongestText;

    /// <summary>How many occurrences all events together may have within one span; what has more is not a calendar of windows.</summary>
    private const int MostOccurrences = 20_000;

    // A time zone is at most some hours off, by which events written in another one come out of order.
    private static readonly TimeSpan ZoneSlack = TimeSpan.FromDays(2);

    // Spans are asked for again and again, each a little later than the one before.
    private static readonly TimeSpan Ahead = TimeSpan.FromDays(90);

    private readonly Calendar _calendar;
    private readonly string _name;
    private readonly TimeSpan _longest;
    private readonly ILookup<string, Shift> _shifts;
    private readonly Lock _turn = new();
    private Expansion? _expanded;

    private CalendarFile(Calendar calendar, IEnumerable<CalendarShift> shifts, string name)
    {
        (_calendar, _name) = (calendar, name);
        _shifts = shifts
            .Select(s => new Shift(s.After, s.By, calendar.Events[s.Event]!))
            .OrderBy(s => s.After)
            .ToLookup(s => s.As.Uid!, StringComparer.Ordinal);
        _longest =
            calendar.Events.Max(BoundedCalendar.LengthOf)
            + shifts
                .Select(s => ((s.After + s.By).ToDateTimeUnspecified() - s.After.ToDateTimeUnspecified()).Duration())
                .DefaultIfEmpty()
                .Max();
    }

    /// <summary>How many events it has, a recurring one counted once.</summary>
    public int Events => _calendar.Events.Count;

    /// <summary>Reads a calendar.</summary>
    /// <param name="text">The file's content.</param>
    /// <param name="file">What to call the file in errors.</param>
    /// <exception cref="FileException">It is not a calendar, has no events, or has events that cannot be evaluated; each is named with its
    /// line.</exception>
    public static CalendarFile Parse(string text, string file)
    {
        var (calendar, shifts) = BoundedCalendar.Load(text, file);
        return new(calendar, shifts, file);
    }

    /// <inheritdoc />
    public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone) =>
        EvaluateBetween(from, to, zone, default);

    /// <inheritdoc />
    public IEnumerable<Stretch> EvaluateBetween(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone, CancellationToken stop)
    {
        foreach (var (start, of) in Expand(from, to, stop))
        {
            var begins = At(start, zone);
            if (begins > to + ZoneSlack + _longest)
                yield break;
            var ends = EndOf(start, begins, of, zone);
            if (begins < to && ends > from && begins < ends)
                yield return new(begins, ends);
        }
    }

    /// <summary>All occurrences that may touch a span, by when they begin. They are kept, since evaluating rules takes longest.</summary>
    private ImmutableArray<(CalDateTime Start, CalendarEvent Of)> Expand(DateTimeOffset from, DateTimeOffset to, CancellationToken stop)
    {
        lock (_turn)
        {
            if (_expanded is { } kept && kept.From <= from && kept.To >= to)
                return kept.Occurrences;
            var expanded = Evaluate(from, to + Ahead, MostOccurrences, stop)
                ?? Evaluate(from, to, MostOccurrences, stop)
                ?? throw new CalendarException(
                    _name,
                    $"it has more than {MostOccurrences} occurrences between {from:yyyy-MM-dd} and {to:yyyy-MM-dd}"
                );
            _expanded = expanded;
            return expanded.Occurrences;
        }
    }

    private Expansion? Evaluate(DateTimeOffset from, DateTimeOffset to, int most, CancellationToken stop)
    {
        var begin = new CalDateTime((from - _longest - ZoneSlack).UtcDateTime, "UTC");
        var occurrences = ImmutableArray.CreateBuilder<(CalDateTime, CalendarEvent)>();
        try
        {
            foreach (
                var occurrence in _calendar.GetOccurrences<CalendarEvent>(
                    begin,
                    new() { MaxUnmatchedIncrementsLimit = BoundedCalendar.MostUnmatchedSteps }
                )
            )
            {
                stop.ThrowIfCancellationRequested();
                if (occurrence.Period.StartTime.Value > (to + ZoneSlack).UtcDateTime + ZoneSlack + _longest)
                    break;
                if (occurrences.Count == most)
                    return null;
                var (start, of) = Shifted(occurrence.Period.StartTime, (CalendarEvent)occurrence.Source);
                if (of.Status != "CANCELLED")
                    occurrences.Add((start, of));
            }
        }
        catch (Exception error) when (error is not (OutOfMemoryException or OperationCanceledException))
        {
            throw new CalendarException(_name, "one of its rules cannot be evaluated", error);
        }

        return new(from, to, occurrences.ToImmutable());
    }

    /// <summary>An occurrence of a series as the last move of its rest left it.</summary>
    private (CalDateTime Start, CalendarEvent Of) Shifted(CalDateTime start, CalendarEvent of)
    {
        if (of.RecurrenceIdentifier is not null || of.Uid is null || !_shifts.Contains(of.Uid))
            return (start, of);
        var local = LocalDateTime.FromDateTime(start.Value);
        if (_shifts[of.Uid].LastOrDefault(s => s.After < local) is not { } shift)
            return (start, of);
        var moved = (local + shift.By).ToDateTimeUnspecified();
        return (start.HasTime ? new CalDateTime(moved, start.TzId) : new CalDateTime(DateOnly.FromDateTime(moved)), shift.As);
    }

    /// <summary>
    /// When an occurrence ends: in local time for whole days and days of a duration, and exactly as long after its begin for all else.
    /// </summary>
    private static DateTimeOffset EndOf(CalDateTime start, DateTimeOffset begins, CalendarEvent of, DateTimeZone zone)
    {
        if (of.DtEnd is { } end)
        {
            return end.HasTime && of.DtStart!.HasTime
                ? begins + (At(end, zone) - At(of.DtStart, zone))
                : At(new CalDateTime(DateOnly.FromDateTime(start.Value.AddDays((end.Value - of.DtStart!.Value).TotalDays))), zone);
        }

        if (of.Duration is not { } lasts)
            return start.HasTime ? begins : At(new CalDateTime(DateOnly.FromDateTime(start.Value.AddDays(1))), zone);
        var days = ((lasts.Weeks ?? 0) * 7) + (lasts.Days ?? 0);
        var exact = new TimeSpan(lasts.Hours ?? 0, lasts.Minutes ?? 0, lasts.Seconds ?? 0);
        if (days == 0)
            return begins + exact;
        var later = start.Value.AddDays(days);
        return At(start.HasTime ? new CalDateTime(later, start.TzId) : new CalDateTime(DateOnly.FromDateTime(later)), zone) + exact;
    }

    /// <summary>
    /// A moment in local time. Of an hour that comes twice the first is meant; one that is skipped is counted on from before (RFC 5545
    /// §3.3.5).
    /// </summary>
    private static DateTimeOffset At(CalDateTime time, DateTimeZone zone)
    {
        if (!time.HasTime)
            return zone.AtStartOfDay(new LocalDate(time.Year, time.Month, time.Day)).ToInstant().ToDateTimeOffset();
        var own = time.TzId switch
        {
            null => zone,
            "UTC" => DateTimeZone.Utc,
            var id => DateTimeZoneProviders.Tzdb[id],
        };
        return own.AtLeniently(LocalDateTime.FromDateTime(time.Value)).ToInstant().ToDateTimeOffset();
    }

    /// <summary>A move of the rest of a series.</summary>
    /// <param name="After">The occurrence after which it counts.</param>
    /// <param name="By">By how much, in local time.</param>
    /// <param name="As">The event that says of which series, how long, and whether it happens at all.</param>
    private sealed record Shift(LocalDateTime After, NodaTime.Period By, CalendarEvent As);

    /// <summary>The occurrences of all events that may touch a span.</summary>
    private sealed record Expansion(
        DateTimeOffset From,
        DateTimeOffset To,
        ImmutableArray<(CalDateTime Start, CalendarEvent Of)> Occurrences
    );
}

/// <summary>An appointment as it is written into a calendar.</summary>
/// <param name="Id">Its identity for good: the same appointment keeps it when it moves.</param>
/// <param name="Start">When it begins, UTC.</param>
/// <param name="End">When it ends, UTC.</param>
/// <param name="Summary">What it is, in a line.</param>
/// <param name="Details">What there is to know of it.</param>
/// <param name="Where">Where it is.</param>
public sealed record Appointment(string Id, DateTimeOffset Start, DateTimeOffset End, string Summary, string Details, string Where)
{
    /// <summary>How often its time has changed: of two copies the one with the higher number is the newer.</summary>
    public required int Changes { get; init; }

    /// <summary>When it last changed, UTC.</summary>
    public required DateTimeOffset Changed { get; init; }

    /// <summary>Whether it may still change without notice.</summary>
    public bool IsTentative { get; init; }
}

/// <summary>Writes appointments in the iCalendar format (RFC 5545).</summary>
public static class CalendarWriter
{
    /// <summary>A calendar of appointments.</summary>
    /// <param name="name">What it is called.</param>
    /// <param name="appointments">The appointments.</param>
    public static string Write(string name, IEnumerable<Appointment> appointments)
    {
        ArgumentNullException.ThrowIfNull(appointments);
        var calendar = new Calendar { ProductId = "-//Grand Stair//slots//EN", Method = "PUBLISH" };
        calendar.AddProperty("X-WR-CALNAME", Plain(name));
        calendar.Events.AddRange(
            appointments.Select(a => new CalendarEvent
            {
                Uid = a.Id,
                DtStamp = Time(a.Changed),
                LastModified = Time(a.Changed),
                Sequence = a.Changes,
                Status = a.IsTentative ? "TENTATIVE" : "CONFIRMED",
                DtStart = Time(a.Start),
                DtEnd = Time(a.End),
                Summary = Plain(a.Summary),
                Description = Plain(a.Details),
                Location = Plain(a.Where),
            })
        );
        return new CalendarSerializer().SerializeToString(calendar)!;
    }

    private static CalDateTime Time(DateTimeOffset time) => new(time.UtcDateTime, "UTC");

    /// <summary>What could not stand in a text, such as codes for a terminal, is left out.</summary>
    private static string Plain(string text) => string.Concat(text.Where(c => c == '\n' || !char.IsControl(c)));
}
