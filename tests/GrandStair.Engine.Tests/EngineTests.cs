using GrandStair.Connections;
using GrandStair.Connections.Simulation;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Storage.Runs;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>The worker, the keeper of plans and people's commands, on a real database.</summary>
public sealed class EngineTests
{
    [Fact]
    public async Task A_plan_runs_to_its_end_by_itself_and_limits_hold_all_the_time()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(8);
        await kit.PlanAsync();
        kit.StartWorker();
        var most = 0;
        await kit.WaitAsync(
            members =>
            {
                most = Math.Max(most, members.Count(m => m.Status == Status.Running));
                return members.All(m => m.Status is Status.Verified or Status.Done);
            },
            "all are verified"
        );
        Assert.InRange(most, 1, 3);
        await kit.UntilAsync(
            async () => (await kit.Plans.FindAsync("small", EngineKit.Stop))!.State == PlanStatus.Ended,
            () => "the plan ends when the rollback periods are over"
        );
        var machines = (await kit.Fleet.AllAsync(EngineKit.Stop)).Values;
        Assert.All(machines, m => Assert.Equal("7.1.4", m.TextOf("os.build")));
        Assert.All(await kit.StatesAsync(), r =>
            Assert.Equal((Outcome.Done, "on"), (r.Outcome, machines.Single(m => m.Id.Value == r.Machine).TextOf("disk.encryption")))
        );
    }

    [Fact]
    public async Task A_held_plan_opens_no_slot_and_goes_on_when_it_is_started_again()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        await kit.PlanAsync();
        await kit.Commands.HoldAsync("small", "storm", new("planner"), EngineKit.Stop);
        kit.StartWorker();
        await kit.PassAsync(kit.Clock.GetUtcNow().AddDays(2));
        Assert.All(await kit.Plans.MembersAsync("small", EngineKit.Stop), m => Assert.Null(m.Run));
        await kit.Commands.StartAsync("small", new("planner"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        await Assert.ThrowsAsync<RefusedException>(() => kit.Commands.StartAsync("small", new("planner"), EngineKit.Stop));
    }

    [Fact]
    public async Task A_run_goes_over_both_legs_each_in_a_slot_of_its_own_and_the_second_with_what_the_first_brought()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("firmware.mode", "legacy")]);
        await kit.PlanAsync(
            EngineKit
                .Plan.Replace("release: \"7\"", "release: \"8\"", StringComparison.Ordinal)
                .Replace("os.version < 7", "os.version < 8", StringComparison.Ordinal)
                .Replace("methods: [", "methods: [image-to-8, ", StringComparison.Ordinal)
        );
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
        var run = Assert.Single(await kit.StatesAsync());
        Assert.Equal([("6-to-7", "image-in-place"), ("7-to-8", "image-to-8")], run.Legs.Select(l => (l.Hop, l.Method)));
        Assert.Equal(2, run.Phases.Count(p => p.Phase == Phase.Wait));
        Assert.Equal(0, run.MissedSlots);
        var machine = (await kit.Fleet.AllAsync(EngineKit.Stop)).Values.Single();
        Assert.Equal(("8", "native"), (machine.TextOf("os.version"), machine.TextOf("firmware.mode")));
    }

    [Fact]
    public async Task A_machine_goes_by_the_method_that_a_person_chose_and_less_than_all_has_to_be_acknowledged()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        await kit.Writer.CreateAsync(EngineKit.Plan, new("planner"), SiteScope.All, EngineKit.Stop);
        var machine = (await kit.Fleet.FindAsync("desk-1", EngineKit.Stop))!;
        await Assert.ThrowsAsync<RefusedException>(() =>
            kit.Commands.ChooseMethodAsync("small", machine, "replace", "x", new("planner"), EngineKit.Stop)
        );
        var unsuited = await Assert.ThrowsAsync<RefusedException>(() =>
            kit.Commands.ChooseMethodAsync("small", machine, "update-channel", "x", new("planner"), EngineKit.Stop)
        );
        Assert.Equal("method-does-not-suit", unsuited.Name);
        await kit.Commands.ChooseMethodAsync("small", machine, "keep-data", "its programs are worn out", new("planner"), EngineKit.Stop);
        var open = await kit.Acknowledgements.AllAsync(
            await kit.Commands.FindAsync("small", EngineKit.Stop),
            SiteScope.All,
            EngineKit.Stop
        );
        Assert.Equal(
            [("must-read", "licence-carries", 2), ("licence-terms", "terms-7", 2), ("preserves", "keep-data", 1)],
            open.Select(o => (o.Kind, o.Name, o.Machines))
        );
        var refused = await Assert.ThrowsAsync<RefusedException>(() => kit.Commands.StartAsync("small", new("planner"), EngineKit.Stop));
        Assert.Contains("people's data only: programs and settings are lost", refused.Message, StringComparison.Ordinal);
        await kit.Acknowledgements.AcknowledgeAsync(
            await kit.Commands.FindAsync("small", EngineKit.Stop),
            ["licence-carries", "terms-7", "keep-data"],
            "they are told",
            new("planner"),
            EngineKit.Stop
        );
        await kit.Commands.StartAsync("small", new("planner"), EngineKit.Stop);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "both are verified");
        Assert.Equal(["image-in-place", "keep-data"], (await kit.StatesAsync()).Select(r => r.CurrentLeg.Method).Order());
    }

    [Fact]
    public async Task A_machine_that_is_not_ready_gets_its_run_once_it_is_fixed()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2, i => i == 2 ? [("firmware.tpm.state", "off")] : []);
        await kit.PlanAsync();
        kit.StartWorker();
        await kit.WaitAsync(members => members.Any(m => m.Verified is not null), "the ready one is verified");
        var waiting = (await kit.Plans.MembersAsync("small", EngineKit.Stop)).Single(m => m.Verified is null);
        Assert.Equal((Status.NotReady, "Security chip 2.0 present and on", (long?)null), (waiting.Status, waiting.Why, waiting.Run));
        kit.World.Set("desk-2", "firmware.tpm.state", "on");
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "the fixed one is verified too");
    }

    [Fact]
    public async Task A_gate_that_is_blocked_in_the_window_parks_the_run_and_a_decision_goes_on()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("power.mains", "no")]);
        await kit.PlanAsync();
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Parked), "it is parked");
        var run = Assert.Single(await kit.StatesAsync());
        Assert.Equal("the gate is blocked: Mains power (found: power.mains = no)", run.Parked);
        var refused = await Assert.ThrowsAsync<RefusedException>(() =>
            kit.RunCommands.DecideAsync(run.Run, Decision.RollBack, "no", atOnce: true, new("planner"), EngineKit.Stop)
        );
        Assert.Contains("possible now: retry, cancel", refused.Message, StringComparison.Ordinal);
        kit.World.Set("desk-1", "power.mains", "yes");
        await kit.RunCommands.DecideAsync(run.Run, Decision.Retry, "plugged it in", atOnce: true, new("deck-it"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
        var decided = (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<Decided>().Single();
        Assert.Equal(("deck-it", "plugged it in"), (decided.Actor, decided.Reason));
    }

    [Fact]
    public async Task A_run_is_done_only_when_the_rollback_that_was_kept_for_longer_is_over()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync(EngineKit.Plan);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
        var run = (await kit.StatesAsync()).Single();
        var until = run.Verified!.Value.AddDays(15);
        await kit.RunCommands.KeepRollbackAsync(run.Run, until, "the month's end is not over", new("planner"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Done), "it is done");
        var done = (await kit.StatesAsync()).Single();
        Assert.InRange(done.Closed!.Value, until, until.AddHours(1));
        // The space that the previous release took is free again.
        Assert.Equal(9.4 * (1 << 30), done.Reclaimed);
    }

    [Fact]
    public async Task A_verified_machine_can_be_gone_back_from_exempt_or_sent_again()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync();
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
        var machine = (await kit.Fleet.FindAsync("desk-1", EngineKit.Stop))!;
        await Assert.ThrowsAsync<RefusedException>(() =>
            kit.Commands.ExemptAsync("small", machine, Exemption.Replaced, "new", null, new("planner"), EngineKit.Stop)
        );
        await kit.RunCommands.DecideAsync(
            (await kit.StatesAsync())[0].Run,
            Decision.RollBack,
            "too slow for the desk",
            atOnce: true,
            new("terminal-it"),
            EngineKit.Stop
        );
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Stopped), "it has ended");
        Assert.Equal(
            (Outcome.RolledBack, "too slow for the desk"),
            ((await kit.StatesAsync())[0].Outcome, (await kit.StatesAsync())[0].Reason)
        );
        await kit.Commands.AgainAsync("small", machine, "a faster disk", new("planner"), EngineKit.Stop);
        await kit.WaitAsync(
            members => members.All(m => m.Verified is not null && m.Status == Status.Verified),
            "it is verified by its second run"
        );
        Assert.Equal(2, (await kit.StatesAsync()).Length);
    }

    [Fact]
    public async Task What_a_worker_had_that_says_nothing_any_more_another_takes_over_and_nothing_is_done_twice()
    {
        using var server = await PostgresServer.StartAsync();
        await using var kit = await EngineKit.StartAsync(400, await server.NewDatabaseAsync());
        await kit.AddMachinesAsync(3);
        await kit.PlanAsync();
        var silent = new SilentConnection(new SimulatedConnection(kit.World, kit.Clock));
        var first = kit.StartWorker(silent);
        await kit.WaitAsync(members => members.Any(m => m.Status == Status.Running), "one is running");
        // It hangs in the middle of a call, as a process that is stopped; its lease lapses.
        silent.Hang();
        var claimed = (await kit.Runs.ListAsync("small", EngineKit.Stop)).Max(r => r.Epoch);
        await first.CancelAsync();
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified by the other worker");
        Assert.True((await kit.Runs.ListAsync("small", EngineKit.Stop)).Max(r => r.Epoch) > claimed);
        silent.GoOn();
        foreach (var run in await kit.StatesAsync())
        {
            var ended = (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop))
                .Select(e => e.Event)
                .OfType<OrderEnded>()
                .Select(e => e.Order)
                .ToArray();
            Assert.Equal(ended.Length, ended.Distinct().Count());
        }
    }

    [Fact]
    public async Task A_rollback_begins_in_the_next_window_unless_it_is_to_begin_at_once()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        await kit.PlanAsync(EngineKit.Plan.Replace("Mon-Sun 00:00-00:00", "Mon-Sun 08:00-12:00", StringComparison.Ordinal));
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "they are verified");
        var runs = await kit.StatesAsync();
        await kit.PassAsync(new(kit.Clock.GetUtcNow().Date.AddDays(1).AddHours(14), TimeSpan.Zero));
        var waits = await kit.RunCommands.DecideAsync(
            runs[0].Run,
            Decision.RollBack,
            "slow",
            atOnce: false,
            new("planner"),
            EngineKit.Stop
        );
        Assert.Equal((Phase.RollBack, 8, 0), (waits.Phase, waits.Outstanding!.NotBefore.Hour, waits.Outstanding.NotBefore.Minute));
        var goes = await kit.RunCommands.DecideAsync(runs[1].Run, Decision.RollBack, "slow", atOnce: true, new("planner"), EngineKit.Stop);
        Assert.Equal(goes.Outstanding!.At, goes.Outstanding.NotBefore);
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Stopped), "both are rolled back");
        var ended = await kit.StatesAsync();
        Assert.True(ended.Single(r => r.Run == runs[0].Run).Closed >= waits.Outstanding.NotBefore);
        Assert.True(ended.Single(r => r.Run == runs[1].Run).Closed < waits.Outstanding.NotBefore);
    }

    [Fact]
    public async Task A_machine_whose_upgrade_failed_half_way_has_not_arrived_and_can_be_sent_again()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("services.failed", "2")]);
        await kit.PlanAsync();
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Parked), "it is parked at its verification");
        await kit.RunCommands.DecideAsync(
            (await kit.StatesAsync())[0].Run,
            Decision.GiveUp,
            "its services do not come up",
            atOnce: true,
            new("deck-it"),
            EngineKit.Stop
        );
        var machine = (await kit.Fleet.FindAsync("desk-1", EngineKit.Stop))!;
        Assert.Equal(("7", "7"), (machine.TextOf("os.version"), machine.TextOf(KeyRegistry.PartlyUpgraded)));
        Assert.Equal(RunLog.RunSource, machine.Find(KeyRegistry.PartlyUpgraded)!.Source);
        var stored = (await kit.Plans.FindAsync("small", EngineKit.Stop))!;
        var (plan, product) = await kit.CatalogueCache.ReadPlanAsync(stored, EngineKit.Stop);
        var route = Assessment.Of(PlanSlots.AimOf(plan, product), machine, Moment.Planning, kit.Clock.GetUtcNow()).Route;
        Assert.Equal((false, "Brae Desktop 7", "6-to-7"), (route.Arrived, route.PartlyTo?.Name, Assert.Single(route.Hops).Name));

        kit.World.Set("desk-1", "services.failed", "0");
        await kit.Commands.AgainAsync("small", machine, "the cause was found", new("planner"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Verified), "it is verified by its second run");
        Assert.Equal(ReadingState.Absent, (await kit.Fleet.FindAsync("desk-1", EngineKit.Stop))!.Find(KeyRegistry.PartlyUpgraded)!.State);
    }

    [Fact]
    public async Task A_slot_that_was_missed_is_made_up_for_by_another()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync();
        var worker = kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Run is not null), "its run is open");
        // Nobody works for so long that the day's window is over.
        await worker.CancelAsync();
        var before = (await kit.Plans.MembersAsync("small", EngineKit.Stop))[0].Slot!;
        await kit.PassAsync(before.LatestTurn.AddDays(130));
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified in another slot");
        var run = Assert.Single(await kit.StatesAsync());
        Assert.True(run.MissedSlots >= 1);
        Assert.True(run.Slot.Start > before.LatestTurn);
        Assert.Contains((await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<SlotMoved>(), e =>
            e.Reason == "the slot before was missed"
        );
    }

    [Fact]
    public async Task What_is_left_to_do_after_the_upgrade_keeps_a_run_from_being_done_until_it_is_closed()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("device.faults", "2")]);
        await kit.PlanAsync();
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
        await kit.PassAsync(kit.Clock.GetUtcNow().AddDays(11));
        Assert.Equal(Status.Verified, (await kit.Plans.MembersAsync("small", EngineKit.Stop))[0].Status);
        var run = Assert.Single(await kit.StatesAsync());
        var end = Assert.Single(run.FollowUps);
        Assert.Equal(("devices", "device.faults = 2"), (end.Name, end.Seen));
        await Assert.ThrowsAsync<RefusedException>(() =>
            kit.RunCommands.CloseFollowUpAsync(run.Run, "no-such", "x", new("deck-it"), EngineKit.Stop)
        );
        await kit.RunCommands.CloseFollowUpAsync(run.Run, "devices", "driver put on again", new("deck-it"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Done), "it is done");
        Assert.Equal("deck-it", Assert.Single(await kit.StatesAsync()).FollowUps[0].By);
    }

    [Fact]
    public async Task A_machine_that_came_to_the_target_by_other_means_is_told_and_can_be_exempt()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("firmware.tpm.state", "off")]);
        await kit.PlanAsync();
        kit.World.Set("desk-1", "os.version", "7");
        kit.World.Set("desk-1", "os.build", "7.1.4");
        kit.StartWorker();
        await kit.WaitAsync(
            members => members.All(m => m.Why?.Contains("runs the target already", StringComparison.Ordinal) == true),
            "it is told"
        );
        var machine = (await kit.Fleet.FindAsync("desk-1", EngineKit.Stop))!;
        await Assert.ThrowsAsync<RefusedException>(() =>
            kit.Commands.ExemptAsync("small", machine, Exemption.Stays, "upgraded by hand", null, new("planner"), EngineKit.Stop)
        );
        await kit.Commands.ExemptAsync("small", machine, Exemption.Retired, "upgraded by hand", null, new("planner"), EngineKit.Stop);
        await kit.UntilAsync(
            async () => (await kit.Plans.FindAsync("small", EngineKit.Stop))!.State == PlanStatus.Ended,
            () => "the plan ends"
        );
    }

    [Fact]
    public async Task A_plan_without_a_machine_in_its_scope_is_refused()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("os.version", "7.1")]);
        var error = await Assert.ThrowsAsync<RefusedException>(() => kit.PlanAsync());
        Assert.Contains("No machine is in the scope", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Domain_time_goes_on_from_where_it_was_when_the_pace_changes()
    {
        await using var kit = await EngineKit.StartAsync(pace: 3600);
        var before = kit.Clock.GetUtcNow();
        kit.Clock.SetPace(1);
        var after = kit.Clock.GetUtcNow();
        Assert.InRange(after - before, TimeSpan.Zero, TimeSpan.FromHours(1));
        Assert.Equal(TimeSpan.FromSeconds(10), kit.Clock.ToReal(TimeSpan.FromSeconds(10)));
    }

    /// <summary>A connection that can be made to hang.</summary>
    private sealed class SilentConnection(IConnection inner) : IConnection
    {
        private volatile TaskCompletionSource? _hang;

        public string Kind => inner.Kind;

        public void Hang() => _hang = new(TaskCreationOptions.RunContinuationsAsynchronously);

        public void GoOn() => _hang!.SetResult();

        public async Task<IReadOnlyList<ScriptOutput>> ReadAsync(
            Machine machine,
            IReadOnlyList<string> scripts,
            IReadOnlyCollection<string> wanted,
            CancellationToken stop
        )
        {
            await WaitAsync();
            return await inner.ReadAsync(machine, scripts, wanted, stop);
        }

        public async Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop)
        {
            await WaitAsync();
            await inner.PostAsync(machine, order, stop);
        }

        public async Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop)
        {
            await WaitAsync();
            return await inner.AskAsync(machine, order, stop);
        }

        public Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop) =>
            inner.OutputAsync(machine, order, from, stop);

        private Task WaitAsync() => _hang?.Task ?? Task.CompletedTask;
    }
}
