using System.Data.Common;
using Dapper;
using FluentMigrator.Runner;
using Microsoft.Data.Sqlite;
using Npgsql;

namespace GrandStair.Storage.Databases;

/// <summary>Something that the store cannot do, with a name for programs and words for people.</summary>
public sealed class StoreException(string name, string message, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>A stable name, such as <c>disk-full</c>.</summary>
    public string Name { get; } = name;
}

/// <summary>What differs between the two databases.</summary>
internal abstract class Dialect(string connectionString)
{
    public string ConnectionString { get; } = connectionString;

    /// <summary>What a claiming select of a table appends so that two workers never wait for one another.</summary>
    public abstract string SkipLocked(string table);

    /// <summary>What a select appends whose rows are to be changed in the same transaction.</summary>
    public abstract string ForUpdate { get; }

    /// <summary>The database's own time in microseconds since 1970, as an expression.</summary>
    public abstract string Now { get; }

    public abstract IMigrationRunnerBuilder Configure(IMigrationRunnerBuilder runner);

    public abstract Task<DbConnection> OpenAsync(CancellationToken stop);

    /// <summary>Opens a connection of its own on the caller's thread, for what must not wait behind other work of this process.</summary>
    public abstract DbConnection Open();

    /// <summary>Takes a named lock across processes; it is held until it is disposed of or the process ends.</summary>
    public abstract Task<IAsyncDisposable> LockAsync(string name, CancellationToken stop);

    /// <summary>Looks whether the database is whole, before it is used.</summary>
    /// <exception cref="StoreException">It is damaged.</exception>
    public virtual void Check() { }

    /// <summary>Explains errors of the database that an administrator can do something about.</summary>
    public abstract StoreException? Explain(Exception error);
}

