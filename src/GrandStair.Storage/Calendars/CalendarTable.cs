using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Calendars;

/// <summary>A calendar as it is kept.</summary>
/// <param name="Name">Its name, by which plans refer to it.</param>
/// <param name="Body">Its text in the iCalendar format.</param>
/// <param name="Hash">The SHA-256 of the text, in hexadecimal.</param>
/// <param name="Loaded">When it was loaded last, UTC.</param>
/// <param name="LoadedBy">Who loaded it.</param>
public sealed record StoredCalendar(string Name, string Body, string Hash, DateTimeOffset Loaded, string LoadedBy);

/// <summary>Which content a calendar has, and since when.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Hash">The SHA-256 of its text, in hexadecimal.</param>
/// <param name="Loaded">When it was loaded last, UTC.</param>
/// <param name="LoadedBy">Who loaded it.</param>
/// <param name="Events">How many events it has, a recurring one counted once.</param>
public sealed record CalendarState(string Name, string Hash, DateTimeOffset Loaded, string LoadedBy, int Events);

/// <summary>The calendars that plans refer to.</summary>
public sealed class CalendarTable(Database database)
{
    /// <summary>Stores a calendar, in place of the one of that name. False: it is the same as before.</summary>
    public Task<bool> PutAsync(
        string name,
        string body,
        int events,
        string summary,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var hash = FileChange.Hash(body);
                var before = await c.ExecuteScalarAsync<string?>("SELECT hash FROM calendars WHERE name = @name", new { name }, t);
                if (before == hash)
                    return false;
                await c.ExecuteAsync(
                    """
                    INSERT INTO calendars (name, body, hash, events, loaded, loaded_by) VALUES (@name, @body, @hash, @events, @now, @by)
                    ON CONFLICT (name) DO UPDATE SET body = excluded.body, hash = excluded.hash, events = excluded.events, loaded =
                      excluded.loaded, loaded_by = excluded.loaded_by
                    """,
                    new
                    {
                        name,
                        body,
                        hash,
                        events,
                        now = Micros.Of(now),
                        by = actor.Name,
                    },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "calendar load", name, null, before, hash, summary);
                await Feed.AddAsync(c, t, now, "calendar", name, "loaded", actor);
                return true;
            },
            stop
        );

    /// <summary>All calendars, by name.</summary>
    public Task<IReadOnlyList<StoredCalendar>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredCalendar>>(
            async c =>
                [
                    .. (await c.QueryAsync<Row>("SELECT * FROM calendars ORDER BY name")).Select(r => new StoredCalendar(
                        r.Name,
                        r.Body,
                        r.Hash,
                        Micros.Time(r.Loaded),
                        r.LoadedBy
                    )),
                ],
            stop
        );

    /// <summary>The calendar of a name (case ignored), or null.</summary>
    public Task<StoredCalendar?> FindAsync(string name, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                (await c.QueryAsync<Row>("SELECT * FROM calendars WHERE lower(name) = lower(@name)", new { name }))
                    .Select(r => new StoredCalendar(r.Name, r.Body, r.Hash, Micros.Time(r.Loaded), r.LoadedBy))
                    .FirstOrDefault(),
            stop
        );

    /// <summary>A hash of the content of each calendar, by name.</summary>
    public Task<IReadOnlyList<CalendarState>> StatesAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<CalendarState>>(
            async c =>
                [
                    .. (await c.QueryAsync<Row>("SELECT name, hash, events, loaded, loaded_by FROM calendars ORDER BY name")).Select(
                        r => new CalendarState(r.Name, r.Hash, Micros.Time(r.Loaded), r.LoadedBy, (int)r.Events)
                    ),
                ],
            stop
        );

    private sealed record Row
    {
        public string Name { get; init; } = "";

        public string Body { get; init; } = "";

        public string Hash { get; init; } = "";

        public long Events { get; init; }

        public long Loaded { get; init; }

        public string LoadedBy { get; init; } = "";
    }
}
