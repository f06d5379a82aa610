using System.Collections.Immutable;
using System.Security.Claims;
using GrandStair.Testing;
using Microsoft.AspNetCore;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Microsoft.IdentityModel.Tokens;
using OpenIddict.Abstractions;
using OpenIddict.Server.AspNetCore;
using static OpenIddict.Abstractions.OpenIddictConstants;

namespace GrandStair.Service.Tests.SignIn;

/// <summary>A provider of the tests' own on loopback. Whoever comes to its page is the person that the test says he is.</summary>
internal sealed class TestProvider : IAsyncDisposable
{
    public const string Audience = "grandstair";
    public const string Secret = "a-secret-of-the-console";
    private readonly WebApplication _app;
    private readonly Queue<string> _codes = new();

    private TestProvider(WebApplication app, Uri url) => (_app, Url) = (app, url);

    /// <summary>Its address.</summary>
    public Uri Url { get; }

    /// <summary>Who comes to its page: a name, groups and terminals.</summary>
    public (string Name, string[] Groups, string[] Terminals) Person { get; set; } = ("planner", ["fleet-planners"], ["everywhere"]);

    /// <summary>What the service is told of it.</summary>
    public static string File(Uri url) =>
        $$"""
            provider: staff
            authority: {{url}}
            client: console
            client-secret: secret:staff-client
            terminal-client: terminal
            audience: {{Audience}}
            scopes: [profile, api]
            roles: { claim: groups, map: { fleet-planners: "reader planner", fleet-admins: "reader admin" } }
            sites: { claim: terminals, all: everywhere }
            """;

    /// <summary>Whom its tokens are for.</summary>
    public string[] Audiences { get; set; } = [Audience];

    /// <summary>The code that a terminal was told, once it was.</summary>
    public async Task<string> NextCodeAsync(TimeSpan limit)
    {
        await Eventually.TrueAsync(() => Task.FromResult(_codes.Count > 0), limit, () => "a terminal asks for a code");
        return _codes.Dequeue();
    }

    public static async Task<TestProvider> StartAsync(Uri console, TimeSpan? tokensLast = null)
    {
        var url = new Uri($"http://127.0.0.1:{ServiceProcess.FreePort()}/");
        Action<string>? told = null;
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseUrls(url.ToString());
        builder.Services.AddDbContext<DbContext>(o => o.UseInMemoryDatabase($"provider-{url.Port}").UseOpenIddict());
        builder
            .Services.AddOpenIddict()
            .AddCore(o => o.UseEntityFrameworkCore().UseDbContext<DbContext>())
            .AddServer(o =>
            {
                o.SetIssuer(url)
                    .SetAuthorizationEndpointUris("authorize")
                    .SetTokenEndpointUris("token")
                    .SetDeviceAuthorizationEndpointUris("device")
                    .SetEndUserVerificationEndpointUris("verify");
                o.AllowAuthorizationCodeFlow()
                    .RequireProofKeyForCodeExchange()
                    .AllowDeviceAuthorizationFlow()
                    .AllowRefreshTokenFlow()
                    .AllowClientCredentialsFlow();
                o.AddEphemeralEncryptionKey()
                    .AddEphemeralSigningKey()
                    .DisableAccessTokenEncryption()
                    .RegisterScopes("profile", "api", Scopes.OfflineAccess);
                o.SetAccessTokenLifetime(tokensLast ?? TimeSpan.FromMinutes(10));
                o.AddEventHandler<OpenIddict.Server.OpenIddictServerEvents.ApplyDeviceAuthorizationResponseContext>(h =>
                    h.UseInlineHandler(answer =>
                        {
                            if (answer.Response.UserCode is { } code)
                                told?.Invoke(code);
                            return default;
                        })
                        .SetOrder(int.MinValue)
                );
                o.UseAspNetCore()
                    .DisableTransportSecurityRequirement()
                    .EnableAuthorizationEndpointPassthrough()
                    .EnableTokenEndpointPassthrough()
                    .EnableEndUserVerificationEndpointPassthrough();
            });
        var app = builder.Build();
        var provider = new TestProvider(app, url);
        told = provider._codes.Enqueue;
        app.MapMethods("/authorize", ["GET", "POST"], (HttpContext c) => provider.SignInAs(c.GetOpenIddictServerRequest()!));
        app.MapMethods("/verify", ["GET", "POST"], (HttpContext c) => provider.SignInAs(c.GetOpenIddictServerRequest()!));
        app.MapPost("/token", (Func<HttpContext, Task<IResult>>)provider.ExchangeAsync);
        await app.StartAsync();
        await using var scope = app.Services.CreateAsyncScope();
        var clients = scope.ServiceProvider.GetRequiredService<IOpenIddictApplicationManager>();
        await clients.CreateAsync(
            Client(
                "console",
                Secret,
                console,
                Permissions.Endpoints.Authorization,
                Permissions.GrantTypes.AuthorizationCode,
                Permissions.ResponseTypes.Code
            )
        );
        await clients.CreateAsync(
            Client(
                "terminal",
                null,
                null,
                Permissions.Endpoints.DeviceAuthorization,
                Permissions.GrantTypes.DeviceCode,
                Permissions.GrantTypes.RefreshToken
            )
        );
        await clients.CreateAsync(Client("wall-screen", Secret, null, Permissions.GrantTypes.ClientCredentials));
        return provider;
    }

