using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Data.Common;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Storage.Runs;

/// <summary>A run that a worker has claimed.</summary>
/// <param name="State">What its events add up to.</param>
/// <param name="Epoch">The number of its claims; orders carry it, and a higher one shuts out the lower.</param>
/// <param name="Progress">What was known of its order at the last look; null before the first.</param>
/// <param name="Due">When it was due, UTC.</param>
public sealed record ClaimedRun(RunState State, long Epoch, RunProgress? Progress = null, DateTimeOffset Due = default);

/// <summary>A run as it is listed.</summary>
/// <param name="State">What its events add up to.</param>
/// <param name="Epoch">The number of its claims.</param>
/// <param name="ProgressText">What is known of its order, as it is kept; null where nothing is.</param>
/// <param name="WaitsFor">The limit that is full and that it waits for, as <c>site:Westhaven</c>; null where it waits for none.</param>
public sealed record StoredRun(RunState State, long Epoch, string? ProgressText, string? WaitsFor = null)
{
    /// <summary>
    /// What was last found out about its order; null where nothing was. It is read from its text when it is asked for, since lists show few
    /// of many runs.
    /// </summary>
    public RunProgress? Progress => RunProgress.Read(ProgressText);
}

/// <summary>How far a running order is.</summary>
/// <param name="Order">The order's name.</param>
/// <param name="Share">The share done, 0 to 1; null where it is not known.</param>
/// <param name="Note">What it says of itself.</param>
/// <param name="At">When that was seen, UTC; before the machine has answered, when it was first asked.</param>
public sealed record RunProgress(string Order, double? Share, string Note, DateTimeOffset At)
{
    /// <summary>
    /// When a worker first asked for it, UTC, moved on by all time in which no worker was there to ask; the step's time limit counts from
    /// here.
    /// </summary>
    public DateTimeOffset Since { get; init; }

    /// <summary>Whether the machine has confirmed that it has the order.</summary>
    public bool Answered { get; init; }

    /// <summary>How many bytes are kept of what it has printed; null where that is not known.</summary>
    public long? Printed { get; init; }

    /// <summary>Since when nothing is heard; null while the machine answers.</summary>
    public LostContact? LostContact { get; init; }

    /// <summary>What a run's row keeps of it; null where it keeps nothing.</summary>
    internal static RunProgress? Read(string? text) => text is null ? null : JsonSerializer.Deserialize<RunProgress>(text, RunEvent.Json);
}

/// <summary>A machine that does not answer while it has an order.</summary>
/// <param name="Since">When it was last heard of, UTC.</param>
/// <param name="Looks">How many looks in a row heard nothing.</param>
/// <param name="Why">What the last one ran into.</param>
public sealed record LostContact(DateTimeOffset Since, int Looks, string Why)
{
    /// <summary>From so many looks on people are shown that contact is lost; one alone happens with every restart.</summary>
    public const int ShownFrom = 2;
}

/// <summary>An event as it is kept.</summary>
/// <param name="Number">Its place in its run, from 1.</param>
/// <param name="Epoch">The claim under which it was written; 0 where a person wrote it.</param>
/// <param name="Event">The event.</param>
public sealed record StoredEvent(int Number, long Epoch, RunEvent Event);

/// <summary>The runs and their events.</summary>
public sealed class RunLog(Database database)
{
    // States are a few KiB each.
    private const int MostStates = 50_000;

    // What was last read of runs. A state is never changed; one with as many events as the run has is as it is now.
    private readonly ConcurrentDictionary<long, RunState> _states = new();
    private readonly RunQueue _answering = new(database, silent: false);
    private readonly RunQueue _silent = new(database, silent: true);

    /// <summary>What is said in place of a limit's name where the run was claimed again.</summary>
    public const string Lost = "this worker no longer has the run";

    /// <summary>The source of readings that say what a run left on its machine.</summary>
    public const string RunSource = "run";

    // More than the one place that became free: the first of them may find another limit full.
    private const long WokenAtOnce = 3;

