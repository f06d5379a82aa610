using System.Data.Common;
using System.Threading.Channels;
using Dapper;

namespace GrandStair.Storage.Databases;

/// <summary>
/// The database, whichever it is. Reads run side by side. In SQLite all writes go through one writer, which commits
/// those that wait together in one transaction; each is kept or undone by itself.
/// </summary>
public sealed class Database : IAsyncDisposable
{
    private const int MostPerCommit = 256;
    private readonly Channel<Write> _writes = Channel.CreateBounded<Write>(
        new BoundedChannelOptions(4096) { SingleReader = true, AllowSynchronousContinuations = true }
    );
    private readonly Task _writer;

    private Database(Dialect dialect)
    {
        Dialect = dialect;
        // On a thread of its own, so that what is written does not wait for a thread of the pool, however busy that is.
        _writer =
            dialect is SqliteDialect
                ? Task.Factory.StartNew(WriteTogether, default, TaskCreationOptions.LongRunning, TaskScheduler.Default)
                : Task.CompletedTask;
    }

    internal Dialect Dialect { get; }

    /// <summary>Opens a database and brings its schema up to this release.</summary>
    /// <param name="where">A PostgreSQL connection string (<c>Host=…;Database=…</c>), or else the path of a SQLite file.</param>
    /// <exception cref="StoreException">It cannot be opened, is damaged, or was written by a newer release.</exception>
    public static async Task<Database> OpenAsync(string where, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(where);
        DefaultTypeMap.MatchNamesWithUnderscores = true;
        Dialect dialect = where.Contains("Host=", StringComparison.OrdinalIgnoreCase)
            ? new PostgresDialect(where)
            : new SqliteDialect(where);
        try
        {
            dialect.Check();
            await using (await dialect.LockAsync("schema", stop))
                Schema.Migrate(dialect);
        }
        catch (DbException error) when (dialect.Explain(error) is { } explained)
        {
            throw explained;
        }

        return new(dialect);
    }

    /// <summary>
    /// Is raised when this process has written something, once it is kept; not for what <see cref="WriteUnannouncedAsync"/> writes.
    /// </summary>
    public event Action? Written;

    /// <summary>Reads; several may at once.</summary>
    public async Task<T> ReadAsync<T>(Func<DbConnection, Task<T>> read, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(read);
        try
        {
            await using var connection = await Dialect.OpenAsync(stop);
            return await read(connection);
        }
        catch (DbException error) when (Dialect.Explain(error) is { } explained)
        {
            throw explained;
        }
    }

    /// <summary>Writes in one transaction: all of it is kept, and on the disk, when this returns; nothing of it when it throws.</summary>
    public Task<T> WriteAsync<T>(Func<DbConnection, DbTransaction, Task<T>> write, CancellationToken stop) =>
        InTransactionAsync(write, isAnnounced: true, stop);

    /// <summary>
    /// Writes what only the engine itself keeps account by, such as claims, leases and the clock. It is as safe as what
    /// <see cref="WriteAsync"/> writes, and nobody looks again because of it.
    /// </summary>
    public Task<T> WriteUnannouncedAsync<T>(Func<DbConnection, DbTransaction, Task<T>> write, CancellationToken stop) =>
        InTransactionAsync(write, isAnnounced: false, stop);

    private async Task<T> InTransactionAsync<T>(Func<DbConnection, DbTransaction, Task<T>> write, bool isAnnounced, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(write);
        if (Dialect is SqliteDialect)
            return (T)(await QueueAsync(new(async (c, t) => await write(c, t), isAnnounced), stop))!;
        try
        {
            await using var connection = await Dialect.OpenAsync(stop);
            await using var transaction = await connection.BeginTransactionAsync(stop);
            var result = await write(connection, transaction);
            await transaction.CommitAsync(stop);
            if (isAnnounced)
                Written?.Invoke();
            return result;
        }
        catch (DbException error) when (Dialect.Explain(error) is { } explained)
        {
            throw explained;
        }
    }

