using System.Text;
using GrandStair.Connections;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Runs;
using GrandStair.Engine.Secrets;
using GrandStair.Storage.Runs;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>What scripts print is kept whole.</summary>
public sealed class OutputTests
{
    private static readonly StepSpec Step = new(
        "apply",
        "Apply",
        Phase.Apply,
        StepKind.Script,
        "apply.sh",
        TimeSpan.FromMinutes(1),
        TimeSpan.FromHours(1)
    )
    {
        Secrets = ["pass"],
    };

    [Fact]
    public async Task All_that_steps_printed_is_kept_though_the_service_is_killed_meanwhile()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        await kit.PlanAsync(EngineKit.Plan);
        var table = new RunOutputTable(kit.Database);
        await kit.WorkUntilAskedForAsync("apply-image");
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "both are verified");
        foreach (var run in await kit.StatesAsync())
        {
            var ends = (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<OrderEnded>().ToArray();
            var kept = await table.OfAsync(run.Run, EngineKit.Stop);
            // A restart and what only reads print nothing.
            Assert.Equal(
                ends.Where(e => e is { Lasted: not null, Order.Step: not "restart" } && e.Patch?.Part != PatchPart.Restart)
                    .Select(e => e.Order),
                kept.Select(k => k.Order)
            );
            foreach (var output in kept)
            {
                var lines = OutputText.Lines(await table.TextAsync(output.Order, EngineKit.Stop)).ToArray();
                var ended = ends.Single(e => e.Order == output.Order);
                Assert.EndsWith(ended.Note.Split('\n')[^1], lines[^1], StringComparison.Ordinal);
                Assert.Equal(20 + ended.Note.Split('\n').Length, lines.Length);
            }
        }
    }

    [Fact]
    public async Task Secrets_are_hidden_wherever_a_piece_ends_and_what_is_too_much_is_cut()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync(EngineKit.Plan);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Run is not null), "its run is open");
        var table = new RunOutputTable(kit.Database);
        var outputs = new StepOutputs(table, new OneSecret(), TimeProvider.System);
        var machine = (await kit.Fleet.AllAsync(EngineKit.Stop)).Values.Single();
        var order = new OrderName(1, 1, "apply", 1);
        var printer = new Printer(string.Concat(Enumerable.Range(1, 40_000).Select(i => $"{i} opened with s3cret-word\n")));

        var running = new OrderStatus(OrderState.Running, null, null, "") { Printed = printer.Bytes.Length };
        var kept = await outputs.KeepAsync(printer, machine, order, Step, running, null, EngineKit.Stop);
        Assert.InRange(kept, 3 * OrderStatus.MostOfOutput, printer.Bytes.Length - 1);
        // The service is killed, and does not know how far it was.
        var ended = running with { State = OrderState.Ended, Exit = 0 };
        Assert.Equal(printer.Bytes.Length, await outputs.KeepAsync(printer, machine, order, Step, ended, null, EngineKit.Stop));
        var lines = OutputText.Lines(await table.TextAsync(order, EngineKit.Stop)).ToArray();
        Assert.Equal(Enumerable.Range(1, 40_000).Select(i => $"{i} opened with (pass)"), lines);
        Assert.Equal(
            "asked for (pass)",
            (await outputs.MaskAsync(ended with { Note = "asked for s3cret-word" }, Step, EngineKit.Stop)).Note
        );

        var endless = new Printer(new string('x', (int)OutputText.Most + 100));
        var most = ended with { Printed = endless.Bytes.Length };
        Assert.Equal(
            OutputText.Most,
            await outputs.KeepAsync(endless, machine, order with { Attempt = 2 }, Step, most, null, EngineKit.Stop)
        );
    }

    private sealed class OneSecret : ISecrets
    {
        public Task<string> OfAsync(string name, CancellationToken stop) => Task.FromResult("s3cret-word");
    }

    /// <summary>A machine that has printed something.</summary>
    private sealed class Printer(string text) : IConnection
    {
        public byte[] Bytes { get; } = Encoding.UTF8.GetBytes(text);

        public string Kind => "printer";

        public Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop) =>
            Task.FromResult(Bytes.AsSpan((int)from, (int)Math.Min(OrderStatus.MostOfOutput, Bytes.Length - from)).ToArray());

        public Task<IReadOnlyList<ScriptOutput>> ReadAsync(
            Machine machine,
            IReadOnlyList<string> scripts,
            IReadOnlyCollection<string> wanted,
            CancellationToken stop
        ) => throw new NotSupportedException("It only prints.");

        public Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop) =>
            throw new NotSupportedException("It only prints.");

        public Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop) =>
            throw new NotSupportedException("It only prints.");
    }
}