/// <summary>The embedded database: one file, write-ahead log, every commit on the disk before it is acknowledged.</summary>
internal sealed class SqliteDialect(string path)
    : Dialect(new SqliteConnectionStringBuilder { DataSource = path, DefaultTimeout = (int)LockTimeout.TotalSeconds }.ToString())
{
    // How long a call waits for another process that has locked the file.
    private static readonly TimeSpan LockTimeout = TimeSpan.FromSeconds(10);

    public override string SkipLocked(string table) => "";

    // There is one writer.
    public override string ForUpdate => "";

    public override string Now => "CAST(unixepoch('subsec') * 1000000 AS INTEGER)";

    public override IMigrationRunnerBuilder Configure(IMigrationRunnerBuilder runner) => runner.AddSQLite();

    // The embedded database works on the caller's thread in any case.
    public override Task<DbConnection> OpenAsync(CancellationToken stop) => Task.FromResult(Open());

    public override DbConnection Open()
    {
        var connection = new SqliteConnection(ConnectionString);
        connection.Open();
        connection.Execute("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;");
        return connection;
    }

    public override async Task<IAsyncDisposable> LockAsync(string name, CancellationToken stop)
    {
        while (true)
        {
            try
            {
                return new FileStream($"{path}.{name}.lock", FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
            }
            catch (IOException) when (!stop.IsCancellationRequested)
            {
                await Task.Delay(50, stop);
            }
        }
    }

    public override void Check()
    {
        if (!File.Exists(path))
            return;
        using var connection = Open();
        if (connection.ExecuteScalar<string>("PRAGMA quick_check(1)") is { } found && found != "ok")
            throw Damaged(found, null);
    }

    public override StoreException? Explain(Exception error) =>
        error is not SqliteException found
            ? null
            : found.SqliteErrorCode switch
            {
                // SQLITE_FULL and SQLITE_IOERR, SQLITE_BUSY and SQLITE_LOCKED, SQLITE_READONLY, SQLITE_CORRUPT and SQLITE_NOTADB.
                13 or 10 => new(
                    "disk-full",
                    $"The database at {path} cannot be written: {found.Message} Nothing of this call was kept. Make room on the disk, "
                        + $"then send it again.",
                    found
                ),
                5 or 6 => new(
                    "database-busy",
                    $"Another process has locked the database at {path} for longer than {LockTimeout.TotalSeconds:0} s. Nothing of "
                        + $"this call was kept. Find out which (a backup, an open sqlite3), then send the call again.",
                    found
                ),
                8 => new(
                    "database-read-only",
                    $"The database at {path} may not be written. Give the service's account the right to write it, then send the call "
                        + $"again.",
                    found
                ),
                11 or 26 => Damaged(found.Message, found),
                _ => null,
            };

    private StoreException Damaged(string found, Exception? inner) =>
        new(
            "database-damaged",
            $"The database at {path} is damaged: {found.TrimEnd('.')}. Stop the service, keep a copy of the file, and restore the last "
                + $"good backup.",
            inner
        );
}

/// <summary>The engine of the distribution.</summary>
internal sealed class PostgresDialect(string connectionString) : Dialect(connectionString), IAsyncDisposable
{
    // Several services share the server's connections, of which there are a hundred unless it was told otherwise.
    private const int MostConnections = 30;
    private readonly NpgsqlDataSource _source = NpgsqlDataSource.Create(Bounded(connectionString));

    // Whoever waits for the database's lock has a connection: one for each process, or those who wait would take all that there are.
    private readonly SemaphoreSlim _waits = new(1, 1);

    public override string SkipLocked(string table) => $"FOR UPDATE OF {table} SKIP LOCKED";

    public override string ForUpdate => "FOR UPDATE";

    public override string Now => "CAST(extract(epoch FROM clock_timestamp()) * 1000000 AS BIGINT)";

    public override IMigrationRunnerBuilder Configure(IMigrationRunnerBuilder runner) => runner.AddPostgres();

    public override async Task<DbConnection> OpenAsync(CancellationToken stop) => await _source.OpenConnectionAsync(stop);

    public override DbConnection Open() => _source.OpenConnection();

    private static string Bounded(string connectionString)
    {
        var builder = new NpgsqlConnectionStringBuilder(connectionString);
        // What the connection string says itself counts.
        if (builder.MaxPoolSize == new NpgsqlConnectionStringBuilder().MaxPoolSize)
            builder.MaxPoolSize = MostConnections;
        return builder.ConnectionString;
    }

    public override async Task<IAsyncDisposable> LockAsync(string name, CancellationToken stop)
    {
        await _waits.WaitAsync(stop);
        NpgsqlConnection? connection = null;
        try
        {
            connection = await _source.OpenConnectionAsync(stop);
            await connection.ExecuteAsync(
                new CommandDefinition("SELECT pg_advisory_lock(hashtextextended(@name, 0))", new { name }, cancellationToken: stop)
            );
            return new Held(connection, name, _waits);
        }
        catch
        {
            if (connection is not null)
                await connection.DisposeAsync();
            _waits.Release();
            throw;
        }
    }

    public override StoreException? Explain(Exception error) =>
        error switch
        {
            PostgresException { SqlState: PostgresErrorCodes.DiskFull } full => new(
                "disk-full",
                $"The database cannot be written: {full.MessageText}. Nothing of this call was kept. Make room on its disk, then send "
                    + $"it again.",
                full
            ),
            NpgsqlException { InnerException: System.Net.Sockets.SocketException } gone => new(
                "database-away",
                $"The database does not answer: {gone.Message}. Start it, then send the call again.",
                gone
            ),
            _ => null,
        };

    public ValueTask DisposeAsync()
    {
        _waits.Dispose();
        return _source.DisposeAsync();
    }

    /// <summary>A lock that lasts as long as its connection; the pool would keep it, so it is given back by name.</summary>
    private sealed class Held(NpgsqlConnection connection, string name, SemaphoreSlim waits) : IAsyncDisposable
    {
        public async ValueTask DisposeAsync()
        {
            try
            {
                await using (connection)
                    await connection.ExecuteAsync("SELECT pg_advisory_unlock(hashtextextended(@name, 0))", new { name });
            }
            finally
            {
                waits.Release();
            }
        }
    }
}
