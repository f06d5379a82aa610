using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Problems;
using GrandStair.Service.Requests;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;

namespace GrandStair.Service.Session;

/// <summary>Signing in to the console and out of it, one's own password, and the sessions that there are.</summary>
internal static class SessionEndpoints
{
    public static void MapSession(this WebApplication app, RouteGroupBuilder api)
    {
        app.MapGet(
                "/login/{secret}",
                async (string secret, AccessTable access, Sessions sessions, HttpContext context, CancellationToken stop) =>
                {
                    if (await access.UseLoginLinkAsync(secret, DateTimeOffset.UtcNow, stop) is not { } account)
                        return Results.Redirect("/sign-in?link=used");
                    return await sessions.BeginAsync(context, new(account, "link", RoleNames.Every, SiteScope.All), stop)
                        ? Results.Redirect("/")
                        : Results.Redirect("/sign-in?link=used");
                }
            )
            .ExcludeFromDescription();

        api.MapPost("/session", SignInAsync)
            .AllowAnonymous()
            .WithName("SignIn")
            .Produces<SessionView>()
            .ProducesProblem(401)
            .ProducesProblem(429);
        api.MapGet("/session", async (ClaimsPrincipal caller, Sessions sessions, CancellationToken stop) =>
                await sessions.ViewAsync(caller.Caller(), stop)
            )
            .WithName("GetSession");
        api.MapDelete(
                "/session",
                async (AccessTable access, DomainClock clock, ClaimsPrincipal caller, HttpContext context, CancellationToken stop) =>
                {
                    if (caller.Session() is { } session)
                        await access.EndSessionAsync(session, null, revokes: false, caller.Actor(), clock.GetUtcNow(), stop);
                    Sessions.Forget(context);
                    return Results.NoContent();
                }
            )
            .WithName("SignOut")
            .Produces(204);
        api.MapPut(
                "/session/password",
                async (
                    PasswordChange change,
                    Passwords passwords,
                    AccountTable accounts,
                    DomainClock clock,
                    ClaimsPrincipal caller,
                    CancellationToken stop
                ) =>
                {
                    var name = caller.Actor().Name;
                    if (!await passwords.IsRightAsync(name, change.Old, stop))
                        throw RefusedException.Conflict("wrong-password", "The password that stood is another one. Nothing was changed.");
                    await accounts.SetPasswordAsync(
                        name,
                        Passwords.Hash(name, change.New),
                        caller.Session(),
                        caller.Actor(),
                        clock.GetUtcNow(),
                        stop
                    );
                    return Results.NoContent();
                }
            )
            .WithName("ChangePassword")
            .Produces(204)
            .ProducesProblem(409)
            .ProducesProblem(429);
        api.MapGet("/sessions", async (string? account, AccessTable access, ClaimsPrincipal caller, CancellationToken stop) =>
                (await access.SessionsAsync(Whose(caller, account), DateTimeOffset.UtcNow, stop))
                    .Select(s => Show(s, caller.Session()))
                    .ToArray()
            )
            .WithName("ListSessions");
        api.MapDelete(
                "/sessions/{id}",
                async (string id, AccessTable access, DomainClock clock, ClaimsPrincipal caller, CancellationToken stop) =>
                    await access.EndSessionAsync(
                        RequestFields.Number('s', id),
                        Whose(caller, null),
                        revokes: true,
                        caller.Actor(),
                        clock.GetUtcNow(),
                        stop
                    )
                        ? Results.NoContent()
                        : throw RefusedException.Unknown(
                            "unknown-session",
                            $"There is no session '{id}'. 'gstair session list' shows those that there are."
                        )
            )
            .WithName("EndSession")
            .Produces(204)
            .ProducesProblem(404);
    }

    /// <summary>Whose tokens and sessions a caller sees: admins for all sites see all, others their own.</summary>
    public static string? Whose(ClaimsPrincipal caller, string? account)
    {
        var may = caller.Caller();
        return may.Roles.HasFlag(Roles.Admin) && may.Sites.IsAll ? account : may.Actor.Name;
    }

    private static async Task<IResult> SignInAsync(
        SignIn signIn,
        Passwords passwords,
        AccessTable access,
        AccountTable accounts,
        AuditTable audit,
        Sessions sessions,
        HttpContext context,
        CancellationToken stop
    )
    {
        if (CrossSite.IsForgeable(context.Request))
            return Results.Problem(ProblemResults.Of(403, "foreign-origin", "Sign in from the console's own page."));
        if (signIn.Token is { } token)
        {
            if (await access.OfTokenAsync(token.Trim(), DateTimeOffset.UtcNow, stop) is not { } known)
                return Results.Problem(
                    ProblemResults.Of(
                        401,
                        "wrong-token",
                        "This token is not known, or has ended. The first one is in the data folder's admin.token."
                    )
                );
            if (known.Kind != AccountKind.Person)
                return Results.Problem(
                    ProblemResults.Of(
                        401,
                        "program",
                        "This is a program's token; programs call the interface and do not sign in to the console."
                    )
                );
            await sessions.BeginAsync(
                context,
                new(known.Account, "token", known.Roles, known.Sites) { Parent = new(known.Id, null, known.Expires) },
                stop
            );
            return Results.Ok(await sessions.ViewAsync(new(new(known.Account), known.Kind, known.Roles, known.Sites), stop));
        }

        var name = (signIn.Account ?? "").Trim().ToLowerInvariant();
        if (!await passwords.IsRightAsync(name, signIn.Password ?? "", stop))
        {
            await audit.AddAsync(
                sessions.Now,
                new("nobody", context.Address()),
                "session refused",
                PlainText.Shorten(name, Account.LongestName),
                null,
                "wrong account or password",
                stop
            );
            return Results.Problem(ProblemResults.Of(401, "wrong-password", "User name or password is incorrect."));
        }

        var account = (await accounts.FindAsync(name, stop))!;
        await sessions.BeginAsync(context, new(name, "password", RoleNames.Every, SiteScope.All), stop);
        return Results.Ok(await sessions.ViewAsync(new(new(name), account.Kind, account.Roles, account.Sites), stop));
    }

    private static SignedInView Show(StoredSession s, long? own) =>
        new($"s{s.Id}", s.Account, s.Way, s.Begun, s.Expires, s.LastUsed, s.From, s.Agent, s.Id == own);
}
