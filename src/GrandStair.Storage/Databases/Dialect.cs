using System.Data.Common;
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

    /// <summary>What a claiming select appends so that two workers never wait for one another.</summary>
    public abstract string SkipLocked { get; }

    /// <summary>The database's own time in microseconds since 1970, as an expression.</summary>
    public abstract string Now { get; }

    public abstract IMigrationRunnerBuilder Configure(IMigrationRunnerBuilder runner);

    public abstract Task<DbConnection> OpenAsync(CancellationToken stop);

    /// <summary>Keeps other starts out while the schema is brought up.</summary>
    public abstract Task<IAsyncDisposable> LockAsync(CancellationToken stop);

    /// <summary>Says what an error of the database means, where somebody can do something about it.</summary>
    public abstract StoreException? Explain(Exception error);
}

/// <summary>The embedded database: one file, write-ahead log, every commit on the disk before it is acknowledged.</summary>
internal sealed class SqliteDialect(string path) : Dialect(new SqliteConnectionStringBuilder { DataSource = path, DefaultTimeout = 30 }.ToString())
{
    public override string SkipLocked => "";

    public override string Now => "CAST(unixepoch('subsec') * 1000000 AS INTEGER)";

    public override IMigrationRunnerBuilder Configure(IMigrationRunnerBuilder runner) => runner.AddSQLite();

    public override async Task<DbConnection> OpenAsync(CancellationToken stop)
    {
        var connection = new SqliteConnection(ConnectionString);
        await connection.OpenAsync(stop);
        using var command = connection.CreateCommand();
        command.CommandText = "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;";
        await command.ExecuteNonQueryAsync(stop);
        return connection;
    }

    public override async Task<IAsyncDisposable> LockAsync(CancellationToken stop)
    {
        while (true)
        {
            try
            {
                return new FileStream(path + ".lock", FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
            }
            catch (IOException) when (!stop.IsCancellationRequested)
            {
                await Task.Delay(50, stop);
            }
        }
    }

    public override StoreException? Explain(Exception error) => error is SqliteException { SqliteErrorCode: 13 or 10 } full
        ? new("disk-full", $"The database at {path} cannot be written: {full.Message} Nothing of this call was kept. Make room on the disk, then send it again.", full)
        : null;
}

/// <summary>The engine of the distribution.</summary>
internal sealed class PostgresDialect(string connectionString) : Dialect(connectionString), IAsyncDisposable
{
    private const long SchemaLock = 7_204_113;
    private readonly NpgsqlDataSource _source = NpgsqlDataSource.Create(connectionString);

    public override string SkipLocked => "FOR UPDATE SKIP LOCKED";

    public override string Now => "CAST(extract(epoch FROM clock_timestamp()) * 1000000 AS BIGINT)";

    public override IMigrationRunnerBuilder Configure(IMigrationRunnerBuilder runner) => runner.AddPostgres();

    public override async Task<DbConnection> OpenAsync(CancellationToken stop) => await _source.OpenConnectionAsync(stop);

    public override async Task<IAsyncDisposable> LockAsync(CancellationToken stop)
    {
        var connection = await _source.OpenConnectionAsync(stop);
        await using var command = connection.CreateCommand();
        command.CommandText = $"SELECT pg_advisory_lock({SchemaLock})";
        await command.ExecuteNonQueryAsync(stop);
        return new Held(connection);
    }

    public override StoreException? Explain(Exception error) => error switch
    {
        PostgresException { SqlState: PostgresErrorCodes.DiskFull } full =>
            new("disk-full", $"The database cannot be written: {full.MessageText}. Nothing of this call was kept. Make room on its disk, then send it again.", full),
        NpgsqlException { InnerException: System.Net.Sockets.SocketException } gone =>
            new("database-away", $"The database does not answer: {gone.Message}. Start it, then send the call again.", gone),
        _ => null,
    };

    public ValueTask DisposeAsync() => _source.DisposeAsync();

    /// <summary>A lock that lasts as long as its connection; the pool would keep it, so it is given back by name.</summary>
    private sealed class Held(NpgsqlConnection connection) : IAsyncDisposable
    {
        public async ValueTask DisposeAsync()
        {
            await using (var command = connection.CreateCommand())
            {
                command.CommandText = $"SELECT pg_advisory_unlock({SchemaLock})";
                await command.ExecuteNonQueryAsync();
            }

            await connection.DisposeAsync();
        }
    }
}
