using System.Security.Claims;
using GrandStair.Core.Access;
using GrandStair.Engine.Clocks;
using GrandStair.Files.Providers;
using GrandStair.Service.Access;
using GrandStair.Service.Secrets;
using GrandStair.Service.Session;
using GrandStair.Storage.Access;
using Microsoft.AspNetCore.Authentication;
using Microsoft.IdentityModel.Protocols.OpenIdConnect;

namespace GrandStair.Service.Providers;

/// <summary>
/// Signing in by a provider: the console with the code flow and PKCE, calls with the provider's access tokens (JWT, RFC 9068).
/// </summary>
internal static class ProviderSchemes
{
    public const string Console = "provider";
    public const string Calls = "provider-token";
    public const string Start = "/provider/sign-in";
    private const string Signed = "/provider/signed-in";

    // Keys of the service's own are never among them: who knows a public key must not be able to sign with it as with a shared one.
    private static readonly string[] Algorithms = ["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512"];
    private static readonly TimeSpan Skew = TimeSpan.FromSeconds(30);

    public static void AddProvider(this AuthenticationBuilder authentication, SignInProvider provider)
    {
        var isHere = new Uri(provider.Authority).IsLoopback;
        authentication.AddOpenIdConnect(Console, o =>
        {
            o.Authority = provider.Authority;
            o.RequireHttpsMetadata = !isHere;
            o.ClientId = provider.Client;
            o.ResponseType = OpenIdConnectResponseType.Code;
            o.ResponseMode = OpenIdConnectResponseMode.Query;
            o.UsePkce = true;
            o.CallbackPath = Signed;
            o.MapInboundClaims = false;
            o.GetClaimsFromUserInfoEndpoint = true;
            o.ClaimActions.MapAll();
            o.TokenValidationParameters.ValidAlgorithms = Algorithms;
            o.TokenValidationParameters.ClockSkew = Skew;
            o.Scope.Clear();
            foreach (var scope in provider.Scopes.Prepend("openid"))
                o.Scope.Add(scope);
            // The way back comes from the provider's page, to which stricter cookies would not be given.
            o.CorrelationCookie.SameSite = o.NonceCookie.SameSite = SameSiteMode.Lax;
            o.CorrelationCookie.SecurePolicy = o.NonceCookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
            o.Events.OnAuthorizationCodeReceived = async context =>
            {
                if (provider.ClientSecret is { } secret)
                    context.TokenEndpointRequest!.ClientSecret = await context
                        .HttpContext.RequestServices.GetRequiredService<SecretStore>()
                        .OfAsync(secret, context.HttpContext.RequestAborted);
            };
            o.Events.OnTicketReceived = async context =>
            {
                context.HandleResponse();
                var services = context.HttpContext.RequestServices;
                var stop = context.HttpContext.RequestAborted;
                var account = await services
                    .GetRequiredService<ProviderAccounts>()
                    .OfAsync(context.Principal!, context.HttpContext.Address(), stop);
                if (
                    account is not { Kind: AccountKind.Person } person
                    || !await services
                        .GetRequiredService<Sessions>()
                        .BeginAsync(context.HttpContext, new(person.Name, provider.Mapping.Provider, person.Roles, person.Sites), stop)
                )
                {
                    context.Response.Redirect("/sign-in?provider=refused");
                    return;
                }

                context.Response.Redirect("/");
            };
            o.Events.OnRemoteFailure = context =>
            {
                // The error may repeat what was put into the URL; the page says that it failed, the log why.
                context
                    .HttpContext.RequestServices.GetRequiredService<ILoggerFactory>()
                    .CreateLogger(typeof(ProviderSchemes))
                    .LogWarning(
                        "Signing in by {Provider} failed: {Why}",
                        provider.Mapping.Provider,
                        context.Failure?.Message.ReplaceLineEndings(" ")
                    );
                context.HandleResponse();
                context.Response.Redirect("/sign-in?provider=failed");
                return Task.CompletedTask;
            };
        });
        authentication.AddJwtBearer(Calls, o =>
        {
            o.Authority = provider.Authority;
            o.RequireHttpsMetadata = !isHere;
            o.MapInboundClaims = false;
            o.Audience = provider.Audience;
            o.TokenValidationParameters.ValidAlgorithms = Algorithms;
            o.TokenValidationParameters.ClockSkew = Skew;
            o.TokenValidationParameters.RequireSignedTokens = true;
            o.TokenValidationParameters.RequireExpirationTime = true;
            // RFC 9068 §2.1: an access token says that it is one; an ID token must not be taken for it.
            o.TokenValidationParameters.ValidTypes = ["at+jwt", "application/at+jwt"];
        });
    }

