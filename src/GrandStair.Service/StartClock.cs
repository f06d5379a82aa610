using GrandStair.Engine.Clocks;
using GrandStair.Storage.Databases;

namespace GrandStair.Service;

/// <summary>Opens domain time at the service's start.</summary>
internal static class StartClock
{
    /// <summary>
    /// At pace 1 domain time is real time. At any other, and where it moves on when the engine is idle, it goes on from where the last
    /// service left it. The demo's time waits for the engine at any pace, so that a slow machine makes it slower and not different.
    /// </summary>
    public static async Task<DomainClock> OpenAsync(ClockTable table, ServiceOptions options, CancellationToken stop)
    {
        var now = TimeProvider.System.GetUtcNow();
        var kept = await table.FindAsync(stop);
        var domain =
            options.Demo is not null ? kept?.Domain ?? Demo.NorthmereStart.Begin
            : options.Pace == 1 ? now
            : kept?.Domain ?? now;
        return options.Demo is not null || double.IsInfinity(options.Pace)
            ? new(new SteppedTime(domain, options.Pace), TimeProvider.System)
            : new(new ClockAnchor(now, domain, options.Pace), TimeProvider.System);
    }
}