    /// <summary>Opens a run for a member that has none.</summary>
    /// <param name="make">Makes the first event from the run's number.</param>
    /// <returns>The run's number; null where the member has a run already or its machine is in another open one.</returns>
    public Task<long?> OpenAsync(string plan, MachineId machine, Func<long, RunOpened> make, CancellationToken stop) =>
        database.WriteAsync<long?>(
            async (c, t) =>
            {
                var values = new { plan, id = machine.Value };
                var clause = $"{MemberRows.OneMember} {database.Dialect.ForUpdate}";
                if ((await MemberRows.SelectAsync(c, t, clause, values)).SingleOrDefault() is not { Run: null, Exemption: null } member)
                    return null;
                if (
                    await c.ExecuteScalarAsync<bool>(
                        "SELECT EXISTS (SELECT 1 FROM runs WHERE machine_id = @id AND closed_at IS NULL)",
                        values,
                        t
                    )
                )
                    return null;
                var run = await Database.NextAsync(c, t, "run");
                var opened = make(run);
                var state = RunMachine.Step(null, opened).State;
                await c.ExecuteAsync(
                    "INSERT INTO runs (id, machine_id, plan, events, epoch, due_at, shape, state) VALUES (@run, @id, @plan, @events, "
                        + "0, @due, @Shape, @state)",
                    new
                    {
                        run,
                        id = machine.Value,
                        plan,
                        events = (long)state.Events,
                        due = Micros.Of(state.DueAt),
                        RunState.Shape,
                        state = Write(state),
                    },
                    t
                );
                await MemberRows.PutAsync(c, t, member, member.Follow(state, opened.At), opened.At);
                await AddEventsAsync(c, t, state, 0, 0, [opened]);
                return run;
            },
            stop
        );

    /// <summary>
    /// Claims runs that are due and that no living worker has: first those that hold room within limits, which others wait for; then one of
    /// each plan and site in turn, so that no plan and no site keeps the others waiting. Each claim raises the run's epoch.
    /// </summary>
    /// <param name="worker">Who claims them.</param>
    /// <param name="dueBefore">Until when they have to be due, UTC.</param>
    /// <param name="most">The most to claim of those whose machines answered last time, or were not asked yet.</param>
    /// <param name="mostSilent">The most to claim of those whose machines did not answer.</param>
    /// <param name="stop">Cancels it.</param>
    public async Task<IReadOnlyList<ClaimedRun>> ClaimAsync(
        long worker,
        DateTimeOffset dueBefore,
        int most,
        int mostSilent,
        CancellationToken stop
    )
    {
        var due = Micros.Of(dueBefore);
        long[] next = [.. await _answering.TakeAsync(due, most, stop), .. await _silent.TakeAsync(due, mostSilent, stop)];
        if (next.Length == 0)
            return [];
        return await database.WriteUnannouncedAsync<IReadOnlyList<ClaimedRun>>(
            async (c, t) =>
            {
                var rows = await c.QueryAsync<RunRow>(
                    $"""
                    UPDATE runs SET worker = @worker, epoch = epoch + 1 WHERE id IN (
                      SELECT id FROM runs r WHERE id IN ({string.Join(',', next)}) AND due_at <= @due AND {RunQueue.IsFree(
                        database.Dialect
                    )} {database.Dialect.SkipLocked("r")})
                    RETURNING id, epoch, shape, state, progress, due_at
                    """,
                    new { worker, due },
                    t
                );
                var claims = new List<ClaimedRun>();
                foreach (var row in rows.AsList())
                    claims.Add(
                        new(await StateOfAsync(c, t, row), row.Epoch, RunProgress.Read(row.Progress), Micros.Time(row.DueAt!.Value))
                    );
                return claims;
            },
            stop
        );
    }

