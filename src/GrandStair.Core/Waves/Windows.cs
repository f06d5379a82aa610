using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using NodaTime;
using NodaTime.TimeZones;

namespace GrandStair.Core.Waves;

/// <summary>A stretch of time.</summary>
/// <param name="From">Its begin, in it, UTC.</param>
/// <param name="To">Its end, no longer in it, UTC.</param>
public readonly record struct Stretch(DateTimeOffset From, DateTimeOffset To);

/// <summary>When some sites may be touched, week by week, by the clock on their wall.</summary>
/// <param name="Sites">The sites; empty for all that no other window names.</param>
/// <param name="Zone">The time zone's name in the IANA database, such as <c>Europe/London</c>.</param>
/// <param name="Weekly">The rules.</param>
public sealed record WindowSpec(ImmutableArray<string> Sites, string Zone, ImmutableArray<WeeklyRule> Weekly);

/// <summary>A stretch that comes back every week, such as <c>Mon-Fri 19:00-05:00</c>; an end that is not after the begin is on the next day.</summary>
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
        if (!match.Success) throw Wrong(text);
        var days = match.Groups["days"].Value.Split(',').SelectMany(d => Range(d, text)).ToImmutableHashSet();
        return TimeOnly.TryParseExact(match.Groups["from"].Value, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var from)
            && TimeOnly.TryParseExact(match.Groups["to"].Value, "HH:mm", CultureInfo.InvariantCulture, DateTimeStyles.None, out var to)
            ? new(days, from, to)
            : throw Wrong(text);
    }

    /// <summary>The stretches that begin on a local day within a span.</summary>
    public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone)
    {
        ArgumentNullException.ThrowIfNull(zone);
        var day = Instant.FromDateTimeOffset(from).InZone(zone).Date.PlusDays(-1);
        var last = Instant.FromDateTimeOffset(to).InZone(zone).Date;
        for (; day <= last; day = day.PlusDays(1))
        {
            if (!Days.Contains((DayOfWeek)((int)day.DayOfWeek % 7))) continue;
            var end = To > From ? day : day.PlusDays(1);
            var stretch = new Stretch(Utc(day, From, zone), Utc(end, To, zone));
            if (stretch.To > from && stretch.From < to && stretch.From < stretch.To) yield return stretch;
        }
    }

    /// <summary>A local time that a change of the clocks skips is taken as the moment after the gap, one that comes twice as the first.</summary>
    private static DateTimeOffset Utc(LocalDate day, TimeOnly time, DateTimeZone zone) =>
        day.At(new LocalTime(time.Hour, time.Minute)).InZone(zone, Resolvers.LenientResolver).ToInstant().ToDateTimeOffset();

    private static IEnumerable<DayOfWeek> Range(string text, string? whole)
    {
        var ends = text.Split('-').Select(d => Array.IndexOf(Short, d)).ToArray();
        if (ends.Contains(-1)) throw Wrong(whole);
        for (var day = ends[0]; ; day = (day + 1) % 7)
        {
            yield return (DayOfWeek)day;
            if (day == ends[^1]) yield break;
        }
    }

    private static FormatException Wrong(string? text) =>
        new($"'{text}' is not a weekly window; expected days and times such as 'Mon-Fri 19:00-05:00' or 'Sat,Sun 06:00-12:00'.");

    [GeneratedRegex("^(?<days>[A-Z][a-z]{2}([-,][A-Z][a-z]{2})*) (?<from>[0-9:]{5})-(?<to>[0-9:]{5})$")]
    private static partial Regex Form();
}

/// <summary>The windows of all sites of a plan.</summary>
public static class Windows
{
    /// <summary>The stretches in which a site may be touched, in order, those that touch or overlap joined.</summary>
    public static ImmutableArray<Stretch> Of(Plan plan, string site, DateTimeOffset from, DateTimeOffset to)
    {
        ArgumentNullException.ThrowIfNull(plan);
        var own = plan.Windows.Where(w => w.Sites.Contains(site, StringComparer.OrdinalIgnoreCase)).ToArray();
        if (own.Length == 0) own = [.. plan.Windows.Where(w => w.Sites.IsEmpty)];
        var joined = new List<Stretch>();
        foreach (var next in own.SelectMany(w => w.Weekly.SelectMany(r => r.Between(from, to, DateTimeZoneProviders.Tzdb[w.Zone]))).OrderBy(s => s.From))
        {
            if (joined.Count > 0 && next.From <= joined[^1].To) joined[^1] = joined[^1] with { To = joined[^1].To > next.To ? joined[^1].To : next.To };
            else joined.Add(next);
        }

        return [.. joined];
    }

    /// <summary>Whether the name is of a zone in the IANA database.</summary>
    public static bool IsZone(string name) => DateTimeZoneProviders.Tzdb.GetZoneOrNull(name) is not null;
}
