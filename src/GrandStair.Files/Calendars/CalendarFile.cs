using System.Collections.Immutable;
using GrandStair.Core.Waves;
using GrandStair.Files.Parsing;
using Ical.Net;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Ical.Net.Serialization;
using NodaTime;

namespace GrandStair.Files.Calendars;

/// <summary>A calendar in the iCalendar format (RFC 5545): its events, whole days and recurring ones among them, are stretches of time.</summary>
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
    private readonly Lock _turn = new();
    private Expansion? _expanded;

    private CalendarFile(Calendar calendar, string name)
    {
        (_calendar, _name) = (calendar, name);
        _longest = calendar.Events.Max(BoundedCalendar.LengthOf);
    }

    /// <summary>How many events it has, a recurring one counted once.</summary>
    public int Events => _calendar.Events.Count;

    /// <summary>Reads a calendar.</summary>
    /// <param name="text">The file's content.</param>
    /// <param name="file">What to call the file in errors.</param>
    /// <exception cref="FileException">It is not a calendar, has no events, or has events that cannot be evaluated; each is named with its line.</exception>
    public static CalendarFile Parse(string text, string file) => new(BoundedCalendar.Load(text, file), file);

    /// <inheritdoc />
    public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone) => EvaluateBetween(from, to, zone, default);

    /// <inheritdoc />
    public IEnumerable<Stretch> EvaluateBetween(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone, CancellationToken stop)
    {
        foreach (var (start, end) in Expand(from, to, stop))
        {
            var begins = At(start, zone);
            if (begins > to + ZoneSlack) yield break;
            var ends = end is null ? begins : At(end, zone);
            if (begins < to && ends > from && begins < ends) yield return new(begins, ends);
        }
    }

    /// <summary>All occurrences that may touch a span, by when they begin. They are kept, since evaluating rules takes longest.</summary>
    private ImmutableArray<(CalDateTime Start, CalDateTime? End)> Expand(DateTimeOffset from, DateTimeOffset to, CancellationToken stop)
    {
        lock (_turn)
        {
            if (_expanded is { } kept && kept.From <= from && kept.To >= to) return kept.Occurrences;
            var expanded = Evaluate(from, to + Ahead, MostOccurrences, stop) ?? Evaluate(from, to, MostOccurrences, stop)
                ?? throw new CalendarException(_name, $"it has more than {MostOccurrences} occurrences between {from:yyyy-MM-dd} and {to:yyyy-MM-dd}");
            _expanded = expanded;
            return expanded.Occurrences;
        }
    }

    private Expansion? Evaluate(DateTimeOffset from, DateTimeOffset to, int most, CancellationToken stop)
    {
        var begin = new CalDateTime((from - _longest - ZoneSlack).UtcDateTime, "UTC");
        var occurrences = ImmutableArray.CreateBuilder<(CalDateTime, CalDateTime?)>();
        try
        {
            foreach (var occurrence in _calendar.GetOccurrences<CalendarEvent>(begin, new() { MaxUnmatchedIncrementsLimit = BoundedCalendar.MostUnmatchedSteps }))
            {
                stop.ThrowIfCancellationRequested();
                if (occurrence.Period.StartTime.Value > (to + ZoneSlack).UtcDateTime + ZoneSlack) break;
                if (occurrences.Count == most) return null;
                if (occurrence.Source is CalendarEvent { Status: "CANCELLED" }) continue;
                occurrences.Add((occurrence.Period.StartTime, occurrence.Period.EffectiveEndTime));
            }
        }
        catch (Exception error) when (error is not (OutOfMemoryException or OperationCanceledException))
        {
            throw new CalendarException(_name, "one of its rules cannot be evaluated", error);
        }

        return new(from, to, occurrences.ToImmutable());
    }

    private static DateTimeOffset At(CalDateTime time, DateTimeZone zone)
    {
        if (!time.HasTime) return zone.AtStartOfDay(new LocalDate(time.Year, time.Month, time.Day)).ToInstant().ToDateTimeOffset();
        if (time.TzId is not null) return new DateTimeOffset(DateTime.SpecifyKind(time.AsUtc, DateTimeKind.Utc));
        return zone.AtLeniently(LocalDateTime.FromDateTime(time.Value)).ToInstant().ToDateTimeOffset();
    }

    /// <summary>The occurrences of all events that may touch a span.</summary>
    private sealed record Expansion(DateTimeOffset From, DateTimeOffset To, ImmutableArray<(CalDateTime Start, CalDateTime? End)> Occurrences);
}

/// <summary>An appointment as it is written into a calendar.</summary>
/// <param name="Id">What tells it from all others, for ever: the same appointment moved has the same.</param>
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

    /// <summary>Whether it may still change without anybody being told.</summary>
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
        calendar.Events.AddRange(appointments.Select(a => new CalendarEvent
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
        }));
        return new CalendarSerializer().SerializeToString(calendar)!;
    }

    private static CalDateTime Time(DateTimeOffset time) => new(time.UtcDateTime, "UTC");

    /// <summary>What could not stand in a text, such as codes for a terminal, is left out.</summary>
    private static string Plain(string text) => string.Concat(text.Where(c => c == '\n' || !char.IsControl(c)));
}
