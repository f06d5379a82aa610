using System.Data.Common;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Plans;

/// <summary>The plans, their waves and their members.</summary>
public sealed class PlanTable(Database database) : IDisposable
{
    private readonly MemberCopy _members = new(database);

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
    /// <exception cref="RefusedException">There is a plan of that name.</exception>
    public Task CreateAsync(PlanRecord plan, IReadOnlyList<Member> members, Actor actor, CancellationToken stop) =>
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
                    throw RefusedException.Conflict(
                        "plan-exists",
                        $"There is a plan '{plan.Name}' already. Give the new one another name."
                    );
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
    /// <exception cref="RefusedException">It was changed meanwhile.</exception>
    public Task ReviseAsync(
        PlanRecord plan,
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
                    throw RefusedException.Conflict(
                        "plan-changed",
                        $"Plan '{plan.Name}' was changed meanwhile. Compare again, and load what you then want."
                    );
                await c.ExecuteAsync("DELETE FROM plan_waves WHERE plan = @Name", new { plan.Name }, t);
                var stay = members.Select(m => m.Machine).ToHashSet();
                foreach (var gone in await MemberRows.SelectAsync(c, t, "WHERE plan = @Name", new { plan.Name }))
                    if (gone is { Run: null, Exemption: null } && !stay.Contains(gone.Machine))
                        await c.ExecuteAsync(
                            $"DELETE FROM plan_members {MemberRows.OneMember}",
                            new { plan = plan.Name, id = gone.Machine.Value },
                            t
                        );
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
        WaveProgress wave,
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
                var inWave = await MemberRows.SelectAsync(c, t, "WHERE plan = @plan AND wave = @Number", new { plan, wave.Number });
                var status = await StatusOfPlanAsync(c, t, plan);
                var baseline = inWave.Max(m => m.PlannedEnd);
                await ChangeAsync(c, t, plan, machine, now, m => m.MoveTo(wave.Number, baseline, status, actor.Name, reason));
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
                var changes = tentative.ToDictionary(m => m.Machine, m => (Func<Member, Member>)(member => member.Schedule(m.Tentative)));
                await MemberRows.ChangeAllAsync(database.Dialect, c, t, plan, now, changes);
                await Feed.AddAsync(c, t, now, "plan", plan, "scheduled", Actor.Worker);
                return 0;
            },
            stop
        );

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
                var before = await ChangeAsync(c, t, plan, machine, now, m => m.Reschedule(start, slot, actor.Name, reason, now));
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "plan reschedule",
                    plan,
                    machine,
                    Shown(before.Slot?.Start ?? before.Rescheduled),
                    Shown(start),
                    reason
                );
                await Feed.AddAsync(c, t, now, "plan", plan, "machine-rescheduled", actor, machine);
                return 0;

                static string? Shown(DateTimeOffset? time) => time is { } at ? $"{at:yyyy-MM-dd HH:mm}Z" : null;
            },
            stop
        );

    private async Task PutWavesAndMembersAsync(
        DbConnection c,
        DbTransaction t,
        PlanRecord plan,
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

        var changes = members.ToDictionary(m => m.Machine, m => (Func<Member, Member>)(before => before.Revise(m, plan.State, now)));
        var known = await MemberRows.ChangeAllAsync(database.Dialect, c, t, plan.Name, now, changes);
        foreach (var member in members.Where(m => !known.Contains(m.Machine)))
            await MemberRows.AddAsync(c, t, member, now);
    }

    /// <summary>Changes one member.</summary>
    /// <returns>The member as it was before.</returns>
    private async Task<Member> ChangeAsync(
        DbConnection c,
        DbTransaction t,
        string plan,
        MachineId machine,
        DateTimeOffset now,
        Func<Member, Member> change
    )
    {
        var values = new { plan, id = machine.Value };
        return (await MemberRows.ChangeAsync(database.Dialect, c, t, MemberRows.OneMember, values, now, change))[0];
    }

    private static async Task<PlanStatus> StatusOfPlanAsync(DbConnection c, DbTransaction t, string plan) =>
        Enum.Parse<PlanStatus>((await c.ExecuteScalarAsync<string>("SELECT state FROM plans WHERE name = @plan", new { plan }, t))!);

    /// <summary>All plans, oldest first.</summary>
    public Task<IReadOnlyList<PlanRecord>> AllAsync(CancellationToken stop) => ReadAsync("", null, stop);

    /// <summary>The plan of that name, or null.</summary>
    public async Task<PlanRecord?> FindAsync(string name, CancellationToken stop) =>
        (await ReadAsync("WHERE name = @name", name, stop)).FirstOrDefault();

    /// <summary>The members of a plan, by wave and machine.</summary>
    public Task<IReadOnlyList<Member>> MembersAsync(string plan, CancellationToken stop) => _members.OfAsync(plan, stop);

    /// <inheritdoc />
    public void Dispose() => _members.Dispose();

    /// <summary>The places of a machine in all plans.</summary>
    public Task<IReadOnlyList<Member>> OfMachineAsync(MachineId machine, CancellationToken stop) =>
        database.ReadAsync(c => MemberRows.SelectAsync(c, null, "WHERE machine_id = @id", new { id = machine.Value }), stop);

    /// <summary>Writes what was judged of members; one that has begun, or was changed by a person meanwhile, stays as it is.</summary>
    public Task PutMembersAsync(string plan, IReadOnlyList<Member> members, DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var changes = members.ToDictionary(m => m.Machine, m => (Func<Member, Member>)(before => before.Take(m, now)));
                await MemberRows.ChangeAllAsync(database.Dialect, c, t, plan, now, changes);
                await Feed.AddAsync(c, t, now, "plan", plan, "members-judged", Actor.Worker);
                return 0;
            },
            stop
        );

    private static string Shown(PlanRecord plan) => plan.Held is null ? plan.State.ToString() : $"{plan.State}, held: {plan.Held}";

    /// <summary>Starts, holds or resumes a plan.</summary>
    /// <param name="command">The command as it was given, for the record.</param>
    /// <param name="onlyWhere">Asked of the plan as it is when it is written; false leaves it as it is.</param>
    public Task PutStatusAsync(
        string plan,
        PlanStatus state,
        string? held,
        string command,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop,
        Func<PlanRecord, bool>? onlyWhere = null
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var before = (await SelectAsync(c, t, $"WHERE name = @name {database.Dialect.ForUpdate}", plan)).Single();
                if (before.State == PlanStatus.Ended || onlyWhere?.Invoke(before) == false)
                    return 0;
                var after = before.To(state, held, now);
                await c.ExecuteAsync(
                    "UPDATE plans SET state = @state, held = @Held, started = @started, ended = @ended WHERE name = @Name",
                    new
                    {
                        after.Name,
                        state = after.State.ToString(),
                        after.Held,
                        started = Micros.Of(after.Started),
                        ended = Micros.Of(after.Ended),
                    },
                    t
                );
                await AuditTable.AddAsync(c, t, now, actor, $"plan {command}", plan, null, Shown(before), Shown(after), held ?? "");
                await Feed.AddAsync(c, t, now, "plan", plan, command, actor);
                return 0;
            },
            stop
        );

    /// <summary>Writes what the advance rule said of a wave.</summary>
    public Task PutWaveAsync(string plan, WaveProgress wave, DateTimeOffset now, CancellationToken stop) =>
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
                var before = await ChangeAsync(c, t, plan, machine, now, m => m.Exempt(exemption, until, actor.Name, reason));
                await AuditTable.AddAsync(
                    c,
                    t,
                    now,
                    actor,
                    "plan exempt",
                    plan,
                    machine,
                    before.Status.ToString(),
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
                var before = await ChangeAsync(c, t, plan, machine, now, m => m.Retry());
                await AuditTable.AddAsync(c, t, now, actor, "plan retry", plan, machine, before.Status.ToString(), "NotReady", reason);
                await Feed.AddAsync(c, t, now, "plan", plan, "machine-again", actor, machine);
                return 0;
            },
            stop
        );

    private Task<IReadOnlyList<PlanRecord>> ReadAsync(string where, string? name, CancellationToken stop) =>
        database.ReadAsync(c => SelectAsync(c, null, where, name), stop);

    private static async Task<IReadOnlyList<PlanRecord>> SelectAsync(DbConnection c, DbTransaction? t, string where, string? name)
    {
        var plans = await c.QueryAsync<PlanRow>($"SELECT * FROM plans {(where.Length == 0 ? "ORDER BY created" : where)}", new { name }, t);
        var waves = (await c.QueryAsync<WaveRow>("SELECT * FROM plan_waves ORDER BY number", null, t)).ToLookup(w => w.Plan);
        return [.. plans.Select(p => p.ToPlan(waves[p.Name]))];
    }

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

        public PlanRecord ToPlan(IEnumerable<WaveRow> waves) =>
            new(
                Name,
                (int)Revision,
                Body,
                CatalogueHash,
                Enum.Parse<PlanStatus>(State),
                Held,
                Micros.Time(Created),
                CreatedBy,
                Micros.Time(Started),
                Micros.Time(Ended),
                JsonSerializer.Deserialize<UndecidedMachine[]>(Undecided)!,
                [
                    .. waves.Select(w => new WaveProgress(
                        (int)w.Number,
                        w.Name,
                        Enum.Parse<WaveState>(w.State),
                        Micros.Time(w.Opened),
                        w.Why
                    )),
                ]
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
}
