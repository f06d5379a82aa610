using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Storage.Tests;

/// <summary>What the store has to keep, whichever database it is on.</summary>
public abstract partial class StoreTests : IAsyncLifetime
{
    private const string Plan = "winter";
    private static readonly DateTimeOffset Now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);
    private static readonly TimeSpan Lease = TimeSpan.FromSeconds(30);

    /// <summary>The database of this test.</summary>
    protected Database Database { get; private set; } = null!;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private FleetTable Fleet => new(Database);

    private PlanTable Plans { get; set; } = null!;

    private RunLog Runs => new(Database);

    private Feed Feed => new(Database);

    /// <summary>Where the database of this test is.</summary>
    protected abstract Task<string> WhereAsync();

    public async ValueTask InitializeAsync()
    {
        Database = await Database.OpenAsync(await WhereAsync(), Stop);
        Plans = new(Database);
    }

    public virtual async ValueTask DisposeAsync()
    {
        await AssertMembersAreNewestAsync();
        Plans.Dispose();
        await Database.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    /// <summary>Whatever a test has written, the members that are kept in memory are those that are stored.</summary>
    private async Task AssertMembersAreNewestAsync()
    {
        using var afresh = new PlanTable(Database);
        foreach (var plan in await Plans.AllAsync(CancellationToken.None))
            Assert.Equal(
                await afresh.MembersAsync(plan.Name, CancellationToken.None),
                await Plans.MembersAsync(plan.Name, CancellationToken.None)
            );
    }

    [Fact]
    public async Task A_machine_is_matched_by_any_identifier_and_several_matches_wait_for_a_person()
    {
        var first = await ImportAsync([Machine("desk-1", "S1"), Machine("desk-2", "S2")]);
        Assert.Equal((2, 0), (first.Added, first.Updated));
        var renamed = await ImportAsync([Machine("counter-1", "S1")]);
        Assert.Equal((0, 1), (renamed.Added, renamed.Updated));
        var both = await ImportAsync([Machine("desk-2", "S1"), Machine("desk-3", "S3")]);
        Assert.Equal((1, 0), (both.Added, both.Updated));
        Assert.Contains("matches 2 machines", Assert.Single(both.Waiting).Why, StringComparison.Ordinal);
        Assert.Equal(["counter-1", "desk-2", "desk-3"], (await Fleet.ChangedAsync(0, Stop)).Machines.Select(m => m.Name).Order());
    }

    [Fact]
    public async Task Readings_are_kept_per_source_and_the_older_never_replaces_the_newer()
    {
        await ImportAsync([Machine("desk-1", "S1", ("os.version", "6.5"))]);
        await ImportAsync([
            Machine("desk-1", "S1", ("os.version", "6.4")) with
            {
                Seen = Now.AddDays(-1),
                Report = Report("import", Now.AddDays(-1), ("os.version", "6.4")),
            },
        ]);
        var machine = await OnlyMachineAsync();
        Assert.Equal("6.5", machine.TextOf("os.version"));
        await Fleet.PutReadingsAsync(
            machine.Id,
            Report("ssh", Now.AddHours(1), ("os.version", "7.0")),
            Now.AddHours(1),
            Now.AddHours(1),
            Actor.Worker,
            Stop
        );
        machine = await OnlyMachineAsync();
        Assert.Equal(("7.0", "import"), (machine.TextOf("os.version"), Assert.Single(machine.Conflicts).Source));
    }

    [Fact]
    public async Task History_is_written_on_change_only()
    {
        await ImportAsync([Machine("desk-1", "S1", ("os.version", "6.4"))]);
        var id = (await OnlyMachineAsync()).Id;
        foreach (var (hours, version) in new[] { (1, "6.4"), (2, "6.5"), (3, "6.5") })
            await Fleet.PutReadingsAsync(
                id,
                Report("import", Now.AddHours(hours), ("os.version", version)),
                Now.AddHours(hours),
                Now.AddHours(hours),
                Actor.Worker,
                Stop
            );
        Assert.Equal(["6.5", "6.4"], (await Fleet.HistoryAsync(id, "os.version", Stop)).Select(r => r.Value!.Text));
    }

    [Fact]
    public async Task What_cannot_be_read_any_more_says_what_it_was_before()
    {
        await ImportAsync([Machine("desk-1", "S1", ("os.version", "6.4"))]);
        var id = (await OnlyMachineAsync()).Id;
        foreach (var hours in new[] { 1, 2 })
        {
            var at = Now.AddHours(hours);
            await Fleet.PutReadingsAsync(
                id,
                new("import", [], [Reading.Unreadable("os.version", "no answer", at, at, "import")]),
                at,
                at,
                Actor.Worker,
                Stop
            );
        }

        var reading = (await OnlyMachineAsync()).Find("os.version")!;
        Assert.Equal((ReadingState.Unreadable, "6.4", Now), (reading.State, reading.Last!.Value.Text, reading.Last.Seen));
        Assert.Equal($"unreadable: no answer; it was 6.4 on {Now:yyyy-MM-dd HH:mm} UTC", reading.Show());
        Assert.Equal(2, (await Fleet.HistoryAsync(id, "os.version", Stop)).Count);
    }

    [Fact]
    public async Task Only_what_changed_since_is_read_again()
    {
        await ImportAsync([Machine("desk-1", "S1"), Machine("desk-2", "S2")]);
        var (_, position) = await Fleet.ChangedAsync(0, Stop);
        Assert.Empty((await Fleet.ChangedAsync(position, Stop)).Machines);
        await ImportAsync([Machine("desk-2", "S2")]);
        Assert.Equal("desk-2", Assert.Single((await Fleet.ChangedAsync(position, Stop)).Machines).Name);
    }

    [Fact]
    public async Task A_write_that_throws_keeps_nothing_and_the_ones_beside_it_are_kept()
    {
        var writes = Enumerable
            .Range(0, 40)
            .Select(i =>
                Database.WriteAsync(
                    async (c, t) =>
                    {
                        await c.ExecuteAsync("INSERT INTO settings (name, value) VALUES (@name, 'x')", new { name = $"n{i}" }, t);
                        return i % 4 == 3 ? throw new InvalidOperationException("not this one") : i;
                    },
                    Stop
                )
            )
            .ToArray();
        await Assert.ThrowsAnyAsync<InvalidOperationException>(() => Task.WhenAll(writes));
        Assert.Equal(10, writes.Count(w => w.IsFaulted));
        Assert.Equal(30, await Database.ReadAsync(c => c.ExecuteScalarAsync<long>("SELECT count(*) FROM settings"), Stop));
    }

    [Fact]
    public async Task Positions_of_changes_have_no_gaps_and_come_in_order_however_many_write_at_once()
    {
        await ImportAsync([Machine("desk-1", "S1")]);
        var id = (await OnlyMachineAsync()).Id;
        var from = await Feed.NewestAsync(Stop);
        var seen = new List<long>();
        var writing = Task.WhenAll(
            Enumerable
                .Range(0, 60)
                .Select(i => Fleet.PutReadingsAsync(id, Report($"s{i % 7}", Now, ("os.version", "6")), Now, Now, Actor.Worker, Stop))
        );
        while (seen.Count < 60)
        {
            var more = await Feed.AfterAsync(from + seen.Count, 1000, Stop);
            seen.AddRange(more.Select(c => c.Position));
        }

        await writing;
        Assert.Equal(Enumerable.Range(1, 60).Select(i => from + i), seen);
    }

    [Fact]
    public async Task A_machine_is_in_one_open_run_at_most()
    {
        await PlanAsync("desk-1");
        Assert.NotNull(await OpenRunAsync());
        Assert.Null(await OpenRunAsync());
    }

    [Fact]
    public async Task Each_claim_raises_the_epoch_and_shuts_out_the_one_before()
    {
        await PlanAsync("desk-1");
        await OpenRunAsync();
        var first = await Runs.BeginWorkerAsync(Lease, Stop);
        var second = await Runs.BeginWorkerAsync(Lease, Stop);
        var old = Assert.Single(await Runs.ClaimAsync(first, Now, 10, 10, Stop));
        Assert.Empty(await Runs.ClaimAsync(second, Now, 10, 10, Stop));
        await Runs.EndWorkersAsync(first, Stop);
        var current = Assert.Single(await Runs.ClaimAsync(second, Now, 10, 10, Stop));
        Assert.Equal(old.Epoch + 1, current.Epoch);
        Assert.False(await JudgeAsync(old));
        Assert.True(await JudgeAsync(current));
        Assert.Equal(0, Renewals(first, 1));
        Assert.Equal(3, Renewals(second, 3));
    }

    [Fact]
    public async Task A_lease_is_kept_while_all_the_threads_of_the_pool_are_busy()
    {
        var worker = await Runs.BeginWorkerAsync(Lease, Stop);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(Stop);
        var renewals = 0;
        var keeping = new Thread(() =>
            Runs.KeepLease(worker, Lease, TimeSpan.FromMilliseconds(20), _ => Interlocked.Increment(ref renewals), over.Token)
        );
        using var free = new ManualResetEventSlim();
        var begun = 0;
        var busy = Enumerable
            .Range(0, 64)
            .Select(_ =>
                Task.Run(() =>
                {
                    Interlocked.Increment(ref begun);
                    free.Wait(Stop);
                })
            )
            .ToArray();
        SpinWait.SpinUntil(() => Volatile.Read(ref begun) >= Environment.ProcessorCount);
        keeping.Start();
        var isKept = SpinWait.SpinUntil(() => Volatile.Read(ref renewals) >= 5, TimeSpan.FromMinutes(1));
        free.Set();
        await over.CancelAsync();
        keeping.Join();
        await Task.WhenAll(busy);
        Assert.True(isKept, $"{renewals} renewals");
    }

    /// <summary>How often a lease is renewed, up to some times.</summary>
    private int Renewals(long worker, int most)
    {
        using var over = new CancellationTokenSource();
        var renewals = 0;
        Runs.KeepLease(
            worker,
            Lease,
            TimeSpan.Zero,
            _ =>
            {
                if (++renewals == most)
                    over.Cancel();
            },
            over.Token
        );
        return renewals;
    }

    [Fact]
    public async Task Two_who_write_on_the_same_state_do_not_both_succeed()
    {
        await PlanAsync("desk-1");
        await OpenRunAsync();
        var claim = Assert.Single(await Runs.ClaimAsync(await Runs.BeginWorkerAsync(Lease, Stop), Now, 10, 10, Stop));
        var decided = new Decided(Now, "planner", Decision.Cancel, "not today");
        var state = RunMachine.Step(claim.State, decided).State;
        Assert.True(await Runs.DecideAsync(claim.State, decided, state, new(new("planner"), "run cancel", "not today"), Stop));
        Assert.False(await JudgeAsync(claim));
        Assert.Equal(["run-opened", "decided"], (await Runs.EventsAsync(claim.State.Run, Stop)).Select(e => e.Event.Type));
    }

    [Fact]
    public async Task The_status_is_written_with_the_events_and_the_state_is_what_they_replay_to()
    {
        await PlanAsync("desk-1");
        await OpenRunAsync();
        var claim = Assert.Single(await Runs.ClaimAsync(await Runs.BeginWorkerAsync(Lease, Stop), Now, 10, 10, Stop));
        var blocked = new GateJudged(
            Now,
            "worker",
            claim.State.Outstanding!.Name,
            GateState.Blocked,
            [new("chip", "Chip on", "off", "Switch it on.")],
            []
        );
        Assert.True(await Runs.AppendAsync(claim, [blocked], RunMachine.Step(claim.State, blocked).State, Stop));
        Assert.Equal(Status.Parked, Assert.Single(await Plans.MembersAsync(Plan, Stop)).Status);
        var stored = (await Runs.FindAsync(claim.State.Run, Stop))!.State;
        var replayed = RunMachine.Replay((await Runs.EventsAsync(claim.State.Run, Stop)).Select(e => e.Event))!;
        Assert.Equal(
            System.Text.Json.JsonSerializer.Serialize(replayed, RunEvent.Json),
            System.Text.Json.JsonSerializer.Serialize(stored, RunEvent.Json)
        );
        await Database.WriteAsync((c, t) => c.ExecuteAsync("UPDATE runs SET shape = 0, state = '{}'", transaction: t), Stop);
        Assert.Equal(replayed.Parked, (await Runs.FindAsync(claim.State.Run, Stop))!.State.Parked);
    }

    [Fact]
    public async Task The_index_of_runs_has_every_run_as_its_newest_event_left_it_and_reads_only_what_has_changed()
    {
        await PlanAsync("desk-1", "desk-2", "desk-3");
        using var index = new RunIndex(Database, Runs);
        Assert.Empty(await index.AllAsync(Stop));
        foreach (var member in (await Plans.MembersAsync(Plan, Stop)).Take(2))
            await OpenRunAsync(member.Machine);
        var opened = (await index.AllAsync(Stop)).OrderBy(r => r.Run).ToArray();
        Assert.Equal(2, opened.Length);
        Assert.All(opened, r => Assert.Equal((Plan, Status.Scheduled), (r.Plan, r.Status)));

        var claim = (await Runs.ClaimAsync(await Runs.BeginWorkerAsync(Lease, Stop), Now, 10, 10, Stop)).Single(c =>
            c.State.Run == opened[0].Run
        );
        var blocked = new GateJudged(
            Now,
            "worker",
            claim.State.Outstanding!.Name,
            GateState.Blocked,
            [new("chip", "Chip on", "off", "Switch it on.")],
            []
        );
        Assert.True(await Runs.AppendAsync(claim, [blocked], RunMachine.Step(claim.State, blocked).State, Stop));
        await OpenRunAsync((await Plans.MembersAsync(Plan, Stop))[2].Machine);
        var now = (await index.AllAsync(Stop)).OrderBy(r => r.Run).ToArray();
        Assert.Equal([Status.Parked, Status.Scheduled, Status.Scheduled], now.Select(r => r.Status));
        Assert.Same(opened[1], now[1]);
        Assert.Same(await index.AllAsync(Stop), await index.AllAsync(Stop));
    }

    [Fact]
    public async Task Runs_chosen_for_a_later_claim_are_claimed_only_while_they_are_free_and_due()
    {
        await PlanAsync([.. Enumerable.Range(1, 6).Select(i => $"desk-{i}")]);
        foreach (var member in await Plans.MembersAsync(Plan, Stop))
            await OpenRunAsync(member.Machine);
        var (first, second) = (await Runs.BeginWorkerAsync(Lease, Stop), await Runs.BeginWorkerAsync(Lease, Stop));
        var runs = Runs;
        var claimed = await runs.ClaimAsync(first, Now, 2, 0, Stop);
        Assert.Equal(2, claimed.Count);
        Assert.Equal(4, (await Runs.ClaimAsync(second, Now, 50, 0, Stop)).Count);
        Assert.Empty(await runs.ClaimAsync(first, Now, 2, 0, Stop));
        foreach (var run in claimed)
            await runs.ReleaseAsync(run, Now, null, null, Now, Stop);
        Assert.Equal(
            claimed.Select(c => c.State.Run).Order(),
            (await runs.ClaimAsync(first, Now, 10, 0, Stop)).Select(c => c.State.Run).Order()
        );
    }

    [Fact]
    public async Task Room_within_a_limit_is_never_given_twice_however_many_ask_at_once()
    {
        await PlanAsync([.. Enumerable.Range(1, 12).Select(i => $"desk-{i}")]);
        foreach (var member in await Plans.MembersAsync(Plan, Stop))
            await OpenRunAsync(member.Machine);
        var claims = await Runs.ClaimAsync(await Runs.BeginWorkerAsync(Lease, Stop), Now, 50, 50, Stop);
        Assert.Equal(12, claims.Count);
        var answers = await Task.WhenAll(claims.Select(c => Runs.TakeRoomAsync(c, [("plan", 5), ("site", 3)], Stop)));
        Assert.Equal(3, answers.Count(a => a is null));
        Assert.Equal(9, answers.Count(a => a == "site"));
        var holder = claims[Array.IndexOf(answers, null)];
        Assert.Null(await Runs.TakeRoomAsync(holder, [("plan", 5), ("site", 3)], Stop));
        Assert.NotNull(await Runs.TakeRoomAsync(holder with { Epoch = holder.Epoch - 1 }, [("other", 9)], Stop));
    }

    [Fact]
    public async Task A_run_that_waits_for_a_limit_is_due_as_soon_as_a_place_in_it_is_free()
    {
        await PlanAsync("desk-1", "desk-2", "desk-3");
        foreach (var member in await Plans.MembersAsync(Plan, Stop))
            await OpenRunAsync(member.Machine);
        var worker = await Runs.BeginWorkerAsync(Lease, Stop);
        var claims = await Runs.ClaimAsync(worker, Now, 50, 50, Stop);
        Assert.Null(await Runs.TakeRoomAsync(claims[0], [("uplink:Westhaven", 1)], Stop));
        foreach (var waiting in claims.Skip(1))
        {
            Assert.Equal("uplink:Westhaven", await Runs.TakeRoomAsync(waiting, [("uplink:Westhaven", 1)], Stop));
            await Runs.ReleaseAsync(waiting, Now.AddHours(1), null, "uplink:Westhaven", Now, Stop);
        }

        Assert.Empty(await Runs.ClaimAsync(worker, Now, 50, 50, Stop));
        Assert.Equal("uplink:Westhaven", (await Runs.FindAsync(claims[1].State.Run, Stop))!.WaitsFor);
        Assert.True(await JudgeAsync(claims[0]));
        var woken = await Runs.ClaimAsync(worker, Now, 50, 50, Stop);
        Assert.Equal(claims.Skip(1).Select(c => c.State.Run).Order(), woken.Select(c => c.State.Run).Order());
        Assert.Null(await Runs.TakeRoomAsync(woken[0], [("uplink:Westhaven", 1)], Stop));
    }

    [Fact]
    public async Task A_duty_is_held_by_one_process_until_it_gives_it_up_or_its_lease_lapses()
    {
        var leases = new DutyLeaseTable(Database);
        var (first, second) = (Guid.NewGuid(), Guid.NewGuid());
        Assert.True(await leases.TryHoldAsync("plans", first, Lease, Stop));
        Assert.True(await leases.TryHoldAsync("plans", first, Lease, Stop));
        Assert.False(await leases.TryHoldAsync("plans", second, Lease, Stop));
        Assert.True(await leases.TryHoldAsync("fixes", second, Lease, Stop));
        await leases.GiveUpAsync("plans", second, Stop);
        Assert.False(await leases.TryHoldAsync("plans", second, Lease, Stop));
        await leases.GiveUpAsync("plans", first, Stop);
        Assert.True(await leases.TryHoldAsync("plans", second, TimeSpan.Zero, Stop));
        Assert.True(await leases.TryHoldAsync("plans", first, Lease, Stop));
    }

    [Fact]
    public async Task Runs_that_hold_room_are_claimed_first_and_then_plans_and_sites_take_turns()
    {
        await PlanAsync([.. Enumerable.Range(1, 6).Select(i => $"desk-{i}")]);
        var members = await Plans.MembersAsync(Plan, Stop);
        foreach (var member in members)
            await OpenRunAsync(member.Machine);
        await Database.WriteAsync(
            (c, t) => c.ExecuteAsync("UPDATE machines SET site = 'Eastray' WHERE name = 'desk-6'", transaction: t),
            Stop
        );
        var worker = await Runs.BeginWorkerAsync(Lease, Stop);
        var holder = (await Runs.ClaimAsync(worker, Now, 50, 50, Stop)).MaxBy(c => c.State.Run)!;
        var atOtherSite = holder.State.Run;
        var all = (await Runs.ListAsync(Plan, Stop)).Select(r => new ClaimedRun(r.State, r.Epoch)).ToArray();
        // All are due at once, the one at the other site last of all.
        foreach (var run in all)
            await Runs.ReleaseAsync(run, Now.AddSeconds(run.State.Run == atOtherSite ? 59 : run.State.Run), null, null, Now, Stop);
        var turn = await Runs.ClaimAsync(worker, Now.AddMinutes(1), 2, 2, Stop);
        Assert.Contains(turn, c => c.State.Run == atOtherSite);
        foreach (var run in turn)
            await Runs.ReleaseAsync(run, Now.AddSeconds(run.State.Run), null, null, Now, Stop);
        var last = (await Runs.ClaimAsync(worker, Now.AddMinutes(1), 50, 50, Stop)).Single(c =>
            c.State.Run == all.Where(r => r.State.Run != atOtherSite).Max(r => r.State.Run)
        );
        Assert.Null(await Runs.TakeRoomAsync(last, [("plan", 1)], Stop));
        foreach (var run in (await Runs.ListAsync(Plan, Stop)).Select(r => new ClaimedRun(r.State, r.Epoch)))
            await Runs.ReleaseAsync(run, Now.AddSeconds(run.State.Run), null, null, Now, Stop);
        Assert.Equal(last.State.Run, Assert.Single(await Runs.ClaimAsync(worker, Now.AddMinutes(1), 1, 1, Stop)).State.Run);
    }

    [Fact]
    public async Task Every_command_leaves_who_from_where_what_before_and_after()
    {
        await PlanAsync("desk-1");
        var machine = (await Plans.MembersAsync(Plan, Stop))[0].Machine;
        await Plans.PutStatusAsync(Plan, PlanStatus.Started, "storm", "hold", new("planner", "127.0.0.1 by token t1"), Now, Stop);
        await Plans.ExemptAsync(Plan, machine, Exemption.Retired, "sold", null, new("terminal-it"), Now, Stop);
        var audit = (await new AuditTable(Database).AfterAsync(0, 100, Stop)).Select(e => e.Entry).ToArray();
        Assert.Equal(
            [("planner", "fleet import"), ("planner", "plan create"), ("planner", "plan hold"), ("terminal-it", "plan exempt")],
            audit.Select(a => (a.Actor, a.Command))
        );
        Assert.Equal(("127.0.0.1 by token t1", "Started", "Started, held: storm"), (audit[2].From, audit[2].Before, audit[2].After));
        Assert.Equal(
            (machine.Value, "Scheduled", "Exempt: Retired", "sold"),
            (audit[3].Machine!.Value, audit[3].Before!, audit[3].After!, audit[3].Reason)
        );
        Assert.Equal(Status.Exempt, Assert.Single(await Plans.MembersAsync(Plan, Stop)).Status);
    }

    [Fact]
    public async Task A_newer_schema_than_our_own_is_refused()
    {
        await Database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "INSERT INTO \"VersionInfo\" (\"Version\", \"AppliedOn\", \"Description\") VALUES (99, NULL, 'later')",
                    transaction: t
                ),
            Stop
        );
        var error = await Assert.ThrowsAsync<StoreException>(async () => await Database.OpenAsync(await WhereAsync(), Stop));
        Assert.Equal("newer-schema", error.Name);
    }

    private static ReportedMachine Machine(string name, string serial, params (string Key, string Text)[] values) =>
        new(
            2,
            name,
            [new("serial", serial)],
            "Westhaven",
            "office",
            "deck-it",
            ["pilot"],
            new("simulated", "", 22, "root", null),
            Report("import", Now, values),
            Now
        );

    private static SourceReport Report(string source, DateTimeOffset seen, params (string Key, string Text)[] values) =>
        new(
            source,
            [],
            [
                .. values.Select(v =>
                    Reading.Of(v.Key, ReadingValue.Parse(KeyRegistry.BuiltIn.Find(v.Key)!.Kind, v.Text, out _)!, seen, seen, source)
                ),
            ]
        );

    private Task<ImportResult> ImportAsync(ReportedMachine[] machines) => Fleet.ImportAsync(machines, "import", new("planner"), Now, Stop);

    private async Task<Machine> OnlyMachineAsync() => Assert.Single((await Fleet.ChangedAsync(0, Stop)).Machines);

    private async Task PlanAsync(params string[] names)
    {
        await ImportAsync([.. names.Select(n => Machine(n, $"S-{n}"))]);
        var machines = (await Fleet.ChangedAsync(0, Stop)).Machines;
        await Plans.CreateAsync(
            new(
                Plan,
                1,
                "plan: winter",
                "hash",
                PlanStatus.Started,
                null,
                Now,
                "planner",
                Now,
                null,
                [],
                [new(1, "Pilot", WaveState.Open, Now, null)]
            ),
            [
                .. machines.Select(m => new Member
                {
                    Plan = Plan,
                    Machine = m.Id,
                    Wave = 1,
                    Status = Status.Scheduled,
                    Slot = new(Now, Now.AddHours(1), Now.AddHours(2)),
                }),
            ],
            new("planner"),
            Stop
        );
    }

    private async Task<long?> OpenRunAsync(MachineId? machine = null)
    {
        var id = machine ?? (await Plans.MembersAsync(Plan, Stop))[0].Machine;
        var step = new StepSpec("fetch", "Fetch", Phase.Stage, StepKind.Script, "fetch", TimeSpan.FromMinutes(1), TimeSpan.FromHours(1));
        return await Runs.OpenAsync(
            Plan,
            id,
            run => new RunOpened(
                Now,
                "worker",
                run,
                id.Value,
                Plan,
                1,
                "Pilot",
                "hash",
                [new("6-to-7", "image", [step], [], TimeSpan.Zero, TimeSpan.Zero)],
                new(Now, Now.AddHours(1), Now.AddHours(2))
            ),
            Stop
        );
    }

    private Task<bool> JudgeAsync(ClaimedRun claim)
    {
        var judged = new GateJudged(Now, "worker", claim.State.Outstanding!.Name, GateState.Open, [], []);
        return Runs.AppendAsync(claim, [judged], RunMachine.Step(claim.State, judged).State, Stop);
    }
}

