using System.Diagnostics;
using GrandStair.Storage.Databases;

namespace GrandStair.Engine.Duties;

/// <summary>Sees to it that of all services on one database only one has a duty at a time: the one that holds its lease.</summary>
public sealed class SingleDuty(DutyLeaseTable leases)
{
    /// <summary>How long a service that says nothing keeps a duty.</summary>
    public static readonly TimeSpan Lease = TimeSpan.FromSeconds(10);

    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(2);
    private readonly Guid _holder = Guid.NewGuid();

    /// <summary>A duty that works while this process holds its lease, and waits for it otherwise.</summary>
    /// <param name="name">The duty's name.</param>
    /// <param name="work">What it does; it returns only when it is stopped.</param>
    public Func<CancellationToken, Task> Of(string name, Func<CancellationToken, Task> work) =>
        leases.IsShared ? stop => RunAsync(name, work, stop) : work;

    private async Task RunAsync(string name, Func<CancellationToken, Task> work, CancellationToken stop)
    {
        while (true)
        {
            if (await leases.TryHoldAsync(name, _holder, Lease, stop))
                await WorkAsync(name, work, stop);
            await Task.Delay(Beat, stop);
        }
    }

    /// <summary>Works until the lease is lost, which it takes for lost before the database does.</summary>
    private async Task WorkAsync(string name, Func<CancellationToken, Task> work, CancellationToken stop)
    {
        using var lost = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var working = work(lost.Token);
        var renewed = Stopwatch.GetTimestamp();
        while (!working.IsCompleted && Stopwatch.GetElapsedTime(renewed) < Lease * 0.8)
        {
            await Task.WhenAny(working, Task.Delay(Beat, stop));
            var asked = Stopwatch.GetTimestamp();
            try
            {
                if (!await leases.TryHoldAsync(name, _holder, Lease, stop))
                    break;
                renewed = asked;
            }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException or OperationCanceledException)
            {
                if (stop.IsCancellationRequested)
                    break;
            }
        }

        await lost.CancelAsync();
        try
        {
            await working;
        }
        catch (OperationCanceledException) when (lost.IsCancellationRequested && !stop.IsCancellationRequested)
        {
            // Another process has it now.
        }
        finally
        {
            await leases.GiveUpAsync(name, _holder, CancellationToken.None);
        }
    }
}
