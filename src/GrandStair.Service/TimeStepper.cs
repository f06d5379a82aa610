using GrandStair.Engine.Clocks;
using GrandStair.Storage.Databases;

namespace GrandStair.Service;

/// <summary>
/// Moves domain time on whenever the engine is idle. It waits until all who have a turn are there: the worker, the keeper of plans and,
/// in the demo, its people.
/// </summary>
/// <param name="clock">The clock.</param>
/// <param name="database">The database; a write wakes everyone who waits.</param>
/// <param name="options">What the service was started with.</param>
internal sealed class TimeStepper(DomainClock clock, Database database, ServiceOptions options) : BackgroundService
{
    /// <summary>How long is waited where nobody waits for any moment: only somebody's command goes on from there.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(50);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var turns = options.Demo is null ? 2 : 3;
        var time = clock.Stepped!;
        database.Written += time.NoteChange;
        while (!stoppingToken.IsCancellationRequested)
        {
            await time.UntilIdleAsync(stoppingToken);
            if (time.Turns < turns || !time.Step())
                await Task.Delay(Pause, stoppingToken);
        }
    }
}
