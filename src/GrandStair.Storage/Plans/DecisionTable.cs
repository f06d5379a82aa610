using System.Collections.Immutable;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readings;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>A waiver as it is kept.</summary>
/// <param name="Id">Its number.</param>
/// <param name="Product">The product whose check it is about.</param>
/// <param name="Machine">The machine.</param>
/// <param name="Waiver">The waiver.</param>
/// <param name="Ended">When a person ended it before its time, UTC; null where nobody did.</param>
/// <param name="EndedBy">Who did.</param>
public sealed record StoredWaiver(long Id, string Product, MachineId Machine, Waiver Waiver, DateTimeOffset? Ended, string? EndedBy);

/// <summary>What was read or accepted before a plan starts.</summary>
/// <param name="Kind"><c>must-read</c>, <c>licence-terms</c>, <c>caution</c> or <c>preserves</c>.</param>
/// <param name="Name">The must-read's, check's or method's name.</param>
/// <param name="Reason">Why it may go on so.</param>
/// <param name="By">Who said so.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Covers">What exactly was acknowledged: the hash of the text, and for <c>preserves</c> the machines, by id and separated by
/// spaces.</param>
public sealed record Acknowledgement(string Kind, string Name, string Reason, string By, DateTimeOffset At, string Covers)
{
    /// <summary>The kind of licence terms, which are accepted.</summary>
    public const string LicenceTerms = "licence-terms";
}

