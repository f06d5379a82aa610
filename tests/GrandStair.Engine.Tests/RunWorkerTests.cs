using GrandStair.Connections;
using GrandStair.Connections.Simulation;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Runs;
using GrandStair.Storage.Runs;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>How a worker looks at runs: what waits takes nothing from the others, and what is not heard is shown.</summary>
public sealed class RunWorkerTests
{
    private static CancellationToken Stop => EngineKit.Stop;

    [Fact]
    public async Task Machines_that_do_not_answer_keep_no_other_run_waiting()
    {
        await using var kit = await EngineKit.StartAsync(pace: 1200);
        await kit.AddMachinesAsync(202);
        await kit.PlanAsync(
            EngineKit.Plan.Replace("limits: { all: 3, site: 2 }", "limits: { all: 300, site: 300 }", StringComparison.Ordinal)
        );
        // Two hundred are switched off while they stage; each look at one of them lasts as long as a connection attempt.
        var connection = new FaultyConnection(kit, machine => machine is not ("desk-1" or "desk-2")) { Lasts = TimeSpan.FromSeconds(15) };
        kit.StartWorker(connection);
        await kit.WaitAsync(members => members.Count(m => m.Verified is not null) == 2, "the two that answer are verified");
        Assert.True(connection.Failed >= 150, $"{connection.Failed} looks at silent machines were open or over");
        Assert.All(await kit.StatesAsync(), r =>
            Assert.True(r.Verified is not null || r.Phase == Phase.Stage, $"r{r.Run} is in {r.Phase}")
        );
    }