    /// <summary>
    /// Appends events to a run that a worker claimed, and puts the member's status with them; all in one transaction that
    /// fails when the claim is no longer the newest or somebody else has written.
    /// </summary>
    /// <param name="claim">The claim with the state before the events.</param>
    /// <param name="events">The events.</param>
    /// <param name="after">The state after them.</param>
    /// <returns>Whether it was written; false means: claim again.</returns>
    public Task<bool> AppendAsync(ClaimedRun claim, IReadOnlyList<RunEvent> events, RunState after, CancellationToken stop) =>
        AppendAsync(claim.State, claim.Epoch, events, after, keepWorker: true, command: null, stop);

    /// <summary>Appends what a person decided. The worker that has the run finds out at its next write.</summary>
    /// <returns>Whether it was written; false where the run was changed meanwhile.</returns>
    public Task<bool> DecideAsync(RunState before, RunEvent decision, RunState after, Command command, CancellationToken stop) =>
        AppendAsync(before, null, [decision], after, keepWorker: false, command, stop);

    /// <summary>Makes all open runs that are due later due now, so that a worker looks when they are due in truth.</summary>
    /// <returns>How many.</returns>
    public Task<int> MakeDueAsync(DateTimeOffset now, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) => c.ExecuteAsync("UPDATE runs SET due_at = @now WHERE due_at > @now", new { now = Micros.Of(now) }, t),
            stop
        );

    /// <summary>When the next run is due that no living worker has, UTC; null where none is.</summary>
    public async Task<DateTimeOffset?> NextDueAsync(CancellationToken stop) =>
        Micros.Time(
            await database.ReadAsync(
                c => c.ExecuteScalarAsync<long?>($"SELECT min(due_at) FROM runs WHERE {RunQueue.IsFree(database.Dialect)}"),
                stop
            )
        );

    /// <summary>Gives a claimed run back.</summary>
    public Task ReleaseAsync(ClaimedRun claim, DateTimeOffset? due, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(claim);
        return database.WriteUnannouncedAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "UPDATE runs SET worker = NULL, due_at = @due, waits_for = NULL, silent = 0 WHERE id = @Run AND epoch = @Epoch AND "
                        + "events = @Events",
                    new
                    {
                        claim.State.Run,
                        claim.Epoch,
                        claim.State.Events,
                        due = Micros.Of(due),
                    },
                    t
                ),
            stop
        );
    }

    /// <summary>
    /// Gives a claimed run back with what a look found out about its order. That is no event: the next look replaces it. Live events tell
    /// what people would see.
    /// </summary>
    /// <param name="claim">The claim.</param>
    /// <param name="due">When to look again, UTC.</param>
    /// <param name="progress">What is known of its order.</param>
    /// <param name="waitsFor">The limit that is full; the run is due at once when a place in it becomes free.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Cancels the write.</param>
    public Task ReleaseAsync(
        ClaimedRun claim,
        DateTimeOffset? due,
        RunProgress? progress,
        string? waitsFor,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(claim);
        return database.WriteUnannouncedAsync(
            async (c, t) =>
            {
                var written = await c.ExecuteAsync(
                    "UPDATE runs SET worker = NULL, due_at = @due, progress = @progress, waits_for = @waitsFor, silent = @silent WHERE "
                        + "id = @Run AND epoch = @Epoch AND events = @Events",
                    new
                    {
                        claim.State.Run,
                        claim.Epoch,
                        claim.State.Events,
                        due = Micros.Of(due),
                        waitsFor,
                        silent = progress?.LostContact is null ? 0L : 1L,
                        progress = progress is null ? null : JsonSerializer.Serialize(progress, RunEvent.Json),
                    },
                    t
                );
                if (written > 0 && progress is not null && !ShowsAlike(claim.Progress, progress))
                    await Feed.AddAsync(c, t, now, "run", $"r{claim.State.Run}", "progressed", Actor.Worker, new(claim.State.Machine));
                return written;
            },
            stop
        );
    }

    /// <summary>Whether people see the same of both: share in whole percent, note, and contact.</summary>
    private static bool ShowsAlike(RunProgress? before, RunProgress after) =>
        before is not null
        && before.Order == after.Order
        && before.Note == after.Note
        && Percent(before.Share) == Percent(after.Share)
        && before.LostContact is { Looks: >= LostContact.ShownFrom } == after.LostContact is { Looks: >= LostContact.ShownFrom };

    private static double? Percent(double? share) => share is { } of ? Math.Round(of * 100) : null;

    /// <summary>
    /// Takes room within limits for a run: all of it or, where one is full, none. Where another plan that has room in a limit lets fewer
    /// in, its lower number counts.
    /// </summary>
    /// <param name="claim">The run.</param>
    /// <param name="limits">Each limit's name with how many runs may have room in it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>Null where it has room; <see cref="Lost"/> where another worker has claimed the run; else the name of the limit that is
    /// full.</returns>
    public Task<string?> TakeRoomAsync(ClaimedRun claim, IReadOnlyList<(string Name, int Most)> limits, CancellationToken stop) =>
        database.WriteAsync<string?>(
            async (c, t) =>
            {
                if (await c.ExecuteScalarAsync<long>("SELECT epoch FROM runs WHERE id = @Run", new { claim.State.Run }, t) != claim.Epoch)
                    return Lost;
                // The counter's row serves as the lock that makes counting and taking one act, in either database.
                await Database.NextAsync(c, t, "worker", 0);
                var held = (
                    await c.QueryAsync<string>("SELECT name FROM run_room WHERE run_id = @Run", new { claim.State.Run }, t)
                ).ToHashSet(StringComparer.Ordinal);
                foreach (var (name, most) in limits.Where(l => !held.Contains(l.Name)))
                {
                    var (taken, lowest) = await c.QuerySingleAsync<(long Taken, long? Lowest)>(
                        "SELECT count(*), min(CASE WHEN runs.plan <> @Plan THEN run_room.most END) FROM run_room JOIN runs ON runs.id "
                            + "= run_room.run_id WHERE run_room.name = @name",
                        new { name, claim.State.Plan },
                        t
                    );
                    if (taken >= Math.Min(most, lowest ?? most))
                        return name;
                }

                foreach (var (name, most) in limits.Where(l => !held.Contains(l.Name)))
                    await c.ExecuteAsync(
                        "INSERT INTO run_room (name, run_id, most) VALUES (@name, @Run, @most)",
                        new
                        {
                            name,
                            claim.State.Run,
                            most = (long)most,
                        },
                        t
                    );
                return null;
            },
            stop
        );

    /// <summary>Whether a run has all the room that it needs within limits: it is given all of it or none.</summary>
    public async Task<bool> HasRoomAsync(long run, CancellationToken stop) =>
        await database.ReadAsync(
            c => c.ExecuteScalarAsync<long>("SELECT count(*) FROM run_room WHERE run_id = @run AND name LIKE 'plan:%'", new { run }),
            stop
        ) > 0;

    /// <summary>The run of that number, or null.</summary>
    public async Task<StoredRun?> FindAsync(long run, CancellationToken stop) =>
        (await ListAsync("WHERE id = @run", new { run }, stop)).FirstOrDefault();

    /// <summary>The runs of those numbers that exist, in the order asked for.</summary>
    public async Task<IReadOnlyList<StoredRun>> SomeAsync(IReadOnlyCollection<long> some, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(some);
        var found = new Dictionary<long, StoredRun>(some.Count);
        foreach (var part in some.Chunk(500))
        {
            foreach (var run in await ListAsync($"WHERE id IN ({string.Join(',', part)})", new { }, stop))
                found[run.State.Run] = run;
        }
        return [.. some.Select(s => found.GetValueOrDefault(s)).OfType<StoredRun>()];
    }

    /// <summary>The runs of a plan, or of all plans; newest first.</summary>
    public Task<IReadOnlyList<StoredRun>> ListAsync(string? plan, CancellationToken stop) =>
        ListAsync(plan is null ? "ORDER BY id DESC" : "WHERE plan = @plan ORDER BY id DESC", new { plan }, stop);

    /// <summary>The runs of a machine, newest first.</summary>
    public Task<IReadOnlyList<StoredRun>> OfMachineAsync(MachineId machine, CancellationToken stop) =>
        ListAsync("WHERE machine_id = @id ORDER BY id DESC", new { id = machine.Value }, stop);

    /// <summary>Of all runs of a plan how many events they have.</summary>
    public Task<IReadOnlyList<(long Run, MachineId Machine, int Events)>> LengthsAsync(string plan, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<(long, MachineId, int)>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<LengthRow>(
                            "SELECT id, machine_id, events FROM runs WHERE plan = @plan ORDER BY id",
                            new { plan }
                        )
                    ).Select(r => (r.Id, new MachineId(r.MachineId), (int)r.Events)),
                ],
            stop
        );

    /// <summary>All events of a run, in order.</summary>
    public Task<IReadOnlyList<StoredEvent>> EventsAsync(long run, CancellationToken stop) =>
        database.ReadAsync(c => EventsAsync(c, null, run), stop);

    /// <summary>Begins a new incarnation of a worker, with a lease by the database's time.</summary>
    public Task<long> BeginWorkerAsync(TimeSpan lease, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var id = await Database.NextAsync(c, t, "worker");
                await c.ExecuteAsync(
                    $"INSERT INTO workers (id, lease_until) VALUES (@id, {database.Dialect.Now} + @lease)",
                    new { id, lease = (long)lease.TotalMicroseconds },
                    t
                );
                return id;
            },
            stop
        );

    /// <summary>
    /// Renews a worker's lease again and again until it is stopped, on the thread that calls, so that no other work of this process,
    /// however much it is, keeps the lease from being renewed: in PostgreSQL on a connection of its own, in SQLite, which has one writer,
    /// through that writer's queue, which is in order and has a thread of its own too.
    /// </summary>
    /// <param name="worker">The worker.</param>
    /// <param name="lease">For how long each time.</param>
    /// <param name="every">How long between two renewals.</param>
    /// <param name="renewed">Is told the monotonic timestamp from before each renewal.</param>
    /// <param name="stop">Stops it. It also ends by itself once the lease has lapsed.</param>
    public void KeepLease(long worker, TimeSpan lease, TimeSpan every, Action<long> renewed, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(renewed);
        var renewal =
            $"UPDATE workers SET lease_until = {database.Dialect.Now} + @lease WHERE id = @worker AND lease_until > {database.Dialect.Now}";
        var values = new { worker, lease = (long)lease.TotalMicroseconds };
        using var own = database.Dialect is SqliteDialect ? null : database.Dialect.Open();
        while (!stop.IsCancellationRequested)
        {
            var asked = TimeProvider.System.GetTimestamp();
            var rows = own is not null
                ? own.Execute(renewal, values)
                : database.WriteUnannouncedOnThisThread((c, t) => c.Execute(renewal, values, t), stop);
            if (rows != 1)
                return;
            renewed(asked);
            stop.WaitHandle.WaitOne(every);
        }
    }

    /// <summary>
    /// Ends leases: one worker's at its orderly stop; with null all of them, at the start of an embedded service, which is the only one.
    /// </summary>
    public Task EndWorkersAsync(long? worker, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) => c.ExecuteAsync("UPDATE workers SET lease_until = 0 WHERE id = @worker OR @worker IS NULL", new { worker }, t),
            stop
        );

    private Task<IReadOnlyList<StoredRun>> ListAsync(string where, object values, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredRun>>(
            async c =>
            {
                var rows = (
                    await c.QueryAsync<RunRow>($"SELECT id, epoch, events, progress, waits_for FROM runs {where}", values)
                ).AsList();
                var states = await StatesAsync(c, rows);
                return [.. rows.Select(row => new StoredRun(states[row.Id], row.Epoch, row.Progress, row.WaitsFor))];
            },
            stop
        );

    /// <summary>What runs' events add up to, by the run. What has changed since the last list is read, and kept for the next one.</summary>
    private async Task<Dictionary<long, RunState>> StatesAsync(DbConnection c, IReadOnlyList<RunRow> rows)
    {
        var states = new Dictionary<long, RunState>(rows.Count);
        var changed = new List<long>();
        foreach (var row in rows)
        {
            if (_states.TryGetValue(row.Id, out var known) && known.Events >= row.Events)
                states[row.Id] = known;
            else
                changed.Add(row.Id);
        }

        if (_states.Count + changed.Count > MostStates)
            _states.Clear();
        foreach (var some in changed.Chunk(500))
        {
            foreach (
                var row in (
                    await c.QueryAsync<RunRow>($"SELECT id, shape, state FROM runs WHERE id IN ({string.Join(',', some)})")
                ).AsList()
            )
                _states[row.Id] = states[row.Id] = await StateOfAsync(c, null, row);
        }

        return states;
    }

    private Task<bool> AppendAsync(
        RunState before,
        long? epoch,
        IReadOnlyList<RunEvent> events,
        RunState after,
        bool keepWorker,
        Command? command,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var written = await c.ExecuteAsync(
                    $"""
                    UPDATE runs SET due_at = @due, closed_at = @closed, shape = @Shape, state = @state, events = @after, progress =
                      NULL, waits_for = NULL, silent = 0{(
                        keepWorker ? "" : ", worker = NULL"
                    )}
                    WHERE id = @Run AND events = @Events AND (@epoch IS NULL OR epoch = @epoch)
                    """,
                    new
                    {
                        due = Micros.Of(after.DueAt),
                        closed = Micros.Of(after.Closed),
                        RunState.Shape,
                        state = Write(after),
                        after = (long)after.Events,
                        before.Run,
                        Events = (long)before.Events,
                        epoch,
                    },
                    t
                );
                if (written == 0)
                    return false;
                if (command is { } given)
                {
                    string Stands(RunState run) =>
                        $"{RunMachine.Name(run.Phase)}{(run.Parked is null ? "" : ", parked")}"
                        + $"{(run.Outcome is { } outcome ? $", {RunMachine.Name(outcome)}" : "")}";
                    await AuditTable.AddAsync(
                        c,
                        t,
                        events[0].At,
                        given.By,
                        given.Words,
                        $"r{after.Run}",
                        new(after.Machine),
                        Stands(before),
                        Stands(after),
                        given.Reason
                    );
                }

                if (!after.NeedsRoom)
                    await FreeRoomAsync(c, t, after, events[^1].At);
                await AddEventsAsync(c, t, after, before.Events, epoch ?? 0, events);
                await NoteOnMachineAsync(c, t, before, after, events[^1].At);
                return true;
            },
            stop
        );

    /// <summary>
    /// Notes on the machine that an upgrade failed after its point of no return, and that one is complete or undone again; then also
    /// whether its second machine does its work now.
    /// </summary>
    private static async Task NoteOnMachineAsync(DbConnection c, DbTransaction t, RunState before, RunState after, DateTimeOffset now)
    {
        var failed = after is { Outcome: Outcome.Failed, Turned: true, CurrentLeg.To.Length: > 0 };
        var whole = (before.Verified is null && after.Verified is not null) || after.Outcome == Outcome.RolledBack;
        if (!failed && !whole)
            return;
        Reading Note(string key, ValueKind kind, string? text) =>
            text is null
                ? Reading.Absent(key, now, now, RunSource)
                : Reading.Of(key, ReadingValue.Parse(kind, text, out _)!, now, now, RunSource);
        var readings = ImmutableArray.Create(Note(KeyRegistry.PartlyUpgraded, ValueKind.Version, failed ? after.CurrentLeg.To : null));
        if (whole && after.Successor is { } id)
        {
            var successor = await c.ExecuteScalarAsync<string>("SELECT name FROM machines WHERE id = @id", new { id }, t);
            readings = readings.Add(Note(Successors.ReplacedBy, ValueKind.Text, after.Verified is null ? null : successor));
        }

        await FleetTable.PutReadingsAsync(c, t, new(after.Machine), new(RunSource, [], readings), now);
    }

    /// <summary>Gives up the room that a run held, and makes those that have waited for it longest due.</summary>
    private static async Task FreeRoomAsync(DbConnection c, DbTransaction t, RunState after, DateTimeOffset now)
    {
        var freed = await c.QueryAsync<string>(
            $"DELETE FROM run_room WHERE run_id = @Run{(after.HoldsCluster ? " AND name NOT LIKE 'cluster:%'" : "")} RETURNING name",
            new { after.Run },
            t
        );
        foreach (var name in freed.AsList())
        {
            await c.ExecuteAsync(
                "UPDATE runs SET due_at = @now WHERE id IN (SELECT id FROM runs WHERE waits_for = @name AND due_at > @now ORDER BY "
                    + "due_at LIMIT @WokenAtOnce)",
                new
                {
                    name,
                    now = Micros.Of(now),
                    WokenAtOnce,
                },
                t
            );
        }
    }

    private async Task AddEventsAsync(
        DbConnection c,
        DbTransaction t,
        RunState after,
        int number,
        long epoch,
        IReadOnlyList<RunEvent> events
    )
    {
        await MemberRows.ChangeAsync(database.Dialect, c, t, "WHERE run_id = @Run", new { after.Run }, events[^1].At, m =>
            m.Follow(after, events[^1].At)
        );
        foreach (var e in events)
        {
            var position = await Feed.AddAsync(c, t, e.At, "run", $"r{after.Run}", e.Type, new(e.Actor), new(after.Machine));
            await c.ExecuteAsync(
                "INSERT INTO run_events (run_id, number, position, at, type, version, actor, epoch, body) VALUES (@Run, @number, "
                    + "@position, @at, @Type, @Version, @Actor, @epoch, @body)",
                new
                {
                    after.Run,
                    number = ++number,
                    position,
                    at = Micros.Of(e.At),
                    e.Type,
                    Version = (long)RunEvent.Version,
                    e.Actor,
                    epoch,
                    body = JsonSerializer.Serialize(e, RunEvent.Json),
                },
                t
            );
        }
    }

    /// <summary>The stored state, or the one replayed from the events where the stored one is of another shape.</summary>
    private static async Task<RunState> StateOfAsync(DbConnection c, DbTransaction? t, RunRow row) =>
        row.Shape == RunState.Shape
            ? JsonSerializer.Deserialize<RunState>(row.State, RunEvent.Json)!
            : RunMachine.Replay((await EventsAsync(c, t, row.Id)).Select(e => e.Event))!;

    private static async Task<IReadOnlyList<StoredEvent>> EventsAsync(DbConnection c, DbTransaction? t, long run) =>
        [
            .. (
                await c.QueryAsync<EventRow>(
                    "SELECT number, epoch, body FROM run_events WHERE run_id = @run ORDER BY number",
                    new { run },
                    t
                )
            ).Select(r => new StoredEvent((int)r.Number, r.Epoch, JsonSerializer.Deserialize<RunEvent>(r.Body, RunEvent.Json)!)),
        ];

    private static string Write(RunState state) => JsonSerializer.Serialize(state, RunEvent.Json);

    private sealed record RunRow
    {
        public long Id { get; init; }

        public long Epoch { get; init; }

        public long Shape { get; init; }

        public string State { get; init; } = "";

        public long Events { get; init; }

        public string? Progress { get; init; }

        public long? DueAt { get; init; }

        public string? WaitsFor { get; init; }
    }

    private sealed record LengthRow
    {
        public long Id { get; init; }

        public long MachineId { get; init; }

        public long Events { get; init; }
    }

    private sealed record EventRow
    {
        public long Number { get; init; }

        public long Epoch { get; init; }

        public string Body { get; init; } = "";
    }
}
