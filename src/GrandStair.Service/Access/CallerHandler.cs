using System.Security.Claims;
using System.Text.Encodings.Web;
using GrandStair.Core.Access;
using GrandStair.Service.Problems;
using GrandStair.Service.Providers;
using GrandStair.Storage.Access;
using Microsoft.AspNetCore.Authentication;
using Microsoft.Extensions.Options;

namespace GrandStair.Service.Access;

/// <summary>The credential of a call: whatever is made with it ends together with it.</summary>
/// <param name="Token">The token, or the one that the session was begun with; null for none.</param>
/// <param name="Session">The console's session; null for none.</param>
/// <param name="Expires">When it ends by itself, UTC. Null where it does not: a session that was begun with a password or a link stands for
/// the password, which lasts.</param>
internal sealed record Credential(long? Token, long? Session, DateTimeOffset? Expires);

/// <summary>Who calls, as the framework hands it on.</summary>
internal sealed class CallerPrincipal(Caller caller, Credential credential)
    : ClaimsPrincipal(new ClaimsIdentity([new(ClaimTypes.Name, caller.Actor.Name)], CallerHandler.Name))
{
    public Caller Caller { get; } = caller;

    public Credential Credential { get; } = credential;
}

/// <summary>What endpoints ask about the caller.</summary>
internal static class CallerExtensions
{
    /// <summary>Who calls.</summary>
    public static Caller Caller(this ClaimsPrincipal principal) => ((CallerPrincipal)principal).Caller;

    /// <summary>Who commands, and from where.</summary>
    public static Actor Actor(this ClaimsPrincipal principal) => principal.Caller().Actor;

    /// <summary>The session by which it is called; null for a token.</summary>
    public static long? Session(this ClaimsPrincipal principal) => principal.Credential().Session;

    /// <summary>By what it is called.</summary>
    public static Credential Credential(this ClaimsPrincipal principal) => ((CallerPrincipal)principal).Credential;

    /// <summary>The address that a call comes from.</summary>
    public static string Address(this HttpContext context) =>
        context.Connection.RemoteIpAddress is { } address
            ? (address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address).ToString()
            : "unknown";
}

/// <summary>Finds out who calls: by a token in <c>Authorization: Bearer</c>, or by the console's session cookie.</summary>
internal sealed class Callers(AccessTable access, ProviderAccounts accounts)
{
    // When something was last used is kept to the minute, so that calls do not become writes.
    private static readonly TimeSpan NotedEvery = TimeSpan.FromMinutes(1);

    /// <summary>The cookie's name: over TLS one that browsers take for this very host alone.</summary>
    public static string Cookie(HttpRequest request) => request.IsHttps ? "__Host-grandstair-session" : "grandstair-session";

    /// <summary>Who calls; null where that is not known, or no longer.</summary>
    public async Task<CallerPrincipal?> OfAsync(HttpContext context, CancellationToken stop)
    {
        var now = DateTimeOffset.UtcNow;
        var from = context.Address();
        if (context.Request.Headers.Authorization.ToString() is ['B', 'e', 'a', 'r', 'e', 'r', ' ', .. var token])
        {
            // Our own tokens have no dots; those of a provider have two.
            if (accounts.Provider is not null && token.Count(c => c == '.') == 2)
                return await OfProviderAsync(context, from, stop);
            if (await access.OfTokenAsync(token, now, stop) is not { } known)
                return null;
            if (IsToNote(known, now))
                await access.TokenUsedAsync(known.Id, from, now, stop);
            return Principal(known, $"{from} by token t{known.Id}", new(known.Id, null, known.Expires));
        }

        if (context.Request.Cookies[Cookie(context.Request)] is { } session && !CrossSite.IsForgeable(context.Request))
        {
            if (await access.OfSessionAsync(session, now, stop) is not { } known)
                return null;
            if (IsToNote(known, now))
                await access.SessionUsedAsync(known.Id, now, stop);
            return Principal(
                known,
                $"{from} by session s{known.Id}",
                new(known.ParentToken, known.Id, known.Way is "password" or "link" ? null : known.Expires)
            );
        }

        return null;
    }

    private async Task<CallerPrincipal?> OfProviderAsync(HttpContext context, string from, CancellationToken stop)
    {
        var result = await context.AuthenticateAsync(ProviderSchemes.Calls);
        return result.Succeeded && await accounts.OfAsync(result.Principal, from, stop) is { } account
            ? new(
                new(new(account.Name, $"{from} by {account.Provider}"), account.Kind, account.Roles, account.Sites),
                new(null, null, result.Properties.ExpiresUtc ?? DateTimeOffset.UtcNow)
            )
            : null;
    }

    private static bool IsToNote(Known known, DateTimeOffset now) => known.LastUsed is not { } last || now - last > NotedEvery;

    private static CallerPrincipal Principal(Known known, string from, Credential credential) =>
        new(new(new(known.Account, from), known.Kind, known.Roles, known.Sites), credential);
}

/// <summary>Identifies the caller for the framework, and answers unknown ones.</summary>
internal sealed class CallerHandler(
    IOptionsMonitor<AuthenticationSchemeOptions> options,
    ILoggerFactory logger,
    UrlEncoder encoder,
    Callers callers
) : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, encoder)
{
    public const string Name = "grandstair";

    protected override async Task<AuthenticateResult> HandleAuthenticateAsync() =>
        await callers.OfAsync(Context, Context.RequestAborted) is { } principal
            ? AuthenticateResult.Success(new(principal, Name))
            : AuthenticateResult.NoResult();

    protected override async Task HandleChallengeAsync(AuthenticationProperties properties)
    {
        Response.Headers.WWWAuthenticate = "Bearer";
        var given = Request.Headers.Authorization.Count > 0 || Request.Cookies.ContainsKey(Callers.Cookie(Request));
        await ProblemResults.WriteAsync(
            Context,
            401,
            given ? "wrong-token" : "no-token",
            given
                ? "This token or session is not known, or has ended. Use the token in the data folder's admin.token, or sign in again."
                : "Every call needs a token: send 'Authorization: Bearer TOKEN'. The first one is in the data folder's admin.token."
        );
    }
}
