using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Checks;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Exposure;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Media;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Rehearsals;
using GrandStair.Engine.Runs;

namespace GrandStair.Service;

/// <summary>Runs the engine's duties for as long as the service runs.</summary>
internal sealed class EngineHost(
    RunWorker worker,
    PlanKeeper keeper,
    CheckRunner checks,
    ExposureReport exposure,
    ScheduledReading reading,
    RehearsalRunner rehearsals,
    MediaDownloads downloads,
    CatalogueCache catalogues,
    DutyHost duties
) : BackgroundService
{
    private static readonly TimeSpan LookForApprovals = TimeSpan.FromSeconds(5);

    protected override Task ExecuteAsync(CancellationToken stoppingToken)
    {
        Duty[] all =
        [
            keeper.Duty,
            checks.Duty,
            exposure.Duty,
            reading.Duty,
            rehearsals.Duty,
            downloads.Duty,
            new("catalogue", LookForApprovals, catalogues.TakeApprovedAsync),
        ];
        return Task.WhenAll(
            all.Select(d => duties.RunAsync(d, stoppingToken)).Append(duties.RunAsync("worker", worker.WorkAsync, stoppingToken))
        );
    }
}
