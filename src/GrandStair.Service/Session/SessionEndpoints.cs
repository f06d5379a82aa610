using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Problems;
using GrandStair.Storage.Access;

namespace GrandStair.Service.Session;

/// <summary>Signing in and out of the console.</summary>
internal static class SessionEndpoints
{
    private static readonly TimeSpan Lasts = TimeSpan.FromHours(12);

    public static void MapSession(this WebApplication app, RouteGroupBuilder api)
    {
        app.MapGet("/login/{secret}", async (string secret, AccessTable access, HttpContext context, CancellationToken stop) =>
        {
            if (await access.UseLoginLinkAsync(secret, DateTimeOffset.UtcNow, stop) is not { } actor) return Results.Redirect("/sign-in?link=used");
            await BeginAsync(access, context, actor, stop);
            return Results.Redirect("/");
        }).ExcludeFromDescription();

        api.MapPost("/session", async (SignIn signIn, AccessTable access, DomainClock clock, HttpContext context, CancellationToken stop) =>
        {
            if (CrossSite.IsForgeable(context.Request)) return Results.Problem(ProblemResults.Of(403, "foreign-origin", "Sign in from the console's own page."));
            if (await access.ActorOfTokenAsync(signIn.Token.Trim(), stop) is not { } actor)
                return Results.Problem(ProblemResults.Of(401, "wrong-token", "This token is not known, or has ended. The first one is in the data folder's admin.token."));
            await BeginAsync(access, context, actor, stop);
            return Results.Ok(View(actor, clock));
        }).AllowAnonymous().WithName("SignIn").Produces<SessionView>().ProducesProblem(401);

        api.MapGet("/session", (ClaimsPrincipal caller, DomainClock clock) => View(caller.Actor(), clock)).WithName("GetSession");

        api.MapDelete("/session", async (AccessTable access, HttpContext context, CancellationToken stop) =>
        {
            if (context.Request.Cookies[CallerHandler.Cookie] is { } session) await access.EndSessionAsync(session, stop);
            context.Response.Cookies.Delete(CallerHandler.Cookie);
            return Results.NoContent();
        }).WithName("SignOut");
    }

    private static SessionView View(string actor, DomainClock clock) => new(actor, typeof(SessionEndpoints).Assembly.GetName().Version!.ToString(3), clock.GetUtcNow(), clock.Pace);

    private static async Task BeginAsync(AccessTable access, HttpContext context, string actor, CancellationToken stop)
    {
        var session = await access.BeginSessionAsync(actor, DateTimeOffset.UtcNow + Lasts, stop);
        context.Response.Cookies.Append(CallerHandler.Cookie, session, new()
        {
            HttpOnly = true,
            SameSite = SameSiteMode.Strict,
            Secure = context.Request.IsHttps,
            Path = "/",
            MaxAge = Lasts,
        });
    }
}
