using System.Data.Common;
using System.Security.Cryptography;
using System.Text;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Access;

/// <summary>A token as it is kept; the token itself is not.</summary>
/// <param name="Id">Its number, shown as <c>t3</c>.</param>
/// <param name="Account">The account that calls with it.</param>
/// <param name="Label">What it is for.</param>
/// <param name="Roles">What it may do, as far as the account may.</param>
/// <param name="Sites">What it may see, as far as the account may.</param>
/// <param name="Created">When it was made, UTC.</param>
/// <param name="CreatedBy">Who made it.</param>
/// <param name="Expires">When it ends by itself, UTC; null for never.</param>
/// <param name="Ended">When it was ended, UTC; null while it stands.</param>
/// <param name="LastUsed">When it was last used, to the minute, UTC; null for never.</param>
/// <param name="LastFrom">From which address.</param>
public sealed record StoredToken(
    long Id,
    string Account,
    string Label,
    Roles Roles,
    SiteScope Sites,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset? Expires,
    DateTimeOffset? Ended,
    DateTimeOffset? LastUsed,
    string? LastFrom
)
{
    /// <summary>
    /// The token it was made with, directly or through a session; it ends together with it. Null where it was made with none.
    /// </summary>
    public long? ParentToken { get; init; }

    /// <summary>The console session it was made in; null where it was made in none.</summary>
    public long? ParentSession { get; init; }
}

/// <summary>A session of the console.</summary>
/// <param name="Id">Its number, shown as <c>s3</c>.</param>
/// <param name="Account">Who is signed in.</param>
/// <param name="Way">How: <c>password</c>, <c>token</c>, <c>connection</c> or a provider's name.</param>
/// <param name="Roles">What it may do, as far as the account may.</param>
/// <param name="Sites">What it may see, as far as the account may.</param>
/// <param name="Begun">Since when, UTC.</param>
/// <param name="Expires">When it ends by itself, UTC.</param>
/// <param name="LastUsed">When it was last used, to the minute, UTC.</param>
/// <param name="From">From which address it was begun.</param>
/// <param name="Agent">Which browser.</param>
public sealed record StoredSession(
    long Id,
    string Account,
    string Way,
    Roles Roles,
    SiteScope Sites,
    DateTimeOffset Begun,
    DateTimeOffset Expires,
    DateTimeOffset LastUsed,
    string From,
    string Agent
)
{
    /// <summary>The token it was begun with; it ends together with it. Null where it was begun otherwise.</summary>
    public long? ParentToken { get; init; }
}

/// <summary>An account that called with a token or a session, and by which.</summary>
/// <param name="Account">The account's name.</param>
/// <param name="Kind">Whose it is.</param>
/// <param name="Roles">What it may do with this token or session.</param>
/// <param name="Sites">What it may see with it.</param>
/// <param name="Id">The token's or session's number.</param>
/// <param name="LastUsed">When it was last used, UTC; null for never.</param>
/// <param name="Expires">When it ends by itself, UTC; null for never.</param>
/// <param name="ParentToken">For a session the token it was begun with; null otherwise.</param>
/// <param name="Way">For a session how it was begun; empty for a token.</param>
public sealed record Known(
    string Account,
    AccountKind Kind,
    Roles Roles,
    SiteScope Sites,
    long Id,
    DateTimeOffset? LastUsed,
    DateTimeOffset? Expires,
    long? ParentToken,
    string Way
);

/// <summary>What accounts call with: tokens, links that sign in once, and sessions. Only hashes are kept.</summary>
public sealed class AccessTable(Database database)
{
    /// <summary>A new secret of 256 random bits, safe in a URL.</summary>
    public static string NewSecret() =>
        Convert.ToBase64String(RandomNumberGenerator.GetBytes(32)).Replace('+', '-').Replace('/', '_').TrimEnd('=');

