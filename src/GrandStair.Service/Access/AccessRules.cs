using GrandStair.Service.Problems;

namespace GrandStair.Service.Access;

/// <summary>What a foreign web page could make a browser send.</summary>
internal static class CrossSite
{
    private static readonly string[] Reads = ["GET", "HEAD"];

    /// <summary>
    /// Whether a call with the cookie alone may be another site's doing: it changes something and does not verify that it comes from this
    /// console.
    /// </summary>
    public static bool IsForgeable(HttpRequest request)
    {
        if (Reads.Contains(request.Method))
            return false;
        var site = request.Headers["Sec-Fetch-Site"].ToString();
        return site.Length > 0 ? site != "same-origin" : !IsOwnOrigin(request);
    }

    /// <summary>Whether the call names this service as its origin.</summary>
    public static bool IsOwnOrigin(HttpRequest request) => request.Headers.Origin.ToString() == $"{request.Scheme}://{request.Host}";
}

/// <summary>What every call has to keep, and what every answer says to browsers.</summary>
internal static class AccessRules
{
    private const string ContentPolicy =
        "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; font-src "
        + "'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

    public static void UseAccessRules(this WebApplication app, ServiceOptions options) =>
        app.Use(
            async (context, next) =>
            {
                var request = context.Request;
                var headers = context.Response.Headers;
                headers.XContentTypeOptions = "nosniff";
                headers["Referrer-Policy"] = "no-referrer";
                headers.XFrameOptions = "DENY";
                headers["Cross-Origin-Opener-Policy"] = "same-origin";
                headers["Cross-Origin-Resource-Policy"] = "same-origin";
                headers["Permissions-Policy"] = "camera=(), geolocation=(), microphone=()";
                headers.ContentSecurityPolicy = ContentPolicy;
                if (request.IsHttps)
                    headers.StrictTransportSecurity = "max-age=31536000";
                if (request.Path.StartsWithSegments("/api"))
                    headers.CacheControl = "no-store";
                if (!options.Hosts.Contains(request.Host.Host, StringComparer.OrdinalIgnoreCase))
                    await ProblemResults.WriteAsync(
                        context,
                        421,
                        "foreign-host",
                        $"This service does not answer under the name '{request.Host.Host}'. Call it by one of "
                            + $"{string.Join(", ", options.Hosts)}, or start it with --hosts NAME."
                    );
                else if (request.Headers.Origin.Count > 0 && !CrossSite.IsOwnOrigin(request))
                    await ProblemResults.WriteAsync(
                        context,
                        403,
                        "foreign-origin",
                        $"A page of '{request.Headers.Origin}' may not call this service."
                    );
                else
                    await next(context);
            }
        );
}