    /// <summary>A token of a program, for an audience.</summary>
    public async Task<string> ProgramTokenAsync()
    {
        using var http = new HttpClient();
        using var form = new FormUrlEncodedContent(
            new Dictionary<string, string>
            {
                ["grant_type"] = "client_credentials",
                ["client_id"] = "wall-screen",
                ["client_secret"] = Secret,
                ["scope"] = "api",
            }
        );
        using var response = await http.PostAsync(new Uri(Url, "token"), form);
        return System
            .Text.Json.JsonDocument.Parse(await response.Content.ReadAsStringAsync())
            .RootElement.GetProperty("access_token")
            .GetString()!;
    }

    public async ValueTask DisposeAsync() => await _app.DisposeAsync();

    private static OpenIddictApplicationDescriptor Client(string id, string? secret, Uri? console, params string[] permissions)
    {
        var client = new OpenIddictApplicationDescriptor
        {
            ClientId = id,
            ClientSecret = secret,
            ClientType = secret is null ? ClientTypes.Public : ClientTypes.Confidential,
        };
        if (console is not null)
            client.RedirectUris.Add(new(console, "/provider/signed-in"));
        client.Permissions.UnionWith([
            Permissions.Endpoints.Token,
            .. permissions,
            Permissions.Prefixes.Scope + "profile",
            Permissions.Prefixes.Scope + "api",
        ]);
        return client;
    }

    private IResult SignInAs(OpenIddictRequest request)
    {
        var (name, groups, terminals) = Person;
        var identity = new ClaimsIdentity(TokenValidationParameters.DefaultAuthenticationType, Claims.Name, Claims.Role);
        identity
            .SetClaim(Claims.Subject, $"id-of-{name}")
            .SetClaim(Claims.PreferredUsername, name)
            .SetClaims("groups", [.. groups])
            .SetClaims("terminals", [.. terminals]);
        return Granted(
            identity,
            request.GetScopes() is { Length: > 0 } scopes ? scopes : ["openid", "profile", "api", Scopes.OfflineAccess]
        );
    }

    private IResult Granted(ClaimsIdentity identity, ImmutableArray<string> scopes)
    {
        identity.SetScopes(scopes).SetResources(Audiences);
        identity.SetDestinations(_ => [Destinations.AccessToken, Destinations.IdentityToken]);
        return Results.SignIn(new(identity), null, OpenIddictServerAspNetCoreDefaults.AuthenticationScheme);
    }

    private async Task<IResult> ExchangeAsync(HttpContext context)
    {
        var request = context.GetOpenIddictServerRequest()!;
        if (request.IsClientCredentialsGrantType())
        {
            var program = new ClaimsIdentity(TokenValidationParameters.DefaultAuthenticationType, Claims.Name, Claims.Role);
            program
                .SetClaim(Claims.Subject, request.ClientId!)
                .SetClaims("groups", ["fleet-planners"])
                .SetClaims("terminals", ["Westhaven"]);
            return Granted(program, ["api"]);
        }

        var known = await Microsoft.AspNetCore.Authentication.AuthenticationHttpContextExtensions.AuthenticateAsync(
            context,
            OpenIddictServerAspNetCoreDefaults.AuthenticationScheme
        );
        return Results.SignIn(known.Principal!, null, OpenIddictServerAspNetCoreDefaults.AuthenticationScheme);
    }
}
