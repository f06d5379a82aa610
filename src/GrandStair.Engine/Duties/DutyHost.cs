using System.Collections.Concurrent;
using System.Diagnostics;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Duties;

/// <summary>How a background duty of this process is doing.</summary>
/// <param name="Name">The duty's name, such as <c>worker</c>.</param>
/// <param name="IsRunning">Whether it runs; false while it waits to be restarted after a failure.</param>
/// <param name="Failures">How often it failed since the process started.</param>
/// <param name="LastFailed">When it failed last, UTC; null for never.</param>
public sealed record DutyStatus(string Name, bool IsRunning, int Failures, DateTimeOffset? LastFailed);

/// <summary>
/// Runs what goes on in the background for as long as the process does. No duty ends by an exception: it is logged, counted and
/// restarted, after one second at first and after a minute at most.
/// </summary>
public sealed class DutyHost(ILogger<DutyHost> log)
{
    private static readonly TimeSpan ShortestPause = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan LongestPause = TimeSpan.FromMinutes(1);
    private readonly ConcurrentDictionary<string, DutyStatus> _duties = new(StringComparer.Ordinal);

    /// <summary>All duties, by name.</summary>
    public IReadOnlyList<DutyStatus> All => [.. _duties.Values.OrderBy(d => d.Name, StringComparer.Ordinal)];

    /// <summary>Whether every duty runs.</summary>
    public bool AreAllRunning => _duties.Values.All(d => d.IsRunning);

    /// <summary>Runs a duty until it is stopped, and restarts it whenever it ends before.</summary>
    /// <param name="name">The duty's name.</param>
    /// <param name="work">What it does; it returns only when it is stopped.</param>
    /// <param name="stop">Stops it.</param>
    public async Task RunAsync(string name, Func<CancellationToken, Task> work, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(work);
        var pause = ShortestPause;
        while (!stop.IsCancellationRequested)
        {
            var began = Stopwatch.GetTimestamp();
            _duties[name] = _duties.GetValueOrDefault(name, new(name, true, 0, null)) with { IsRunning = true };
            try
            {
                await Task.Yield();
                await work(stop);
                if (stop.IsCancellationRequested) return;
                log.LogError("Duty '{Duty}' ended by itself and is restarted in {Pause} s", name, pause.TotalSeconds);
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
                return;
            }
            catch (Exception error)
            {
                log.LogError(error, "Duty '{Duty}' failed and is restarted in {Pause} s", name, pause.TotalSeconds);
            }

            _duties[name] = _duties[name] with { IsRunning = false, Failures = _duties[name].Failures + 1, LastFailed = DateTimeOffset.UtcNow };
            // One that ran for long before it failed is restarted quickly again.
            if (Stopwatch.GetElapsedTime(began) > LongestPause * 2) pause = ShortestPause;
            await Task.Delay(pause, stop).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            pause = pause * 2 < LongestPause ? pause * 2 : LongestPause;
        }
    }
}
