using Dapper;
using GrandStair.Core.Runs;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Runs;

/// <summary>What a step recorded of a machine.</summary>
/// <param name="Leg">The leg, from 1.</param>
/// <param name="Step">The step's name.</param>
/// <param name="At">When it was recorded, UTC.</param>
/// <param name="Record">What the machine had.</param>
public sealed record RunRecord(int Leg, string Step, DateTimeOffset At, SystemRecord Record);

/// <summary>What steps recorded of machines, compressed.</summary>
public sealed class RunRecordTable(Database database)
{
    /// <summary>Keeps what a step recorded; what it recorded before is replaced.</summary>
    public Task PutAsync(long run, RunRecord record, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(record);
        var content = PackedText.Pack(record.Record.Text);
        return database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    """
                    INSERT INTO run_records (run_id, leg, step, at, content) VALUES (@run, @Leg, @Step, @at, @content)
                    ON CONFLICT (run_id, leg, step) DO UPDATE SET at = excluded.at, content = excluded.content
                    """,
                    new
                    {
                        run,
                        record.Leg,
                        record.Step,
                        at = Micros.Of(record.At),
                        content,
                    },
                    t
                ),
            stop
        );
    }

    /// <summary>What the steps of a run recorded, in their order.</summary>
    public async Task<IReadOnlyList<RunRecord>> OfAsync(long run, CancellationToken stop) =>
        [
            .. (
                await database.ReadAsync(
                    c => c.QueryAsync<Row>("SELECT leg, step, at, content FROM run_records WHERE run_id = @run ORDER BY at", new { run }),
                    stop
                )
            ).Select(r => new RunRecord((int)r.Leg, r.Step, Micros.Time(r.At), SystemRecord.Parse(PackedText.Unpack(r.Content)))),
        ];

    private sealed record Row
    {
        public long Leg { get; init; }

        public string Step { get; init; } = "";

        public long At { get; init; }

        public string Content { get; init; } = "";
    }
}
