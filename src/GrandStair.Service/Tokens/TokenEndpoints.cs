using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Access;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Accounts;
using GrandStair.Service.Requests;
using GrandStair.Service.Session;
using GrandStair.Storage.Access;

namespace GrandStair.Service.Tokens;

/// <summary>Tokens, with which programs call.</summary>
internal static class TokenEndpoints
{
    private const int MostDays = 366;
    private const int MostLabel = 100;

    public static void MapTokens(this RouteGroupBuilder api)
    {
        api.MapGet("/tokens", async (string? account, AccessTable access, ClaimsPrincipal caller, CancellationToken stop) =>
                (await access.TokensAsync(SessionEndpoints.Whose(caller, account), stop)).Select(Show).ToArray()
            )
            .WithName("ListTokens");
        api.MapPost("/tokens", CreateAsync).WithName("CreateToken").ProducesProblem(403).ProducesProblem(404).ProducesProblem(409);
        api.MapPost(
                "/tokens/{id}/end",
                async (string id, Because because, AccessTable access, DomainClock clock, ClaimsPrincipal caller, CancellationToken stop) =>
                    await access.EndTokenAsync(
                        RequestFields.Number('t', id),
                        SessionEndpoints.Whose(caller, null),
                        caller.Actor(),
                        RequestFields.Reason(because.Reason),
                        clock.GetUtcNow(),
                        stop
                    )
                        ? Results.NoContent()
                        : throw RefusedException.Unknown(
                            "unknown-token",
                            $"There is no active token '{id}'. 'gstair token list' shows them."
                        )
            )
            .WithName("EndToken")
            .Produces(204)
            .ProducesProblem(404);
    }

    private static async Task<NewToken> CreateAsync(
        TokenCommand command,
        AccountTable accounts,
        AccessTable access,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var own = caller.Caller();
        var name = command.Account is null ? own.Actor.Name : Account.Name(command.Account);
        if (name != own.Actor.Name && SessionEndpoints.Whose(caller, name) != name)
            throw new NotAllowedException("Tokens of others are made by an admin whose account is for all sites.");
        if (await accounts.FindAsync(name, stop) is not { Ended: null } account)
            throw RefusedException.Unknown("unknown-account", $"There is no account '{name}'.");
        if (string.IsNullOrWhiteSpace(command.Label) || command.Label.Length > MostLabel)
            throw RefusedException.Invalid("label", $"Say what the token is for, in up to {MostLabel} signs.");
        if (command.Days is < 1 or > MostDays)
            throw RefusedException.Invalid("days", $"A token ends after 1 to {MostDays} days; {command.Days} is none of these.");
        var (roles, sites) = AccountEndpoints.Scope(command.Roles ?? account.Roles.Names(), command.Sites ?? account.Sites.Names);
        // A token with few rights cannot create one with more.
        var (mostRoles, mostSites) = name == own.Actor.Name ? (own.Roles, own.Sites) : (account.Roles, account.Sites);
        if (command.Roles is not null && (roles & ~mostRoles) != Roles.None)
            throw RefusedException.Conflict("scope", $"'{name}' has no role {string.Join(", ", (roles & ~mostRoles).Names())} to hand on.");
        if (command.Sites is not null && !mostSites.Covers(sites))
            throw RefusedException.Conflict("scope", $"'{name}' may see {mostSites}, and cannot hand on more.");
        var now = DateTimeOffset.UtcNow;
        // What a token or a provider's session makes ends with it at the latest.
        var credential = caller.Credential();
        var expires = now.AddDays(command.Days) is var asked && credential.Expires < asked ? credential.Expires.Value : asked;
        var secret = AccessTable.NewSecret();
        var token = new StoredToken(
            0,
            name,
            command.Label.Trim(),
            roles & mostRoles,
            sites.Within(mostSites),
            now,
            own.Actor.Name,
            expires,
            null,
            null,
            null
        )
        {
            ParentToken = credential.Token,
            ParentSession = credential.Session,
        };
        return new(secret, Show(token with { Id = await access.AddTokenAsync(secret, token, own.Actor, stop) }));
    }

    private static TokenView Show(StoredToken t) =>
        new(
            $"t{t.Id}",
            t.Account,
            t.Label,
            t.Ended is not null ? "ended"
                : t.Expires <= DateTimeOffset.UtcNow ? "expired"
                : "active",
            t.Roles.Names(),
            t.Sites.Names,
            t.Created,
            t.CreatedBy,
            t.Expires,
            t.LastUsed,
            t.LastFrom,
            t.ParentToken is { } token ? $"t{token}"
                : t.ParentSession is { } session ? $"s{session}"
                : null
        );
}
