using Dapper;

namespace GrandStair.Storage.Databases;

/// <summary>Where domain time stands against real time.</summary>
/// <param name="Real">A moment of real time, UTC.</param>
/// <param name="Domain">The moment of domain time that it was, UTC.</param>
/// <param name="Pace">How many seconds of domain time pass in one real second.</param>
public sealed record ClockAnchor(DateTimeOffset Real, DateTimeOffset Domain, double Pace);

/// <summary>The one anchor of domain time.</summary>
public sealed class ClockTable(Database database)
{
    /// <summary>The anchor, or null where none was set.</summary>
    public Task<ClockAnchor?> FindAsync(CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                await c.QuerySingleOrDefaultAsync<(long Real, long Domain, double Pace)?>(
                    "SELECT anchor_real, anchor_domain, pace FROM clock WHERE id = 1"
                )
                    is { } row
                    ? new ClockAnchor(Micros.Time(row.Real), Micros.Time(row.Domain), row.Pace)
                    : null,
            stop
        );

    /// <summary>Sets the anchor.</summary>
    public Task PutAsync(ClockAnchor anchor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(anchor);
        return database.WriteUnannouncedAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "INSERT INTO clock (id, anchor_real, anchor_domain, pace) VALUES (1, @real, @domain, @Pace) ON CONFLICT (id) DO "
                        + "UPDATE SET anchor_real = excluded.anchor_real, anchor_domain = excluded.anchor_domain, pace = excluded.pace",
                    new
                    {
                        real = Micros.Of(anchor.Real),
                        domain = Micros.Of(anchor.Domain),
                        anchor.Pace,
                    },
                    t
                ),
            stop
        );
    }
}

/// <summary>What this installation is.</summary>
public sealed class SettingsTable(Database database)
{
    /// <summary>The value under a name; the first call for a name stores its own, for good.</summary>
    public Task<string> FirstAsync(string name, string offered, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync(
                    "INSERT INTO settings (name, value) VALUES (@name, @offered) ON CONFLICT (name) DO NOTHING",
                    new { name, offered },
                    t
                );
                return (await c.ExecuteScalarAsync<string>("SELECT value FROM settings WHERE name = @name", new { name }, t))!;
            },
            stop
        );
}
