using GrandStair.Connections;
using GrandStair.Connections.Simulation;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>
/// The simulated machines behave as the real ones do: they go on by themselves, do an attempt once, and refuse old claims.
/// </summary>
public sealed class SimulatedMachineTests : IDisposable
{
    private static readonly Dictionary<string, string> Truth = new()
    {
        ["os.version"] = "6",
        ["disk.system.free"] = "60 GiB",
        ["network.rate"] = "100 Mbit/s",
        ["boot.id"] = "1",
        ["offer.release"] = "-",
        ["power.mains"] = "?",
        ["truth.slowness"] = "1",
    };
    private static readonly Machine Desk = new()
    {
        Id = new(1),
        Name = "desk-1",
        Connection = new("simulated", "", 22, "root", null),
    };

    private readonly string _folder = Directory.CreateTempSubdirectory("grandstair-world-").FullName;
    private readonly ManualClock _clock = new();
    private readonly SimulatedMachines _world;
    private readonly SimulatedConnection _connection;

    public SimulatedMachineTests()
    {
        _world = new(Path.Combine(_folder, "world.db"));
        _world.Add([("desk-1", Truth)]);
        _connection = new(_world, _clock);
    }

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    public void Dispose() => Directory.Delete(_folder, recursive: true);

    [Fact]
    public async Task It_tells_what_can_be_seen_and_nothing_that_only_it_knows()
    {
        var lines = (await ReadAsync(Desk)).Split('\n');
        Assert.Contains("os.version = 6", lines);
        Assert.Contains("offer.release is absent", lines);
        Assert.Contains(lines, l => l.StartsWith("power.mains is unreadable: ", StringComparison.Ordinal));
        Assert.DoesNotContain(lines, l => l.StartsWith("truth", StringComparison.Ordinal));
    }

    [Fact]
    public async Task An_order_takes_its_time_and_its_effect_comes_at_its_end_whoever_watches()
    {
        var order = Order(1, "set driver.printer 4.2");
        await _connection.PostAsync(Desk, order, Stop);
        Assert.Equal(OrderState.Running, (await _connection.AskAsync(Desk, order.Name, Stop)).State);
        Assert.DoesNotContain("driver.printer", await ReadAsync(Desk), StringComparison.Ordinal);
        _clock.Pass(TimeSpan.FromMinutes(10));
        // Another process opens the same world: it finds the work done.
        var other = new SimulatedConnection(new(Path.Combine(_folder, "world.db")), _clock);
        Assert.Equal(
            (OrderState.Ended, (int?)0),
            ((await other.AskAsync(Desk, order.Name, Stop)).State, (await other.AskAsync(Desk, order.Name, Stop)).Exit)
        );
        Assert.Contains("driver.printer = 4.2", (await other.ReadAsync(Desk, [], [], Stop))[0].Text, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_same_attempt_is_done_once_and_a_lower_epoch_is_refused()
    {
        var order = Order(2, "set a 1", epoch: 4);
        await _connection.PostAsync(Desk, order, Stop);
        var ends = (await _connection.AskAsync(Desk, order.Name, Stop)).AskNext;
        _clock.Pass(TimeSpan.FromSeconds(20));
        await _connection.PostAsync(Desk, order, Stop);
        Assert.Equal(ends, (await _connection.AskAsync(Desk, order.Name, Stop)).AskNext);
        var refused = await Assert.ThrowsAsync<ConnectionException>(() =>
            _connection.PostAsync(Desk, Order(2, "set a 2", epoch: 3, step: "later"), Stop)
        );
        Assert.Equal("epoch", refused.Name);
        Assert.Equal(OrderState.Unseen, (await _connection.AskAsync(Desk, new(2, 1, "later", 1), Stop)).State);
    }

    [Fact]
    public async Task It_does_not_answer_while_it_starts_anew_and_has_another_boot_id_then()
    {
        var restart = new PostedOrder(new(3, 1, "restart", 1), 1, StepKind.Restart, "", new Dictionary<string, string>());
        await _connection.PostAsync(Desk, restart, Stop);
        Assert.Equal(
            "unreachable",
            (await Assert.ThrowsAsync<ConnectionException>(() => _connection.AskAsync(Desk, restart.Name, Stop))).Name
        );
        _clock.Pass(TimeSpan.FromMinutes(20));
        Assert.Equal(OrderState.Ended, (await _connection.AskAsync(Desk, restart.Name, Stop)).State);
        Assert.DoesNotContain("boot.id = 1\n", await ReadAsync(Desk), StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_known_bad_driver_makes_most_attempts_fail_and_says_so_at_the_end()
    {
        var failed = 0;
        for (var i = 1; i <= 30; i++)
        {
            _world.Add([($"bad-{i}", new Dictionary<string, string>(Truth) { ["driver.printer"] = "4.1" })]);
            var machine = Desk with { Name = $"bad-{i}" };
            var order = new PostedOrder(
                new(100 + i, 1, "apply", 1),
                1,
                StepKind.Script,
                "apply image 7 7.1.4",
                new Dictionary<string, string>()
            );
            await _connection.PostAsync(machine, order, Stop);
            _clock.Pass(TimeSpan.FromHours(5));
            var status = await _connection.AskAsync(machine, order.Name, Stop);
            if (status is { Exit: 31 } && status.Note.EndsWith("printer driver 4.1 did not load", StringComparison.Ordinal))
                failed++;
            Assert.Equal(
                status.Exit == 0 ? "7" : "6",
                (await ReadAsync(machine)).Split('\n').Single(l => l.StartsWith("os.version", StringComparison.Ordinal))[^1..]
            );
        }

        Assert.InRange(failed, 14, 27);
    }

    [Fact]
    public async Task A_machine_that_is_not_there_is_told() =>
        Assert.Contains(
            "no simulated machine named ghost",
            (
                await Assert.ThrowsAsync<ConnectionException>(() => _connection.ReadAsync(Desk with { Name = "ghost" }, [], [], Stop))
            ).Message,
            StringComparison.Ordinal
        );

    private static PostedOrder Order(long run, string script, long epoch = 1, string step = "do") =>
        new(new(run, 1, step, 1), epoch, StepKind.Script, script, new Dictionary<string, string>());

    private sealed class ManualClock : TimeProvider
    {
        private DateTimeOffset _now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);

        public void Pass(TimeSpan time) => _now += time;

        public override DateTimeOffset GetUtcNow() => _now;
    }

    private async Task<string> ReadAsync(Machine machine) =>
        string.Join('\n', (await _connection.ReadAsync(machine, [], [], Stop)).Select(o => o.Text));
}
