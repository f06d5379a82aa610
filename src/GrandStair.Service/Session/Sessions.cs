using GrandStair.Contracts;
using GrandStair.Core.Access;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Audit;
using GrandStair.Storage.Access;

namespace GrandStair.Service.Session;

/// <summary>Whose session it is to be.</summary>
/// <param name="Account">The account.</param>
/// <param name="Way">How they signed in: <c>password</c>, <c>token</c>, <c>link</c> or <c>provider</c>.</param>
/// <param name="Roles">The roles that it is limited to.</param>
/// <param name="Sites">The sites that it is limited to.</param>
internal sealed record NewSession(string Account, string Way, Roles Roles, SiteScope Sites)
{
    /// <summary>What it was begun with, and ends with; null for none.</summary>
    public Credential? Parent { get; init; }
}

/// <summary>Begins the console's sessions and says what one is.</summary>
internal sealed class Sessions(
    AccessTable access,
    AccountTable accounts,
    ServiceOptions options,
    CatalogueCache catalogues,
    AuditAlarm alarm,
    DomainClock clock
)
{
    private const int MostAgent = 200;
    private static readonly TimeSpan Lasts = TimeSpan.FromHours(12);

    /// <summary>The time, UTC.</summary>
    public DateTimeOffset Now => clock.GetUtcNow();

    /// <summary>Begins a session and gives the browser its cookie: always a new one, and the one that the browser had is over.</summary>
    /// <returns>Whether the account stands.</returns>
    public async Task<bool> BeginAsync(HttpContext context, NewSession begun, CancellationToken stop)
    {
        if (await accounts.FindAsync(begun.Account, stop) is not { Ended: null })
            return false;
        var now = DateTimeOffset.UtcNow;
        var lasts = begun.Parent?.Expires is { } end && end - now < Lasts ? end - now : Lasts;
        var agent = string.Concat(context.Request.Headers.UserAgent.ToString().Where(c => !char.IsControl(c)).Take(MostAgent));
        var session = await access.BeginSessionAsync(
            new(0, begun.Account, begun.Way, begun.Roles, begun.Sites, now, now + lasts, now, context.Address(), agent)
            {
                ParentToken = begun.Parent?.Token,
            },
            context.Request.Cookies[Callers.Cookie(context.Request)],
            new(begun.Account, context.Address()),
            Now,
            stop
        );
        await accounts.SignedInAsync(begun.Account, now, stop);
        var cookie = Options(context);
        cookie.MaxAge = lasts;
        context.Response.Cookies.Append(Callers.Cookie(context.Request), session, cookie);
        return true;
    }

    /// <summary>Takes the cookie away from the browser.</summary>
    public static void Forget(HttpContext context) => context.Response.Cookies.Delete(Callers.Cookie(context.Request), Options(context));

    /// <summary>What the console has to know of its caller and the service.</summary>
    public async Task<SessionView> ViewAsync(Caller caller, CancellationToken stop) =>
        new(
            caller.Actor.Name,
            caller.Kind.ToString().ToLowerInvariant(),
            caller.Roles.Names(),
            caller.Sites.Names,
            [.. CallRights.Of.Where(r => r.Value.Refuses(caller) is null).Select(r => r.Key).Order(StringComparer.Ordinal)],
            (await accounts.FindAsync(caller.Actor.Name, stop))?.HasPassword ?? false,
            [.. Notices()],
            typeof(Sessions).Assembly.GetName().Version!.ToString(3),
            Now,
            clock.ShownPace
        );

    private IEnumerable<string> Notices()
    {
        if (alarm.Reason is { } reason)
            yield return $"AUDIT ALARM: {reason} The audit is not what was sealed; nothing further is sealed. Inform the "
                + $"administrators of this service.";
        if (options.IsPlainAbroad)
            yield return $"This service answers on {options.Listen} over plain HTTP: what you type goes over the network as it is.";
        if (!catalogues.Waiting.IsEmpty)
            yield return $"The catalogue's files of {string.Join(", ", catalogues.Waiting.Keys)} were changed and wait for an "
                + $"approver; until then these products go on as they were.";
    }

    private static CookieOptions Options(HttpContext context) =>
        new()
        {
            HttpOnly = true,
            SameSite = SameSiteMode.Strict,
            Secure = context.Request.IsHttps,
            Path = "/",
        };
}