    /// <summary>
    /// Writes in SQLite, in the queue's order, on the thread that calls: it waits for the writer's thread alone, and for none of the pool.
    /// </summary>
    internal T WriteUnannouncedOnThisThread<T>(Func<DbConnection, DbTransaction, T> write, CancellationToken stop)
    {
        var queued = new Write((c, t) => Task.FromResult<object?>(write(c, t)), IsAnnounced: false);
        _writes.Writer.WriteAsync(queued, stop).AsTask().GetAwaiter().GetResult();
        return (T)queued.Done.Task.GetAwaiter().GetResult()!;
    }

    /// <inheritdoc />
    public async ValueTask DisposeAsync()
    {
        _writes.Writer.TryComplete();
        await _writer;
        if (Dialect is PostgresDialect postgres)
            await postgres.DisposeAsync();
    }

    /// <summary>Takes the next number of a counter, or the last of several.</summary>
    internal static Task<long> NextAsync(DbConnection connection, DbTransaction transaction, string counter, int many = 1) =>
        connection.ExecuteScalarAsync<long>(
            "UPDATE counters SET last = last + @many WHERE name = @counter RETURNING last",
            new { counter, many },
            transaction
        );

    private async Task<object?> QueueAsync(Write write, CancellationToken stop)
    {
        await _writes.Writer.WriteAsync(write, stop);
        return await write.Done.Task;
    }

    /// <summary>
    /// Writes what comes, several at once. The embedded database works on the caller's thread, so nothing in here really waits but for what
    /// is to be written.
    /// </summary>
    private void WriteTogether()
    {
        DbConnection? connection = null;
        var together = new List<Write>();
        while (WaitForNext())
        {
            together.Clear();
            while (together.Count < MostPerCommit && _writes.Reader.TryRead(out var next))
                together.Add(next);
            try
            {
                connection ??= Dialect.Open();
                CommitAsync(connection, together).GetAwaiter().GetResult();
            }
            catch (DbException error)
            {
                var told = Dialect.Explain(error) ?? (Exception)error;
                foreach (var write in together)
                    write.Done.TrySetException(told);
                connection?.Dispose();
                connection = null;
            }
        }

        connection?.Dispose();
    }

    private bool WaitForNext()
    {
        var wait = _writes.Reader.WaitToReadAsync();
        return wait.IsCompleted ? wait.Result : wait.AsTask().GetAwaiter().GetResult();
    }

    private async Task CommitAsync(DbConnection connection, List<Write> together)
    {
        await using var transaction = await connection.BeginTransactionAsync();
        var results = new List<(Write Write, object? Result)>();
        foreach (var write in together)
        {
            await connection.ExecuteAsync("SAVEPOINT one", transaction: transaction);
            try
            {
                results.Add((write, await write.Work(connection, transaction)));
                await connection.ExecuteAsync("RELEASE one", transaction: transaction);
            }
            catch (Exception error) when (error is not DbException fatal || Dialect.Explain(fatal) is null)
            {
                await connection.ExecuteAsync("ROLLBACK TO one; RELEASE one", transaction: transaction);
                write.Done.TrySetException(error);
            }
        }

        await transaction.CommitAsync();
        if (together.Exists(w => w.IsAnnounced))
            Written?.Invoke();
        foreach (var (write, result) in results)
            write.Done.TrySetResult(result);
    }

    private sealed record Write(Func<DbConnection, DbTransaction, Task<object?>> Work, bool IsAnnounced)
    {
        public TaskCompletionSource<object?> Done { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
    }
}

/// <summary>Times as they are stored: microseconds since 1970-01-01 UTC.</summary>
internal static class Micros
{
    public static long Of(DateTimeOffset time) => (time - DateTimeOffset.UnixEpoch).Ticks / TimeSpan.TicksPerMicrosecond;

    public static long? Of(DateTimeOffset? time) => time is { } known ? Of(known) : null;

    public static DateTimeOffset Time(long micros) => DateTimeOffset.UnixEpoch.AddTicks(micros * TimeSpan.TicksPerMicrosecond);

    public static DateTimeOffset? Time(long? micros) => micros is { } known ? Time(known) : null;
}