    [Fact]
    public async Task From_the_second_look_that_hears_nothing_people_see_since_when_and_why_until_the_machine_answers_again()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync();
        var connection = new FaultyConnection(kit, _ => false);
        kit.StartWorker(connection);
        await kit.UntilAsync(async () => (await RunAsync(kit))?.Progress is { Answered: true, Share: > 0 }, () => "a step is running");
        var heard = (await RunAsync(kit))!.Progress!;
        connection.IsSilent = _ => true;
        await kit.UntilAsync(
            async () => (await RunAsync(kit))?.Progress?.LostContact is { Looks: >= LostContact.ShownFrom },
            () => "the lost contact is shown"
        );
        var lost = (await RunAsync(kit))!.Progress!;
        Assert.Equal(heard.Order, lost.Order);
        Assert.Equal("desk-1 was switched off", lost.LostContact!.Why);
        Assert.InRange(lost.LostContact.Since, heard.At, kit.Clock.GetUtcNow());
        connection.IsSilent = _ => false;
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
    }

    [Fact]
    public async Task A_host_key_that_changed_during_a_step_asks_a_person_at_once()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync();
        var connection = new FaultyConnection(kit, _ => false) { Name = "host-key-changed" };
        kit.StartWorker(connection);
        await kit.UntilAsync(async () => (await RunAsync(kit))?.Progress is { Answered: true }, () => "a step is running");
        connection.IsSilent = _ => true;
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Parked), "it is parked");
        Assert.EndsWith(": desk-1 was switched off", (await RunAsync(kit))!.State.Parked, StringComparison.Ordinal);
        Assert.Single((await kit.Runs.EventsAsync(1, Stop)).Select(e => e.Event).OfType<OrderOverdue>());
    }

    [Fact]
    public async Task What_an_incomplete_reading_did_not_report_is_unreadable_and_verifies_nothing()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync();
        // All that is read after the restart comes from a script that was killed before it had reported the faults of devices.
        var connection = new FaultyConnection(kit, _ => false) { IncompleteFrom = "7" };
        kit.StartWorker(connection);
        await kit.WaitAsync(members => members.All(m => m.Status == Status.Parked), "it is parked");
        var run = (await RunAsync(kit))!.State;
        Assert.Null(run.Verified);
        Assert.StartsWith("the verification is undecided", run.Parked, StringComparison.Ordinal);
        Assert.Contains("the script ended with status 137", run.Parked, StringComparison.Ordinal);
        var machine = (await kit.Fleet.AllAsync(Stop)).Values.Single();
        Assert.Equal(ReadingState.Unreadable, machine.Find("services.failed")!.State);
        connection.IncompleteFrom = null;
        await kit.RunCommands.DecideAsync(run.Run, Decision.Retry, "the reader works again", atOnce: true, new("planner"), Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
    }

    [Fact]
    public async Task A_clock_that_is_set_back_leaves_no_run_waiting_for_the_time_that_was_wrong()
    {
        var time = new MovableTime();
        await using var kit = await EngineKit.StartAsync(pace: 60, time: time);
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync();
        var connection = new FaultyConnection(kit, _ => false);
        kit.StartWorker(connection);
        await kit.UntilAsync(async () => (await RunAsync(kit))?.Progress is { Answered: true }, () => "a step is running");
        connection.IsSilent = _ => true;
        await kit.UntilAsync(() => Task.FromResult(connection.Failed > 0), () => "it is looked at");
        var looks = connection.Failed;
        time.Moved = TimeSpan.FromDays(-1);
        await kit.UntilAsync(() => Task.FromResult(connection.Failed > looks + 2), () => "it is looked at again and again");
    }

    /// <summary>How many restarts are gone through; 200 with <c>TEST_SEEDS=200</c>.</summary>
    private static readonly int Restarts = Seeds.Count(5);

    [Fact]
    public async Task Restarts_at_any_moment_leave_no_run_waiting_for_room_that_another_holds()
    {
        await Parallel.ForEachAsync(
            Enumerable.Range(1, Restarts),
            new ParallelOptions { MaxDegreeOfParallelism = 4, CancellationToken = Stop },
            async (seed, stop) =>
            {
                var random = new Random(seed);
                await using var kit = await EngineKit.StartAsync(pace: 20000);
                await kit.AddMachinesAsync(8);
                await kit.PlanAsync();
                for (var restart = 0; restart < 4; restart++)
                {
                    var stopped = kit.StartWorker();
                    await Task.Delay(random.Next(20, 700), stop);
                    await stopped.CancelAsync();
                }

                kit.StartWorker();
                await kit.WaitAsync(
                    members => members.All(m => m.Verified is not null || m.Status == Status.Parked),
                    $"seed {seed}: all are verified or wait for a decision"
                );
            }
        );
    }

    [Theory]
    [InlineData(0, 3600, 60)]
    [InlineData(10, 120, 11)]
    [InlineData(110, 120, 5.5)]
    [InlineData(1, 2, 2)]
    [InlineData(7200, 3600, 60)]
    public void A_step_is_looked_at_often_where_its_end_is_near_and_seldom_otherwise(double elapsed, double typical, double seconds) =>
        Assert.Equal(seconds, LookInterval.Running(TimeSpan.FromSeconds(elapsed), TimeSpan.FromSeconds(typical)).TotalSeconds, 6);

    [Theory]
    [InlineData(0, 0, 2)]
    [InlineData(60, 0, 30)]
    [InlineData(60, 240, 12)]
    [InlineData(480, 240, 96)]
    [InlineData(86400, 240, 120)]
    public void A_silent_machine_is_asked_the_more_seldom_the_longer_it_is_silent(double silence, double expected, double seconds) =>
        Assert.Equal(seconds, LookInterval.Silent(TimeSpan.FromSeconds(silence), TimeSpan.FromSeconds(expected)).TotalSeconds, 6);

    private static async Task<StoredRun?> RunAsync(EngineKit kit) => (await kit.Runs.ListAsync("small", Stop)).SingleOrDefault();

    /// <summary>Real time, moved by what is said.</summary>
    private sealed class MovableTime : TimeProvider
    {
        public TimeSpan Moved { get; set; }

        public override DateTimeOffset GetUtcNow() => base.GetUtcNow() + Moved;
    }

    /// <summary>The simulated machines over a connection with faults.</summary>
    private sealed class FaultyConnection(EngineKit kit, Func<string, bool> silent) : IConnection
    {
        private readonly SimulatedConnection _inner = new(kit.World, kit.Clock);
        private int _failed;

        public string Kind => _inner.Kind;

        /// <summary>Which machines do not answer for an order.</summary>
        public Func<string, bool> IsSilent { get; set; } = silent;

        /// <summary>How long it takes until that shows, real time.</summary>
        public TimeSpan Lasts { get; init; }

        /// <summary>The error's name.</summary>
        public string Name { get; init; } = "unreachable";

        /// <summary>The release from which on readings are incomplete.</summary>
        public string? IncompleteFrom { get; set; }

        /// <summary>How many calls failed or are about to.</summary>
        public int Failed => Volatile.Read(ref _failed);

        public async Task<IReadOnlyList<ScriptOutput>> ReadAsync(
            Machine machine,
            IReadOnlyList<string> scripts,
            IReadOnlyCollection<string> wanted,
            CancellationToken stop
        )
        {
            var read = await _inner.ReadAsync(machine, scripts, wanted, stop);
            return IncompleteFrom is { } from && read[0].Text.Contains($"os.version = {from}", StringComparison.Ordinal)
                ? [.. read.Select(r => new ScriptOutput("", "the script ended with status 137"))]
                : read;
        }

        public async Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop)
        {
            await ReachAsync(machine, stop);
            await _inner.PostAsync(machine, order, stop);
        }

        public async Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop)
        {
            await ReachAsync(machine, stop);
            // It does not say when to ask next, so it is looked at while a step is running.
            return await _inner.AskAsync(machine, order, stop) with { AskNext = null };
        }

        public Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop) =>
            _inner.OutputAsync(machine, order, from, stop);

        private async Task ReachAsync(Machine machine, CancellationToken stop)
        {
            if (!IsSilent(machine.Name))
                return;
            Interlocked.Increment(ref _failed);
            if (Lasts > TimeSpan.Zero)
                await Task.Delay(Lasts, stop);
            throw new ConnectionException(Name, $"{machine.Name} was switched off");
        }
    }
}
