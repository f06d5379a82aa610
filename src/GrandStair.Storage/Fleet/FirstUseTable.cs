using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Fleet;

/// <summary>A site that says: the first host key that a machine here shows is trusted.</summary>
/// <param name="Site">The site.</param>
/// <param name="Reason">Why.</param>
/// <param name="By">Who said so.</param>
/// <param name="Since">Since when, UTC.</param>
public sealed record FirstUse(string Site, string Reason, string By, DateTimeOffset Since);

/// <summary>The sites where first use is trusted. Everywhere else a machine without a pinned key is sent nothing.</summary>
public sealed class FirstUseTable(Database database)
{
    /// <summary>All of them, by name.</summary>
    public Task<IReadOnlyList<FirstUse>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<FirstUse>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<(string Site, string Reason, string By, long Given)>(
                            "SELECT site, reason, given_by, given FROM first_use ORDER BY site"
                        )
                    ).Select(r => new FirstUse(r.Site, r.Reason, r.By, Micros.Time(r.Given))),
                ],
            stop
        );

    /// <summary>Lets first use be trusted at a site, or, with false, no longer.</summary>
    public Task PutAsync(string site, bool trusts, string reason, Actor actor, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        return database.WriteAsync(
            async (c, t) =>
            {
                var stood = await c.ExecuteAsync("DELETE FROM first_use WHERE site = @site", new { site }, t) > 0;
                if (trusts)
                    await c.ExecuteAsync(
                        "INSERT INTO first_use (site, reason, given_by, given) VALUES (@site, @reason, @by, @now)",
                        new
                        {
                            site,
                            reason,
                            by = actor.Name,
                            now = Micros.Of(now),
                        },
                        t
                    );
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "host-key first-use",
                    site,
                    null,
                    stood ? "trusted" : "not trusted",
                    trusts ? "trusted" : "not trusted",
                    reason
                );
                return 0;
            },
            stop
        );
    }
}
