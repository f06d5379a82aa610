using System.Security.Cryptography;
using System.Text;
using Dapper;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Access;

/// <summary>Who may: tokens, links that log in once, and sessions. Only hashes are kept.</summary>
public sealed class AccessTable(Database database)
{
    /// <summary>A new secret of 256 random bits, safe in a URL.</summary>
    public static string NewSecret() => Convert.ToBase64String(RandomNumberGenerator.GetBytes(32)).Replace('+', '-').Replace('/', '_').TrimEnd('=');

    /// <summary>Keeps a token for an actor.</summary>
    public Task AddTokenAsync(string token, string actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) => c.ExecuteAsync("INSERT INTO access_tokens (hash, actor, created) VALUES (@hash, @actor, @now) ON CONFLICT (hash) DO NOTHING", new { hash = Hash(token), actor, now = Micros.Of(now) }, t),
            stop);

    /// <summary>Whether any token was ever made.</summary>
    public Task<bool> HasTokenAsync(CancellationToken stop) =>
        database.ReadAsync(async c => await c.ExecuteScalarAsync<long>("SELECT count(*) FROM access_tokens") > 0, stop);

    /// <summary>The actor of a token; null where it is unknown or has ended.</summary>
    public Task<string?> ActorOfTokenAsync(string token, CancellationToken stop) =>
        database.ReadAsync(c => c.ExecuteScalarAsync<string?>("SELECT actor FROM access_tokens WHERE hash = @hash AND ended IS NULL", new { hash = Hash(token) }), stop);

    /// <summary>Keeps a link that logs its bearer in once.</summary>
    public Task AddLoginLinkAsync(string secret, string actor, DateTimeOffset expires, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) => c.ExecuteAsync("INSERT INTO login_links (hash, actor, expires) VALUES (@hash, @actor, @expires)", new { hash = Hash(secret), actor, expires = Micros.Of(expires) }, t),
            stop);

    /// <summary>Uses a link up and returns its actor; null where it is unknown, used or over.</summary>
    public Task<string?> UseLoginLinkAsync(string secret, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) => c.ExecuteScalarAsync<string?>(
                "UPDATE login_links SET used = @now WHERE hash = @hash AND used IS NULL AND expires > @now RETURNING actor", new { hash = Hash(secret), now = Micros.Of(now) }, t),
            stop);

    /// <summary>Begins a session and returns its secret.</summary>
    public async Task<string> BeginSessionAsync(string actor, DateTimeOffset expires, CancellationToken stop)
    {
        var secret = NewSecret();
        await database.WriteAsync(
            (c, t) => c.ExecuteAsync("INSERT INTO sessions (hash, actor, expires) VALUES (@hash, @actor, @expires)", new { hash = Hash(secret), actor, expires = Micros.Of(expires) }, t),
            stop);
        return secret;
    }

    /// <summary>The actor of a session; null where it is unknown or over.</summary>
    public Task<string?> ActorOfSessionAsync(string secret, DateTimeOffset now, CancellationToken stop) =>
        database.ReadAsync(c => c.ExecuteScalarAsync<string?>("SELECT actor FROM sessions WHERE hash = @hash AND expires > @now", new { hash = Hash(secret), now = Micros.Of(now) }), stop);

    /// <summary>Ends a session.</summary>
    public Task EndSessionAsync(string secret, CancellationToken stop) =>
        database.WriteAsync((c, t) => c.ExecuteAsync("DELETE FROM sessions WHERE hash = @hash", new { hash = Hash(secret) }, t), stop);

    private static string Hash(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));
}
