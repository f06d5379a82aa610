using GrandStair.Engine.Plans;
using GrandStair.Engine.Runs;

namespace GrandStair.Service;

/// <summary>Runs the worker and the keeper of plans for as long as the service runs.</summary>
internal sealed class EngineHost(RunWorker worker, PlanKeeper keeper) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        await Task.WhenAll(worker.WorkAsync(stoppingToken), keeper.RunAsync(stoppingToken));
    }
}
