using GrandStair.Engine.Checks;
using GrandStair.Engine.Exposure;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Rehearsals;
using GrandStair.Engine.Runs;

namespace GrandStair.Service;

/// <summary>Runs the worker, the keeper of plans, the fixes, the daily tally, the scheduled reading and the rehearsals for as long as the service runs.</summary>
internal sealed class EngineHost(RunWorker worker, PlanKeeper keeper, CheckDesk checks, ExposureDesk exposure, ScheduledReading reading, RehearsalDesk rehearsals) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        await Task.WhenAll(worker.WorkAsync(stoppingToken), keeper.RunAsync(stoppingToken), checks.KeepAsync(stoppingToken), exposure.KeepAsync(stoppingToken), reading.KeepAsync(stoppingToken), rehearsals.KeepAsync(stoppingToken));
    }
}
