using GrandStair.Connections;
using GrandStair.Connections.Simulation;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Steps that patch until nothing is left, and steps that suspend and resume something.</summary>
public sealed class PatchStepTests
{
    [Fact]
    public async Task A_machine_is_patched_in_rounds_until_nothing_is_left_and_restarted_after_each()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(4);
        await kit.PlanAsync(EngineKit.Plan);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        foreach (var run in await kit.StatesAsync())
        {
            var parts = (await PartsAsync(kit, run)).ToArray();
            Assert.StartsWith("patches.pending = 0", parts[^1].Note, StringComparison.Ordinal);
            var rounds = parts[^1].Patch!.Round;
            Assert.InRange(rounds, 0, 2);
            Assert.Equal(
                [
                    .. Enumerable.Repeat(new[] { PatchPart.Look, PatchPart.Script, PatchPart.Restart }, rounds).SelectMany(p => p),
                    PatchPart.Look,
                ],
                parts.Select(p => p.Patch!.Part)
            );
            Assert.All(parts[..^1], p => Assert.Equal(p.Patch!.Part == PatchPart.Look ? OrderResult.NotYet : OrderResult.Ok, p.Result));
        }

        Assert.Contains(await kit.StatesAsync(), r => r.Attempts["1/patch"] > 1);
    }

    [Fact]
    public async Task Where_the_plan_takes_patches_during_the_upgrade_nothing_is_left_to_patch_after_it()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(4);
        await kit.PlanAsync($"{EngineKit.Plan}\npatches: during");
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        foreach (var run in await kit.StatesAsync())
            Assert.Equal([PatchPart.Look], (await PartsAsync(kit, run)).Select(p => p.Patch!.Part));
    }

    [Fact]
    public async Task A_service_that_is_killed_in_any_part_of_a_round_goes_on_there_and_repeats_nothing()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(6);
        await kit.PlanAsync(EngineKit.Plan);
        await KillWhileItLooksAsync(kit);
        foreach (var part in new[] { PatchPart.Script, PatchPart.Restart })
            await kit.WorkUntilAsync(r => r.Patch?.Part == part, $"a patching step is at its part '{part}'");

        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        foreach (var run in await kit.StatesAsync())
        {
            var parts = (await PartsAsync(kit, run)).ToArray();
            Assert.Equal(parts.Length, parts.Select(p => p.Order).Distinct().Count());
            Assert.Equal(parts[^1].Patch!.Round, parts.Count(p => p is { Patch.Part: PatchPart.Script, Result: OrderResult.Ok }));
        }
    }

    [Fact]
    public async Task What_is_suspended_is_resumed_though_the_service_is_killed_after_either()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        await kit.PlanAsync(EngineKit.Plan);
        await kit.WorkUntilAskedForAsync("suspend-protection");
        Assert.Contains(await kit.StatesAsync(), r => r.SuspendedThings is ["disk encryption"]);
        await kit.WorkUntilAskedForAsync("resume-protection");
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "both are verified");
        Assert.All(await kit.StatesAsync(), r => Assert.Empty(r.SuspendedThings));
        Assert.All((await kit.Fleet.AllAsync(EngineKit.Stop)).Values, m => Assert.Equal("on", m.TextOf("disk.encryption")));
    }

    /// <summary>Works until a machine is read for whether anything is left to patch, as a service does that is killed then.</summary>
    private static async Task KillWhileItLooksAsync(EngineKit kit)
    {
        var connection = new DeadlyConnection(new SimulatedConnection(kit.World, kit.Clock));
        connection.Worker = kit.StartWorker(connection);
        await kit.UntilAsync(() => Task.FromResult(connection.Worker.IsCancellationRequested), () => "a patching step looks");
        await kit.EndedAsync();
        Assert.Contains(await kit.StatesAsync(), r => r.Patch is { Part: PatchPart.Look, Round: 0 });
    }

    private static async Task<IEnumerable<OrderEnded>> PartsAsync(EngineKit kit, RunState run) =>
        (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<OrderEnded>().Where(e => e.Order.Step == "patch");

    /// <summary>Kills its worker when that reads whether anything is left to patch.</summary>
    private sealed class DeadlyConnection(IConnection inner) : IConnection
    {
        public CancellationTokenSource? Worker { get; set; }

        public string Kind => inner.Kind;

        public async Task<IReadOnlyList<ScriptOutput>> ReadAsync(
            Machine machine,
            IReadOnlyList<string> scripts,
            IReadOnlyCollection<string> wanted,
            CancellationToken stop
        )
        {
            if (wanted.SequenceEqual(["patches.pending"]))
                await Worker!.CancelAsync();
            stop.ThrowIfCancellationRequested();
            return await inner.ReadAsync(machine, scripts, wanted, stop);
        }

        public Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop) => inner.PostAsync(machine, order, stop);

        public Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop) => inner.AskAsync(machine, order, stop);

        public Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop) =>
            inner.OutputAsync(machine, order, from, stop);
    }
}
