using System.Buffers;
using System.Collections.Concurrent;
using System.Collections.Frozen;
using System.Collections.Immutable;
using System.Data.Common;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Threading.Channels;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Fleet;

/// <summary>What an import did.</summary>
/// <param name="Added">Machines that were not known.</param>
/// <param name="Updated">Machines that were.</param>
/// <param name="Waiting">Rows whose identifiers belong to several machines; a person has to say which, and nothing of them was
/// kept.</param>
public sealed record ImportResult(int Added, int Updated, IReadOnlyList<(int Line, string Why)> Waiting);

/// <summary>The machines and their readings.</summary>
public sealed class FleetTable(Database database)
{
    private const int BatchSize = 1000;
    private const int BatchesAhead = 4;
    private const int IdsAtOnce = 500;
    private const string AddReadings =
        "INSERT INTO readings (machine_id, source, document) VALUES (@machine, @source, @document) ON CONFLICT (machine_id, source) DO "
        + "UPDATE SET document = excluded.document";
    private const string AddMachine = """
        INSERT INTO machines (id, name, site, group_name, owner, tags, connection_kind, address, port, user_name, host_key,
          host_key_from, ssh_key, created, changed)
        VALUES (@id, @name, @site, @group, @owner, @tags, @kind, @address, @port, @user, @hostKey, @hostKeyFrom, @sshKey, @created,
          @changed)
        """;

