using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using GrandStair.Core.Readings;
using NodaTime;
using NodaTime.TimeZones;

namespace GrandStair.Core.Waves;

/// <summary>A stretch of time.</summary>
/// <param name="From">Its begin, in it, UTC.</param>
/// <param name="To">Its end, no longer in it, UTC.</param>
public readonly record struct Stretch(DateTimeOffset From, DateTimeOffset To);

/// <summary>A source of time spans, such as a file of appointments of crews or ships.</summary>
public interface ICalendar
{
    /// <summary>The stretches that touch a span, in any order.</summary>
    /// <param name="from">The span's begin, UTC.</param>
    /// <param name="to">The span's end, UTC.</param>
    /// <param name="zone">The zone in which times without one, and whole days, are meant.</param>
    /// <exception cref="CalendarException">The calendar cannot be evaluated for this span.</exception>
    IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone);

    /// <summary>The same, for a caller that may no longer want to know.</summary>
    /// <exception cref="OperationCanceledException">It does not.</exception>
    IEnumerable<Stretch> EvaluateBetween(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone, CancellationToken stop) =>
        Between(from, to, zone);
}

/// <summary>When something holds: by weekly rules, by days, by a calendar, or by several of them together.</summary>
/// <param name="Zone">The time zone's name in the IANA database, such as <c>Europe/London</c>.</param>
/// <param name="Weekly">Stretches that come back every week.</param>
public sealed record TimeRule(string Zone, ImmutableArray<WeeklyRule> Weekly)
{
    /// <summary>Whole days, in local time.</summary>
    public ImmutableArray<DaySpan> Days { get; init; } = [];

    /// <summary>The name of a calendar; null where none is meant.</summary>
    public string? Calendar { get; init; }

    /// <summary>The stretches that touch a span, in any order.</summary>
    /// <exception cref="KeyNotFoundException">There is no such calendar.</exception>
    public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, IReadOnlyDictionary<string, ICalendar> calendars)
    {
        ArgumentNullException.ThrowIfNull(calendars);
        var zone = DateTimeZoneProviders.Tzdb[Zone];
        var all = Weekly
            .SelectMany(r => r.Between(from, to, zone))
            .Concat(Days.Select(d => d.In(zone)).Where(s => s.To > from && s.From < to));
        return Calendar is null ? all : all.Concat(calendars[Calendar].Between(from, to, zone));
    }

    /// <summary>The stretches that touch a span, in order, those that touch or overlap made one.</summary>
    /// <exception cref="KeyNotFoundException">There is no such calendar.</exception>
    public IReadOnlyList<Stretch> Joined(DateTimeOffset from, DateTimeOffset to, IReadOnlyDictionary<string, ICalendar> calendars) =>
        Windows.Join(Between(from, to, calendars));
}

