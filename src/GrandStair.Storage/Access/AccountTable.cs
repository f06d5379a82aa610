using System.Data.Common;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Refusals;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Access;

/// <summary>An account as it is kept.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Kind">Whether it is a person's or a program's.</param>
/// <param name="Roles">What it may do.</param>
/// <param name="Sites">What it may see.</param>
/// <param name="Provider">The sign-in provider that vouches for it; null for an account of our own.</param>
/// <param name="HasPassword">Whether it can sign in with a password.</param>
/// <param name="PasswordChanged">When the password was last set, UTC.</param>
/// <param name="Created">When it was made, UTC.</param>
/// <param name="CreatedBy">Who made it.</param>
/// <param name="LastUsed">When it last signed in, UTC; null for never.</param>
/// <param name="Ended">When it was ended, UTC; null while it stands.</param>
public sealed record StoredAccount(
    string Name,
    AccountKind Kind,
    Roles Roles,
    SiteScope Sites,
    string? Provider,
    bool HasPassword,
    DateTimeOffset? PasswordChanged,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset? LastUsed,
    DateTimeOffset? Ended
);

/// <summary>The accounts.</summary>
public sealed class AccountTable(Database database)
{
    private static readonly TimeSpan FailuresKept = TimeSpan.FromDays(1);

    /// <summary>Creates an account, or changes its rights. Sessions and tokens stay, limited to what the account may do now.</summary>
    /// <param name="account">The account; its passwords and times are left as they are.</param>
    /// <param name="isNew">Whether it has to be new.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="reason">Why.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is one of that name, or none where there should be.</exception>
    public Task PutAsync(StoredAccount account, bool isNew, Actor actor, string reason, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(account);
        return database.WriteAsync(
            async (c, t) =>
            {
                var before = await FindAsync(c, t, account.Name);
                if (isNew && before is not null)
                    throw RefusedException.Conflict(
                        "account-exists",
                        $"There is an account '{account.Name}' "
                            + $"already{(before.Ended is null ? "" : "; it has ended, and names are not given twice")}."
                    );
                if (!isNew && before is null)
                    throw RefusedException.Unknown("unknown-account", $"There is no account '{account.Name}'.");
                await c.ExecuteAsync(
                    """
                    INSERT INTO accounts (name, kind, roles, sites, provider, created, created_by) VALUES (@Name, @kind, @roles, @sites,
                      @Provider, @now, @by)
                    ON CONFLICT (name) DO UPDATE SET roles = excluded.roles, sites = excluded.sites
                    """,
                    new
                    {
                        account.Name,
                        kind = Word(account.Kind),
                        roles = Write(account.Roles),
                        sites = Write(account.Sites),
                        account.Provider,
                        now = Micros.Of(now),
                        by = actor.Name,
                    },
                    t
                );
                if (before?.Roles != account.Roles || !account.Sites.Equals(before?.Sites))
                    await ChangedAsync(
                        c,
                        t,
                        now,
                        actor,
                        before is null ? "account add" : "account change",
                        account.Name,
                        before is null ? null : Shown(before),
                        Shown(account),
                        reason
                    );
                return 0;
            },
            stop
        );
    }

