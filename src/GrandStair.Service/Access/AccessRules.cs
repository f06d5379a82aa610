using System.Security.Claims;
using System.Text.Encodings.Web;
using GrandStair.Service.Problems;
using GrandStair.Storage.Access;
using Microsoft.AspNetCore.Authentication;
using Microsoft.Extensions.Options;

namespace GrandStair.Service.Access;

/// <summary>Tells who calls: by a token in <c>Authorization: Bearer</c>, or by the console's session cookie.</summary>
internal sealed class CallerHandler(IOptionsMonitor<AuthenticationSchemeOptions> options, ILoggerFactory logger, UrlEncoder encoder, AccessTable access)
    : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, encoder)
{
    public const string Name = "grandstair";
    public const string Cookie = "grandstair-session";

    protected override async Task<AuthenticateResult> HandleAuthenticateAsync()
    {
        string? actor = null;
        if (Request.Headers.Authorization.ToString() is ['B', 'e', 'a', 'r', 'e', 'r', ' ', .. var token])
            actor = await access.ActorOfTokenAsync(token, Context.RequestAborted);
        else if (Request.Cookies[Cookie] is { } session && !CrossSite.IsForgeable(Request))
            actor = await access.ActorOfSessionAsync(session, DateTimeOffset.UtcNow, Context.RequestAborted);
        if (actor is null) return AuthenticateResult.NoResult();
        return AuthenticateResult.Success(new(new(new ClaimsIdentity([new(ClaimTypes.Name, actor)], Name)), Name));
    }

    protected override async Task HandleChallengeAsync(AuthenticationProperties properties)
    {
        Response.StatusCode = StatusCodes.Status401Unauthorized;
        Response.Headers.WWWAuthenticate = "Bearer";
        var given = Request.Headers.Authorization.Count > 0 || Request.Cookies.ContainsKey(Cookie);
        await Response.WriteAsJsonAsync(
            ProblemResults.Of(401, given ? "wrong-token" : "no-token", given
                ? "This token or session is not known, or has ended. Use the token in the data folder's admin.token, or sign in again."
                : "Every call needs a token: send 'Authorization: Bearer TOKEN'. The first one is in the data folder's admin.token."),
            options: null,
            contentType: "application/problem+json");
    }
}

/// <summary>What a foreign web page could make a browser send.</summary>
internal static class CrossSite
{
    private static readonly string[] Reads = ["GET", "HEAD"];

    /// <summary>Whether a call with the cookie alone may be another site's doing: it changes something and does not prove that it comes from this console.</summary>
    public static bool IsForgeable(HttpRequest request)
    {
        if (Reads.Contains(request.Method)) return false;
        var site = request.Headers["Sec-Fetch-Site"].ToString();
        return site.Length > 0 ? site != "same-origin" : !IsOwnOrigin(request);
    }

    /// <summary>Whether the call names this service as its origin.</summary>
    public static bool IsOwnOrigin(HttpRequest request) =>
        request.Headers.Origin.ToString() == $"{request.Scheme}://{request.Host}";
}

/// <summary>What every call has to keep, and what every answer says to browsers.</summary>
internal static class AccessRules
{
    public static void UseAccessRules(this WebApplication app, ServiceOptions options) => app.Use(async (context, next) =>
    {
        var request = context.Request;
        if (!options.Hosts.Contains(request.Host.Host, StringComparer.OrdinalIgnoreCase))
        {
            await RefuseAsync(context, 421, "foreign-host", $"This service does not answer under the name '{request.Host.Host}'. Call it by one of {string.Join(", ", options.Hosts)}, or start it with --hosts NAME.");
            return;
        }

        if (request.Headers.Origin.Count > 0 && !CrossSite.IsOwnOrigin(request))
        {
            await RefuseAsync(context, 403, "foreign-origin", $"A page of '{request.Headers.Origin}' may not call this service.");
            return;
        }

        var headers = context.Response.Headers;
        headers["X-Content-Type-Options"] = "nosniff";
        headers["Referrer-Policy"] = "no-referrer";
        headers["X-Frame-Options"] = "DENY";
        headers["Cross-Origin-Opener-Policy"] = "same-origin";
        headers["Cross-Origin-Resource-Policy"] = "same-origin";
        headers.ContentSecurityPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";
        if (request.Path.StartsWithSegments("/api")) headers.CacheControl = "no-store";
        await next(context);
    });

    private static Task RefuseAsync(HttpContext context, int status, string name, string detail)
    {
        context.Response.StatusCode = status;
        return context.Response.WriteAsJsonAsync(ProblemResults.Of(status, name, detail), options: null, contentType: "application/problem+json");
    }

    /// <summary>Who commands.</summary>
    public static string Actor(this ClaimsPrincipal caller) => caller.Identity!.Name!;
}
