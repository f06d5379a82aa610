using Dapper;

namespace GrandStair.Storage.Databases;

/// <summary>Which service has each of the duties that only one may have at a time, by the database's time.</summary>
public sealed class DutyLeaseTable(Database database)
{
    /// <summary>Whether several services may work on this database; an embedded one has a single service.</summary>
    public bool IsShared => database.Dialect is not SqliteDialect;

    /// <summary>Takes a duty's lease, or renews it.</summary>
    /// <param name="duty">The duty's name.</param>
    /// <param name="holder">Which process asks.</param>
    /// <param name="lease">For how long.</param>
    /// <param name="stop">Cancels the write.</param>
    /// <returns>Whether the process has it now; false while another one's lease lasts.</returns>
    public Task<bool> TryHoldAsync(string duty, Guid holder, TimeSpan lease, CancellationToken stop) =>
        database.WriteUnannouncedAsync(
            async (c, t) =>
                await c.ExecuteAsync(
                    $"""
                    INSERT INTO duty_leases (name, holder, lease_until) VALUES (@duty, @holder, {database.Dialect.Now} + @lease)
                    ON CONFLICT (name) DO UPDATE SET holder = excluded.holder, lease_until = excluded.lease_until
                    WHERE duty_leases.holder = excluded.holder OR duty_leases.lease_until <= {database.Dialect.Now}
                    """,
                    new
                    {
                        duty,
                        holder = holder.ToString(),
                        lease = (long)lease.TotalMicroseconds,
                    },
                    t
                ) == 1,
            stop
        );

    /// <summary>Gives a lease up, so that another process need not wait until it lapses.</summary>
    public Task GiveUpAsync(string duty, Guid holder, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "DELETE FROM duty_leases WHERE name = @duty AND holder = @holder",
                    new { duty, holder = holder.ToString() },
                    t
                ),
            stop
        );
}
