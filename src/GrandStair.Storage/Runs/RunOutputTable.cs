using Dapper;
using GrandStair.Core.Runs;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Runs;

/// <summary>How much is kept of what an order has printed.</summary>
/// <param name="Order">The order.</param>
/// <param name="Bytes">How many of the bytes that it printed are kept, from the first on.</param>
/// <param name="At">When the first of it was fetched, UTC.</param>
public sealed record KeptOutput(OrderName Order, long Bytes, DateTimeOffset At);

/// <summary>What the scripts of steps printed, in pieces, compressed.</summary>
public sealed class RunOutputTable(Database database)
{
    /// <summary>How many of the bytes that an order printed are kept, from the first on.</summary>
    public Task<long> KeptAsync(OrderName order, CancellationToken stop) =>
        database.ReadAsync(
            c =>
                c.ExecuteScalarAsync<long>(
                    "SELECT COALESCE(MAX(start + length), 0) FROM run_outputs WHERE run_id = @Run AND leg = @Leg AND step = @Step AND "
                        + "attempt = @Attempt",
                    order
                ),
            stop
        );

    /// <summary>Adds a piece; one that is there already stays as it is.</summary>
    /// <param name="order">The order that printed it.</param>
    /// <param name="start">Where it begins, in bytes.</param>
    /// <param name="length">How long it is, in bytes as they were printed.</param>
    /// <param name="text">Its text.</param>
    /// <param name="at">When it was fetched, UTC.</param>
    /// <param name="stop">Cancels the write.</param>
    public Task AddAsync(OrderName order, long start, long length, string text, DateTimeOffset at, CancellationToken stop)
    {
        var content = PackedText.Pack(text);
        return database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    """
                    INSERT INTO run_outputs (run_id, leg, step, attempt, start, length, at, content)
                    VALUES (@Run, @Leg, @Step, @Attempt, @start, @length, @at, @content)
                    ON CONFLICT (run_id, leg, step, attempt, start) DO NOTHING
                    """,
                    new
                    {
                        order.Run,
                        order.Leg,
                        order.Step,
                        order.Attempt,
                        start,
                        length,
                        at = Micros.Of(at),
                        content,
                    },
                    t
                ),
            stop
        );
    }

    /// <summary>The orders of a run that have printed something, oldest first.</summary>
    public async Task<IReadOnlyList<KeptOutput>> OfAsync(long run, CancellationToken stop) =>
        [
            .. (
                await database.ReadAsync(
                    c =>
                        c.QueryAsync<(long Leg, string Step, long Attempt, long Bytes, long At)>(
                            "SELECT leg, step, attempt, MAX(start + length), MIN(at) FROM run_outputs WHERE run_id = @run "
                                + "GROUP BY leg, step, attempt ORDER BY MIN(at), attempt",
                            new { run }
                        ),
                    stop
                )
            ).Select(r => new KeptOutput(new(run, (int)r.Leg, r.Step, (int)r.Attempt), r.Bytes, Micros.Time(r.At))),
        ];

    /// <summary>All that is kept of what an order printed; empty where that is nothing.</summary>
    public async Task<string> TextAsync(OrderName order, CancellationToken stop) =>
        string.Concat(
            (
                await database.ReadAsync(
                    c =>
                        c.QueryAsync<string>(
                            "SELECT content FROM run_outputs WHERE run_id = @Run AND leg = @Leg AND step = @Step AND attempt = @Attempt "
                                + "ORDER BY start",
                            order
                        ),
                    stop
                )
            ).Select(PackedText.Unpack)
        );
}
