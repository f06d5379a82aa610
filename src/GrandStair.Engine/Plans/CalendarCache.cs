using System.Collections.Concurrent;
using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Storage.Calendars;
using NodaTime;

namespace GrandStair.Engine.Plans;

/// <summary>The calendars that plans refer to, understood once for each content.</summary>
public sealed class CalendarCache(IDocuments documents, CalendarTable table, TimeProvider clock)
{
    private readonly ConcurrentDictionary<(string Name, string Hash), ICalendar> _read = new();
    private ImmutableDictionary<string, ICalendar> _all = ImmutableDictionary<string, ICalendar>.Empty.WithComparers(
        StringComparer.OrdinalIgnoreCase
    );
    private IReadOnlyList<CalendarState> _states = [];

    /// <summary>
    /// All calendars by name as of now, with what tells this state of them from any other. Their evaluation ends with the caller's wish for
    /// it.
    /// </summary>
    public async Task<(IReadOnlyDictionary<string, ICalendar> Calendars, string State)> AllAsync(CancellationToken stop)
    {
        var states = await table.StatesAsync(stop);
        if (!states.SequenceEqual(_states))
        {
            var all = (await table.AllAsync(stop)).ToImmutableDictionary(
                c => c.Name,
                c => _read.GetOrAdd((c.Name, c.Hash), _ => Read(c)),
                StringComparer.OrdinalIgnoreCase
            );
            (_all, _states) = (all, states);
        }

        return (
            _all.ToImmutableDictionary(c => c.Key, ICalendar (c) => new CallersCalendar(c.Value, stop), StringComparer.OrdinalIgnoreCase),
            string.Join(' ', states.Select(s => s.Hash))
        );
    }

    /// <summary>Stores a calendar, in place of the one of that name. False: it is the same as before.</summary>
    /// <exception cref="RefusedException">The name is none.</exception>
    public Task<bool> PutAsync(string name, string body, Actor actor, CancellationToken stop)
    {
        if (!SecretReference.IsName(name))
            throw RefusedException.Invalid(
                "calendar-name",
                $"'{name}' is no name for a calendar; expected a letter, then up to {SecretReference.LongestName - 1} letters, digits, "
                    + $"hyphens and dots."
            );
        var calendar = documents.ReadCalendar(body, name, out var events);
        _read[(name, FileChange.Hash(body))] = calendar;
        return table.PutAsync(name, body, events, $"{events} events", actor, clock.GetUtcNow(), stop);
    }

    /// <summary>
    /// A stored calendar. One that an earlier release accepted and this one does not must not keep plans that do not name it from their
    /// slots.
    /// </summary>
    private ICalendar Read(StoredCalendar stored)
    {
        try
        {
            return documents.ReadCalendar(stored.Body, stored.Name, out _);
        }
        catch (FormatException error)
        {
            return new UnreadableCalendar(stored.Name, error.Message);
        }
    }

    /// <summary>Reports a calendar that a plan refers to and that does not exist.</summary>
    /// <exception cref="RefusedException">There is such a one.</exception>
    public static void Check(Plan plan, IReadOnlyDictionary<string, ICalendar> calendars)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(calendars);
        foreach (var missing in plan.Calendars.Where(c => !calendars.ContainsKey(c)))
        {
            var end = Spelling.DidYouMean(missing, calendars.Keys, $"; load it with 'gstair calendar load {missing} FILE'.");
            throw RefusedException.Unknown(
                "unknown-calendar",
                $"Plan '{plan.Name}' refers to the calendar '{missing}', and there is none of that name{end}"
            );
        }
    }

    /// <summary>A calendar as one caller has it: its evaluation ends when the caller's request does.</summary>
    private sealed class CallersCalendar(ICalendar calendar, CancellationToken stop) : ICalendar
    {
        public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone)
        {
            stop.ThrowIfCancellationRequested();
            return calendar.EvaluateBetween(from, to, zone, stop);
        }
    }
}