    private const int TypicalReadingSize = 140;
    private const int ReadSideBySide = 500;
    private static readonly ConcurrentDictionary<string, string> Names = new(StringComparer.Ordinal);
    private static readonly JsonWriterOptions Plain = new() { SkipValidation = true };
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        Converters = { new JsonStringEnumConverter(JsonNamingPolicy.KebabCaseLower) },
    };

    /// <summary>
    /// Takes what a source reports of many machines, some at a time: what was taken stays when it is stopped midway, and
    /// other writes find their turn. While some are written, the next are read.
    /// </summary>
    /// <param name="machines">The machines; they are asked for on another thread.</param>
    /// <param name="source">The name of the source.</param>
    /// <param name="actor">Who imports.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends it after the machines at hand.</param>
    /// <param name="import">The import whose progress is kept; null where nobody asks for it.</param>
    public async Task<ImportResult> ImportAsync(
        IEnumerable<ReportedMachine> machines,
        string source,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop,
        long? import = null
    )
    {
        var (added, updated) = (0, 0);
        var waiting = new List<(int, string)>();
        var ahead = Channel.CreateBounded<Prepared[]>(BatchesAhead);
        using var ended = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var preparing = Task.Run(() => PrepareAsync(machines, now, ahead.Writer, ended.Token), CancellationToken.None);
        try
        {
            await foreach (var batch in ahead.Reader.ReadAllAsync(stop))
            {
                var taken = await database.WriteAsync((c, t) => TakeAsync(c, t, batch, now, import), stop);
                added += taken.Added;
                updated += taken.Updated;
                waiting.AddRange(taken.Waiting);
            }
        }
        finally
        {
            await ended.CancelAsync();
            await preparing;
        }

        await database.WriteAsync(
            async (c, t) =>
            {
                if (import is { } id)
                    await ImportTable.EndAsync(c, t, id, now);
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "fleet import",
                    source,
                    null,
                    null,
                    import is null ? null : $"import {import}",
                    $"ended: {added} added, {updated} updated, {waiting.Count} waiting"
                );
                await Feed.AddAsync(c, t, now, "fleet", source, "imported", actor);
                return 0;
            },
            stop
        );
        return new(added, updated, waiting);
    }

    /// <summary>Takes what a source read of one machine.</summary>
    public Task PutReadingsAsync(
        MachineId machine,
        SourceReport report,
        DateTimeOffset seen,
        DateTimeOffset now,
        Actor actor,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await TouchAsync(c, t, machine);
                await MergeAsync(c, t, machine.Value, await DocumentAsync(c, t, machine.Value, report.Source), report, seen, now);
                if (actor != Actor.Worker && actor != Actor.Schedule)
                    await AuditTable.AddAsync(
                        c,
                        t,
                        now,
                        actor,
                        "machine read",
                        machine.ToString(),
                        machine,
                        null,
                        null,
                        $"{report.Readings.Length} readings by {report.Source}"
                    );
                await Feed.AddAsync(c, t, now, "fleet", machine.ToString(), "read", actor, machine);
                return 0;
            },
            stop
        );

    /// <summary>Takes what the service itself knows of a machine, within a transaction of somebody else's.</summary>
    internal static async Task PutReadingsAsync(DbConnection c, DbTransaction t, MachineId machine, SourceReport report, DateTimeOffset now)
    {
        await TouchAsync(c, t, machine);
        await MergeAsync(c, t, machine.Value, await DocumentAsync(c, t, machine.Value, report.Source), report, now, now);
        await Feed.AddAsync(c, t, now, "fleet", machine.ToString(), "read", Actor.Worker, machine);
    }

    /// <summary>Pins another host key.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="hostKey">The key as in known_hosts.</param>
    /// <param name="from">How it came: <c>known-hosts</c>, <c>person</c> or <c>first-use</c>.</param>
    /// <param name="reason">Why.</param>
    /// <param name="actor">Who commands it.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task PinHostKeyAsync(
        MachineId machine,
        string hostKey,
        string from,
        string reason,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await TouchAsync(c, t, machine);
                var before = await c.ExecuteScalarAsync<string?>(
                    "SELECT host_key FROM machines WHERE id = @id",
                    new { id = machine.Value },
                    t
                );
                await c.ExecuteAsync(
                    "UPDATE machines SET host_key = @hostKey, host_key_from = @from WHERE id = @id",
                    new
                    {
                        id = machine.Value,
                        hostKey,
                        from,
                    },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "machine pin", machine.ToString(), machine, before, hostKey, reason);
                await Feed.AddAsync(c, t, now, "fleet", machine.ToString(), "host-key-pinned", actor, machine);
                return 0;
            },
            stop
        );

    /// <summary>The machines that changed after a position of the fleet's own counter, and the newest position among them.</summary>
    public Task<(IReadOnlyList<Machine> Machines, long Position)> ChangedAsync(long after, CancellationToken stop) =>
        database.ReadAsync<(IReadOnlyList<Machine>, long)>(
            async c =>
            {
                var rows = (
                    await c.QueryAsync<MachineRow>("SELECT * FROM machines WHERE changed > @after ORDER BY changed, id", new { after })
                ).AsList();
                if (rows.Count == 0)
                    return ([], after);
                var documents = (
                    await c.QueryAsync<DocumentRow>(
                        "SELECT machine_id, source, document FROM readings WHERE machine_id IN (SELECT id FROM machines WHERE changed "
                            + "> @after)",
                        new { after }
                    )
                ).ToLookup(d => d.MachineId);
                var identifiers = (
                    await c.QueryAsync<(long Machine, string Value)>(
                        "SELECT machine_id, value FROM identifiers WHERE kind <> 'name' AND machine_id IN (SELECT id FROM machines "
                            + "WHERE changed > @after)",
                        new { after }
                    )
                ).ToLookup(i => i.Machine, i => i.Value);
                Machine Read(MachineRow row) =>
                    row.ToMachine(documents[row.Id].SelectMany(d => FromDocument(d.Source, d.Document))) with
                    {
                        Identifiers = [.. identifiers[row.Id]],
                    };
                Machine[] machines = rows.Count < ReadSideBySide ? [.. rows.Select(Read)] : [.. rows.AsParallel().AsOrdered().Select(Read)];
                return (machines, rows.Max(r => r.Changed));
            },
            stop
        );

    /// <summary>How a reading of a machine changed, by every source, newest first; what is so now comes first.</summary>
    public Task<IReadOnlyList<Reading>> HistoryAsync(MachineId machine, string key, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<Reading>>(
            async c => [.. (await EverReadAsync(c, machine)).Where(r => r.Key == key).OrderByDescending(r => r.Seen)],
            stop
        );

    /// <summary>
    /// The readings of a machine that counted at a moment, by key: of those that had been received by then, the newest seen.
    /// </summary>
    public Task<IReadOnlyList<Reading>> AsOfAsync(MachineId machine, DateTimeOffset moment, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<Reading>>(
            async c =>
                [
                    .. (await EverReadAsync(c, machine))
                        .Where(r => r.Received <= moment)
                        .GroupBy(r => r.Key)
                        .Select(g => g.MaxBy(r => (r.Seen, r.Received))!)
                        .OrderBy(r => r.Key, StringComparer.Ordinal),
                ],
            stop
        );

    /// <summary>All readings of a machine: those that are so now, then those of the history.</summary>
    private static async Task<IEnumerable<Reading>> EverReadAsync(DbConnection c, MachineId machine)
    {
        var id = machine.Value;
        var now = (
            await c.QueryAsync<DocumentRow>("SELECT machine_id, source, document FROM readings WHERE machine_id = @id", new { id })
        ).SelectMany(d => FromDocument(d.Source, d.Document));
        return now.Concat(
            (await c.QueryAsync<HistoryRow>("SELECT * FROM reading_history WHERE machine_id = @id", new { id })).Select(r => r.ToReading())
        );
    }

    /// <summary>Reads machines ahead of the writer; what goes wrong there, the writer gets to hear.</summary>
    private static async Task PrepareAsync(
        IEnumerable<ReportedMachine> machines,
        DateTimeOffset now,
        ChannelWriter<Prepared[]> ahead,
        CancellationToken ended
    )
    {
        try
        {
            foreach (var batch in machines.Select(m => new Prepared(m, ToDocument(m.Report.Complete(m.Seen, now)))).Chunk(BatchSize))
                await ahead.WriteAsync(batch, ended);
            ahead.Complete();
        }
        catch (Exception error)
        {
            ahead.Complete(error);
        }
    }

    private static async Task<ImportResult> TakeAsync(DbConnection c, DbTransaction t, Prepared[] batch, DateTimeOffset now, long? import)
    {
        var (added, updated) = (0, 0);
        var waiting = new List<(int, string)>();
        // One number for all of the batch: whoever asks what changed since sees all of it or nothing.
        var changed = await Database.NextAsync(c, t, "fleet");
        var (next, last) = (0L, -1L);
        var removed = (await c.QueryAsync<MachineRow>("SELECT * FROM machines WHERE removed IS NOT NULL", transaction: t)).ToDictionary(m =>
            m.Id
        );
        using var find = new Reused(c, t, "SELECT machine_id FROM identifiers WHERE kind = @kind AND value = @value", "kind", "value");
        using var name = new Reused(
            c,
            t,
            "INSERT INTO identifiers (kind, value, machine_id) VALUES (@kind, @value, @id) ON CONFLICT (kind, value) DO NOTHING",
            "kind",
            "value",
            "id"
        );
        using var add = new Reused(
            c,
            t,
            AddMachine,
            "id",
            "name",
            "site",
            "group",
            "owner",
            "tags",
            "kind",
            "address",
            "port",
            "user",
            "hostKey",
            "hostKeyFrom",
            "sshKey",
            "created",
            "changed"
        );
        using var read = new Reused(c, t, AddReadings, "machine", "source", "document");
        using var keepAdded = new Reused(c, t, ImportTable.KeepAdded, "import", "machine");
        foreach (var (reported, document) in batch)
        {
            var ids = reported.Identifiers.Add(new("name", reported.Name));
            var matches = new HashSet<long>();
            var unknown = new List<Identifier>();
            foreach (var identifier in ids)
            {
                if (await find.ScalarAsync(identifier.Kind, identifier.Value.ToLowerInvariant()) is not long known)
                    unknown.Add(identifier);
                // A machine with other identifiers is another one, even if it has a removed one's name.
                else if (identifier.Kind == "name" && removed.ContainsKey(known) && !reported.Identifiers.IsEmpty)
                    await ReleaseAsync(c, t, identifier);
                else
                    matches.Add(known);
            }

            if (matches.Select(removed.GetValueOrDefault).FirstOrDefault(m => m is not null) is { } gone)
            {
                waiting.Add(
                    (
                        reported.Line,
                        $"'{reported.Name}' is {gone.Name}, which was removed from the fleet on "
                            + $"{Micros.Time(gone.Removed!.Value):yyyy-MM-dd} by {gone.RemovedBy}: {gone.RemovedReason}. 'gstair machine "
                            + $"restore m{gone.Id}' brings it back."
                    )
                );
                continue;
            }

            if (matches.Count > 1)
            {
                waiting.Add(
                    (
                        reported.Line,
                        $"'{reported.Name}' matches {matches.Count} machines by its identifiers: "
                            + $"{string.Join(", ", matches.Order().Select(m => $"m{m}"))}. Correct the identifiers and import the line "
                            + $"again."
                    )
                );
                continue;
            }

            if (matches.Count == 1)
            {
                if (
                    reported.Connection?.HostKey is { } shown
                    && await c.ExecuteScalarAsync<string?>("SELECT host_key FROM machines WHERE id = @id", new { id = matches.Single() }, t)
                        is { } pinned
                    && !SameKey(pinned, shown)
                )
                    waiting.Add(
                        (
                            reported.Line,
                            $"'{reported.Name}' has another host key pinned than the file says. The pinned one stays; 'gstair machine "
                                + $"pin' replaces it, with a reason."
                        )
                    );
                var before = await DocumentAsync(c, t, matches.Single(), reported.Report.Source);
                if (import is { } updating)
                    await ImportTable.KeepAsync(c, t, updating, matches.Single(), before, unknown);
                await UpdateAsync(c, t, matches.Single(), reported, changed);
                await MergeAsync(c, t, matches.Single(), before, reported.Report, reported.Seen, now);
                updated++;
            }
            else
            {
                if (next > last)
                {
                    last = await Database.NextAsync(c, t, "machine", IdsAtOnce);
                    next = last - IdsAtOnce + 1;
                }

                await AddAsync(add, next, reported, now, changed);
                await read.RunAsync(next, reported.Report.Source, document);
                if (import is { } adding)
                    await keepAdded.RunAsync(adding, next);
                matches.Add(next++);
                added++;
            }

            foreach (var identifier in ids)
                await name.RunAsync(identifier.Kind, identifier.Value.ToLowerInvariant(), matches.Single());
        }

        if (import is { } id)
            await ImportTable.AdvanceAsync(c, t, id, batch[^1].Machine.Line, added, updated);
        return new(added, updated, waiting);
    }

    /// <summary>Frees a name that a removed machine still has.</summary>
    private static Task ReleaseAsync(DbConnection c, DbTransaction t, Identifier identifier) =>
        c.ExecuteAsync(
            "DELETE FROM identifiers WHERE kind = @Kind AND value = @value",
            new { identifier.Kind, value = identifier.Value.ToLowerInvariant() },
            t
        );

    private static Task AddAsync(Reused add, long id, ReportedMachine m, DateTimeOffset now, long changed)
    {
        var connection = m.Connection ?? new ConnectionAddress("ssh", m.Name, 22, "root", null);
        return add.RunAsync(
            id,
            m.Name,
            m.Site ?? "",
            m.Group ?? "",
            m.Owner ?? "",
            Tags(m.Tags ?? []),
            connection.Kind,
            connection.Address,
            (long)connection.Port,
            connection.User,
            connection.HostKey,
            connection.HostKey is null ? null : "import",
            connection.Key,
            Micros.Of(now),
            changed
        );
    }

    private static Task UpdateAsync(DbConnection c, DbTransaction t, long id, ReportedMachine m, long changed) =>
        c.ExecuteAsync(
            """
            UPDATE machines SET name = @Name, site = COALESCE(@Site, site), group_name = COALESCE(@Group, group_name), owner =
              COALESCE(@Owner, owner),
              tags = COALESCE(@Tags, tags), connection_kind = COALESCE(@Kind, connection_kind), address = COALESCE(@Address, address),
                port = COALESCE(@Port, port),
              user_name = COALESCE(@User, user_name), host_key_from = CASE WHEN host_key IS NULL AND @HostKey IS NOT NULL THEN 'import'
                ELSE host_key_from END,
              host_key = COALESCE(host_key, @HostKey), ssh_key = COALESCE(@Key, ssh_key), changed = @changed
            WHERE id = @id
            """,
            new
            {
                id,
                m.Name,
                m.Site,
                m.Group,
                m.Owner,
                Tags = m.Tags is { } tags ? Tags(tags) : null,
                m.Connection?.Kind,
                m.Connection?.Address,
                Port = (long?)m.Connection?.Port,
                m.Connection?.User,
                m.Connection?.HostKey,
                m.Connection?.Key,
                changed,
            },
            t
        );

    /// <summary>Whether two keys are the same, whatever remark follows them.</summary>
    private static bool SameKey(string one, string other) => one.Split(' ').Take(2).SequenceEqual(other.Split(' ').Take(2));

    private static string Tags(ImmutableArray<string> tags) => string.Join(',', tags);

    /// <summary>When the readings of a stored document were seen, each moment once, in microseconds.</summary>
    internal static long[] SeenTimes(string document) =>
        [.. JsonSerializer.Deserialize<StoredReading[]>(document, Json)!.Select(r => r.Seen).Distinct()];

    private static async Task TouchAsync(DbConnection c, DbTransaction t, MachineId machine)
    {
        var changed = await Database.NextAsync(c, t, "fleet");
        await c.ExecuteAsync("UPDATE machines SET changed = @changed WHERE id = @id", new { id = machine.Value, changed }, t);
    }

    /// <summary>
    /// Puts a report over what the source said before. Per key the newer seen stays, and what differs goes into the history.
    /// </summary>
    /// <param name="before">What is stored of the source; null where nothing is.</param>
    private static async Task MergeAsync(
        DbConnection c,
        DbTransaction t,
        long machine,
        string? before,
        SourceReport report,
        DateTimeOffset seen,
        DateTimeOffset now
    )
    {
        var merged = before is null ? [] : FromDocument(report.Source, before).ToDictionary(r => r.Key, StringComparer.Ordinal);
        foreach (var reading in report.Complete(seen, now))
        {
            var known = merged.GetValueOrDefault(reading.Key);
            if (known is not null && known.Seen > reading.Seen)
                continue;
            merged[reading.Key] = reading.After(known);
            // What is so now stands among the readings; the history keeps what was so before.
            if (known is not null && !known.Says(reading))
                await RecordAsync(c, t, machine, known);
        }

        await c.ExecuteAsync(
            AddReadings,
            new
            {
                machine,
                source = report.Source,
                document = ToDocument(merged.Values),
            },
            t
        );
    }

    /// <summary>What is stored of a source's readings of a machine; null where nothing is.</summary>
    private static Task<string?> DocumentAsync(DbConnection c, DbTransaction t, long machine, string source) =>
        c.ExecuteScalarAsync<string?>(
            "SELECT document FROM readings WHERE machine_id = @machine AND source = @source",
            new { machine, source },
            t
        );

    private static Task RecordAsync(DbConnection c, DbTransaction t, long machine, Reading r) =>
        c.ExecuteAsync(
            "INSERT INTO reading_history (machine_id, source, key_name, seen, received, state, value, why) VALUES (@machine, @Source, "
                + "@Key, @seen, @received, @state, @value, @Why)",
            new
            {
                machine,
                r.Source,
                r.Key,
                seen = Micros.Of(r.Seen),
                received = Micros.Of(r.Received),
                state = r.State.ToString(),
                value = r.Value?.Text,
                r.Why,
            },
            t
        );

    private static string ToDocument(IReadOnlyCollection<Reading> readings)
    {
        var buffer = new ArrayBufferWriter<byte>((readings.Count + 1) * TypicalReadingSize);
        using (var writer = new Utf8JsonWriter(buffer, Plain))
        {
            writer.WriteStartArray();
            foreach (var r in readings)
            {
                writer.WriteStartObject();
                writer.WriteString("key"u8, r.Key);
                if (r.State != default)
                    writer.WriteString("state"u8, Name(r.State));
                if (r.Value is { } value)
                {
                    if (value.Kind != default)
                        writer.WriteString("kind"u8, Name(value.Kind));
                    writer.WriteString("value"u8, value.Text);
                }

                if (r.Why is { } why)
                    writer.WriteString("why"u8, why);
                writer.WriteNumber("seen"u8, Micros.Of(r.Seen));
                writer.WriteNumber("received"u8, Micros.Of(r.Received));
                if (r.Clamped)
                    writer.WriteBoolean("clamped"u8, true);
                if (r.Last is { } last)
                {
                    writer.WriteString("lastKind"u8, Name(last.Value.Kind));
                    writer.WriteString("lastValue"u8, last.Value.Text);
                    writer.WriteNumber("lastSeen"u8, Micros.Of(last.Seen));
                }

                writer.WriteEndObject();
            }

            writer.WriteEndArray();
        }

        return Encoding.UTF8.GetString(buffer.WrittenSpan);
    }

    private static JsonEncodedText Name<T>(T value)
        where T : struct, Enum => Words<T>.All[value];

    private static IEnumerable<Reading> FromDocument(string source, string document)
    {
        var from = Shared(source);
        return JsonSerializer
            .Deserialize<StoredReading[]>(document, Json)!
            .Select(r => new Reading(
                Shared(r.Key),
                r.State,
                r.Value is null ? null : ReadingValue.Parse(r.Kind, r.Value, out _),
                r.Why,
                Micros.Time(r.Seen),
                Micros.Time(r.Received),
                from
            )
            {
                Clamped = r.Clamped,
                Last = r.LastValue is { } last ? new(ReadingValue.Parse(r.LastKind, last, out _)!, Micros.Time(r.LastSeen)) : null,
            });
    }

    /// <summary>The one copy of a text that all machines have in common: a key's or a source's name.</summary>
    private static string Shared(string name) => Names.GetOrAdd(name, name);

    /// <summary>A machine with its readings as they are stored where nothing of this source is known of it.</summary>
    private sealed record Prepared(ReportedMachine Machine, string Document);

    /// <summary>The words of an enumeration, as they stand in documents.</summary>
    private static class Words<T>
        where T : struct, Enum
    {
        public static FrozenDictionary<T, JsonEncodedText> All { get; } =
            Enum.GetValues<T>()
                .ToFrozenDictionary(v => v, v => JsonEncodedText.Encode(JsonNamingPolicy.KebabCaseLower.ConvertName(v.ToString())));
    }

    private sealed record StoredReading
    {
        public string Key { get; init; } = "";

        public ReadingState State { get; init; }

        public ValueKind Kind { get; init; }

        public string? Value { get; init; }

        public string? Why { get; init; }

        public long Seen { get; init; }

        public long Received { get; init; }

        public bool Clamped { get; init; }

        public ValueKind LastKind { get; init; }

        public string? LastValue { get; init; }

        public long LastSeen { get; init; }
    }

    private sealed record DocumentRow
    {
        public long MachineId { get; init; }

        public string Source { get; init; } = "";

        public string Document { get; init; } = "";
    }

    private sealed record HistoryRow
    {
        public string KeyName { get; init; } = "";

        public string Source { get; init; } = "";

        public long Seen { get; init; }

        public long Received { get; init; }

        public string State { get; init; } = "";

        public string? Value { get; init; }

        public string? Why { get; init; }

        public Reading ToReading() =>
            new(
                KeyName,
                Enum.Parse<ReadingState>(State),
                Value is null ? null : ReadingValue.Parse(ValueKind.Text, Value, out _),
                Why,
                Micros.Time(Seen),
                Micros.Time(Received),
                Source
            );
    }

    private sealed record MachineRow : MachineColumns
    {
        public long Id { get; init; }

        public long Changed { get; init; }

        public long? Removed { get; init; }

        public string? RemovedBy { get; init; }

        public string? RemovedReason { get; init; }

        public Machine ToMachine(IEnumerable<Reading> readings) =>
            new()
            {
                Id = new(Id),
                Name = Name,
                Site = Site,
                Group = GroupName,
                Owner = Owner,
                Tags = [.. Tags.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)],
                Connection = new(ConnectionKind, Address, (int)Port, UserName, HostKey, SshKey, HostKeyFrom),
                Removed = Removed is { } at ? new(Micros.Time(at), RemovedBy ?? "", RemovedReason ?? "") : null,
                Readings = [.. readings],
            };
    }
}
