using System.Collections.Immutable;
using System.Data.Common;
using System.Text.Json;
using System.Text.Json.Serialization;
using Dapper;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Fleet;

/// <summary>A machine as a source reports it.</summary>
/// <param name="Line">The line of the file that it stands in.</param>
/// <param name="Name">Its name.</param>
/// <param name="Identifiers">Its other identifiers.</param>
/// <param name="Site">Its site; null to leave it as it is.</param>
/// <param name="Group">Its group; null to leave it as it is.</param>
/// <param name="Owner">Its owner; null to leave it as it is.</param>
/// <param name="Tags">Its tags; null to leave them as they are.</param>
/// <param name="Link">How it is reached; null to leave it as it is.</param>
/// <param name="Report">What was read of it.</param>
/// <param name="Seen">When that was seen, UTC.</param>
public sealed record ReportedMachine(
    int Line,
    string Name,
    ImmutableArray<Identifier> Identifiers,
    string? Site,
    string? Group,
    string? Owner,
    ImmutableArray<string>? Tags,
    LinkAddress? Link,
    SourceReport Report,
    DateTimeOffset Seen);

/// <summary>What an import did.</summary>
/// <param name="Added">Machines that were not known.</param>
/// <param name="Updated">Machines that were.</param>
/// <param name="Waiting">Rows whose identifiers belong to several machines; a person has to say which, and nothing of them was kept.</param>
public sealed record ImportResult(int Added, int Updated, IReadOnlyList<(int Line, string Why)> Waiting);

