using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Links;
using GrandStair.Links.StandIns;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>The simulated machines behave as the real ones do: they go on by themselves, do an attempt once, and refuse old claims.</summary>
public sealed class StandInTests : IDisposable
{
    private static readonly Dictionary<string, string> Truth = new() { ["os.version"] = "6", ["disk.system.free"] = "60 GiB", ["network.rate"] = "100 Mbit/s", ["boot.id"] = "1", ["offer.release"] = "-", ["power.mains"] = "?", ["truth.slowness"] = "1" };
    private static readonly Machine Desk = new() { Id = new(1), Name = "desk-1", Link = new("stand-in", "", 22, "root", null) };

    private readonly string _folder = Directory.CreateTempSubdirectory("grandstair-world-").FullName;
    private readonly ManualClock _clock = new();
    private readonly StandInWorld _world;
    private readonly StandInLink _link;

    public StandInTests()
    {
        _world = new(Path.Combine(_folder, "world.db"));
        _world.Add([("desk-1", Truth)]);
        _link = new(_world, _clock);
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
        await _link.PostAsync(Desk, order, Stop);
        Assert.Equal(OrderState.UnderWay, (await _link.AskAsync(Desk, order.Name, Stop)).State);
        Assert.DoesNotContain("driver.printer", await ReadAsync(Desk), StringComparison.Ordinal);
        _clock.Pass(TimeSpan.FromMinutes(10));
        // Another process opens the same world: it finds the work done.
        var other = new StandInLink(new(Path.Combine(_folder, "world.db")), _clock);
        Assert.Equal((OrderState.Ended, (int?)0), ((await other.AskAsync(Desk, order.Name, Stop)).State, (await other.AskAsync(Desk, order.Name, Stop)).Exit));
        Assert.Contains("driver.printer = 4.2", (await other.ReadAsync(Desk, [], [], Stop))[0].Text, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_same_attempt_is_done_once_and_a_lower_epoch_is_refused()
    {
        var order = Order(2, "set a 1", epoch: 4);
        await _link.PostAsync(Desk, order, Stop);
        var ends = (await _link.AskAsync(Desk, order.Name, Stop)).AskAgain;
        _clock.Pass(TimeSpan.FromSeconds(20));
        await _link.PostAsync(Desk, order, Stop);
        Assert.Equal(ends, (await _link.AskAsync(Desk, order.Name, Stop)).AskAgain);
        var refused = await Assert.ThrowsAsync<LinkException>(() => _link.PostAsync(Desk, Order(2, "set a 2", epoch: 3, step: "later"), Stop));
        Assert.Equal("epoch", refused.Name);
        Assert.Equal(OrderState.Unseen, (await _link.AskAsync(Desk, new(2, 1, "later", 1), Stop)).State);
    }

    [Fact]
    public async Task It_does_not_answer_while_it_starts_anew_and_has_another_boot_id_then()
    {
        var restart = new PostedOrder(new(3, 1, "restart", 1), 1, StepKind.Restart, "", new Dictionary<string, string>());
        await _link.PostAsync(Desk, restart, Stop);
        Assert.Equal("unreachable", (await Assert.ThrowsAsync<LinkException>(() => _link.AskAsync(Desk, restart.Name, Stop))).Name);
        _clock.Pass(TimeSpan.FromMinutes(20));
        Assert.Equal(OrderState.Ended, (await _link.AskAsync(Desk, restart.Name, Stop)).State);
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
            var order = new PostedOrder(new(100 + i, 1, "apply", 1), 1, StepKind.Script, "apply image 7 7.1.4", new Dictionary<string, string>());
            await _link.PostAsync(machine, order, Stop);
            _clock.Pass(TimeSpan.FromHours(5));
            var standing = await _link.AskAsync(machine, order.Name, Stop);
            if (standing is { Exit: 31 } && standing.Note.EndsWith("printer driver 4.1 did not load", StringComparison.Ordinal)) failed++;
            Assert.Equal(standing.Exit == 0 ? "7" : "6", (await ReadAsync(machine)).Split('\n').Single(l => l.StartsWith("os.version", StringComparison.Ordinal))[^1..]);
        }

        Assert.InRange(failed, 14, 27);
    }

    [Fact]
    public async Task A_machine_that_is_not_there_is_told() =>
        Assert.Contains("no stand-in named ghost", (await Assert.ThrowsAsync<LinkException>(() => _link.ReadAsync(Desk with { Name = "ghost" }, [], [], Stop))).Message, StringComparison.Ordinal);

    private static PostedOrder Order(long run, string script, long epoch = 1, string step = "do") => new(new(run, 1, step, 1), epoch, StepKind.Script, script, new Dictionary<string, string>());

    private sealed class ManualClock : TimeProvider
    {
        private DateTimeOffset _now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);

        public void Pass(TimeSpan time) => _now += time;

        public override DateTimeOffset GetUtcNow() => _now;
    }

    private async Task<string> ReadAsync(Machine machine) => string.Join('\n', (await _link.ReadAsync(machine, [], [], Stop)).Select(o => o.Text));
}
