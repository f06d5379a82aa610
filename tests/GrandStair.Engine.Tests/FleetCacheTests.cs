using GrandStair.Core.Access;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>The fleet in memory: searches see every change, and never wait for one another.</summary>
public sealed class FleetCacheTests
{
    private static CancellationToken Stop => EngineKit.Stop;

    [Fact]
    public async Task A_search_waits_for_no_other_search_and_sees_what_has_changed_meanwhile()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        using var free = new ManualResetEventSlim();
        var slow = new List<Task<int>>();
        for (var machines = 2; machines <= 4; machines++)
        {
            // Each slow search reads an older state than the one after it.
            await kit.AddMachinesAsync(machines);
            slow.Add(await BeginSlowAsync(kit, free));
            Assert.Equal(machines, await CountAsync(kit));
        }

        Assert.All(slow, s => Assert.False(s.IsCompleted));
        // With all copies in use, one that is out of date has to be returned first.
        await kit.AddMachinesAsync(5);
        var waiting = CountAsync(kit);
        await Task.WhenAny(waiting, Task.Delay(300, Stop));
        Assert.False(waiting.IsCompleted);
        free.Set();
        Assert.Equal(5, await waiting);
        var seen = await Task.WhenAll(slow);
        Assert.Equal([2, 3, 4], seen);
    }

    [Fact]
    public async Task Whoever_asks_after_a_change_sees_it_however_many_ask_at_once()
    {
        await using var kit = await EngineKit.StartAsync();
        using var enough = CancellationTokenSource.CreateLinkedTokenSource(Stop);
        var asked = 0;
        async Task AskAsync()
        {
            for (; !enough.IsCancellationRequested; Interlocked.Increment(ref asked))
                await kit.Fleet.AllAsync(Stop);
        }

        var others = Enumerable.Range(0, 16).Select(_ => Task.Run(AskAsync)).ToArray();
        for (var machines = 1; machines <= 25; machines++)
        {
            await kit.AddMachinesAsync(machines);
            Assert.Equal(machines, (await kit.Fleet.AllAsync(Stop)).Count);
        }

        await enough.CancelAsync();
        await Task.WhenAll(others);
        Assert.True(asked > 25, $"{asked} others asked");
    }

    [Fact]
    public async Task An_answer_is_kept_until_a_machine_changes()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(3);
        var first = await MatchingAsync(kit);
        Assert.Same(first, await MatchingAsync(kit));
        await kit.AddMachinesAsync(4);
        var second = await MatchingAsync(kit);
        Assert.Equal(["desk-1", "desk-2", "desk-3", "desk-4"], second.Select(m => m.Name));
    }

    /// <summary>A search whose evaluation goes on until it is let go; it has begun when this returns.</summary>
    private static async Task<Task<int>> BeginSlowAsync(EngineKit kit, ManualResetEventSlim free)
    {
        var begun = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        var search = Task.Run(() =>
            kit.Fleet.ColumnsAsync(
                columns =>
                {
                    begun.SetResult();
                    free.Wait(Stop);
                    return columns.Count;
                },
                Stop
            )
        );
        await begun.Task;
        return search;
    }

    private static async Task<int> CountAsync(EngineKit kit) => (await MatchingAsync(kit)).Count;

    private static async Task<IReadOnlyList<Machine>> MatchingAsync(EngineKit kit)
    {
        var condition = ConditionParser.Parse("name like \"desk-*\"", KeyRegistry.BuiltIn);
        return (await kit.Fleet.MatchingAsync(condition, SiteScope.All, kit.Clock.GetUtcNow(), Stop)).Matching;
    }
}
