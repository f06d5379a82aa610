using GrandStair.Connections;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Databases;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Plans;

/// <summary>
/// Reads machines of plans again, so that what was fixed meanwhile is seen and nothing grows too old to tell. Plans do not wait for it:
/// machines that do not answer take long.
/// </summary>
public sealed class MachineRefresh(FleetCache fleet, MachineReader reader, DomainClock clock, ILogger<MachineRefresh> log)
{
    /// <summary>How long after it was last tried a machine is read again.</summary>
    public static readonly TimeSpan ReadAgain = TimeSpan.FromHours(8);

    private const int MostReadsAtOnce = 8;
    private readonly Dictionary<MachineId, DateTimeOffset> _tried = [];
    private Task _reading = Task.CompletedTask;

    /// <summary>Begins to read machines that were not tried lately; does nothing while earlier ones are being read.</summary>
    /// <param name="machines">The machines that are worth reading.</param>
    /// <param name="now">The moment, UTC.</param>
    /// <param name="stop">Ends the reading.</param>
    /// <returns>When the next of them is due, UTC; null where none is.</returns>
    public DateTimeOffset? Begin(IReadOnlyCollection<MachineId> machines, DateTimeOffset now, CancellationToken stop)
    {
        if (!_reading.IsCompleted)
            return null;
        var due = machines.Where(m => now - _tried.GetValueOrDefault(m, DateTimeOffset.MinValue) > ReadAgain).ToArray();
        foreach (var machine in due)
            _tried[machine] = now;
        _reading = ReadAsync(due, stop);
        return machines.Count == 0 ? null : machines.Min(m => _tried[m]) + ReadAgain + TimeSpan.FromSeconds(1);
    }

    private async Task ReadAsync(MachineId[] due, CancellationToken stop)
    {
        if (due.Length == 0)
            return;
        using var running = clock.Stepped?.Run();
        try
        {
            var machines = await fleet.AllAsync(stop);
            var options = new ParallelOptions { MaxDegreeOfParallelism = MostReadsAtOnce, CancellationToken = stop };
            await Parallel.ForEachAsync(due, options, async (machine, one) => await ReadAsync(machines[machine], one));
        }
        catch (OperationCanceledException)
        {
            // The service stops.
        }
        catch (Exception error)
        {
            log.LogError(error, "Machines could not be read again");
        }
    }

    private async Task ReadAsync(Machine machine, CancellationToken stop)
    {
        try
        {
            await reader.ReadAsync(machine, Actor.Worker, stop);
        }
        catch (Exception error) when (error is ConnectionException or StoreException)
        {
            log.LogInformation("{Machine} was not read: {Why}", machine.Name, error.Message);
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            log.LogError(error, "{Machine} was not read", machine.Name);
        }
    }
}