    /// <summary>Stores a new token and returns its number.</summary>
    /// <param name="secret">The token, which is not kept.</param>
    /// <param name="token">What there is to know of it.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task<long> AddTokenAsync(string secret, StoredToken token, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(token);
        return database.WriteAsync(
            async (c, t) =>
            {
                var id = await Database.NextAsync(c, t, "token");
                await c.ExecuteAsync(
                    "INSERT INTO tokens (id, hash, account, label, roles, sites, created, created_by, expires, parent_token, "
                        + "parent_session) VALUES (@id, @hash, @Account, @Label, @roles, @sites, @created, @by, @expires, @ParentToken, "
                        + "@ParentSession)",
                    new
                    {
                        id,
                        hash = Hash(secret),
                        token.Account,
                        token.Label,
                        roles = AccountTable.Write(token.Roles),
                        sites = AccountTable.Write(token.Sites),
                        created = Micros.Of(token.Created),
                        by = actor.Name,
                        expires = Micros.Of(token.Expires),
                        token.ParentToken,
                        token.ParentSession,
                    },
                    t
                );
                await AccountTable.ChangedAsync(
                    c,
                    t,
                    token.Created,
                    actor,
                    "token create",
                    $"t{id}",
                    null,
                    $"of {token.Account}: {string.Join(", ", token.Roles.Names())}; sites {token.Sites}; ends "
                        + $"{token.Expires?.ToString("yyyy-MM-dd", null) ?? "never"}",
                    token.Label
                );
                return id;
            },
            stop
        );
    }

    /// <summary>Whether any token was ever made.</summary>
    public Task<bool> HasTokenAsync(CancellationToken stop) =>
        database.ReadAsync(async c => await c.ExecuteScalarAsync<long>("SELECT count(*) FROM tokens") > 0, stop);

    /// <summary>Who a token is of; null where it is unknown or has ended.</summary>
    public Task<Known?> OfTokenAsync(string token, DateTimeOffset now, CancellationToken stop) =>
        KnownAsync(
            "tokens",
            "NULL AS parent_token, '' AS way",
            "x.ended IS NULL AND (x.expires IS NULL OR x.expires > @now)",
            token,
            now,
            stop
        );

    /// <summary>Notes that a token was used.</summary>
    public Task TokenUsedAsync(long id, string from, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "UPDATE tokens SET last_used = @now, last_from = @from WHERE id = @id; UPDATE accounts SET last_used = @now WHERE "
                        + "name = (SELECT account FROM tokens WHERE id = @id)",
                    new
                    {
                        id,
                        from,
                        now = Micros.Of(now),
                    },
                    t
                ),
            stop
        );

    /// <summary>The tokens of an account or of all, newest first; those that have ended among them.</summary>
    public Task<IReadOnlyList<StoredToken>> TokensAsync(string? account, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredToken>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<TokenRow>(
                            "SELECT * FROM tokens WHERE @account IS NULL OR account = @account ORDER BY id DESC",
                            new { account }
                        )
                    ).Select(r => r.ToToken()),
                ],
            stop
        );

    /// <summary>Ends a token.</summary>
    /// <param name="id">Its number.</param>
    /// <param name="account">The account that it has to be of; null for any.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="reason">Why.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>Whether there was one that stood.</returns>
    public Task<bool> EndTokenAsync(long id, string? account, Actor actor, string reason, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                if (
                    await c.ExecuteScalarAsync<long>(
                        "SELECT count(*) FROM tokens WHERE id = @id AND ended IS NULL AND (@account IS NULL OR account = @account)",
                        new { id, account },
                        t
                    ) == 0
                )
                    return false;
                await EndMadeAsync(c, t, $"SELECT id FROM tokens WHERE id = {id}", actor, reason, now);
                return true;
            },
            stop
        );

    /// <summary>Ends tokens, with all tokens and sessions that were made with them, however indirectly.</summary>
    /// <param name="c">The connection.</param>
    /// <param name="t">The transaction.</param>
    /// <param name="which">The tokens to begin with, as a query of their numbers.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="reason">Why.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="name">What the query's parameter <c>@name</c> is.</param>
    internal static async Task EndMadeAsync(
        DbConnection c,
        DbTransaction t,
        string which,
        Actor actor,
        string reason,
        DateTimeOffset now,
        string? name = null
    )
    {
        var made = $"WITH RECURSIVE made (id) AS ({which} UNION SELECT x.id FROM tokens x JOIN made m ON x.parent_token = m.id)";
        var ids = (
            await c.QueryAsync<long>(
                $"{made} SELECT id FROM tokens WHERE ended IS NULL AND id IN (SELECT id FROM made) ORDER BY id",
                new { name },
                t
            )
        ).AsList();
        await c.ExecuteAsync($"{made} DELETE FROM sessions WHERE parent_token IN (SELECT id FROM made)", new { name }, t);
        foreach (var id in ids)
        {
            await c.ExecuteAsync("UPDATE tokens SET ended = @now WHERE id = @id", new { id, now = Micros.Of(now) }, t);
            await AccountTable.ChangedAsync(c, t, now, actor, "token end", $"t{id}", "active", "ended", reason);
        }
    }

    /// <summary>Stores a link that signs its bearer in once.</summary>
    public Task AddLoginLinkAsync(string secret, string account, DateTimeOffset expires, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "INSERT INTO login_links (hash, actor, expires) VALUES (@hash, @account, @expires)",
                    new
                    {
                        hash = Hash(secret),
                        account,
                        expires = Micros.Of(expires),
                    },
                    t
                ),
            stop
        );

    /// <summary>Uses a link up and returns its account; null where it is unknown, used or over.</summary>
    public async Task<string?> UseLoginLinkAsync(string secret, DateTimeOffset now, CancellationToken stop)
    {
        // Looked up before it is used up, so that guessing does not become writing.
        if (
            await database.ReadAsync(
                c =>
                    c.ExecuteScalarAsync<long>(
                        "SELECT count(*) FROM login_links WHERE hash = @hash AND used IS NULL",
                        new { hash = Hash(secret) }
                    ),
                stop
            ) == 0
        )
            return null;
        return await database.WriteAsync(
            (c, t) =>
                c.ExecuteScalarAsync<string?>(
                    "UPDATE login_links SET used = @now WHERE hash = @hash AND used IS NULL AND expires > @now RETURNING actor",
                    new { hash = Hash(secret), now = Micros.Of(now) },
                    t
                ),
            stop
        );
    }

    /// <summary>Begins a session, and ends the one that it takes the place of.</summary>
    /// <param name="session">What there is to know of it; its number is given here.</param>
    /// <param name="before">The secret of the session that the browser had; null for none.</param>
    /// <param name="actor">Who signs in.</param>
    /// <param name="at">The time for the audit, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>The session's secret.</returns>
    public async Task<string> BeginSessionAsync(
        StoredSession session,
        string? before,
        Actor actor,
        DateTimeOffset at,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(session);
        var secret = NewSecret();
        await database.WriteAsync(
            async (c, t) =>
            {
                var id = await Database.NextAsync(c, t, "session");
                if (before is not null)
                    await c.ExecuteAsync("DELETE FROM sessions WHERE hash = @hash", new { hash = Hash(before) }, t);
                await c.ExecuteAsync("DELETE FROM sessions WHERE expires < @now", new { now = Micros.Of(session.Begun) }, t);
                await c.ExecuteAsync(
                    """
                    INSERT INTO sessions (id, hash, account, way, roles, sites, begun, expires, last_used, from_where, agent, parent_token)
                    VALUES (@id, @hash, @Account, @Way, @roles, @sites, @begun, @expires, @begun, @From, @Agent, @ParentToken)
                    """,
                    new
                    {
                        id,
                        hash = Hash(secret),
                        session.Account,
                        session.Way,
                        roles = AccountTable.Write(session.Roles),
                        sites = AccountTable.Write(session.Sites),
                        begun = Micros.Of(session.Begun),
                        expires = Micros.Of(session.Expires),
                        session.From,
                        session.Agent,
                        session.ParentToken,
                    },
                    t
                );
                await AccountTable.ChangedAsync(
                    c,
                    t,
                    at,
                    actor,
                    "session begin",
                    $"s{id}",
                    null,
                    $"by {session.Way}, until {session.Expires:yyyy-MM-dd HH:mm}Z",
                    ""
                );
                return 0;
            },
            stop
        );
        return secret;
    }

    /// <summary>Who a session is of; null where it is unknown or over.</summary>
    public Task<Known?> OfSessionAsync(string secret, DateTimeOffset now, CancellationToken stop) =>
        KnownAsync("sessions", "x.parent_token, x.way", "x.expires > @now", secret, now, stop);

    /// <summary>Notes that a session was used.</summary>
    public Task SessionUsedAsync(long id, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) => c.ExecuteAsync("UPDATE sessions SET last_used = @now WHERE id = @id", new { id, now = Micros.Of(now) }, t),
            stop
        );

    /// <summary>The sessions of an account or of all that are not over, newest first.</summary>
    public Task<IReadOnlyList<StoredSession>> SessionsAsync(string? account, DateTimeOffset now, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredSession>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<SessionRow>(
                            "SELECT * FROM sessions WHERE (@account IS NULL OR account = @account) AND expires > @now ORDER BY id DESC",
                            new { account, now = Micros.Of(now) }
                        )
                    ).Select(r => r.ToSession()),
                ],
            stop
        );

    /// <summary>
    /// Ends a session. Where somebody revokes it, the tokens that were made in it end too; signing out of it leaves them.
    /// </summary>
    /// <param name="id">Its number.</param>
    /// <param name="account">The account that it has to be of; null for any.</param>
    /// <param name="revokes">Whether the tokens that were made in it end.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="at">The time for the audit, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>Whether there was one.</returns>
    public Task<bool> EndSessionAsync(long id, string? account, bool revokes, Actor actor, DateTimeOffset at, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var ended = await c.ExecuteAsync(
                    "DELETE FROM sessions WHERE id = @id AND (@account IS NULL OR account = @account)",
                    new { id, account },
                    t
                );
                if (ended > 0)
                    await AccountTable.ChangedAsync(c, t, at, actor, "session end", $"s{id}", null, null, "");
                if (ended > 0 && revokes)
                    await EndMadeAsync(
                        c,
                        t,
                        $"SELECT id FROM tokens WHERE parent_session = {id}",
                        actor,
                        $"made in session s{id}, which was ended",
                        at
                    );
                return ended > 0;
            },
            stop
        );

    private Task<Known?> KnownAsync(string table, string more, string stands, string secret, DateTimeOffset now, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                (
                    await c.QuerySingleOrDefaultAsync<KnownRow>(
                        $"""
                        SELECT x.id, x.roles, x.sites, x.last_used, x.expires, {more}, a.name, a.kind, a.roles AS account_roles, a.sites
                          AS account_sites
                        FROM {table} x JOIN accounts a ON a.name = x.account WHERE x.hash = @hash AND a.ended IS NULL AND {stands}
                        """,
                        new { hash = Hash(secret), now = Micros.Of(now) }
                    )
                )?.ToKnown(),
            stop
        );

    internal static string Hash(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));

    private sealed record KnownRow
    {
        public long Id { get; init; }

        public string Roles { get; init; } = "";

        public string Sites { get; init; } = "";

        public long? LastUsed { get; init; }

        public string Name { get; init; } = "";

        public string Kind { get; init; } = "";

        public long? Expires { get; init; }

        public long? ParentToken { get; init; }

        public string Way { get; init; } = "";

        public string AccountRoles { get; init; } = "";

        public string AccountSites { get; init; } = "";

        public Known ToKnown() =>
            new(
                Name,
                Enum.Parse<AccountKind>(Kind, ignoreCase: true),
                AccountTable.ReadRoles(Roles) & AccountTable.ReadRoles(AccountRoles),
                AccountTable.ReadSites(Sites).Within(AccountTable.ReadSites(AccountSites)),
                Id,
                Micros.Time(LastUsed),
                Micros.Time(Expires),
                ParentToken,
                Way
            );
    }

    private sealed record TokenRow
    {
        public long Id { get; init; }

        public string Account { get; init; } = "";

        public string Label { get; init; } = "";

        public string Roles { get; init; } = "";

        public string Sites { get; init; } = "";

        public long Created { get; init; }

        public string CreatedBy { get; init; } = "";

        public long? Expires { get; init; }

        public long? Ended { get; init; }

        public long? LastUsed { get; init; }

        public string? LastFrom { get; init; }

        public long? ParentToken { get; init; }

        public long? ParentSession { get; init; }

        public StoredToken ToToken() =>
            new(
                Id,
                Account,
                Label,
                AccountTable.ReadRoles(Roles),
                AccountTable.ReadSites(Sites),
                Micros.Time(Created),
                CreatedBy,
                Micros.Time(Expires),
                Micros.Time(Ended),
                Micros.Time(LastUsed),
                LastFrom
            )
            {
                ParentToken = ParentToken,
                ParentSession = ParentSession,
            };
    }

    private sealed record SessionRow
    {
        public long Id { get; init; }

        public string Account { get; init; } = "";

        public string Way { get; init; } = "";

        public string Roles { get; init; } = "";

        public string Sites { get; init; } = "";

        public long Begun { get; init; }

        public long Expires { get; init; }

        public long LastUsed { get; init; }

        public string FromWhere { get; init; } = "";

        public string Agent { get; init; } = "";

        public StoredSession ToSession() =>
            new(
                Id,
                Account,
                Way,
                AccountTable.ReadRoles(Roles),
                AccountTable.ReadSites(Sites),
                Micros.Time(Begun),
                Micros.Time(Expires),
                Micros.Time(LastUsed),
                FromWhere,
                Agent
            );
    }
}
