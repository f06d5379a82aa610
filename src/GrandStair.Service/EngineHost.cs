using GrandStair.Engine.Checks;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Exposure;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Rehearsals;
using GrandStair.Engine.Runs;

namespace GrandStair.Service;

/// <summary>Runs the worker, the keeper of plans, the fixes, the daily tally, the scheduled reading and the rehearsals for as long as the service runs.</summary>
internal sealed class EngineHost(RunWorker worker, PlanKeeper keeper, CheckDesk checks, ExposureDesk exposure, ScheduledReading reading, RehearsalDesk rehearsals, DutyHost duties) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.WhenAll(
            duties.RunAsync("worker", worker.WorkAsync, stoppingToken),
            duties.RunAsync("plans", keeper.RunAsync, stoppingToken),
            duties.RunAsync("fixes", checks.KeepAsync, stoppingToken),
            duties.RunAsync("daily-tally", exposure.KeepAsync, stoppingToken),
            duties.RunAsync("scheduled-reading", reading.KeepAsync, stoppingToken),
            duties.RunAsync("rehearsals", rehearsals.KeepAsync, stoppingToken));
    }
}
