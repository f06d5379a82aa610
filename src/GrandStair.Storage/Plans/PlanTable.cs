using System.Data.Common;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>The plans, their waves and their members.</summary>
public sealed class PlanTable(Database database)
{
    private static readonly string[] BelongingToPlans =
    [
        "plan_members",
        "plan_waves",
        "plan_revisions",
        "plan_intent_changes",
        "plan_approvals",
        "rehearsals",
        "share_links",
        "method_choices",
        "acknowledgements",
    ];

    /// <summary>Stores a new plan with its members.</summary>
    /// <exception cref="StoreException">There is a plan of that name.</exception>
    public Task CreateAsync(StoredPlan plan, IReadOnlyList<Member> members, Actor actor, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var isNew = await c.ExecuteAsync(
                    """
                    INSERT INTO plans (name, revision, body, catalogue_hash, state, created, created_by, revised_by, undecided,
                      coverages, sites, first_intent)
                    VALUES (@Name, @Revision, @Body, @CatalogueHash, @state, @created, @CreatedBy, @RevisedBy, @undecided, @coverages,
                      @sites, @FirstIntent) ON CONFLICT (name) DO NOTHING
                    """,
                    new
                    {
                        plan.Name,
                        plan.Revision,
                        plan.Body,
                        plan.CatalogueHash,
                        state = plan.State.ToString(),
                        created = Micros.Of(plan.Created),
                        plan.CreatedBy,
                        plan.RevisedBy,
                        undecided = JsonSerializer.Serialize(plan.Undecided),
                        coverages = JsonSerializer.Serialize(plan.Coverages),
                        sites = AccountTable.Write(plan.Sites),
                        plan.FirstIntent,
                    },
                    t
                );
                if (isNew == 0)
                    throw new StoreException("plan-exists", $"There is a plan '{plan.Name}' already. Give the new one another name.");
                await PutWavesAndMembersAsync(c, t, plan, members, plan.Created, "");
                await ApprovalTable.ChangedAsync(c, t, plan.Name, "revision 1", actor.Name, plan.Created);
                await AuditTable.AddAsync(
                    c,
                    t,
                    plan.Created,
                    actor,
                    "plan create",
                    plan.Name,
                    null,
                    null,
                    plan.Body,
                    $"{members.Count} machines"
                );
                await Feed.AddAsync(c, t, plan.Created, "plan", plan.Name, "created", actor);
                return 0;
            },
            stop
        );

    /// <summary>
    /// Stores a plan's next revision. Machines with a run, and exempt ones, stay as they are; of the others those that are no longer
    /// members are taken out.
    /// </summary>
    /// <param name="plan">The plan as it is to be.</param>
    /// <param name="members">All its members.</param>
    /// <param name="reason">Why it was changed.</param>
    /// <param name="actor">Who changed it.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="StoreException">It was changed meanwhile.</exception>
    public Task ReviseAsync(
        StoredPlan plan,
        IReadOnlyList<Member> members,
        string reason,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var from = (long)plan.Revision - 1;
                var before = await c.ExecuteScalarAsync<string?>(
                    "SELECT body FROM plans WHERE name = @Name AND revision = @from",
                    new { plan.Name, from },
                    t
                );
                // Of two who load at once the second waits for the first, and then finds another revision than it was made from.
                var kept = await c.ExecuteAsync(
                    "UPDATE plans SET revision = @Revision, body = @Body, catalogue_hash = @CatalogueHash, held = @Held, revised_by = "
                        + "@RevisedBy, undecided = @undecided, coverages = @coverages WHERE name = @Name AND revision = @from",
                    new
                    {
                        plan.Name,
                        Revision = (long)plan.Revision,
                        plan.Body,
                        plan.CatalogueHash,
                        plan.Held,
                        plan.RevisedBy,
                        undecided = JsonSerializer.Serialize(plan.Undecided),
                        coverages = JsonSerializer.Serialize(plan.Coverages),
                        from,
                    },
                    t
                );
                if (kept == 0)
                    throw new StoreException(
                        "plan-changed",
                        $"Plan '{plan.Name}' was changed meanwhile. Compare again, and load what you then want."
                    );
                await c.ExecuteAsync("DELETE FROM plan_waves WHERE plan = @Name", new { plan.Name }, t);
                var stay = members.Select(m => m.Machine.Value).ToHashSet();
                foreach (
                    var gone in (
                        await c.QueryAsync<long>(
                            "SELECT machine_id FROM plan_members WHERE plan = @Name AND run_id IS NULL AND exemption IS NULL",
                            new { plan.Name },
                            t
                        )
                    )
                        .Where(m => !stay.Contains(m))
                        .ToArray()
                )
                    await c.ExecuteAsync("DELETE FROM plan_members WHERE plan = @Name AND machine_id = @gone", new { plan.Name, gone }, t);
                await PutWavesAndMembersAsync(c, t, plan, members, now, reason);
                await ApprovalTable.ChangedAsync(c, t, plan.Name, $"revision {plan.Revision}", actor.Name, now);
                await AuditTable.AddAsync(c, t, now, actor, "plan load", plan.Name, null, before, plan.Body, reason);
                await Feed.AddAsync(c, t, now, "plan", plan.Name, "revised", actor);
                return 0;
            },
            stop
        );

    /// <summary>Deletes a plan that was never started, with all that belongs to it. False: it was started.</summary>
    public Task<bool> DiscardAsync(string plan, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var body = await c.ExecuteScalarAsync<string?>(
                    "SELECT body FROM plans WHERE name = @plan AND state = 'Drafted'",
                    new { plan },
                    t
                );
                if (body is null)
                    return false;
                foreach (var table in BelongingToPlans)
                    await c.ExecuteAsync($"DELETE FROM {table} WHERE plan = @plan", new { plan }, t);
                await c.ExecuteAsync("DELETE FROM plans WHERE name = @plan", new { plan }, t);
                await AuditTable.AddAsync(c, t, now, actor, "plan discard", plan, null, body, "", reason);
                await Feed.AddAsync(c, t, now, "plan", plan, "discarded", actor);
                return true;
            },
            stop
        );

    /// <summary>Moves a machine to another wave.</summary>
    public Task MoveAsync(
        string plan,
        MachineId machine,
        StoredWave wave,
        string reason,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = await c.ExecuteScalarAsync<string?>(
                    "SELECT w.name FROM plan_members m JOIN plan_waves w ON w.plan = m.plan AND w.number = m.wave WHERE m.plan = @plan "
                        + "AND m.machine_id = @id",
                    new { plan, id = machine.Value },
                    t
                );
                await c.ExecuteAsync(
                    """
                    UPDATE plan_members SET wave = @Number, moved_reason = @reason, moved_by = @actor, rescheduled = NULL, planned_start
                      = NULL, tentative_start = NULL,
                      planned_end = CASE WHEN planned_end IS NOT NULL AND (SELECT state FROM plans WHERE name = @plan) <> 'Drafted' THEN
                        planned_end
                        ELSE (SELECT MAX(o.planned_end) FROM plan_members o WHERE o.plan = @plan AND o.wave = @Number) END, status =
                          CASE WHEN status = 'Scheduled' THEN 'Ready' ELSE status END,
                      slot_start = NULL, slot_end = NULL, slot_latest = NULL, slot_stage = NULL, slot_crew = NULL
                    WHERE plan = @plan AND machine_id = @id AND run_id IS NULL
                    """,
                    new
                    {
                        plan,
                        id = machine.Value,
                        Number = (long)wave.Number,
                        reason,
                        actor = actor.Name,
                    },
                    t
                );
                await ApprovalTable.ChangedAsync(c, t, plan, $"moved {machine} to {wave.Name}", actor.Name, now);
                await AuditTable.AddAsync(c, t, now, actor, "plan move", plan, machine, before, wave.Name, reason);
                await Feed.AddAsync(c, t, now, "plan", plan, "machine-moved", actor, machine);
                return 0;
            },
            stop
        );

    /// <summary>Notes which slots are scheduled for machines of waves to come.</summary>
    public Task PutTentativeAsync(
        string plan,
        IReadOnlyList<(MachineId Machine, Slot? Tentative)> tentative,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                foreach (var (machine, slot) in tentative)
                    await PutTentativeAsync(c, t, plan, machine, slot, now);
                await Feed.AddAsync(c, t, now, "plan", plan, "scheduled", Actor.Worker);
                return 0;
            },
            stop
        );

    private static Task PutTentativeAsync(
        DbConnection c,
        DbTransaction t,
        string plan,
        MachineId machine,
        Slot? slot,
        DateTimeOffset now
    ) =>
        c.ExecuteAsync(
            $"UPDATE plan_members SET {CountChange("COALESCE(slot_start, @start)", "COALESCE(slot_end, @end)")}, tentative_start = "
                + $"@start, tentative_end = @end, tentative_stage = @stage, tentative_crew = @crew WHERE plan = @plan AND machine_id = "
                + $"@id",
            new
            {
                plan,
                id = machine.Value,
                now = Micros.Of(now),
                start = Micros.Of(slot?.Start),
                end = Micros.Of(slot?.End),
                stage = Micros.Of(slot?.StageFrom),
                crew = slot?.Crew,
            },
            t
        );

    /// <summary>
    /// Counts, within an update of a member's time, a change of the time that calendars show: the slot, or what is scheduled before there
    /// is one.
    /// Calendars tell by it which of two copies of an appointment is the newer (RFC 5546, SEQUENCE). Needs the parameter <c>@now</c>.
    /// </summary>
    /// <param name="start">What the begin will be then, in SQL.</param>
    /// <param name="end">What the end will be then.</param>
    internal static string CountChange(string start, string end)
    {
        var differs =
            $"COALESCE(slot_start, tentative_start, 0) <> COALESCE({start}, 0) OR COALESCE(slot_end, tentative_end, 0) <> "
            + $"COALESCE({end}, 0)";
        return $"slot_sequence = slot_sequence + CASE WHEN {differs} THEN 1 ELSE 0 END, slot_changed = CASE WHEN {differs} THEN @now "
            + $"ELSE slot_changed END";
    }

    /// <summary>
    /// Waits for the turn to choose times, which one at a time has among all services on the database, until it is disposed of.
    /// </summary>
    public Task<IAsyncDisposable> TurnToChooseAsync(CancellationToken stop) => database.Dialect.LockAsync("times", stop);

    /// <summary>Notes the time that somebody chose for a machine, and gives it its slot where its wave has begun.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="start">The time, UTC; null gives the choice up.</param>
    /// <param name="slot">The slot that it has from now on; null where it gets one when its wave begins, or where its run has it.</param>
    /// <param name="reason">Why.</param>
    /// <param name="actor">Who chose it.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task RescheduleAsync(
        string plan,
        MachineId machine,
        DateTimeOffset? start,
        Slot? slot,
        string reason,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = await c.QuerySingleAsync<MemberRow>(
                    "SELECT * FROM plan_members WHERE plan = @plan AND machine_id = @id",
                    new { plan, id = machine.Value },
                    t
                );
                await c.ExecuteAsync(
                    "UPDATE plan_members SET rescheduled = @start, rescheduled_by = @by, rescheduled_reason = @reason WHERE plan = "
                        + "@plan AND machine_id = @id",
                    new
                    {
                        plan,
                        id = machine.Value,
                        start = Micros.Of(start),
                        by = start is null ? null : actor.Name,
                        reason = start is null ? null : reason,
                    },
                    t
                );
                if (slot is not null)
                    await PutAsync(
                        c,
                        t,
                        before.ToMember() with
                        {
                            Status = Status.Scheduled,
                            Slot = slot,
                            Why = null,
                            Change = null,
                            Rescheduled = start,
                        },
                        now
                    );
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "plan reschedule",
                    plan,
                    machine,
                    Shown(before.SlotStart ?? before.Rescheduled),
                    Shown(Micros.Of(start)),
                    reason
                );
                await Feed.AddAsync(c, t, now, "plan", plan, "machine-rescheduled", actor, machine);
                return 0;

                static string? Shown(long? time) => time is { } at ? $"{Micros.Time(at):yyyy-MM-dd HH:mm}Z" : null;
            },
            stop
        );

    private static async Task PutWavesAndMembersAsync(
        DbConnection c,
        DbTransaction t,
        StoredPlan plan,
        IReadOnlyList<Member> members,
        DateTimeOffset now,
        string reason
    )
    {
        await c.ExecuteAsync(
            "INSERT INTO plan_revisions (plan, revision, body, catalogue_hash, at, by_whom, reason, consent) VALUES (@Name, @Revision, "
                + "@Body, @CatalogueHash, @now, @RevisedBy, @reason, @consent)",
            new
            {
                plan.Name,
                Revision = (long)plan.Revision,
                plan.Body,
                plan.CatalogueHash,
                now = Micros.Of(now),
                plan.RevisedBy,
                reason,
                consent = JsonSerializer.Serialize(plan.Consent),
            },
            t
        );
        foreach (var wave in plan.Waves)
        {
            await c.ExecuteAsync(
                "INSERT INTO plan_waves (plan, number, name, state, opened, why) VALUES (@plan, @Number, @Name, @state, @opened, @Why)",
                new
                {
                    plan = plan.Name,
                    wave.Number,
                    wave.Name,
                    state = wave.State.ToString(),
                    opened = Micros.Of(wave.Opened),
                    wave.Why,
                },
                t
            );
        }

        // What was first scheduled stays the baseline once the plan has started; a draft's is that of its newest revision.
        var baseline =
            plan.State == PlanState.Drafted ? "excluded.planned_end" : "COALESCE(plan_members.planned_end, excluded.planned_end)";
        foreach (var member in members)
        {
            await c.ExecuteAsync(
                $"""
                INSERT INTO plan_members (plan, machine_id, wave, status, gate, cannot_be_fixed, planned_start, planned_end) VALUES
                  (@Plan, @machine, @Wave, '', '', 0, @begins, @planned)
                ON CONFLICT (plan, machine_id) DO UPDATE SET wave = excluded.wave, planned_start = excluded.planned_start, planned_end =
                  {baseline}
                """,
                new
                {
                    member.Plan,
                    machine = member.Machine.Value,
                    Wave = (long)member.Wave,
                    begins = Micros.Of(member.PlannedStart),
                    planned = Micros.Of(member.PlannedEnd),
                },
                t
            );
            await PutTentativeAsync(c, t, member.Plan, member.Machine, member.Tentative, now);
            await PutAsync(c, t, member, now);
        }
    }

    /// <summary>All plans, oldest first.</summary>
    public Task<IReadOnlyList<StoredPlan>> AllAsync(CancellationToken stop) => ReadAsync("", null, stop);

    /// <summary>The plan of that name, or null.</summary>
    public async Task<StoredPlan?> FindAsync(string name, CancellationToken stop) =>
        (await ReadAsync("WHERE name = @name", name, stop)).FirstOrDefault();

    /// <summary>The members of a plan, by wave and machine.</summary>
    public Task<IReadOnlyList<Member>> MembersAsync(string plan, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<Member>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<MemberRow>(
                            "SELECT * FROM plan_members WHERE plan = @plan ORDER BY wave, machine_id",
                            new { plan }
                        )
                    ).Select(r => r.ToMember()),
                ],
            stop
        );

    /// <summary>The places of a machine in all plans.</summary>
    public Task<IReadOnlyList<Member>> OfMachineAsync(MachineId machine, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<Member>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<MemberRow>("SELECT * FROM plan_members WHERE machine_id = @id", new { id = machine.Value })
                    ).Select(r => r.ToMember()),
                ],
            stop
        );

    /// <summary>Writes members that have no run; one that has got a run meanwhile stays as it is.</summary>
    public Task PutMembersAsync(string plan, IReadOnlyList<Member> members, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                foreach (var member in members)
                    await PutAsync(c, t, member, now);
                await Feed.AddAsync(c, t, now, "plan", plan, "members-judged", Actor.Worker);
                return 0;
            },
            stop
        );

    private static string Shown(string state, string? held) => held is null ? state : $"{state}, held: {held}";

    private static Task<string?> StatusAsync(DbConnection c, DbTransaction t, string plan, MachineId machine) =>
        c.ExecuteScalarAsync<string?>(
            "SELECT status FROM plan_members WHERE plan = @plan AND machine_id = @id",
            new { plan, id = machine.Value },
            t
        );

    /// <summary>Starts, holds or resumes a plan.</summary>
    /// <param name="command">The command as it was given, for the record.</param>
    public Task PutStateAsync(
        string plan,
        PlanState state,
        string? held,
        string command,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = await c.QuerySingleAsync<(string State, string? Held)>(
                    "SELECT state, held FROM plans WHERE name = @plan",
                    new { plan },
                    t
                );
                // A plan that ended meanwhile stays so.
                var put = await c.ExecuteAsync(
                    """
                    UPDATE plans SET state = @state, held = @held, started = CASE WHEN @state = 'Started' THEN COALESCE(started, @now)
                      ELSE started END,
                      ended = CASE WHEN @state = 'Ended' THEN @now ELSE NULL END WHERE name = @plan AND state <> 'Ended'
                    """,
                    new
                    {
                        plan,
                        state = state.ToString(),
                        held,
                        now = Micros.Of(now),
                    },
                    t
                );
                if (put == 0)
                    return 0;
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    $"plan {command}",
                    plan,
                    null,
                    Shown(before.State, before.Held),
                    Shown(state.ToString(), held),
                    held ?? ""
                );
                await Feed.AddAsync(c, t, now, "plan", plan, command, actor);
                return 0;
            },
            stop
        );

    /// <summary>Writes what the advance rule said of a wave.</summary>
    public Task PutWaveAsync(string plan, StoredWave wave, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync(
                    "UPDATE plan_waves SET state = @state, opened = @opened, why = @Why WHERE plan = @plan AND number = @Number",
                    new
                    {
                        plan,
                        wave.Number,
                        state = wave.State.ToString(),
                        opened = Micros.Of(wave.Opened),
                        wave.Why,
                    },
                    t
                );
                await Feed.AddAsync(c, t, now, "plan", plan, $"wave-{wave.State.ToString().ToLowerInvariant()}", Actor.Worker);
                return 0;
            },
            stop
        );

    /// <summary>What is set of a member that is exempt.</summary>
    internal const string Exempt =
        "exemption = @exemption, exemption_reason = @reason, exempted_by = @actor, exempt_until = @until, status = 'Exempt', "
        + "slot_start = NULL, slot_end = NULL, slot_latest = NULL, slot_stage = NULL, slot_crew = NULL";

    /// <summary>Exempts a machine from a plan.</summary>
    public Task ExemptAsync(
        string plan,
        MachineId machine,
        Exemption exemption,
        string reason,
        DateOnly? until,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = await StatusAsync(c, t, plan, machine);
                await c.ExecuteAsync(
                    $"UPDATE plan_members SET {Exempt} WHERE plan = @plan AND machine_id = @id",
                    new
                    {
                        plan,
                        id = machine.Value,
                        exemption = exemption.ToString(),
                        reason,
                        actor = actor.Name,
                        until = until?.ToString("yyyy-MM-dd", null),
                    },
                    t
                );
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "plan exempt",
                    plan,
                    machine,
                    before,
                    $"Exempt: {exemption}{(until is null ? "" : $" until {until:yyyy-MM-dd}")}",
                    reason
                );
                await Feed.AddAsync(c, t, now, "plan", plan, "machine-exempted", actor, machine);
                return 0;
            },
            stop
        );

    /// <summary>Lets a machine whose run has ended without success try again with a new run.</summary>
    public Task AgainAsync(string plan, MachineId machine, string reason, Actor actor, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = await StatusAsync(c, t, plan, machine);
                await c.ExecuteAsync(
                    "UPDATE plan_members SET run_id = NULL, status = 'NotReady', lapsed = NULL, gate = 'Undecided', slot_start = NULL, "
                        + "slot_end = NULL, slot_latest = NULL, slot_stage = NULL, slot_crew = NULL WHERE plan = @plan AND machine_id = "
                        + "@id AND status = 'Stopped'",
                    new { plan, id = machine.Value },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, "plan retry", plan, machine, before, "NotReady", reason);
                await Feed.AddAsync(c, t, now, "plan", plan, "machine-again", actor, machine);
                return 0;
            },
            stop
        );

    private static Task PutAsync(DbConnection c, DbTransaction t, Member m, DateTimeOffset now) =>
        c.ExecuteAsync(
            $"""
            UPDATE plan_members SET {CountChange(
                "COALESCE(@start, tentative_start)",
                "COALESCE(@end, tentative_end)"
            )}, status = @status, gate = @gate, why = @Why, method = @Method, cannot_be_fixed = @fix,
              slot_start = @start, slot_end = @end, slot_latest = @latest, slot_stage = @stage, slot_crew = @crew, change = @Change,
              lapsed = CASE WHEN status <> 'NotReady' AND @status = 'NotReady' THEN @now ELSE lapsed END,
              readied = CASE WHEN status = 'NotReady' AND @status <> 'NotReady' THEN @now ELSE readied END
            WHERE plan = @Plan AND machine_id = @machine AND run_id IS NULL AND exemption IS NULL AND COALESCE(rescheduled, 0) =
              @rescheduled
            """,
            new
            {
                m.Plan,
                machine = m.Machine.Value,
                status = m.Status.ToString(),
                gate = m.Gate.ToString(),
                m.Why,
                m.Method,
                fix = m.CannotBeFixed ? 1L : 0L,
                start = Micros.Of(m.Slot?.Start),
                end = Micros.Of(m.Slot?.End),
                latest = Micros.Of(m.Slot?.LatestTurn),
                stage = Micros.Of(m.Slot?.StageFrom),
                crew = m.Slot?.Crew,
                m.Change,
                // Where somebody has chosen another time since it was looked at, that counts.
                rescheduled = Micros.Of(m.Rescheduled) ?? 0,
                now = Micros.Of(now),
            },
            t
        );

    private Task<IReadOnlyList<StoredPlan>> ReadAsync(string where, string? name, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredPlan>>(
            async c =>
            {
                var plans = await c.QueryAsync<PlanRow>($"SELECT * FROM plans {where} ORDER BY created", new { name });
                var waves = (await c.QueryAsync<WaveRow>("SELECT * FROM plan_waves ORDER BY number")).ToLookup(w => w.Plan);
                return [.. plans.Select(p => p.ToPlan(waves[p.Name]))];
            },
            stop
        );

    private sealed record PlanRow
    {
        public string Name { get; init; } = "";

        public long Revision { get; init; }

        public string Body { get; init; } = "";

        public string CatalogueHash { get; init; } = "";

        public string State { get; init; } = "";

        public string? Held { get; init; }

        public long Created { get; init; }

        public string CreatedBy { get; init; } = "";

        public long? Started { get; init; }

        public long? Ended { get; init; }

        public string Undecided { get; init; } = "[]";

        public string Sites { get; init; } = "";

        public string RevisedBy { get; init; } = "";

        public string Coverages { get; init; } = "[]";

        public StoredPlan ToPlan(IEnumerable<WaveRow> waves) =>
            new(
                Name,
                (int)Revision,
                Body,
                CatalogueHash,
                Enum.Parse<PlanState>(State),
                Held,
                Micros.Time(Created),
                CreatedBy,
                Micros.Time(Started),
                Micros.Time(Ended),
                JsonSerializer.Deserialize<UndecidedMachine[]>(Undecided)!,
                [.. waves.Select(w => new StoredWave((int)w.Number, w.Name, Enum.Parse<WaveState>(w.State), Micros.Time(w.Opened), w.Why))]
            )
            {
                Sites = AccountTable.ReadSites(Sites),
                RevisedBy = RevisedBy,
                Coverages = JsonSerializer.Deserialize<Coverage[]>(Coverages)!,
            };
    }

    private sealed record WaveRow
    {
        public string Plan { get; init; } = "";

        public long Number { get; init; }

        public string Name { get; init; } = "";

        public string State { get; init; } = "";

        public long? Opened { get; init; }

        public string? Why { get; init; }
    }

    private sealed record MemberRow
    {
        public string Plan { get; init; } = "";

        public long MachineId { get; init; }

        public long Wave { get; init; }

        public string Status { get; init; } = "";

        public string Gate { get; init; } = "";

        public string? Why { get; init; }

        public string? Method { get; init; }

        public long CannotBeFixed { get; init; }

        public long? SlotStart { get; init; }

        public long? SlotEnd { get; init; }

        public long? SlotLatest { get; init; }

        public long? SlotStage { get; init; }

        public string? SlotCrew { get; init; }

        public long? PlannedStart { get; init; }

        public long? PlannedEnd { get; init; }

        public string? Change { get; init; }

        public long Missed { get; init; }

        public long SlotSequence { get; init; }

        public long? SlotChanged { get; init; }

        public long? Lapsed { get; init; }

        public long? Readied { get; init; }

        public string? MovedReason { get; init; }

        public string? MovedBy { get; init; }

        public long? TentativeStart { get; init; }

        public long? TentativeEnd { get; init; }

        public long? TentativeStage { get; init; }

        public string? TentativeCrew { get; init; }

        public long? Rescheduled { get; init; }

        public string? RescheduledBy { get; init; }

        public string? RescheduledReason { get; init; }

        public long? RunId { get; init; }

        public long? Verified { get; init; }

        public string? Exemption { get; init; }

        public string? ExemptionReason { get; init; }

        public string? ExemptedBy { get; init; }

        public string? ExemptUntil { get; init; }

        public Member ToMember() =>
            new()
            {
                Plan = Plan,
                Machine = new(MachineId),
                Wave = (int)Wave,
                Status = Enum.Parse<Status>(Status),
                Gate = Enum.Parse<GateState>(Gate),
                Why = Why,
                Method = Method,
                CannotBeFixed = CannotBeFixed != 0,
                Slot = SlotStart is { } start
                    ? new(Micros.Time(start), Micros.Time(SlotEnd!.Value), Micros.Time(SlotLatest!.Value))
                    {
                        StageFrom = Micros.Time(SlotStage),
                        Crew = SlotCrew,
                    }
                    : null,
                PlannedStart = Micros.Time(PlannedStart),
                PlannedEnd = Micros.Time(PlannedEnd),
                Change = Change,
                Missed = (int)Missed,
                TimeChanges = (int)SlotSequence,
                TimeChanged = Micros.Time(SlotChanged),
                Lapsed = Micros.Time(Lapsed),
                Readied = Micros.Time(Readied),
                MovedReason = MovedReason,
                MovedBy = MovedBy,
                Tentative = TentativeStart is { } tentative
                    ? new(Micros.Time(tentative), Micros.Time(TentativeEnd!.Value), Micros.Time(TentativeEnd.Value))
                    {
                        StageFrom = Micros.Time(TentativeStage),
                        Crew = TentativeCrew,
                    }
                    : null,
                Rescheduled = Micros.Time(Rescheduled),
                RescheduledBy = RescheduledBy,
                RescheduledReason = RescheduledReason,
                Run = RunId,
                Verified = Micros.Time(Verified),
                Exemption = Exemption is null ? null : Enum.Parse<Exemption>(Exemption),
                ExemptionReason = ExemptionReason,
                ExemptedBy = ExemptedBy,
                ExemptUntil = ExemptUntil is null ? null : DateOnly.Parse(ExemptUntil, null),
            };
    }
}
