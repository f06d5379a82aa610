using GrandStair.Storage.Databases;

namespace GrandStair.Engine.Clocks;

/// <summary>
/// Wakes background work when this process has written something, so that work looks when there is something to see instead of many times a
/// second. It is a hint only: what another process writes does not show here, so nobody waits for it alone.
/// </summary>
public sealed class ChangeSignal
{
    private TaskCompletionSource _changed = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private long _count;

    /// <summary>Begins to listen to a database.</summary>
    public ChangeSignal(Database database)
    {
        ArgumentNullException.ThrowIfNull(database);
        database.Written += Pulse;
    }

    /// <summary>How many changes there were so far.</summary>
    public long Count => Volatile.Read(ref _count);

    /// <summary>Waits until there are more changes than a number of them, and at most for some real time.</summary>
    /// <param name="count">The number of changes that are known.</param>
    /// <param name="most">The longest wait.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task WaitAsync(long count, TimeSpan most, CancellationToken stop)
    {
        var changed = Volatile.Read(ref _changed).Task;
        if (Count != count || most <= TimeSpan.Zero)
            return;
        using var over = CancellationTokenSource.CreateLinkedTokenSource(stop);
        await Task.WhenAny(changed, Task.Delay(most, over.Token));
        await over.CancelAsync();
        stop.ThrowIfCancellationRequested();
    }

    private void Pulse()
    {
        Interlocked.Increment(ref _count);
        Interlocked.Exchange(ref _changed, new(TaskCreationOptions.RunContinuationsAsynchronously)).TrySetResult();
    }
}