/// <summary>Whole days.</summary>
/// <param name="First">The first day.</param>
/// <param name="Last">The last day, still in it.</param>
public sealed record DaySpan(DateOnly First, DateOnly Last)
{
    /// <summary>Reads <c>2026-12-24</c> or <c>2026-12-24..2027-01-02</c>.</summary>
    /// <exception cref="FormatException">The text is neither; the message says what was expected.</exception>
    public static DaySpan Parse(string text)
    {
        var ends = (text ?? "").Split("..");
        return
            ends.Length <= 2
            && DateOnly.TryParseExact(ends[0], "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var first)
            && DateOnly.TryParseExact(ends[^1], "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var last)
            && first <= last
            && Era.Holds(first)
            && Era.Holds(last)
            ? new(first, last)
            : throw new FormatException(
                $"'{text}' is no day; expected one such as 2026-12-24, or the first and the last of several such as 2026-12-24..2027-01-02."
            );
    }

    /// <summary>The days as a stretch, from midnight to midnight in a zone.</summary>
    public Stretch In(DateTimeZone zone)
    {
        ArgumentNullException.ThrowIfNull(zone);
        return new(Midnight(First, zone), Midnight(Last.AddDays(1), zone));
    }

    /// <inheritdoc />
    public override string ToString() => First == Last ? $"{First:yyyy-MM-dd}" : $"{First:yyyy-MM-dd}..{Last:yyyy-MM-dd}";

    private static DateTimeOffset Midnight(DateOnly day, DateTimeZone zone) =>
        zone.AtStartOfDay(LocalDate.FromDateOnly(day)).ToInstant().ToDateTimeOffset();
}

/// <summary>
/// A stretch that comes back every week, such as <c>Mon-Fri 19:00-05:00</c>; an end that is not after the begin is on the next day.
/// </summary>
/// <param name="Days">The days on which it begins.</param>
/// <param name="From">When it begins, local time.</param>
/// <param name="To">When it ends, local time.</param>
public sealed partial record WeeklyRule(ImmutableHashSet<DayOfWeek> Days, TimeOnly From, TimeOnly To)
{
    private static readonly string[] Short = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];

    /// <summary>Reads a rule.</summary>
    /// <exception cref="FormatException">The text is none; the message says what was expected.</exception>
    public static WeeklyRule Parse(string text)
    {
        var match = Form().Match(text ?? "");
        if (!match.Success)
            throw Wrong(text);
        var days = match.Groups["days"].Value.Split(',').SelectMany(d => Range(d, text)).ToImmutableHashSet();
        return
            TimeOnly.TryParseExact(match.Groups["from"].Value, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var from)
            && TimeOnly.TryParseExact(match.Groups["to"].Value, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var to)
            ? new(days, from, to)
            : throw Wrong(text);
    }

    /// <summary>The stretches that touch a span.</summary>
    public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone)
    {
        ArgumentNullException.ThrowIfNull(zone);
        var day = Instant.FromDateTimeOffset(from).InZone(zone).Date.PlusDays(-1);
        var last = Instant.FromDateTimeOffset(to).InZone(zone).Date;
        for (; day <= last; day = day.PlusDays(1))
        {
            if (!Days.Contains((DayOfWeek)((int)day.DayOfWeek % 7)))
                continue;
            var end = To > From ? day : day.PlusDays(1);
            var stretch = new Stretch(Utc(day, From, zone), Utc(end, To, zone));
            if (stretch.To > from && stretch.From < to && stretch.From < stretch.To)
                yield return stretch;
        }
    }

    /// <inheritdoc />
    public override string ToString() =>
        $"{string.Join(',', Days.OrderBy(d => ((int)d + 6) % 7).Select(d => Short[(int)d]))} {From:HH:mm}-{To:HH:mm}";

    /// <summary>
    /// A local time that a change of the clocks skips is taken as the moment after the gap, one that comes twice as the first.
    /// </summary>
    private static DateTimeOffset Utc(LocalDate day, TimeOnly time, DateTimeZone zone) =>
        day.At(new LocalTime(time.Hour, time.Minute)).InZone(zone, Resolvers.LenientResolver).ToInstant().ToDateTimeOffset();

    private static IEnumerable<DayOfWeek> Range(string text, string? whole)
    {
        var ends = text.Split('-').Select(d => Array.IndexOf(Short, d)).ToArray();
        if (ends.Contains(-1))
            throw Wrong(whole);
        for (var day = ends[0]; ; day = (day + 1) % 7)
        {
            yield return (DayOfWeek)day;
            if (day == ends[^1])
                yield break;
        }
    }

    private static FormatException Wrong(string? text) =>
        new($"'{text}' is not a weekly window; expected days and times such as 'Mon-Fri 19:00-05:00' or 'Sat,Sun 06:00-12:00'.");

    [GeneratedRegex("^(?<days>[A-Z][a-z]{2}([-,][A-Z][a-z]{2})*) (?<from>[0-9:]{5})-(?<to>[0-9:]{5})$")]
    private static partial Regex Form();
}
