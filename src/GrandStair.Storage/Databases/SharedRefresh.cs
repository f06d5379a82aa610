namespace GrandStair.Storage.Databases;

/// <summary>
/// The turns of those who read a copy of stored data in memory. Of many who wait, the first refreshes the copy for all of them, and each
/// sees all that was stored before it asked.
/// </summary>
/// <param name="refresh">Brings the copy up to date; never called twice at once. Where it fails, whoever asked fails, and the next one
/// tries again.</param>
public sealed class SharedRefresh(Func<CancellationToken, Task> refresh) : IDisposable
{
    private readonly SemaphoreSlim _turn = new(1, 1);
    private long _newest;

    /// <summary>Reads the copy when it is as of now; nobody else reads or refreshes it meanwhile.</summary>
    public async Task<T> ReadAsync<T>(Func<T> read, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(read);
        var asked = TimeProvider.System.GetTimestamp();
        await _turn.WaitAsync(stop);
        try
        {
            // A refresh that began after this call was made has all that this call has to see.
            if (_newest <= asked)
            {
                var began = TimeProvider.System.GetTimestamp();
                await refresh(stop);
                _newest = began;
            }

            return read();
        }
        finally
        {
            _turn.Release();
        }
    }

    /// <inheritdoc />
    public void Dispose() => _turn.Dispose();
}
