using System.Data.Common;
using Dapper;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Feeds;

/// <summary>Something that changed, for those who watch.</summary>
/// <param name="Position">Its place among all changes; positions have no gaps and become visible in order.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Kind">What changed: <c>run</c>, <c>plan</c>, <c>fleet</c> or <c>clock</c>.</param>
/// <param name="Subject">Which one, such as <c>r118</c>.</param>
/// <param name="Type">What happened to it.</param>
/// <param name="Actor">Who did it.</param>
public sealed record Change(long Position, DateTimeOffset At, string Kind, string Subject, string Type, string Actor);

/// <summary>The changes in one order, and the record of who commanded what.</summary>
public sealed class Feed(Database database)
{
    /// <summary>The changes after a position, at most as many as asked for.</summary>
    public Task<IReadOnlyList<Change>> AfterAsync(long position, int most, CancellationToken stop) => database.ReadAsync<IReadOnlyList<Change>>(
        async c => [.. (await c.QueryAsync<ChangeRow>("SELECT position, at, kind, subject, type, actor FROM feed WHERE position > @position ORDER BY position LIMIT @most", new { position, most }))
            .Select(r => new Change(r.Position, Micros.Time(r.At), r.Kind, r.Subject, r.Type, r.Actor))],
        stop);

    /// <summary>The position of the newest change; 0 where there is none.</summary>
    public Task<long> NewestAsync(CancellationToken stop) =>
        database.ReadAsync(c => c.ExecuteScalarAsync<long>("SELECT last FROM counters WHERE name = 'feed'"), stop);

    /// <summary>Writes a change in the caller's transaction and returns its position.</summary>
    internal static async Task<long> AddAsync(DbConnection connection, DbTransaction transaction, DateTimeOffset at, string kind, string subject, string type, string actor)
    {
        var position = await Database.NextAsync(connection, transaction, "feed");
        await connection.ExecuteAsync(
            "INSERT INTO feed (position, at, kind, subject, type, actor) VALUES (@position, @at, @kind, @subject, @type, @actor)",
            new { position, at = Micros.Of(at), kind, subject, type, actor },
            transaction);
        return position;
    }

    /// <summary>Writes who commanded what, in the caller's transaction.</summary>
    internal static async Task AuditAsync(DbConnection connection, DbTransaction transaction, DateTimeOffset at, string actor, string command, string subject, string detail)
    {
        var number = await Database.NextAsync(connection, transaction, "audit");
        await connection.ExecuteAsync(
            "INSERT INTO audit (number, at, actor, command, subject, detail) VALUES (@number, @at, @actor, @command, @subject, @detail)",
            new { number, at = Micros.Of(at), actor, command, subject, detail },
            transaction);
    }

    private sealed record ChangeRow
    {
        public long Position { get; init; }

        public long At { get; init; }

        public string Kind { get; init; } = "";

        public string Subject { get; init; } = "";

        public string Type { get; init; } = "";

        public string Actor { get; init; } = "";
    }
}
