using GrandStair.Core.Catalogue;
using GrandStair.Core.Runs;
using GrandStair.Storage.Runs;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Steps that list what a machine has, and compare it with what it had.</summary>
public sealed class RecordStepTests
{
    [Fact]
    public async Task What_is_lost_by_the_upgrade_becomes_a_follow_up_and_what_was_to_be_expected_does_not()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("truth.loses", "label-printer")]);
        await kit.PlanAsync(EngineKit.Plan);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
        var run = (await kit.StatesAsync()).Single();
        var left = Assert.Single(run.FollowUps);
        Assert.Equal(("compare.1.device-missing", "1 device is missing since the upgrade"), (left.Name, left.Title));
        Assert.Equal("device label-printer is missing (was ready)", left.Seen);
        var compared = await ComparedAsync(kit, run);
        Assert.Equal((0, 1, 1), (compared.CountOf(DifferenceResult.Fail), compared.CountOf(DifferenceResult.FollowUp), Ignored(compared)));
        var record = Assert.Single(await new RunRecordTable(kit.Database).OfAsync(run.Run, EngineKit.Stop));
        Assert.Equal((1, "record"), (record.Leg, record.Step));
        Assert.Contains(new RecordEntry("device", "label-printer", "ready"), record.Record.Entries);
    }

    [Fact]
    public async Task A_service_that_does_not_come_back_parks_the_run_until_it_is_there_or_somebody_accepts_it()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2, _ => [("truth.loses", "print-queue")]);
        await kit.PlanAsync(EngineKit.Plan);
        kit.StartWorker();
        await kit.UntilAsync(
            async () => (await kit.StatesAsync()) is [{ Parked: not null }, { Parked: not null }],
            () => "both comparisons park their runs"
        );
        var (first, second) = ((await kit.StatesAsync())[0], (await kit.StatesAsync())[1]);
        Assert.Equal("Compare with what was installed before: service print-queue is missing (was running)", first.Parked);
        Assert.Equal(2, first.Attempts["1/compare"]);
        Assert.Equal([Decision.Retry, Decision.Accept, Decision.RollBack, Decision.GiveUp], RunMachine.Possible(first));

        kit.World.PutBack("desk-1");
        var (fixedRun, acceptedRun) = first.Machine == 1 ? (first, second) : (second, first);
        await kit.RunCommands.DecideAsync(fixedRun.Run, Decision.Retry, "started it", false, new("planner"), EngineKit.Stop);
        await kit.RunCommands.DecideAsync(acceptedRun.Run, Decision.Accept, "it has no printer", false, new("planner"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "both are verified");
        var states = await kit.StatesAsync();
        Assert.Empty(states.Single(r => r.Run == fixedRun.Run).FollowUps);
        var accepted = Assert.Single(states.Single(r => r.Run == acceptedRun.Run).FollowUps);
        Assert.Equal("compare.1.accepted-service-missing", accepted.Name);
    }

    [Fact]
    public async Task A_service_that_is_killed_before_the_result_is_written_records_and_compares_again()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(3);
        await kit.PlanAsync(EngineKit.Plan);
        foreach (var step in new[] { "record", "compare" })
            await kit.WorkUntilAskedForAsync(step);

        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        Assert.All(await kit.StatesAsync(), r => Assert.Empty(r.FollowUps));
    }

    private static int Ignored(Compared compared) => compared.CountOf(DifferenceResult.Ignore);

    private static async Task<Compared> ComparedAsync(EngineKit kit, RunState run) =>
        (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<Compared>().Single();
}
