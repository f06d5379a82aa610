using System.Collections.Concurrent;
using System.Diagnostics;
using System.Diagnostics.Metrics;
using GrandStair.Storage.Databases;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Duties;

/// <summary>
/// Runs what goes on in the background for as long as the process does. No duty ends by an exception: it is logged, counted and
/// restarted, after one second at first and after a minute at most.
/// </summary>
/// <param name="single">Holds the leases of duties that only one service has at a time.</param>
/// <param name="log">The log.</param>
public sealed class DutyHost(SingleDuty single, ILogger<DutyHost> log)
{
    /// <summary>The name of the meter that counts and measures duties.</summary>
    public const string MeterName = "grandstair";

    private static readonly Meter Meter = new(MeterName);
    private static readonly Histogram<double> PassSeconds = Meter.CreateHistogram<double>(
        "duty.pass.duration",
        "s",
        "How long one pass of a background duty took."
    );
    private static readonly Counter<long> FailureCount = Meter.CreateCounter<long>(
        "duty.failures",
        null,
        "How often a background duty has failed."
    );
    private static readonly TimeSpan ShortestPause = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan LongestPause = TimeSpan.FromMinutes(1);
    private readonly ConcurrentDictionary<string, DutyStatus> _duties = new(StringComparer.Ordinal);

    /// <summary>All duties, by name.</summary>
    public IReadOnlyList<DutyStatus> All => [.. _duties.Values.OrderBy(d => d.Name, StringComparer.Ordinal)];

    /// <summary>Whether every duty runs.</summary>
    public bool AreAllRunning => _duties.Values.All(d => d.IsRunning);

    /// <summary>Runs a duty, pass after pass, until it is stopped.</summary>
    public Task RunAsync(Duty duty, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(duty);
        Task WorkAsync(CancellationToken token) => RepeatAsync(duty, token);
        return RunAsync(duty.Name, duty.IsSingle ? single.Of(duty.Name, WorkAsync) : WorkAsync, stop);
    }

    /// <summary>Runs a duty that is one long pass until it is stopped, and restarts it whenever it ends before.</summary>
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
            Update(name, d => d with { IsRunning = true });
            try
            {
                await Task.Yield();
                await work(stop);
                if (stop.IsCancellationRequested)
                    return;
                log.LogError("Duty '{Duty}' ended by itself and is restarted in {Pause} s", name, pause.TotalSeconds);
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
                return;
            }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException)
            {
                // The database is away or full. That is no fault of the duty, so it is tried again every second; a stack trace would help
                // nobody.
                pause = ShortestPause;
                log.LogError("Duty '{Duty}' failed and is restarted in {Pause} s: {Why}", name, pause.TotalSeconds, error.Message);
            }
            catch (Exception error)
            {
                log.LogError(error, "Duty '{Duty}' failed and is restarted in {Pause} s", name, pause.TotalSeconds);
            }

            FailureCount.Add(1, new KeyValuePair<string, object?>("duty", name));
            Update(name, d => d with { IsRunning = false, Failures = d.Failures + 1, LastFailed = DateTimeOffset.UtcNow });
            // One that ran for long before it failed is restarted quickly again.
            if (Stopwatch.GetElapsedTime(began) > LongestPause * 2)
                pause = ShortestPause;
            await Task.Delay(pause, stop).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            pause = pause * 2 < LongestPause ? pause * 2 : LongestPause;
        }
    }

    private async Task RepeatAsync(Duty duty, CancellationToken stop)
    {
        try
        {
            while (true)
                await PassAsync(duty, stop);
        }
        finally
        {
            duty.Ended?.Invoke();
        }
    }

    private async Task PassAsync(Duty duty, CancellationToken stop)
    {
        var began = Stopwatch.GetTimestamp();
        await duty.Pass(stop);
        var took = Stopwatch.GetElapsedTime(began);
        PassSeconds.Record(took.TotalSeconds, new KeyValuePair<string, object?>("duty", duty.Name));
        Update(duty.Name, d => d with { Passes = d.Passes + 1, LastPass = DateTimeOffset.UtcNow, Took = took });
        var rest = took * duty.Rests;
        await Task.Delay(rest > duty.Pause ? rest : duty.Pause, stop);
        if (duty.Wait is { } wait)
            await wait(stop);
    }

    private void Update(string name, Func<DutyStatus, DutyStatus> change) =>
        _duties.AddOrUpdate(name, _ => change(new(name, true, 0, null)), (_, duty) => change(duty));
}
