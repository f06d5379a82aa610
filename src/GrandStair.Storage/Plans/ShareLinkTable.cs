using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>Whose slots a share link shows.</summary>
public enum ShareLinkKind
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

/// <summary>A secret link that shows some of a plan's slots without an account.</summary>
/// <param name="Id">Its number.</param>
/// <param name="Plan">The plan.</param>
/// <param name="Kind">Whose slots.</param>
/// <param name="Of">Which one: the wave's, site's, crew's or owner's name; empty for the whole plan.</param>
/// <param name="Sites">The sites of its maker: it shows no others.</param>
/// <param name="Made">When it was made, UTC.</param>
/// <param name="MadeBy">Who made it.</param>
/// <param name="Ended">When it was ended, UTC; null while it stands.</param>
/// <param name="LastUsed">When it was last asked, UTC, to the minute; null where it never was.</param>
public sealed record StoredShareLink(
    long Id,
    string Plan,
    ShareLinkKind Kind,
    string Of,
    SiteScope Sites,
    DateTimeOffset Made,
    string MadeBy,
    DateTimeOffset? Ended,
    DateTimeOffset? LastUsed
);

/// <summary>The share links. Of a secret only its hash is kept.</summary>
public sealed class ShareLinkTable(Database database)
{
    // When a link was last used is kept to the minute, so that asking does not become writing.
    private static readonly TimeSpan NotedEvery = TimeSpan.FromMinutes(1);

    /// <summary>Stores a new link and returns its number.</summary>
    /// <param name="secret">The secret part of it, which is not kept.</param>
    /// <param name="link">What there is to know of it.</param>
    /// <param name="actor">Who makes it.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task<long> AddAsync(string secret, StoredShareLink link, Actor actor, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var id = await Database.NextAsync(c, t, "share-link");
                await c.ExecuteAsync(
                    "INSERT INTO share_links (id, hash, plan, kind, of_whom, sites, made, made_by) VALUES (@id, @hash, @Plan, @kind, "
                        + "@Of, @sites, @made, @MadeBy)",
                    new
                    {
                        id,
                        hash = AccessTable.Hash(secret),
                        link.Plan,
                        kind = link.Kind.ToString(),
                        link.Of,
                        sites = AccountTable.Write(link.Sites),
                        made = Micros.Of(link.Made),
                        link.MadeBy,
                    },
                    t
                );
                await AuditTable.AddAsync(
                    c,
                    t,
                    link.Made,
                    actor,
                    "share make",
                    $"a{id}",
                    null,
                    null,
                    $"{link.Plan}: {Told(link.Kind, link.Of)}",
                    ""
                );
                await Feed.AddAsync(c, t, link.Made, "plan", link.Plan, "share-link-made", actor);
                return id;
            },
            stop
        );

    /// <summary>The link of a secret, and notes that it was used; null where there is none that stands.</summary>
    public async Task<StoredShareLink?> OfAsync(string secret, DateTimeOffset now, CancellationToken stop)
    {
        var found = await database.ReadAsync(
            c =>
                c.QueryFirstOrDefaultAsync<Row>(
                    "SELECT * FROM share_links WHERE hash = @hash AND ended IS NULL",
                    new { hash = AccessTable.Hash(secret) }
                ),
            stop
        );
        if (found?.ToLink() is not { } link)
            return null;
        if (link.LastUsed is null || now - link.LastUsed > NotedEvery)
            await database.WriteAsync(
                (c, t) =>
                    c.ExecuteAsync("UPDATE share_links SET last_used = @now WHERE id = @Id", new { found.Id, now = Micros.Of(now) }, t),
                stop
            );
        return link;
    }

    /// <summary>The links of a plan, newest first; those that were ended among them.</summary>
    public Task<IReadOnlyList<StoredShareLink>> OfPlanAsync(string plan, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredShareLink>>(
            async c =>
                [
                    .. (await c.QueryAsync<Row>("SELECT * FROM share_links WHERE plan = @plan ORDER BY id DESC", new { plan })).Select(r =>
                        r.ToLink()
                    ),
                ],
            stop
        );

    /// <summary>Ends a link of a plan. False: there is none of that number that stands.</summary>
    public Task<bool> EndAsync(string plan, long id, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                if (
                    await c.ExecuteAsync(
                        "UPDATE share_links SET ended = @now WHERE id = @id AND plan = @plan AND ended IS NULL",
                        new
                        {
                            id,
                            plan,
                            now = Micros.Of(now),
                        },
                        t
                    ) == 0
                )
                    return false;
                await AuditTable.AddAsync(c, t, now, actor, "share end", $"a{id}", null, null, plan, reason);
                await Feed.AddAsync(c, t, now, "plan", plan, "share-link-ended", actor);
                return true;
            },
            stop
        );

    private static string Told(ShareLinkKind kind, string of) => kind == ShareLinkKind.Plan ? "the whole plan" : $"{kind} {of}";

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

        public StoredShareLink ToLink() =>
            new(
                Id,
                Plan,
                Enum.Parse<ShareLinkKind>(Kind),
                OfWhom,
                AccountTable.ReadSites(Sites),
                Micros.Time(Made),
                MadeBy,
                Micros.Time(Ended),
                Micros.Time(LastUsed)
            );
    }
}
