using System.Data.Common;
using System.Globalization;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Plans;

namespace GrandStair.Storage.Fleet;

/// <summary>What undoing an import did.</summary>
/// <param name="Removed">Machines that the import had added.</param>
/// <param name="Restored">Machines that have their values from before it again.</param>
public sealed record ImportUndone(int Removed, int Restored);

/// <summary>Takes machines out of the fleet and puts them back; what is known of them stays in the database.</summary>
public sealed class RemovalTable(Database database)
{
    private const int AtOnce = 500;
    private const int MostNamed = 5;

    /// <summary>Removes machines, and exempts them from the plans in which they were still to be upgraded.</summary>
    /// <returns>The machines that have a run which is not over, with its number; where there are any, nothing was removed.</returns>
    public Task<IReadOnlyList<(MachineId Machine, long Run)>> RemoveAsync(
        IReadOnlyCollection<MachineId> machines,
        string reason,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync<IReadOnlyList<(MachineId, long)>>(
            async (c, t) =>
            {
                var running = new List<(MachineId, long)>();
                foreach (var machine in machines)
                    if (
                        await c.ExecuteScalarAsync<long?>(
                            "SELECT id FROM runs WHERE machine_id = @id AND closed_at IS NULL",
                            new { id = machine.Value },
                            t
                        ) is
                        { } run
                    )
                        running.Add((machine, run));
                if (running.Count > 0)
                    return running;
                var changed = await Database.NextAsync(c, t, "fleet");
                foreach (var machine in machines)
                    await RemoveAsync(c, t, machine.Value, changed, reason, actor, now);
                return running;
            },
            stop
        );

    /// <summary>Puts a removed machine back.</summary>
    /// <returns>Whether it is back; it is not where another machine has its name by now.</returns>
    public Task<bool> RestoreAsync(MachineId machine, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var id = machine.Value;
                var name = (
                    await c.ExecuteScalarAsync<string>("SELECT name FROM machines WHERE id = @id", new { id }, t)
                )!.ToLowerInvariant();
                await c.ExecuteAsync(
                    "INSERT INTO identifiers (kind, value, machine_id) VALUES ('name', @name, @id) ON CONFLICT (kind, value) DO NOTHING",
                    new { id, name },
                    t
                );
                if (
                    await c.ExecuteScalarAsync<long>(
                        "SELECT machine_id FROM identifiers WHERE kind = 'name' AND value = @name",
                        new { name },
                        t
                    ) != id
                )
                    return false;
                var changed = await Database.NextAsync(c, t, "fleet");
                await c.ExecuteAsync(
                    "UPDATE machines SET removed = NULL, removed_by = NULL, removed_reason = NULL, changed = @changed WHERE id = @id",
                    new { id, changed },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "machine restore", machine.ToString(), machine, "removed", null, reason);
                await Feed.AddAsync(c, t, now, "fleet", machine.ToString(), "restored", actor, machine);
                return true;
            },
            stop
        );

    /// <summary>
    /// Undoes an import: removes what it added, and gives what it updated its values back. Some at a time, so that other writes find their
    /// turn.
    /// </summary>
    /// <exception cref="RefusedException">The import cannot be undone, or not yet; the message says why.</exception>
    public async Task<ImportUndone> UndoAsync(long import, string reason, Actor actor, DateTimeOffset now, CancellationToken stop)
    {
        var source = await database.ReadAsync(c => CheckAsync(c, import), stop);
        var (removed, restored) = (0, 0);
        while (true)
        {
            var done = await database.WriteAsync(
                async (c, t) =>
                {
                    var rows = (
                        await c.QueryAsync<(long Machine, string? Before)>(
                            "SELECT machine_id, before FROM import_changes WHERE import_id = @import ORDER BY machine_id LIMIT @most",
                            new { import, most = AtOnce },
                            t
                        )
                    ).AsList();
                    if (rows.Count == 0)
                    {
                        await c.ExecuteAsync(
                            "UPDATE imports SET undone = @now, undone_by = @by WHERE id = @import",
                            new
                            {
                                import,
                                now = Micros.Of(now),
                                by = actor.Name,
                            },
                            t
                        );
                        await AuditTable.AddAsync(c, t, now, actor, "fleet undo", source, null, $"import {import}", "undone", reason);
                        await Feed.AddAsync(c, t, now, "fleet", source, "import-undone", actor);
                        return (0, 0);
                    }

                    var changed = await Database.NextAsync(c, t, "fleet");
                    foreach (var (machine, before) in rows)
                    {
                        if (before is null)
                        {
                            await RemoveAsync(c, t, machine, changed, $"import {import} was undone: {reason}", actor, now);
                            // The corrected file may name the same machines; they are new ones then.
                            await c.ExecuteAsync("DELETE FROM identifiers WHERE machine_id = @machine", new { machine }, t);
                        }
                        else
                        {
                            await PutBackAsync(c, t, machine, source, JsonSerializer.Deserialize<MachineBefore>(before)!, changed);
                        }
                    }

                    await c.ExecuteAsync(
                        "DELETE FROM import_changes WHERE import_id = @import AND machine_id <= @last",
                        new { import, last = rows[^1].Machine },
                        t
                    );
                    return (rows.Count(r => r.Before is null), rows.Count(r => r.Before is not null));
                },
                stop
            );
            if (done == (0, 0))
                return new(removed, restored);
            removed += done.Item1;
            restored += done.Item2;
        }
    }