    /// <summary>Ends an account with all its sessions and tokens.</summary>
    /// <returns>Whether there was one that stood.</returns>
    public Task<bool> EndAsync(string name, Actor actor, string reason, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                if (await FindAsync(c, t, name) is not { Ended: null } before)
                    return false;
                await c.ExecuteAsync(
                    "UPDATE accounts SET ended = @now, password = NULL WHERE name = @name",
                    new { name, now = Micros.Of(now) },
                    t
                );
                await c.ExecuteAsync(
                    "UPDATE tokens SET ended = @now WHERE account = @name AND ended IS NULL",
                    new { name, now = Micros.Of(now) },
                    t
                );
                await c.ExecuteAsync("DELETE FROM sessions WHERE account = @name", new { name }, t);
                await ChangedAsync(c, t, now, actor, "account end", name, Shown(before), "ended", reason);
                return true;
            },
            stop
        );

    /// <summary>Sets a password, ends the account's other sessions, and forgets its wrong ones.</summary>
    /// <param name="name">The account.</param>
    /// <param name="hash">The hash of the new password.</param>
    /// <param name="but">The session that goes on; null for none.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task SetPasswordAsync(string name, string hash, long? but, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync(
                    "UPDATE accounts SET password = @hash, password_changed = @now WHERE name = @name AND ended IS NULL",
                    new
                    {
                        name,
                        hash,
                        now = Micros.Of(now),
                    },
                    t
                );
                await c.ExecuteAsync("DELETE FROM sessions WHERE account = @name AND (@but IS NULL OR id <> @but)", new { name, but }, t);
                await c.ExecuteAsync("DELETE FROM sign_in_failures WHERE name = @name", new { name }, t);
                await ChangedAsync(
                    c,
                    t,
                    now,
                    actor,
                    "account password",
                    name,
                    null,
                    null,
                    "password set; other sessions, and tokens made in sessions, ended"
                );
                await AccessTable.EndMadeAsync(
                    c,
                    t,
                    "SELECT id FROM tokens WHERE created_by = @name AND parent_session IS NOT NULL AND parent_token IS NULL",
                    actor,
                    $"made in a session of '{name}', whose password was changed",
                    now,
                    name
                );
                return 0;
            },
            stop
        );

    /// <summary>Replaces a password's hash by one made again, with today's cost.</summary>
    public Task RehashAsync(string name, string hash, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync("UPDATE accounts SET password = @hash WHERE name = @name AND password IS NOT NULL", new { name, hash }, t),
            stop
        );

    /// <summary>The hash of an account's password; null where it has none or has ended.</summary>
    public Task<string?> PasswordAsync(string name, CancellationToken stop) =>
        database.ReadAsync(
            c =>
                c.ExecuteScalarAsync<string?>(
                    "SELECT password FROM accounts WHERE name = @name AND ended IS NULL AND kind = 'person'",
                    new { name }
                ),
            stop
        );

    /// <summary>
    /// Counts a try to sign in as wrong before the password is looked at, so that tries side by side cannot get around the wait.
    /// </summary>
    /// <returns>Until when the name has to wait; null where this try may go on.</returns>
    public Task<DateTimeOffset?> TryAsync(string name, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync<DateTimeOffset?>(
            async (c, t) =>
            {
                await c.ExecuteAsync(
                    "INSERT INTO sign_in_failures (name, failures, last_at, until_at) VALUES (@name, 0, @now, 0) ON CONFLICT (name) DO "
                        + "NOTHING",
                    new { name, now = Micros.Of(now) },
                    t
                );
                // Writing the row first holds back whoever tries at the same moment.
                var (failures, until) = await c.QuerySingleAsync<(long, long)>(
                    "UPDATE sign_in_failures SET last_at = @now WHERE name = @name RETURNING failures, until_at",
                    new { name, now = Micros.Of(now) },
                    t
                );
                if (until > Micros.Of(now))
                    return Micros.Time(until);
                var wait = SignInDelay.After((int)Math.Min(failures + 1, 1000));
                await c.ExecuteAsync(
                    "UPDATE sign_in_failures SET failures = failures + 1, until_at = @until WHERE name = @name",
                    new { name, until = Micros.Of(now + wait) },
                    t
                );
                await c.ExecuteAsync("DELETE FROM sign_in_failures WHERE last_at < @old", new { old = Micros.Of(now - FailuresKept) }, t);
                return null;
            },
            stop
        );

    /// <summary>Forgets an account's wrong passwords, since the right one was given, and notes that it was used.</summary>
    public Task SignedInAsync(string name, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync("DELETE FROM sign_in_failures WHERE name = @name", new { name }, t);
                return await c.ExecuteAsync(
                    "UPDATE accounts SET last_used = @now WHERE name = @name",
                    new { name, now = Micros.Of(now) },
                    t
                );
            },
            stop
        );

    /// <summary>All accounts by name; those that have ended among them.</summary>
    public Task<IReadOnlyList<StoredAccount>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredAccount>>(
            async c => [.. (await c.QueryAsync<AccountRow>("SELECT * FROM accounts ORDER BY name")).Select(r => r.ToAccount())],
            stop
        );

    /// <summary>The account of that name, or null.</summary>
    public Task<StoredAccount?> FindAsync(string name, CancellationToken stop) => database.ReadAsync(c => FindAsync(c, null, name), stop);

    /// <summary>Sites as they are stored.</summary>
    internal static string Write(SiteScope sites) => JsonSerializer.Serialize(sites.Names);

    /// <summary>Roles as they are stored.</summary>
    internal static string Write(Roles roles) => string.Join(',', roles.Names());

    internal static SiteScope ReadSites(string stored) => SiteScope.Of(JsonSerializer.Deserialize<string[]>(stored)!);

    internal static Roles ReadRoles(string stored) => RoleNames.Parse(stored.Split(',', StringSplitOptions.RemoveEmptyEntries));

    internal static string Word(AccountKind kind) => kind.ToString().ToLowerInvariant();

    internal static async Task ChangedAsync(
        DbConnection c,
        DbTransaction t,
        DateTimeOffset now,
        Actor actor,
        string command,
        string account,
        string? before,
        string? after,
        string reason
    )
    {
        await AuditTable.AddAsync(c, t, now, actor, command, account, null, before, after, reason);
        await Feed.AddAsync(c, t, now, "account", account, command.Split(' ')[1], actor);
    }

    private static async Task<StoredAccount?> FindAsync(DbConnection c, DbTransaction? t, string name) =>
        (await c.QuerySingleOrDefaultAsync<AccountRow>("SELECT * FROM accounts WHERE name = @name", new { name }, t))?.ToAccount();

    private static string Shown(StoredAccount account) =>
        $"{Word(account.Kind)}, {string.Join(", ", account.Roles.Names())}; sites {account.Sites}";

    private sealed record AccountRow
    {
        public string Name { get; init; } = "";

        public string Kind { get; init; } = "";

        public string Roles { get; init; } = "";

        public string Sites { get; init; } = "";

        public string? Provider { get; init; }

        public string? Password { get; init; }

        public long? PasswordChanged { get; init; }

        public long Created { get; init; }

        public string CreatedBy { get; init; } = "";

        public long? LastUsed { get; init; }

        public long? Ended { get; init; }

        public StoredAccount ToAccount() =>
            new(
                Name,
                Enum.Parse<AccountKind>(Kind, ignoreCase: true),
                ReadRoles(Roles),
                ReadSites(Sites),
                Provider,
                Password is not null,
                Micros.Time(PasswordChanged),
                Micros.Time(Created),
                CreatedBy,
                Micros.Time(LastUsed),
                Micros.Time(Ended)
            );
    }
}
