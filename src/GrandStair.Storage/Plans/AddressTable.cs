using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>Whose slots are to be had at a secret address.</summary>
public enum AddressKind
{
    /// <summary>Those of the whole plan.</summary>
    Plan,

    /// <summary>Those of one wave.</summary>
    Wave,

    /// <summary>Those at one site.</summary>
    Site,

    /// <summary>The appointments of one crew.</summary>
    Crew,

    /// <summary>Those of one owner's machines.</summary>
    Owner,
}

/// <summary>An address at which whoever knows it, and nobody else, finds some of a plan's slots without an account.</summary>
/// <param name="Id">Its number.</param>
/// <param name="Plan">The plan.</param>
/// <param name="Kind">Whose slots.</param>
/// <param name="Of">Which one: the wave's, site's, crew's or owner's name; empty for the whole plan.</param>
/// <param name="Sites">The sites of whoever made it: it shows no others.</param>
/// <param name="Made">When it was made, UTC.</param>
/// <param name="MadeBy">Who made it.</param>
/// <param name="Ended">When it was ended, UTC; null while it stands.</param>
/// <param name="LastUsed">When it was last asked, UTC, to the minute; null where it never was.</param>
public sealed record StoredAddress(long Id, string Plan, AddressKind Kind, string Of, SiteScope Sites, DateTimeOffset Made, string MadeBy, DateTimeOffset? Ended, DateTimeOffset? LastUsed);

/// <summary>The secret addresses. Of a secret only its hash is kept.</summary>
public sealed class AddressTable(Database database)
{
    // When an address was last used is kept to the minute, so that asking does not become writing.
    private static readonly TimeSpan NotedEvery = TimeSpan.FromMinutes(1);

    /// <summary>Keeps a new address and returns its number.</summary>
    /// <param name="secret">The secret part of it, which is not kept.</param>
    /// <param name="address">What there is to know of it.</param>
    /// <param name="actor">Who makes it.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task<long> AddAsync(string secret, StoredAddress address, Actor actor, CancellationToken stop) => database.WriteAsync(
        async (c, t) =>
        {
            var id = await Database.NextAsync(c, t, "address");
            await c.ExecuteAsync(
                "INSERT INTO addresses (id, hash, plan, kind, of_whom, sites, made, made_by) VALUES (@id, @hash, @Plan, @kind, @Of, @sites, @made, @MadeBy)",
                new { id, hash = AccessTable.Hash(secret), address.Plan, kind = address.Kind.ToString(), address.Of, sites = AccountTable.Write(address.Sites), made = Micros.Of(address.Made), address.MadeBy },
                t);
            await AuditTable.AddAsync(c, t, address.Made, actor, "address make", $"a{id}", null, null, $"{address.Plan}: {Told(address.Kind, address.Of)}", "");
            await Feed.AddAsync(c, t, address.Made, "plan", address.Plan, "address-made", actor);
            return id;
        },
        stop);

    /// <summary>The address of a secret, and notes that it was used; null where there is none that stands.</summary>
    public async Task<StoredAddress?> OfAsync(string secret, DateTimeOffset now, CancellationToken stop)
    {
        var found = await database.ReadAsync(c => c.QueryFirstOrDefaultAsync<Row>("SELECT * FROM addresses WHERE hash = @hash AND ended IS NULL", new { hash = AccessTable.Hash(secret) }), stop);
        if (found?.ToAddress() is not { } address) return null;
        if (address.LastUsed is null || now - address.LastUsed > NotedEvery)
            await database.WriteAsync((c, t) => c.ExecuteAsync("UPDATE addresses SET last_used = @now WHERE id = @Id", new { found.Id, now = Micros.Of(now) }, t), stop);
        return address;
    }

    /// <summary>The addresses of a plan, newest first; those that were ended among them.</summary>
    public Task<IReadOnlyList<StoredAddress>> OfPlanAsync(string plan, CancellationToken stop) => database.ReadAsync<IReadOnlyList<StoredAddress>>(
        async c => [.. (await c.QueryAsync<Row>("SELECT * FROM addresses WHERE plan = @plan ORDER BY id DESC", new { plan })).Select(r => r.ToAddress())], stop);

    /// <summary>Ends an address of a plan. False: there is none of that number that stands.</summary>
    public Task<bool> EndAsync(string plan, long id, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) => database.WriteAsync(
        async (c, t) =>
        {
            if (await c.ExecuteAsync("UPDATE addresses SET ended = @now WHERE id = @id AND plan = @plan AND ended IS NULL", new { id, plan, now = Micros.Of(now) }, t) == 0) return false;
            await AuditTable.AddAsync(c, t, now, actor, "address end", $"a{id}", null, null, plan, reason);
            await Feed.AddAsync(c, t, now, "plan", plan, "address-ended", actor);
            return true;
        },
        stop);

    private static string Told(AddressKind kind, string of) => kind == AddressKind.Plan ? "the whole plan" : $"{kind} {of}";

    private sealed record Row
    {
        public long Id { get; init; }

        public string Plan { get; init; } = "";

        public string Kind { get; init; } = "";

        public string OfWhom { get; init; } = "";

        public string Sites { get; init; } = "";

        public long Made { get; init; }

        public string MadeBy { get; init; } = "";

        public long? Ended { get; init; }

        public long? LastUsed { get; init; }

        public StoredAddress ToAddress() => new(Id, Plan, Enum.Parse<AddressKind>(Kind), OfWhom, AccountTable.ReadSites(Sites), Micros.Time(Made), MadeBy, Micros.Time(Ended), Micros.Time(LastUsed));
    }
}