    /// <summary>Whether an import can be undone.</summary>
    /// <returns>Its source.</returns>
    private static async Task<string> CheckAsync(DbConnection c, long import)
    {
        var (source, undone, ended) = await c.QuerySingleOrDefaultAsync<(string? Source, long? Undone, long? Ended)>(
            "SELECT source, undone, ended FROM imports WHERE id = @import",
            new { import }
        );
        if (source is null)
            throw RefusedException.Unknown("unknown-import", $"There is no import {import}. 'gstair fleet imports' lists them.");
        if (undone is not null)
            throw RefusedException.Conflict("import-not-undoable", $"Import {import} was undone already.");
        if (ended is null)
            throw RefusedException.Conflict(
                "import-not-undoable",
                $"Import {import} is not over. Wait for its end; one that was cut short goes on when the same file is imported again."
            );
        if (!await c.ExecuteScalarAsync<bool>("SELECT EXISTS (SELECT 1 FROM import_changes WHERE import_id = @import)", new { import }))
            throw RefusedException.Conflict(
                "import-not-undoable",
                $"What import {import} changed is no longer known: only the newest {ImportTable.MostUndoable} imports can be undone. "
                    + $"Import a corrected file instead."
            );
        if (
            await c.ExecuteScalarAsync<long?>(
                "SELECT min(later.import_id) FROM import_changes later JOIN import_changes own ON own.machine_id = later.machine_id "
                    + "AND own.import_id = @import WHERE later.import_id > @import",
                new { import }
            ) is
            { } later
        )
            throw RefusedException.Conflict(
                "import-not-undoable",
                $"Import {later} came later and changed some of the same machines. Undo that one first: gstair fleet undo {later}."
            );
        var running = (
            await c.QueryAsync<string>(
                "SELECT m.name FROM import_changes own JOIN runs r ON r.machine_id = own.machine_id AND r.closed_at IS NULL JOIN "
                    + "machines m ON m.id = own.machine_id WHERE own.import_id = @import AND own.before IS NULL ORDER BY m.name",
                new { import }
            )
        ).AsList();
        if (running.Count > 0)
            throw RefusedException.Conflict(
                "import-not-undoable",
                $"{running.Count.ToString(CultureInfo.InvariantCulture)} machines that import {import} added have a run that is not "
                    + $"over: {string.Join(", ", running.Take(MostNamed))}{(running.Count > MostNamed ? " and more" : "")}. Cancel these "
                    + $"runs first."
            );
        return source;
    }

    private async Task RemoveAsync(
        DbConnection c,
        DbTransaction t,
        long machine,
        long changed,
        string reason,
        Actor actor,
        DateTimeOffset now
    )
    {
        await c.ExecuteAsync(
            "UPDATE machines SET removed = @now, removed_by = @by, removed_reason = @reason, changed = @changed WHERE id = @machine "
                + "AND removed IS NULL",
            new
            {
                machine,
                now = Micros.Of(now),
                by = actor.Name,
                reason,
                changed,
            },
            t
        );
        await MemberRows.ChangeAsync(
            database.Dialect,
            c,
            t,
            "WHERE machine_id = @machine AND plan IN (SELECT name FROM plans WHERE state <> 'Ended')",
            new { machine },
            now,
            m => m.Retire(actor.Name, $"removed from the fleet: {reason}")
        );
        await AuditTable.AddAsync(c, t, now, actor, "machine remove", $"m{machine}", new MachineId(machine), null, "removed", reason);
        await Feed.AddAsync(c, t, now, "fleet", $"m{machine}", "removed", actor, new MachineId(machine));
    }

    private static async Task PutBackAsync(DbConnection c, DbTransaction t, long machine, string source, MachineBefore before, long changed)
    {
        await c.ExecuteAsync(
            """
            UPDATE machines SET name = @Name, site = @Site, group_name = @GroupName, owner = @Owner, tags = @Tags, connection_kind =
              @ConnectionKind, address = @Address,
              port = @Port, user_name = @UserName, host_key = @HostKey, host_key_from = @HostKeyFrom, ssh_key = @SshKey, changed = @changed
            WHERE id = @machine
            """,
            new
            {
                machine,
                before.Name,
                before.Site,
                before.GroupName,
                before.Owner,
                before.Tags,
                before.ConnectionKind,
                before.Address,
                before.Port,
                before.UserName,
                before.HostKey,
                before.HostKeyFrom,
                before.SshKey,
                changed,
            },
            t
        );
        await c.ExecuteAsync("DELETE FROM readings WHERE machine_id = @machine AND source = @source", new { machine, source }, t);
        foreach (var identifier in before.Identifiers)
            await c.ExecuteAsync(
                "DELETE FROM identifiers WHERE kind = @Kind AND value = @value AND machine_id = @machine",
                new
                {
                    identifier.Kind,
                    value = identifier.Value.ToLowerInvariant(),
                    machine,
                },
                t
            );
        if (before.Readings is not { } document)
            return;
        await c.ExecuteAsync(
            "INSERT INTO readings (machine_id, source, document) VALUES (@machine, @source, @document)",
            new
            {
                machine,
                source,
                document,
            },
            t
        );
        // What is so again now does not also stand in the history.
        foreach (var seen in FleetTable.SeenTimes(document))
            await c.ExecuteAsync(
                "DELETE FROM reading_history WHERE machine_id = @machine AND source = @source AND seen = @seen",
                new
                {
                    machine,
                    source,
                    seen,
                },
                t
            );
    }
}
