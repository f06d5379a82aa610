using Dapper;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Fleet;

/// <summary>How the last reading of a source went.</summary>
/// <param name="Source">Its name.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Machines">How many machines it reported.</param>
/// <param name="Added">How many of them were not known.</param>
/// <param name="Trouble">What was wrong; null where nothing was.</param>
public sealed record SourceRead(string Source, DateTimeOffset At, int Machines, int Added, string? Trouble);

/// <summary>How the last reading of every source went.</summary>
public sealed class SourceTable(Database database)
{
    /// <summary>Stores the result of a reading.</summary>
    public Task PutAsync(SourceRead read, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    """
                    INSERT INTO source_reads (source, at, machines, added, trouble) VALUES (@Source, @at, @Machines, @Added, @Trouble)
                    ON CONFLICT (source) DO UPDATE SET at = excluded.at, machines = excluded.machines, added = excluded.added, trouble =
                      excluded.trouble
                    """,
                    new
                    {
                        read.Source,
                        at = Micros.Of(read.At),
                        read.Machines,
                        read.Added,
                        read.Trouble,
                    },
                    t
                ),
            stop
        );

    /// <summary>How every source went that was ever read.</summary>
    public Task<IReadOnlyList<SourceRead>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<SourceRead>>(
            async c =>
                [
                    .. (await c.QueryAsync<Row>("SELECT * FROM source_reads ORDER BY source")).Select(r => new SourceRead(
                        r.Source,
                        Micros.Time(r.At),
                        (int)r.Machines,
                        (int)r.Added,
                        r.Trouble
                    )),
                ],
            stop
        );

    private sealed record Row
    {
        public string Source { get; init; } = "";

        public long At { get; init; }

        public long Machines { get; init; }

        public long Added { get; init; }

        public string? Trouble { get; init; }
    }
}
