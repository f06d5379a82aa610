using System.Collections.Immutable;
using System.Globalization;
using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Security.Cryptography;
using GrandStair.Contracts;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Fleet;
using GrandStair.Service.Access;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Plans;
using Microsoft.AspNetCore.DataProtection;

namespace GrandStair.Service.Events;

/// <summary>Reads the changes once for all who watch, and hands them on.</summary>
internal sealed class LiveFeed(Feed feed, DutyHost duties, ILogger<LiveFeed> log) : BackgroundService
{
    private const int Kept = 4000;
    private const int Part = 500;
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(250);
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(15);
    private volatile ImmutableList<Change> _recent = [];
    private volatile TaskCompletionSource _more = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>
    /// The changes after a position that the caller sees, and further ones as they come. Every quarter of a minute without one a beat is
    /// sent, so that both ends know of each other.
    /// </summary>
    public async IAsyncEnumerable<SseItem<ChangeView?>> AfterAsync(
        long position,
        ChangeVisibility sight,
        [EnumeratorCancellation] CancellationToken stop
    )
    {
        while (!stop.IsCancellationRequested)
        {
            var more = _more.Task;
            foreach (var change in await NextAsync(position, stop))
            {
                position = change.Position;
                // A stream ends when its caller signs out or loses rights.
                if (change.Kind == "account" && !await sight.IsStillSoAsync(stop))
                    yield break;
                if (await sight.MaySeeAsync(change, stop))
                    yield return new(sight.Show(change), "change") { EventId = sight.Mark(position) };
            }

            if (await Task.WhenAny(more, Task.Delay(Beat, stop)) == more || stop.IsCancellationRequested)
                continue;
            if (!await sight.IsStillSoAsync(stop))
                yield break;
            yield return new(null, "beat");
        }
    }

    protected override Task ExecuteAsync(CancellationToken stoppingToken) => duties.RunAsync("live-feed", WatchAsync, stoppingToken);

    private async Task WatchAsync(CancellationToken stoppingToken)
    {
        var position = await feed.NewestAsync(stoppingToken);
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                var changes = await feed.AfterAsync(position, Part, stoppingToken);
                if (changes.Count > 0)
                {
                    position = changes[^1].Position;
                    var recent = _recent.AddRange(changes);
                    _recent = recent.Count > Kept ? recent.RemoveRange(0, recent.Count - Kept) : recent;
                    Interlocked.Exchange(ref _more, new(TaskCreationOptions.RunContinuationsAsynchronously)).SetResult();
                }

                if (changes.Count < Part)
                    await Task.Delay(Look, stoppingToken);
            }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException)
            {
                log.LogError("Changes cannot be read, and are tried again: {Why}", error.Message);
                await Task.Delay(Beat, stoppingToken);
            }
        }
    }

    /// <summary>From memory where it reaches far enough back, else from the database.</summary>
    private async Task<IEnumerable<Change>> NextAsync(long position, CancellationToken stop)
    {
        var recent = _recent;
        return recent.Count > 0 && recent[0].Position <= position + 1
            ? recent.Where(c => c.Position > position)
            : await feed.AfterAsync(position, Part, stop);
    }
}

/// <summary>What a watcher sees: changes of machines and plans at their sites, and changes that belong to no site.</summary>
internal sealed class ChangeVisibility(
    HttpContext context,
    Callers callers,
    FleetCache fleet,
    PlanTable plans,
    IDataProtectionProvider protection
)
{
    private const Roles SeeAccounts = Roles.Auditor | Roles.Admin;
    private readonly Caller _caller = context.User.Caller();
    private readonly IDataProtector _marks = protection.CreateProtector("live events");
    private long _shown;

    /// <summary>Whether the watcher has the same rights as when the stream began.</summary>
    public async Task<bool> IsStillSoAsync(CancellationToken stop) =>
        await callers.OfAsync(context, stop) is { Caller: var now } && now.Roles == _caller.Roles && now.Sites.Equals(_caller.Sites);

    /// <summary>Whether a change is sent to the watcher.</summary>
    public async ValueTask<bool> MaySeeAsync(Change change, CancellationToken stop)
    {
        if (change.Kind == "account")
            return _caller.Sites.IsAll && (_caller.Roles & SeeAccounts) != Roles.None;
        if (_caller.Sites.IsAll)
            return true;
        var machines = await fleet.AllAsync(stop);
        bool IsHis(MachineId id) => machines.TryGetValue(id, out var machine) && _caller.Sites.Holds(machine.Site);
        if (change.Machine is { } one)
            return IsHis(one);
        // Whatever concerns a whole plan is shown to everyone who sees a machine of it.
        return change.Kind is "plan" or "decision"
            ? (await plans.MembersAsync(change.Subject, stop)).Any(m => IsHis(m.Machine))
            : change.Kind == "clock";
    }

    /// <summary>
    /// A change as the watcher sees it. Those who do not see all changes get numbers of their own, since gaps would reveal how many others
    /// there are.
    /// </summary>
    public ChangeView Show(Change change) =>
        new(_caller.Sites.IsAll ? change.Position : ++_shown, change.At, change.Kind, change.Subject, change.Type, change.Actor);

    /// <summary>What the watcher sends to continue after a change.</summary>
    public string Mark(long position) =>
        _caller.Sites.IsAll
            ? position.ToString(CultureInfo.InvariantCulture)
            : _marks.Protect(position.ToString(CultureInfo.InvariantCulture));

    /// <summary>The position that a mark stands for; null where it is none of ours.</summary>
    public long? Position(string? mark)
    {
        if (string.IsNullOrEmpty(mark))
            return null;
        if (_caller.Sites.IsAll)
            return long.TryParse(mark, NumberStyles.None, CultureInfo.InvariantCulture, out var plain) ? plain : null;
        try
        {
            return long.Parse(_marks.Unprotect(mark), CultureInfo.InvariantCulture);
        }
        catch (CryptographicException)
        {
            return null;
        }
    }
}

/// <summary>Live events.</summary>
internal static class EventEndpoints
{
    public static void MapEvents(this RouteGroupBuilder api) =>
        api.MapGet(
                "/events",
                async (
                    HttpContext context,
                    LiveFeed live,
                    Feed feed,
                    Callers callers,
                    FleetCache fleet,
                    PlanTable plans,
                    IDataProtectionProvider protection,
                    CancellationToken stop
                ) =>
                {
                    var sight = new ChangeVisibility(context, callers, fleet, plans, protection);
                    return TypedResults.ServerSentEvents(
                        live.AfterAsync(
                            sight.Position(context.Request.Headers["Last-Event-ID"]) ?? await feed.NewestAsync(stop),
                            sight,
                            stop
                        )
                    );
                }
            )
            .WithName("WatchChanges")
            .Lasts()
            .RequireRateLimiting(CallLimits.Lasting)
            .ExcludeFromDescription();
}
