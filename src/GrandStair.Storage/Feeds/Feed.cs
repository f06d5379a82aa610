using System.Data.Common;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Feeds;

/// <summary>Something that changed, for those who watch.</summary>
/// <param name="Position">Its place among all changes; positions have no gaps and become visible in order.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Kind">What changed: such as <c>run</c>, <c>plan</c> or <c>fleet</c>.</param>
/// <param name="Subject">Which one, such as <c>r118</c>.</param>
/// <param name="Type">What happened to it.</param>
/// <param name="Actor">Who did it.</param>
/// <param name="Machine">The machine that it concerns; null where it concerns none or many.</param>
public sealed record Change(long Position, DateTimeOffset At, string Kind, string Subject, string Type, string Actor, MachineId? Machine);

/// <summary>The changes in one order.</summary>
public sealed class Feed(Database database)
{
    /// <summary>The changes after a position, at most as many as asked for.</summary>
    public Task<IReadOnlyList<Change>> AfterAsync(long position, int most, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<Change>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<ChangeRow>(
                            "SELECT * FROM feed WHERE position > @position ORDER BY position LIMIT @most",
                            new { position, most }
                        )
                    ).Select(r => r.ToChange()),
                ],
            stop
        );

    /// <summary>The position of the newest change; 0 where there is none.</summary>
    public Task<long> NewestAsync(CancellationToken stop) =>
        database.ReadAsync(c => c.ExecuteScalarAsync<long>("SELECT last FROM counters WHERE name = 'feed'"), stop);

    /// <summary>The position of the newest change that is not of a kind; 0 where there is none.</summary>
    public Task<long> NewestButAsync(string kind, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                await c.ExecuteScalarAsync<long?>(
                    "SELECT position FROM feed WHERE kind <> @kind ORDER BY position DESC LIMIT 1",
                    new { kind }
                ) ?? 0,
            stop
        );

    /// <summary>
    /// The first change after a position that a forecast depends on; null where there is none. What runs report, what machines are read to
    /// have and how waves go on by themselves is what it foretold; what people change of plans, machines, calendars, the catalogue and
    /// decisions is not.
    /// </summary>
    public Task<Change?> FirstAgainstForecastAsync(long position, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                (
                    await c.QueryFirstOrDefaultAsync<ChangeRow>(
                        """
                        SELECT * FROM feed WHERE position > @position AND (kind IN ('calendar', 'catalogue', 'decision') OR (kind =
                          'fleet' AND type = 'imported')
                          OR (kind = 'plan' AND type NOT LIKE 'wave-%' AND type NOT IN ('scheduled', 'members-judged',
                            'share-link-made', 'share-link-ended')))
                        ORDER BY position LIMIT 1
                        """,
                        new { position }
                    )
                )?.ToChange(),
            stop
        );

    /// <summary>Writes a change in the caller's transaction and returns its position.</summary>
    internal static async Task<long> AddAsync(
        DbConnection connection,
        DbTransaction transaction,
        DateTimeOffset at,
        string kind,
        string subject,
        string type,
        Actor actor,
        MachineId? machine = null
    )
    {
        var position = await Database.NextAsync(connection, transaction, "feed");
        await connection.ExecuteAsync(
            "INSERT INTO feed (position, at, kind, subject, type, actor, machine_id) VALUES (@position, @at, @kind, @subject, @type, "
                + "@actor, @machine)",
            new
            {
                position,
                at = Micros.Of(at),
                kind,
                subject,
                type,
                actor = actor.Name,
                machine = machine?.Value,
            },
            transaction
        );
        return position;
    }

    private sealed record ChangeRow
    {
        public long Position { get; init; }

        public long At { get; init; }

        public string Kind { get; init; } = "";

        public string Subject { get; init; } = "";

        public string Type { get; init; } = "";

        public string Actor { get; init; } = "";

        public long? MachineId { get; init; }

        public Change ToChange() => new(Position, Micros.Time(At), Kind, Subject, Type, Actor, MachineId is { } id ? new(id) : null);
    }
}
