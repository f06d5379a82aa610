using GrandStair.Engine.Checks;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Exposure;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Rehearsals;
using GrandStair.Engine.Runs;

namespace GrandStair.Service;

/// <summary>Runs the worker, the keeper of plans, the fixes, the daily tally, the scheduled reading and the rehearsals for as long as the service runs. Of several services on one database one at a time has the duties that must not be done twice.</summary>
internal sealed class EngineHost(RunWorker worker, PlanKeeper keeper, CheckRunner checks, ExposureReport exposure, ScheduledReading reading, RehearsalRunner rehearsals, DutyHost duties, SingleDuty single) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.WhenAll(
            duties.RunAsync("worker", worker.WorkAsync, stoppingToken),
            duties.RunAsync("plans", single.Of("plans", keeper.RunAsync), stoppingToken),
            duties.RunAsync("fixes", single.Of("fixes", checks.KeepAsync), stoppingToken),
            duties.RunAsync("daily-tally", single.Of("daily-tally", exposure.KeepAsync), stoppingToken),
            duties.RunAsync("scheduled-reading", single.Of("scheduled-reading", reading.KeepAsync), stoppingToken),
            duties.RunAsync("rehearsals", rehearsals.KeepAsync, stoppingToken));
    }
}
