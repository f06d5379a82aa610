using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Checks;

/// <summary>A fix script that was sent to a machine.</summary>
/// <param name="Id">Its number.</param>
/// <param name="Machine">The machine.</param>
/// <param name="Product">The product whose check it is to fix.</param>
/// <param name="Check">The check's name.</param>
/// <param name="Script">The script's file name.</param>
/// <param name="ScriptHash">The SHA-256 of its content.</param>
/// <param name="Actor">Who sent it.</param>
/// <param name="Begun">When, UTC.</param>
/// <param name="NotBefore">Before when it is not sent, UTC: the machine's next window; null for at once.</param>
/// <param name="Ended">When it ended, UTC; null while it is running.</param>
/// <param name="Exit">Its exit status; null while it is running or where none is known.</param>
/// <param name="Note">What it says of itself, or the last lines of its output.</param>
/// <param name="CheckState">What the check came to when it was asked again afterwards; null before.</param>
public sealed record StoredFix(
    long Id,
    MachineId Machine,
    string Product,
    string Check,
    string Script,
    string ScriptHash,
    string Actor,
    DateTimeOffset Begun,
    DateTimeOffset? NotBefore,
    DateTimeOffset? Ended,
    int? Exit,
    string Note,
    string? CheckState
)
{
    /// <summary>The run whose follow-up it is to do; null where it does none.</summary>
    public long? Run { get; init; }
}

/// <summary>The fix scripts that were sent to machines.</summary>
public sealed class FixTable(Database database)
{
    private const int MostNote = 4000;

    /// <summary>Stores a fix that is to be sent.</summary>
    /// <param name="fix">The fix; its number is given here.</param>
    /// <param name="reason">Why it is sent.</param>
    /// <param name="actor">Who sends it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">One is running for this check on this machine.</exception>
    public Task<StoredFix> BeginAsync(StoredFix fix, string reason, Actor actor, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                if (
                    await c.ExecuteScalarAsync<long?>(
                        "SELECT id FROM fixes WHERE machine_id = @id AND check_name = @Check AND ended IS NULL",
                        new { id = fix.Machine.Value, fix.Check },
                        t
                    ) is
                    { } open
                )
                    throw RefusedException.Conflict(
                        "fix-running",
                        $"Fix f{open} of '{fix.Check}' is running on this machine already. Wait until it has ended."
                    );
                var begun = fix with { Id = await Database.NextAsync(c, t, "fix") };
                await c.ExecuteAsync(
                    "INSERT INTO fixes (id, machine_id, product, check_name, script, script_hash, actor, begun, not_before, run_id, note) "
                        + "VALUES (@Id, @machine, @Product, @Check, @Script, @ScriptHash, @Actor, @at, @notBefore, @Run, '')",
                    new
                    {
                        begun.Id,
                        machine = begun.Machine.Value,
                        begun.Product,
                        begun.Check,
                        begun.Script,
                        begun.ScriptHash,
                        begun.Actor,
                        at = Micros.Of(begun.Begun),
                        notBefore = Micros.Of(begun.NotBefore),
                        begun.Run,
                    },
                    t
                );
                await AuditTable.AddAsync(
                    c,
                    t,
                    begun.Begun,
                    actor,
                    "check fix",
                    begun.Check,
                    begun.Machine,
                    null,
                    $"f{begun.Id}: {begun.Script}, SHA-256 {begun.ScriptHash}",
                    reason
                );
                await Feed.AddAsync(c, t, begun.Begun, "fix", $"f{begun.Id}", "begun", actor, begun.Machine);
                return begun;
            },
            stop
        );

    /// <summary>Stores what a fix says of itself.</summary>
    public Task PutAsync(StoredFix fix, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync(
                    "UPDATE fixes SET ended = @ended, exit_status = @Exit, note = @note, check_state = @CheckState WHERE id = @Id",
                    new
                    {
                        fix.Id,
                        ended = Micros.Of(fix.Ended),
                        fix.Exit,
                        note = fix.Note.Length > MostNote ? fix.Note[^MostNote..] : fix.Note,
                        fix.CheckState,
                    },
                    t
                );
                if (fix.Ended is not null)
                    await Feed.AddAsync(c, t, now, "fix", $"f{fix.Id}", "ended", Actor.Worker, fix.Machine);
                return 0;
            },
            stop
        );

    /// <summary>The fixes of a machine or of all, newest first.</summary>
    public Task<IReadOnlyList<StoredFix>> ListAsync(MachineId? machine, bool openOnly, int most, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredFix>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<FixRow>(
                            $"SELECT * FROM fixes WHERE {(machine is null ? "1 = 1" : "machine_id = @machine")} AND "
                                + $"{(openOnly ? "ended IS NULL" : "1 = 1")} ORDER BY id DESC LIMIT @most",
                            new { machine = machine?.Value, most }
                        )
                    ).Select(r => r.ToFix()),
                ],
            stop
        );

    private sealed record FixRow
    {
        public long Id { get; init; }

        public long MachineId { get; init; }

        public string Product { get; init; } = "";

        public string CheckName { get; init; } = "";

        public string Script { get; init; } = "";

        public string ScriptHash { get; init; } = "";

        public string Actor { get; init; } = "";

        public long Begun { get; init; }

        public long? NotBefore { get; init; }

        public long? Ended { get; init; }

        public long? ExitStatus { get; init; }

        public string Note { get; init; } = "";

        public string? CheckState { get; init; }

        public long? RunId { get; init; }

        public StoredFix ToFix() =>
            new(
                Id,
                new(MachineId),
                Product,
                CheckName,
                Script,
                ScriptHash,
                Actor,
                Micros.Time(Begun),
                Micros.Time(NotBefore),
                Micros.Time(Ended),
                (int?)ExitStatus,
                Note,
                CheckState
            )
            {
                Run = RunId,
            };
    }
}