/// <summary>The embedded database.</summary>
public sealed class SqliteStoreTests : StoreTests
{
    private readonly string _folder = Directory.CreateTempSubdirectory("grandstair-store-").FullName;

    /// <inheritdoc />
    protected override string DropOn => "";

    /// <inheritdoc />
    protected override Task<string> WhereAsync() => Task.FromResult(Path.Combine(_folder, "grandstair.db"));

    /// <inheritdoc />
    public override async ValueTask DisposeAsync()
    {
        await base.DisposeAsync();
        Directory.Delete(_folder, recursive: true);
    }
}

/// <summary>A real PostgreSQL server.</summary>
public sealed class PostgresStoreTests(PostgresFixture server) : StoreTests, IClassFixture<PostgresFixture>
{
    private string? _where;

    /// <inheritdoc />
    protected override string DropOn => " ON audit";

    /// <inheritdoc />
    protected override async Task<string> WhereAsync() => _where ??= await server.Server.NewDatabaseAsync();

    [Fact]
    public async Task Several_services_that_start_at_once_bring_the_schema_up_once()
    {
        var where = await server.Server.NewDatabaseAsync();
        var opened = await Task.WhenAll(
            Enumerable.Range(0, 4).Select(_ => Database.OpenAsync(where, TestContext.Current.CancellationToken))
        );
        Assert.Equal(0, await new Feed(opened[3]).NewestAsync(TestContext.Current.CancellationToken));
        foreach (var database in opened)
            await database.DisposeAsync();
    }
}

/// <summary>One server for all tests on PostgreSQL.</summary>
public sealed class PostgresFixture : IAsyncLifetime
{
    /// <summary>The server.</summary>
    public PostgresServer Server { get; private set; } = null!;

    /// <inheritdoc />
    public async ValueTask InitializeAsync() => Server = await PostgresServer.StartAsync();

    /// <inheritdoc />
    public ValueTask DisposeAsync()
    {
        Server.Dispose();
        return ValueTask.CompletedTask;
    }
}
