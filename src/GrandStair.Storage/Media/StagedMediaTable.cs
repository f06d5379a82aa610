using Dapper;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Media;

/// <summary>A file of media that lies on a machine, as far as its steps say.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Sha256">The SHA-256 of its content.</param>
/// <param name="File">Its file name.</param>
/// <param name="At">When the step that fetched it ended, UTC.</param>
public sealed record StagedMedia(MachineId Machine, string Sha256, string File, DateTimeOffset At);

/// <summary>Which media lies on which machine: what steps fetched and none has deleted since.</summary>
public sealed class StagedMediaTable(Database database)
{
    /// <summary>All files on all machines, oldest first.</summary>
    public Task<IReadOnlyList<StagedMedia>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StagedMedia>>(
            async c =>
                [
                    .. (await c.QueryAsync<Row>("SELECT machine_id, sha256, file, at FROM staged_media ORDER BY at, machine_id")).Select(
                        r => r.Staged
                    ),
                ],
            stop
        );

    /// <summary>Notes that a machine has a file. Noted again, it changes nothing.</summary>
    public Task AddAsync(StagedMedia staged, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(staged);
        return database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "INSERT INTO staged_media (machine_id, sha256, file, at) VALUES (@machine, @Sha256, @File, @at) "
                        + "ON CONFLICT (machine_id, sha256) DO NOTHING",
                    new
                    {
                        machine = staged.Machine.Value,
                        staged.Sha256,
                        staged.File,
                        at = Micros.Of(staged.At),
                    },
                    t
                ),
            stop
        );
    }

    /// <summary>Notes that a machine has none of its files any more but some.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="kept">The checksums of those that it still has.</param>
    /// <param name="stop">Cancels the write.</param>
    public Task KeepAsync(MachineId machine, IReadOnlyCollection<string> kept, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var staged = await c.QueryAsync<string>(
                    "SELECT sha256 FROM staged_media WHERE machine_id = @machine",
                    new { machine = machine.Value },
                    t
                );
                foreach (var sha256 in staged.Except(kept))
                    await c.ExecuteAsync(
                        "DELETE FROM staged_media WHERE machine_id = @machine AND sha256 = @sha256",
                        new { machine = machine.Value, sha256 },
                        t
                    );
                return 0;
            },
            stop
        );

    private sealed record Row
    {
        public long MachineId { get; init; }

        public string Sha256 { get; init; } = "";

        public string File { get; init; } = "";

        public long At { get; init; }

        public StagedMedia Staged => new(new(MachineId), Sha256, File, Micros.Time(At));
    }
}
