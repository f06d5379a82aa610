using System.Data.Common;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Fleet;

/// <summary>An import of a file, running or over.</summary>
/// <param name="Id">Its number.</param>
/// <param name="Ticket">The name that the caller gave it, to ask for its progress; null where none was given.</param>
/// <param name="Source">The source that its readings come from.</param>
/// <param name="Actor">Who imports.</param>
/// <param name="Begun">When it began, UTC.</param>
/// <param name="Ended">When all of it was taken, UTC; null before, also where it was cut short.</param>
/// <param name="Lines">How many lines the file has.</param>
/// <param name="Line">The line that was reached; all before it are taken, or reported as problems.</param>
/// <param name="Added">Machines that were not known.</param>
/// <param name="Updated">Machines that were.</param>
public sealed record FleetImport(
    long Id,
    string? Ticket,
    string Source,
    string Actor,
    DateTimeOffset Begun,
    DateTimeOffset? Ended,
    int Lines,
    int Line,
    int Added,
    int Updated
)
{
    /// <summary>When it was undone, UTC; null while it stands.</summary>
    public DateTimeOffset? Undone { get; init; }

    /// <summary>Who undid it; null while it stands.</summary>
    public string? UndoneBy { get; init; }

    /// <summary>Whether what it changed is still known, so that it can be undone.</summary>
    public bool CanBeUndone { get; init; }
}

/// <summary>How far imports came, so that one that was cut short goes on where it stopped.</summary>
public sealed class ImportTable(Database database)
{
    /// <summary>How many of the newest imports can be undone.</summary>
    public const int MostUndoable = 10;

    private const string Select = "SELECT i.*, EXISTS (SELECT 1 FROM import_changes c WHERE c.import_id = i.id) AS kept FROM imports i";

