using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Secrets;

/// <summary>What there is to know of a secret; never the secret.</summary>
public sealed record StoredSecret(
    string Name,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset Changed,
    string ChangedBy,
    DateTimeOffset? LastUsed
);

/// <summary>The secrets, each encrypted by keys that are not in the database.</summary>
public sealed class SecretTable(Database database)
{
    private static readonly TimeSpan NotedEvery = TimeSpan.FromMinutes(1);

    /// <summary>Stores a secret, new or in place of what stood under its name.</summary>
    /// <param name="name">Its name.</param>
    /// <param name="encrypted">The secret, encrypted.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task PutAsync(string name, string encrypted, Actor actor, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        return database.WriteAsync(
            async (c, t) =>
            {
                var stood = await c.ExecuteScalarAsync<long>("SELECT count(*) FROM secrets WHERE name = @name", new { name }, t) > 0;
                await c.ExecuteAsync(
                    """
                    INSERT INTO secrets (name, value, created, created_by, changed, changed_by) VALUES (@name, @encrypted, @now, @by,
                      @now, @by)
                    ON CONFLICT (name) DO UPDATE SET value = excluded.value, changed = excluded.changed, changed_by = excluded.changed_by
                    """,
                    new
                    {
                        name,
                        encrypted,
                        now = Micros.Of(now),
                        by = actor.Name,
                    },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "secret put", name, null, stood ? "stood" : null, "put", "");
                return 0;
            },
            stop
        );
    }

    /// <summary>Takes a secret away.</summary>
    /// <returns>Whether there was one.</returns>
    public Task<bool> RemoveAsync(string name, Actor actor, string reason, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var removed = await c.ExecuteAsync("DELETE FROM secrets WHERE name = @name", new { name }, t) > 0;
                if (removed)
                    await AuditTable.AddAsync(c, t, now, actor, "secret remove", name, null, "stood", null, reason);
                return removed;
            },
            stop
        );

    /// <summary>A secret, encrypted; null where there is none of that name. That it was used is kept to the minute.</summary>
    public async Task<string?> FindAsync(string name, DateTimeOffset now, CancellationToken stop)
    {
        var found = await database.ReadAsync(
            c =>
                c.QuerySingleOrDefaultAsync<(string Value, long? LastUsed)?>(
                    "SELECT value, last_used FROM secrets WHERE name = @name",
                    new { name }
                ),
            stop
        );
        if (found is { } secret && !(Micros.Time(secret.LastUsed) > now - NotedEvery))
            await database.WriteAsync(
                (c, t) => c.ExecuteAsync("UPDATE secrets SET last_used = @now WHERE name = @name", new { name, now = Micros.Of(now) }, t),
                stop
            );
        return found?.Value;
    }

    /// <summary>Encrypts every secret again, all of them or none.</summary>
    public Task<int> RewriteAsync(Func<string, string> encrypt, Actor actor, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(encrypt);
        return database.WriteAsync(
            async (c, t) =>
            {
                var all = (
                    await c.QueryAsync<(string Name, string Value)>("SELECT name, value FROM secrets ORDER BY name", transaction: t)
                ).AsList();
                foreach (var (name, value) in all)
                    await c.ExecuteAsync("UPDATE secrets SET value = @value WHERE name = @name", new { name, value = encrypt(value) }, t);
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "secret rotate",
                    "all",
                    null,
                    null,
                    null,
                    $"{all.Count} secrets encrypted with a new key"
                );
                return all.Count;
            },
            stop
        );
    }

    /// <summary>What there is to know of all secrets, by name.</summary>
    public Task<IReadOnlyList<StoredSecret>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredSecret>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<SecretRow>(
                            "SELECT name, created, created_by, changed, changed_by, last_used FROM secrets ORDER BY name"
                        )
                    ).Select(r => new StoredSecret(
                        r.Name,
                        Micros.Time(r.Created),
                        r.CreatedBy,
                        Micros.Time(r.Changed),
                        r.ChangedBy,
                        Micros.Time(r.LastUsed)
                    )),
                ],
            stop
        );

    private sealed record SecretRow
    {
        public string Name { get; init; } = "";

        public long Created { get; init; }

        public string CreatedBy { get; init; } = "";

        public long Changed { get; init; }

        public string ChangedBy { get; init; } = "";

        public long? LastUsed { get; init; }
    }
}
