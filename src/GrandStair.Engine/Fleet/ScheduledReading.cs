using GrandStair.Connections;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Duties;
using GrandStair.Storage.Databases;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Fleet;

/// <summary>How often every machine is read over its connection without being asked.</summary>
/// <param name="Every">The time between two readings of a machine; null for never.</param>
/// <param name="AtOnce">How many are read at once.</param>
public sealed record ReadingSchedule(TimeSpan? Every, int AtOnce = 8);

/// <summary>
/// Reads the whole fleet again and again, so that nothing known of it is older than the schedule says as long as it answers.
/// </summary>
public sealed class ScheduledReading(
    ReadingSchedule schedule,
    FleetCache fleet,
    MachineReader reader,
    CatalogueCache catalogues,
    TimeProvider clock,
    ILogger<ScheduledReading> log
)
{
    private static readonly TimeSpan Tick = TimeSpan.FromSeconds(1);
    private readonly Dictionary<MachineId, DateTimeOffset> _tried = [];

    /// <summary>Reads what is due.</summary>
    public Duty Duty => new("scheduled-reading", Tick, ReadDueAsync) { IsSingle = true };

    private async Task ReadDueAsync(CancellationToken stop)
    {
        if (schedule.Every is not { } every)
            return;
        var now = clock.GetUtcNow();
        var due = (await fleet.AllAsync(stop))
            .Values.Where(m => m.IsInFleet && IsDue(m, now, every))
            .OrderBy(m => _tried.GetValueOrDefault(m.Id))
            .ToArray();
        await Parallel.ForEachAsync(
            due,
            new ParallelOptions { MaxDegreeOfParallelism = schedule.AtOnce, CancellationToken = stop },
            async (machine, one) => await ReadAsync(machine, one)
        );
    }

    /// <summary>What did not answer is tried again after a third of the time between two readings.</summary>
    private bool IsDue(Machine machine, DateTimeOffset now, TimeSpan every)
    {
        var read = machine.Readings.Where(r => r.Source == machine.Connection.Kind).Select(r => (DateTimeOffset?)r.Received).Max();
        return (read is null || now - read > every)
            && now - _tried.GetValueOrDefault(machine.Id) > every / 3
            && catalogues.ProductsOf(machine).Any(p => !p.Readers.IsEmpty);
    }

    private async Task ReadAsync(Machine machine, CancellationToken stop)
    {
        lock (_tried)
            _tried[machine.Id] = clock.GetUtcNow();
        try
        {
            await reader.ReadAsync(machine, Actor.Schedule, stop);
        }
        catch (ConnectionException error)
        {
            log.LogDebug("{Machine} was not read: {Why}", machine.Name, error.Message);
        }
        catch (Exception error) when (error is not (OperationCanceledException or StoreException or System.Data.Common.DbException))
        {
            // What one machine does must not keep the others from being read.
            log.LogError(error, "{Machine} was not read", machine.Name);
        }
    }
}