    /// <summary>Begins the import of a file, or takes up the one of the same file that was cut short.</summary>
    /// <param name="digest">What is the same for the same file, understood in the same way.</param>
    /// <param name="ticket">The name that the caller gives it.</param>
    /// <param name="source">The source that its readings come from.</param>
    /// <param name="actor">Who imports.</param>
    /// <param name="lines">How many lines the file has.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task<FleetImport> BeginAsync(
        string digest,
        string? ticket,
        string source,
        Actor actor,
        int lines,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var known = await c.ExecuteScalarAsync<long?>(
                    "SELECT max(id) FROM imports WHERE digest = @digest AND ended IS NULL",
                    new { digest },
                    t
                );
                if (known is { } id)
                {
                    await c.ExecuteAsync(
                        "UPDATE imports SET ticket = @ticket, actor = @actor WHERE id = @id",
                        new
                        {
                            id,
                            ticket,
                            actor = actor.Name,
                        },
                        t
                    );
                }
                else
                {
                    id = await Database.NextAsync(c, t, "import");
                    await c.ExecuteAsync("DELETE FROM import_changes WHERE import_id <= @oldest", new { oldest = id - MostUndoable }, t);
                    await c.ExecuteAsync(
                        "INSERT INTO imports (id, digest, ticket, source, actor, begun, lines, line, added, updated) VALUES (@id, "
                            + "@digest, @ticket, @source, @actor, @begun, @lines, 0, 0, 0)",
                        new
                        {
                            id,
                            digest,
                            ticket,
                            source,
                            actor = actor.Name,
                            begun = Micros.Of(now),
                            lines = (long)lines,
                        },
                        t
                    );
                }

                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "fleet import",
                    source,
                    null,
                    null,
                    $"import {id}, SHA-256 {digest}",
                    $"begun, {lines} lines"
                );
                return (await c.QuerySingleAsync<Row>($"{Select} WHERE id = @id", new { id }, t)).ToImport();
            },
            stop
        );

    /// <summary>The import of that number; null where there is none.</summary>
    public Task<FleetImport?> FindAsync(long id, CancellationToken stop) =>
        database.ReadAsync(async c => (await c.QuerySingleOrDefaultAsync<Row>($"{Select} WHERE id = @id", new { id }))?.ToImport(), stop);

    /// <summary>Forgets an import of which nothing was taken.</summary>
    public Task ForgetAsync(long id, CancellationToken stop) =>
        database.WriteAsync((c, t) => c.ExecuteAsync("DELETE FROM imports WHERE id = @id AND line = 0", new { id }, t), stop);

    /// <summary>The newest imports, the newest first.</summary>
    public Task<IReadOnlyList<FleetImport>> NewestAsync(int most, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<FleetImport>>(
            async c => [.. (await c.QueryAsync<Row>($"{Select} ORDER BY id DESC LIMIT @most", new { most })).Select(r => r.ToImport())],
            stop
        );

    internal static Task AdvanceAsync(DbConnection c, DbTransaction t, long id, int line, int added, int updated) =>
        c.ExecuteAsync(
            "UPDATE imports SET line = @line, added = added + @added, updated = updated + @updated WHERE id = @id",
            new
            {
                id,
                line = (long)line,
                added,
                updated,
            },
            t
        );

    /// <summary>Notes that an import adds a machine.</summary>
    internal const string KeepAdded = "INSERT INTO import_changes (import_id, machine_id) VALUES (@import, @machine)";

    /// <summary>Keeps what a machine is before an import changes it. A file may list it twice; then the first counts.</summary>
    /// <param name="readings">What is stored of the import's source; null where nothing is.</param>
    /// <param name="added">The identifiers that the import gives it.</param>
    internal static async Task KeepAsync(
        DbConnection c,
        DbTransaction t,
        long import,
        long machine,
        string? readings,
        IReadOnlyList<Identifier> added
    )
    {
        var before = await c.QuerySingleAsync<MachineBefore>(
            "SELECT name, site, group_name, owner, tags, connection_kind, address, port, user_name, host_key, host_key_from, ssh_key "
                + "FROM machines WHERE id = @machine",
            new { machine },
            t
        );
        before = before with { Readings = readings, Identifiers = [.. added] };
        await c.ExecuteAsync(
            "INSERT INTO import_changes (import_id, machine_id, before) VALUES (@import, @machine, @before) ON CONFLICT (import_id, "
                + "machine_id) DO NOTHING",
            new
            {
                import,
                machine,
                before = JsonSerializer.Serialize(before),
            },
            t
        );
    }

    internal static Task EndAsync(DbConnection c, DbTransaction t, long id, DateTimeOffset now) =>
        c.ExecuteAsync("UPDATE imports SET line = lines, ended = @ended WHERE id = @id", new { id, ended = Micros.Of(now) }, t);

    private sealed record Row
    {
        public long Id { get; init; }

        public string? Ticket { get; init; }

        public string Source { get; init; } = "";

        public string Actor { get; init; } = "";

        public long Begun { get; init; }

        public long? Ended { get; init; }

        public long Lines { get; init; }

        public long Line { get; init; }

        public long Added { get; init; }

        public long Updated { get; init; }

        public long? Undone { get; init; }

        public string? UndoneBy { get; init; }

        public bool Kept { get; init; }

        public FleetImport ToImport() =>
            new(Id, Ticket, Source, Actor, Micros.Time(Begun), Micros.Time(Ended), (int)Lines, (int)Line, (int)Added, (int)Updated)
            {
                Undone = Micros.Time(Undone),
                UndoneBy = UndoneBy,
                CanBeUndone = Kept && Undone is null,
            };
    }
}

/// <summary>What a machine was before an import changed it.</summary>
internal sealed record MachineBefore : MachineColumns
{
    /// <summary>The readings of the import's source; null where there were none.</summary>
    public string? Readings { get; init; }

    /// <summary>The identifiers that the import has given it.</summary>
    public IReadOnlyList<Identifier> Identifiers { get; init; } = [];
}
