using System.Globalization;
using System.Threading.RateLimiting;
using GrandStair.Service.Problems;
using Microsoft.AspNetCore.Http.Timeouts;

namespace GrandStair.Service.Access;

/// <summary>How much anybody may ask of the service: how often, how long, how large.</summary>
internal static class CallLimits
{
    /// <summary>The largest body, in bytes, of calls that do not say otherwise.</summary>
    public const long LargestBody = 1 << 20;

    /// <summary>The policy for calls that last, of which each account has some at once.</summary>
    public const string Lasting = "lasting";

    private const int MostLasting = 50;
    private const int UnknownBurst = 300;
    private const int UnknownPerSecond = 10;
    private const int SignInBurst = 40;
    private static readonly TimeSpan Usual = TimeSpan.FromMinutes(4);
    private static readonly TimeSpan Second = TimeSpan.FromSeconds(1);

    public static void AddCallLimits(this IServiceCollection services, ServiceOptions options)
    {
        services.AddRequestTimeouts(t =>
            t.DefaultPolicy = new()
            {
                Timeout = Usual,
                TimeoutStatusCode = StatusCodes.Status503ServiceUnavailable,
                WriteTimeoutResponse = c =>
                    ProblemResults.WriteAsync(
                        c,
                        503,
                        "time-limit",
                        $"The call took longer than {Usual.TotalMinutes:0} minutes and was ended. See with another one what came of it."
                    ),
            }
        );
        services.AddRateLimiter(limiter =>
        {
            limiter.GlobalLimiter = PartitionedRateLimiter.Create<HttpContext, string>(context =>
            {
                // A login link and a provider's way back are tries to sign in like a password.
                if (context.Request.Path.StartsWithSegments("/login") || context.Request.Path.StartsWithSegments("/provider"))
                    return Bucket($"sign-in {context.Address()}", SignInBurst, 1);
                if (!context.Request.Path.StartsWithSegments("/api"))
                    return RateLimitPartition.GetNoLimiter("pages");
                // Each known caller has a limit of their own; unknown ones share that of their address, and signing in has a lower one.
                if (context.User is CallerPrincipal { Caller.Actor.Name: var account })
                    return Bucket($"account {account}", options.Rate * 5, options.Rate);
                return context.Request is { Method: "POST", Path.Value: "/api/v1/session" }
                    ? Bucket($"sign-in {context.Address()}", SignInBurst, 1)
                    : Bucket($"address {context.Address()}", UnknownBurst, UnknownPerSecond);
            });
            limiter.AddPolicy(Lasting, context =>
                RateLimitPartition.GetConcurrencyLimiter(context.User.Identity?.Name ?? context.Address(), _ =>
                    new() { PermitLimit = MostLasting, QueueLimit = 0 }
                )
            );
            limiter.OnRejected = async (rejected, stop) =>
            {
                var wait = rejected.Lease.TryGetMetadata(MetadataName.RetryAfter, out var after) && after > Second ? after : Second;
                rejected.HttpContext.Response.Headers.RetryAfter = Math.Ceiling(wait.TotalSeconds).ToString(CultureInfo.InvariantCulture);
                await ProblemResults.WriteAsync(
                    rejected.HttpContext,
                    429,
                    "too-many-calls",
                    $"Too many calls at once. Nothing of this one was done; send it again in {Math.Ceiling(wait.TotalSeconds):0} s."
                );
            };
        });
    }

    /// <summary>Lets a call take as long as it takes.</summary>
    public static TBuilder Lasts<TBuilder>(this TBuilder call)
        where TBuilder : IEndpointConventionBuilder => call.WithMetadata(new DisableRequestTimeoutAttribute());

    private static RateLimitPartition<string> Bucket(string of, int burst, int perSecond) =>
        RateLimitPartition.GetTokenBucketLimiter(of, _ => Limits(burst, perSecond));

    private static TokenBucketRateLimiterOptions Limits(int burst, int perSecond) =>
        new()
        {
            TokenLimit = burst,
            TokensPerPeriod = perSecond,
            ReplenishmentPeriod = Second,
            QueueLimit = 0,
        };
}