/// <summary>What people have decided about machines and plans: waivers, methods, acknowledgements.</summary>
public sealed class DecisionTable(Database database)
{
    /// <summary>Stores a waiver and returns its number.</summary>
    public Task<long> WaiveAsync(string product, MachineId machine, Waiver waiver, Actor actor, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var id = await Database.NextAsync(c, t, "waiver");
                await c.ExecuteAsync(
                    """
                    INSERT INTO waivers (id, product, machine_id, check_name, version, seen, reason, given_by, given, until_at)
                    VALUES (@id, @product, @machine, @Check, @Version, @seen, @Reason, @By, @given, @until)
                    """,
                    new
                    {
                        id,
                        product,
                        machine = machine.Value,
                        waiver.Check,
                        waiver.Version,
                        seen = JsonSerializer.Serialize(waiver.Seen),
                        waiver.Reason,
                        waiver.By,
                        given = Micros.Of(waiver.Given),
                        until = Micros.Of(waiver.Until),
                    },
                    t
                );
                await DecidedAsync(
                    c,
                    t,
                    waiver.Given,
                    actor,
                    "check waive",
                    waiver.Check,
                    machine,
                    null,
                    $"w{id}: waived until {waiver.Until:yyyy-MM-dd}; seen "
                        + $"{string.Join(", ", waiver.Seen.Select(s => $"{s.Key} = {s.Value}"))}",
                    waiver.Reason
                );
                return id;
            },
            stop
        );

    /// <summary>Ends a waiver before its time; false where there is none of that number that stands.</summary>
    public Task<bool> EndWaiverAsync(long id, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var machine = await c.ExecuteScalarAsync<long?>(
                    "UPDATE waivers SET ended = @now, ended_by = @actor, ended_reason = @reason WHERE id = @id AND ended IS NULL "
                        + "RETURNING machine_id",
                    new
                    {
                        id,
                        now = Micros.Of(now),
                        actor = actor.Name,
                        reason,
                    },
                    t
                );
                if (machine is { } of)
                    await DecidedAsync(c, t, now, actor, "waiver end", $"w{id}", new(of), "active", "ended", reason);
                return machine is not null;
            },
            stop
        );

    /// <summary>All waivers, newest first; those that were ended or ran out among them.</summary>
    public Task<IReadOnlyList<StoredWaiver>> WaiversAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredWaiver>>(
            async c => [.. (await c.QueryAsync<WaiverRow>("SELECT * FROM waivers ORDER BY id DESC")).Select(r => r.ToWaiver())],
            stop
        );

    /// <summary>Stores a person's choice of the method for a machine; null takes it back.</summary>
    public Task ChooseMethodAsync(
        string plan,
        MachineId machine,
        string? method,
        string reason,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = await c.ExecuteScalarAsync<string?>(
                    "DELETE FROM method_choices WHERE plan = @plan AND machine_id = @machine RETURNING method",
                    new { plan, machine = machine.Value },
                    t
                );
                if (method is not null)
                    await c.ExecuteAsync(
                        "INSERT INTO method_choices (plan, machine_id, method, reason, chosen_by, at) VALUES (@plan, @machine, "
                            + "@method, @reason, @actor, @at)",
                        new
                        {
                            plan,
                            machine = machine.Value,
                            method,
                            reason,
                            actor = actor.Name,
                            at = Micros.Of(now),
                        },
                        t
                    );
                await ApprovalTable.ChangedAsync(c, t, plan, $"method of {machine}", actor.Name, now);
                await DecidedAsync(
                    c,
                    t,
                    now,
                    actor,
                    "plan choose-method",
                    plan,
                    machine,
                    before ?? "as the plan says",
                    method ?? "as the plan says",
                    reason
                );
                return 0;
            },
            stop
        );

    /// <summary>
    /// What is decided about the machines of a product, and within a plan where one is named. Waivers that were ended or ran out are left
    /// out.
    /// </summary>
    public Task<IReadOnlyDictionary<MachineId, Decisions>> OfAsync(
        string product,
        string? plan,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.ReadAsync<IReadOnlyDictionary<MachineId, Decisions>>(
            async c =>
            {
                var waivers = (
                    await c.QueryAsync<WaiverRow>(
                        "SELECT * FROM waivers WHERE product = @product AND ended IS NULL AND until_at > @now ORDER BY id",
                        new { product, now = Micros.Of(now) }
                    )
                ).Select(r => r.ToWaiver());
                var decisions = waivers
                    .GroupBy(w => w.Machine)
                    .ToDictionary(g => g.Key, g => new Decisions([.. g.Select(w => w.Waiver)], null));
                foreach (
                    var row in await c.QueryAsync<ChoiceRow>("SELECT * FROM method_choices WHERE plan = @plan", new { plan = plan ?? "" })
                )
                {
                    var machine = new MachineId(row.MachineId);
                    decisions[machine] = decisions.GetValueOrDefault(machine, Decisions.None) with
                    {
                        Method = new(row.Method, row.Reason, row.ChosenBy, Micros.Time(row.At)),
                    };
                }

                return decisions;
            },
            stop
        );

    /// <summary>A counter of decisions, by which older judgements are recognised.</summary>
    public Task<long> StampAsync(CancellationToken stop) =>
        database.ReadAsync(c => c.ExecuteScalarAsync<long>("SELECT last FROM counters WHERE name = 'decision'"), stop);

    /// <summary>Stores acknowledgements, each in place of an earlier one of the same kind and name.</summary>
    public Task AcknowledgeAsync(string plan, IReadOnlyList<Acknowledgement> given, Actor actor, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                foreach (var a in given)
                {
                    await c.ExecuteAsync(
                        """
                        INSERT INTO acknowledgements (plan, kind, name, reason, given_by, at, covers) VALUES (@plan, @Kind, @Name,
                          @Reason, @By, @at, @Covers)
                        ON CONFLICT (plan, kind, name) DO UPDATE SET reason = excluded.reason, given_by = excluded.given_by, at =
                          excluded.at, covers = excluded.covers
                        """,
                        new
                        {
                            plan,
                            a.Kind,
                            a.Name,
                            a.Reason,
                            a.By,
                            at = Micros.Of(a.At),
                            a.Covers,
                        },
                        t
                    );
                    await DecidedAsync(c, t, a.At, actor, "plan acknowledge", plan, null, null, Told(a), a.Reason);
                }

                return 0;
            },
            stop
        );

    /// <summary>What was acknowledged for a plan.</summary>
    public Task<IReadOnlyList<Acknowledgement>> AcknowledgedAsync(string plan, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<Acknowledgement>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<AcknowledgedRow>(
                            "SELECT kind, name, reason, given_by, at, covers FROM acknowledgements WHERE plan = @plan ORDER BY at, name",
                            new { plan }
                        )
                    ).Select(r => new Acknowledgement(r.Kind, r.Name, r.Reason, r.GivenBy, Micros.Time(r.At), r.Covers)),
                ],
            stop
        );

    /// <summary>What was acknowledged, for the audit; of licence terms with the SHA-256 of their text.</summary>
    private static string Told(Acknowledgement given) =>
        given.Kind == Acknowledgement.LicenceTerms ? $"{given.Kind} {given.Name} sha256:{given.Covers}" : $"{given.Kind} {given.Name}";

    private static async Task DecidedAsync(
        System.Data.Common.DbConnection c,
        System.Data.Common.DbTransaction t,
        DateTimeOffset now,
        Actor actor,
        string command,
        string subject,
        MachineId? machine,
        string? before,
        string? after,
        string reason
    )
    {
        await Database.NextAsync(c, t, "decision");
        await AuditTable.AddAsync(c, t, now, actor, command, subject, machine, before, after, reason);
        await Feed.AddAsync(c, t, now, "decision", subject, command.Split(' ')[1], actor, machine);
    }

    private sealed record WaiverRow
    {
        public long Id { get; init; }

        public string Product { get; init; } = "";

        public long MachineId { get; init; }

        public string CheckName { get; init; } = "";

        public string Version { get; init; } = "";

        public string Seen { get; init; } = "";

        public string Reason { get; init; } = "";

        public string GivenBy { get; init; } = "";

        public long Given { get; init; }

        public long UntilAt { get; init; }

        public long? Ended { get; init; }

        public string? EndedBy { get; init; }

        public StoredWaiver ToWaiver() =>
            new(
                Id,
                Product,
                new(MachineId),
                new(
                    CheckName,
                    Version,
                    JsonSerializer.Deserialize<ImmutableSortedDictionary<string, string>>(Seen)!,
                    Reason,
                    GivenBy,
                    Micros.Time(Given),
                    Micros.Time(UntilAt)
                ),
                Micros.Time(Ended),
                EndedBy
            );
    }

    private sealed record ChoiceRow
    {
        public long MachineId { get; init; }

        public string Method { get; init; } = "";

        public string Reason { get; init; } = "";

        public string ChosenBy { get; init; } = "";

        public long At { get; init; }
    }

    private sealed record AcknowledgedRow
    {
        public string Covers { get; init; } = "";

        public string Kind { get; init; } = "";

        public string Name { get; init; } = "";

        public string Reason { get; init; } = "";

        public string GivenBy { get; init; } = "";

        public long At { get; init; }
    }
}