    public static void MapProvider(this WebApplication app) =>
        app.MapGet(Start, async (HttpContext context, ILogger<ProviderAccounts> log) =>
            {
                try
                {
                    await context.ChallengeAsync(Console, new AuthenticationProperties { RedirectUri = "/" });
                }
                catch (InvalidOperationException error) when (error.Message.StartsWith("IDX20803", StringComparison.Ordinal))
                {
                    log.LogError("The provider does not answer; signing in by it is not possible: {Why}", error.GetBaseException().Message);
                    context.Response.Redirect("/sign-in?provider=away");
                }
            })
            .ExcludeFromDescription();
}

/// <summary>The accounts for which a provider vouches.</summary>
internal sealed class ProviderAccounts(SignInProvider? provider, AccountTable accounts, DomainClock clock, ILogger<ProviderAccounts> log)
{
    private static readonly TimeSpan NotedEvery = TimeSpan.FromMinutes(1);

    /// <summary>The provider; null where there is none.</summary>
    public SignInProvider? Provider => provider;

    /// <summary>The account of whoever a provider vouches for; null where its claims make none, or the account was ended here.</summary>
    public async Task<StoredAccount?> OfAsync(ClaimsPrincipal principal, string from, CancellationToken stop)
    {
        if (provider is null)
            return null;
        if (provider.Mapping.Of([.. principal.Claims.Select(c => (c.Type, c.Value))], out var why) is not { } mapped)
        {
            log.LogWarning("Sign-in refused: {Why}", why);
            return null;
        }

        var known = await accounts.FindAsync(mapped.Name, stop);
        if (known?.Ended is not null)
            return null;
        var account = known
            ?? new(mapped.Name, mapped.Kind, mapped.Roles, mapped.Sites, provider.Mapping.Provider, false, null, default, "", null, null);
        if (known is null || known.Roles != mapped.Roles || !known.Sites.Equals(mapped.Sites))
        {
            account = account with { Roles = mapped.Roles, Sites = mapped.Sites };
            await accounts.PutAsync(
                account,
                isNew: known is null,
                new(mapped.Name, $"{from} by {provider.Mapping.Provider}"),
                "as the provider says",
                clock.GetUtcNow(),
                stop
            );
        }

        if (account.LastUsed is not { } last || DateTimeOffset.UtcNow - last > NotedEvery)
            await accounts.SignedInAsync(mapped.Name, DateTimeOffset.UtcNow, stop);
        return account;
    }
}

/// <summary>How one may sign in, for those who are not signed in yet.</summary>
internal static class SignInEndpoints
{
    public static void MapSignIn(this RouteGroupBuilder api) =>
        api.MapGet("/sign-in-ways", (ProviderAccounts accounts) =>
                accounts.Provider is { } p
                    ? new Contracts.SignInWays(
                        p.Mapping.Provider,
                        ProviderSchemes.Start,
                        p.TerminalClient is null ? null : new(p.Authority, p.TerminalClient, [.. p.Scopes.Prepend("openid")])
                    )
                    : new(null, null, null)
            )
            .AllowAnonymous()
            .WithName("GetSignInWays");
}
