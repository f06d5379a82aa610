using System.Collections.Immutable;
using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using GrandStair.Contracts;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Service.Events;

/// <summary>Reads the changes once for all who watch, and hands them on.</summary>
internal sealed class LiveFeed(Feed feed, ILogger<LiveFeed> log) : BackgroundService
{
    private const int Kept = 4000;
    private const int Part = 500;
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(250);
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(15);
    private volatile ImmutableList<Change> _recent = [];
    private volatile TaskCompletionSource _more = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>The changes after a position, and on as they come. Every quarter of a minute without one a beat is sent, so that both ends know of each other.</summary>
    public async IAsyncEnumerable<SseItem<ChangeView?>> AfterAsync(long position, [EnumeratorCancellation] CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
        {
            var more = _more.Task;
            foreach (var change in await NextAsync(position, stop))
            {
                position = change.Position;
                yield return new(new(change.Position, change.At, change.Kind, change.Subject, change.Type, change.Actor), "change") { EventId = $"{position}" };
            }

            if (await Task.WhenAny(more, Task.Delay(Beat, stop)) != more && !stop.IsCancellationRequested) yield return new(null, "beat");
        }
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
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

                if (changes.Count < Part) await Task.Delay(Look, stoppingToken);
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

/// <summary>Live events.</summary>
internal static class EventEndpoints
{
    public static void MapEvents(this RouteGroupBuilder api) =>
        api.MapGet("/events", async (HttpRequest request, LiveFeed live, Feed feed, CancellationToken stop) =>
        {
            var position = long.TryParse(request.Headers["Last-Event-ID"], out var last) ? last : await feed.NewestAsync(stop);
            return TypedResults.ServerSentEvents(live.AfterAsync(position, stop));
        }).WithName("WatchChanges").ExcludeFromDescription();
}