/// <summary>The machines and their readings.</summary>
public sealed class FleetTable(Database database)
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingDefault,
        Converters = { new JsonStringEnumConverter(JsonNamingPolicy.KebabCaseLower) },
    };

    /// <summary>Takes what a source reports of many machines; all of it or, on an error, nothing.</summary>
    public Task<ImportResult> ImportAsync(IReadOnlyList<ReportedMachine> machines, string source, string actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var (added, updated) = (0, 0);
                var waiting = new List<(int, string)>();
                foreach (var reported in machines)
                {
                    var ids = reported.Identifiers.Add(new("name", reported.Name));
                    var matches = await MatchesAsync(c, t, ids);
                    if (matches.Length > 1)
                    {
                        waiting.Add((reported.Line, $"'{reported.Name}' matches {matches.Length} machines by its identifiers: {string.Join(", ", matches.Select(m => $"m{m}"))}. Correct the identifiers and import the line again."));
                        continue;
                    }

                    var changed = await Database.NextAsync(c, t, "fleet");
                    var id = matches.Length == 1 ? matches[0] : await AddAsync(c, t, reported, now, changed);
                    if (matches.Length == 1)
                    {
                        await UpdateAsync(c, t, id, reported, changed);
                        updated++;
                    }
                    else
                    {
                        added++;
                    }

                    foreach (var identifier in ids)
                        await c.ExecuteAsync("INSERT INTO identifiers (kind, value, machine_id) VALUES (@kind, @value, @id) ON CONFLICT (kind, value) DO NOTHING", new { kind = identifier.Kind, value = identifier.Value.ToLowerInvariant(), id }, t);
                    await MergeAsync(c, t, id, reported.Report, reported.Seen, now);
                }

                await Feed.AuditAsync(c, t, now, actor, "fleet import", source, $"{added} added, {updated} updated, {waiting.Count} waiting");
                await Feed.AddAsync(c, t, now, "fleet", source, "imported", actor);
                return new ImportResult(added, updated, waiting);
            },
            stop);

    /// <summary>Takes what a source read of one machine.</summary>
    public Task PutReadingsAsync(MachineId machine, SourceReport report, DateTimeOffset seen, DateTimeOffset now, string actor, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await TouchAsync(c, t, machine);
                await MergeAsync(c, t, machine.Value, report, seen, now);
                await Feed.AddAsync(c, t, now, "fleet", machine.ToString(), "read", actor);
                return 0;
            },
            stop);

    /// <summary>Pins another host key.</summary>
    public Task PinHostKeyAsync(MachineId machine, string hostKey, string reason, string actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await TouchAsync(c, t, machine);
                await c.ExecuteAsync("UPDATE machines SET host_key = @hostKey WHERE id = @id", new { id = machine.Value, hostKey }, t);
                await Feed.AuditAsync(c, t, now, actor, "machine pin", machine.ToString(), $"{hostKey}: {reason}");
                await Feed.AddAsync(c, t, now, "fleet", machine.ToString(), "host-key-pinned", actor);
                return 0;
            },
            stop);

    /// <summary>The machines that changed after a position of the fleet's own counter, and the newest position among them.</summary>
    public Task<(IReadOnlyList<Machine> Machines, long Position)> ChangedAsync(long after, CancellationToken stop) => database.ReadAsync<(IReadOnlyList<Machine>, long)>(
        async c =>
        {
            var rows = (await c.QueryAsync<MachineRow>("SELECT * FROM machines WHERE changed > @after ORDER BY id", new { after })).AsList();
            if (rows.Count == 0) return ([], after);
            var documents = (await c.QueryAsync<DocumentRow>(
                "SELECT machine_id, source, document FROM readings WHERE machine_id IN (SELECT id FROM machines WHERE changed > @after)", new { after }))
                .ToLookup(d => d.MachineId);
            return ([.. rows.Select(r => r.ToMachine(documents[r.Id].SelectMany(d => FromDocument(d.Source, d.Document))))], rows.Max(r => r.Changed));
        },
        stop);

    /// <summary>How a reading of a machine changed, newest first.</summary>
    public Task<IReadOnlyList<Reading>> HistoryAsync(MachineId machine, string key, CancellationToken stop) => database.ReadAsync<IReadOnlyList<Reading>>(
        async c => [.. (await c.QueryAsync<HistoryRow>("SELECT * FROM reading_history WHERE machine_id = @id AND key_name = @key ORDER BY seen DESC", new { id = machine.Value, key }))
            .Select(r => new Reading(r.KeyName, Enum.Parse<ReadingState>(r.State), r.Value is null ? null : ReadingValue.Parse(ValueKind.Text, r.Value, out _), r.Why, Micros.Time(r.Seen), Micros.Time(r.Received), r.Source))],
        stop);

    private static async Task<long[]> MatchesAsync(DbConnection c, DbTransaction t, IEnumerable<Identifier> identifiers)
    {
        var found = new HashSet<long>();
        foreach (var identifier in identifiers)
        {
            var id = await c.ExecuteScalarAsync<long?>("SELECT machine_id FROM identifiers WHERE kind = @kind AND value = @value", new { kind = identifier.Kind, value = identifier.Value.ToLowerInvariant() }, t);
            if (id is { } known) found.Add(known);
        }

        return [.. found.Order()];
    }

    private static async Task<long> AddAsync(DbConnection c, DbTransaction t, ReportedMachine m, DateTimeOffset now, long changed)
    {
        var id = await Database.NextAsync(c, t, "machine");
        var link = m.Link ?? new LinkAddress("ssh", m.Name, 22, "root", null);
        await c.ExecuteAsync(
            """
            INSERT INTO machines (id, name, site, group_name, owner, tags, link_kind, address, port, user_name, host_key, created, changed)
            VALUES (@id, @Name, @Site, @Group, @Owner, @Tags, @Kind, @Address, @Port, @User, @HostKey, @created, @changed)
            """,
            new { id, m.Name, Site = m.Site ?? "", Group = m.Group ?? "", Owner = m.Owner ?? "", Tags = Tags(m.Tags ?? []), link.Kind, link.Address, link.Port, link.User, link.HostKey, created = Micros.Of(now), changed },
            t);
        return id;
    }

    private static Task UpdateAsync(DbConnection c, DbTransaction t, long id, ReportedMachine m, long changed) => c.ExecuteAsync(
        """
        UPDATE machines SET name = @Name, site = COALESCE(@Site, site), group_name = COALESCE(@Group, group_name), owner = COALESCE(@Owner, owner),
          tags = COALESCE(@Tags, tags), link_kind = COALESCE(@Kind, link_kind), address = COALESCE(@Address, address), port = COALESCE(@Port, port),
          user_name = COALESCE(@User, user_name), host_key = COALESCE(@HostKey, host_key), changed = @changed
        WHERE id = @id
        """,
        new { id, m.Name, m.Site, m.Group, m.Owner, Tags = m.Tags is { } tags ? Tags(tags) : null, m.Link?.Kind, m.Link?.Address, Port = (long?)m.Link?.Port, m.Link?.User, m.Link?.HostKey, changed },
        t);

    private static string Tags(ImmutableArray<string> tags) => string.Join(',', tags);

    private static async Task TouchAsync(DbConnection c, DbTransaction t, MachineId machine)
    {
        var changed = await Database.NextAsync(c, t, "fleet");
        await c.ExecuteAsync("UPDATE machines SET changed = @changed WHERE id = @id", new { id = machine.Value, changed }, t);
    }

    /// <summary>Puts a report over what the source said before. Per key the newer seen stays, and what differs goes into the history.</summary>
    private static async Task MergeAsync(DbConnection c, DbTransaction t, long machine, SourceReport report, DateTimeOffset seen, DateTimeOffset now)
    {
        var before = await c.ExecuteScalarAsync<string?>("SELECT document FROM readings WHERE machine_id = @machine AND source = @Source", new { machine, report.Source }, t);
        var merged = before is null ? [] : FromDocument(report.Source, before).ToDictionary(r => r.Key, StringComparer.Ordinal);
        foreach (var reading in report.Complete(seen, now))
        {
            var known = merged.GetValueOrDefault(reading.Key);
            if (known is not null && known.Seen > reading.Seen) continue;
            merged[reading.Key] = reading;
            if (known is null || !known.Says(reading)) await RecordAsync(c, t, machine, reading);
        }

        await c.ExecuteAsync(
            "INSERT INTO readings (machine_id, source, document) VALUES (@machine, @Source, @document) ON CONFLICT (machine_id, source) DO UPDATE SET document = excluded.document",
            new { machine, report.Source, document = ToDocument(merged.Values) },
            t);
    }

    private static Task RecordAsync(DbConnection c, DbTransaction t, long machine, Reading r) => c.ExecuteAsync(
        "INSERT INTO reading_history (machine_id, source, key_name, seen, received, state, value, why) VALUES (@machine, @Source, @Key, @seen, @received, @state, @value, @Why)",
        new { machine, r.Source, r.Key, seen = Micros.Of(r.Seen), received = Micros.Of(r.Received), state = r.State.ToString(), value = r.Value?.Text, r.Why },
        t);

    private static string ToDocument(IEnumerable<Reading> readings) => JsonSerializer.Serialize(
        readings.Select(r => new StoredReading(r.Key, r.State, r.Value?.Kind ?? default, r.Value?.Text, r.Why, Micros.Of(r.Seen), Micros.Of(r.Received), r.Clamped)), Json);

    private static IEnumerable<Reading> FromDocument(string source, string document) =>
        JsonSerializer.Deserialize<StoredReading[]>(document, Json)!.Select(r => new Reading(
            r.Key, r.State, r.Value is null ? null : ReadingValue.Parse(r.Kind, r.Value, out _), r.Why, Micros.Time(r.Seen), Micros.Time(r.Received), source)
        { Clamped = r.Clamped });

    private sealed record StoredReading(string Key, ReadingState State, ValueKind Kind, string? Value, string? Why, long Seen, long Received, bool Clamped);

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
    }

    private sealed record MachineRow
    {
        public long Id { get; init; }

        public string Name { get; init; } = "";

        public string Site { get; init; } = "";

        public string GroupName { get; init; } = "";

        public string Owner { get; init; } = "";

        public string Tags { get; init; } = "";

        public string LinkKind { get; init; } = "";

        public string Address { get; init; } = "";

        public long Port { get; init; }

        public string UserName { get; init; } = "";

        public string? HostKey { get; init; }

        public long Changed { get; init; }

        public Machine ToMachine(IEnumerable<Reading> readings) => new()
        {
            Id = new(Id),
            Name = Name,
            Site = Site,
            Group = GroupName,
            Owner = Owner,
            Tags = [.. Tags.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)],
            Link = new(LinkKind, Address, (int)Port, UserName, HostKey),
            Readings = [.. readings],
        };
    }
}
