using GrandStair.Files.Parsing;
using NodaTime;
using NodaTime.TimeZones;

namespace GrandStair.Files.Calendars;

/// <summary>
/// The zones that a calendar names, as zones of the IANA database: by their name, by the name that Windows has for them, or by the rules
/// that the calendar gives (VTIMEZONE), where a zone of the database has the same ones.
/// </summary>
internal sealed class CalendarZones
{
    private const int FirstYear = 2020;
    private const int LastYear = 2037;
    private const int MostRules = 50;
    private static readonly Dictionary<string, string> Canonical = DateTimeZoneProviders.Tzdb.Ids.ToDictionary(
        id => id,
        id => id,
        StringComparer.OrdinalIgnoreCase
    );
    private readonly Dictionary<string, string?> _known = new(StringComparer.OrdinalIgnoreCase);
    private readonly Dictionary<string, List<CalendarProperty>> _rules = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Takes the properties of a VTIMEZONE, its parts among them. Rules of no more than so many zones are kept.</summary>
    public void Add(IReadOnlyList<CalendarProperty> properties)
    {
        if (properties.FirstOrDefault(p => p.Name == "TZID") is { } id && _rules.Count < MostRules)
            _rules[id.Value] = [.. properties];
    }

    /// <summary>The zone of a name as a calendar writes it; null where none is like it.</summary>
    public string? Find(string name)
    {
        if (!_known.TryGetValue(name, out var zone))
            _known[name] = zone = ByName(name) ?? ByRules(name);
        return zone;
    }

    private string? ByName(string name)
    {
        if (Canonical.TryGetValue(name, out var id))
            return id;
        if (name is "GMT" or "Z" or "Etc/UTC")
            return "UTC";
        if (TzdbDateTimeZoneSource.Default.WindowsMapping.PrimaryMapping.TryGetValue(name, out var windows))
            return windows;
        // Some write a registry before the name: /citadel.org/20260101_1/Europe/London.
        for (var slash = name.IndexOf('/', StringComparison.Ordinal); slash >= 0; slash = name.IndexOf('/', slash + 1))
        {
            if (Canonical.TryGetValue(name[(slash + 1)..], out var within))
                return within;
        }

        return
            _rules.GetValueOrDefault(name)?.FirstOrDefault(p => p.Name == "X-LIC-LOCATION") is { } location
            && Canonical.TryGetValue(location.Value, out var said)
            ? said
            : null;
    }

    private string? ByRules(string name)
    {
        if (!_rules.TryGetValue(name, out var properties) || Onsets(properties) is not { Count: > 0 } onsets)
            return null;
        var samples = onsets
            .Where(o => o.At >= Instant.FromUtc(FirstYear, 1, 1, 0, 0))
            .SelectMany(o => new[] { o.At - NodaTime.Duration.FromHours(1), o.At, o.At + NodaTime.Duration.FromHours(1) })
            .Concat(
                Enumerable.Range(0, (LastYear - FirstYear) * 12).Select(m => Instant.FromUtc(FirstYear + (m / 12), (m % 12) + 1, 15, 0, 0))
            )
            .Where(t => t < Instant.FromUtc(LastYear, 1, 1, 0, 0))
            .ToArray();
        var wanted = samples.Select(t => OffsetAt(onsets, t)).ToArray();
        // Places that people know come before old and odd names.
        var places = TzdbDateTimeZoneSource.Default.ZoneLocations?.Select(l => l.ZoneId) ?? [];
        return places
            .Concat(DateTimeZoneProviders.Tzdb.Ids)
            .FirstOrDefault(id =>
                DateTimeZoneProviders.Tzdb[id] is var zone && samples.Zip(wanted).All(s => zone.GetUtcOffset(s.First) == s.Second)
            );
    }

    private static Offset OffsetAt(List<Onset> onsets, Instant at) =>
        onsets.LastOrDefault(o => o.At <= at) is { } last ? last.To : onsets[0].From;

    /// <summary>When which offset begins, in order; null where the rules cannot be read.</summary>
    private static List<Onset>? Onsets(List<CalendarProperty> properties)
    {
        var onsets = new List<Onset>();
        foreach (var part in Parts(properties))
        {
            if (
                Offset(part, "TZOFFSETFROM") is not { } from
                || Offset(part, "TZOFFSETTO") is not { } to
                || part.FirstOrDefault(p => p.Name == "DTSTART") is not { } start
            )
                return null;
            if (
                BoundedCalendar.YearlyTimes(
                    start.Value,
                    part.Where(p => p.Name is "RRULE" or "RDATE").Select(p => p.Written),
                    FirstYear - 2,
                    LastYear
                )
                is not { } times
            )
                return null;
            onsets.AddRange(times.Select(t => new Onset(At(t), from, to)));

            Instant At(DateTime local) => LocalDateTime.FromDateTime(local).WithOffset(from).ToInstant();
        }

        return [.. onsets.OrderBy(o => o.At)];
    }

    private static IEnumerable<List<CalendarProperty>> Parts(List<CalendarProperty> properties)
    {
        List<CalendarProperty>? part = null;
        foreach (var property in properties)
        {
            if (property.Name == "BEGIN")
                part = property.Value.ToUpperInvariant() is "STANDARD" or "DAYLIGHT" ? [] : null;
            else if (property.Name == "END" && part is not null)
            {
                yield return part;
                part = null;
            }
            else
                part?.Add(property);
        }
    }

    private static Offset? Offset(List<CalendarProperty> part, string name)
    {
        if (
            part.FirstOrDefault(p => p.Name == name)?.Value is not ['+' or '-', ..] text
            || text.Length is not (5 or 7)
            || !int.TryParse(text.AsSpan(1), out _)
        )
            return null;
        var seconds =
            (int.Parse(text.AsSpan(1, 2), null) * 3600)
            + (int.Parse(text.AsSpan(3, 2), null) * 60)
            + (text.Length == 7 ? int.Parse(text.AsSpan(5, 2), null) : 0);
        return seconds < 18 * 3600 ? NodaTime.Offset.FromSeconds(text[0] == '-' ? -seconds : seconds) : null;
    }

    private sealed record Onset(Instant At, Offset From, Offset To);
}
