using System.Diagnostics;
using GrandStair.Engine.Clocks;
using GrandStair.Storage.Databases;

namespace GrandStair.Service;

/// <summary>
/// Moves domain time on whenever the engine is idle, at the clock's pace at most. It waits until all who have a turn are there: the
/// worker, the keeper of plans and, in the demo, its people.
/// </summary>
/// <param name="clock">The clock.</param>
/// <param name="database">The database; a write wakes everyone who waits.</param>
/// <param name="options">What the service was started with.</param>
internal sealed class TimeStepper(DomainClock clock, Database database, ServiceOptions options) : BackgroundService
{
    /// <summary>How long is waited where time need not move on yet, and where only somebody's command goes on.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(50);

    /// <summary>How much real time is made up for at most after the engine was busy.</summary>
    private static readonly TimeSpan MostMadeUp = TimeSpan.FromSeconds(1);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var turns = options.Demo is null ? 2 : 3;
        var time = clock.Stepped!;
        database.Written += time.NoteChange;
        var owed = TimeSpan.Zero;
        var since = Stopwatch.GetTimestamp();
        while (!stoppingToken.IsCancellationRequested)
        {
            await time.UntilIdleAsync(stoppingToken);
            if (double.IsInfinity(time.Pace))
            {
                if (time.Turns < turns || !time.Step())
                    await Task.Delay(Pause, stoppingToken);
                (owed, since) = (TimeSpan.Zero, Stopwatch.GetTimestamp());
                continue;
            }

            var passed = Stopwatch.GetElapsedTime(since);
            since = Stopwatch.GetTimestamp();
            owed = TimeSpan.FromTicks(Math.Min((owed + (passed * time.Pace)).Ticks, (MostMadeUp * time.Pace).Ticks));
            if (time.Turns >= turns)
                owed -= time.Advance(owed);
            if (owed <= TimeSpan.Zero || time.Turns < turns)
                await Task.Delay(Pause, stoppingToken);
        }
    }
}
