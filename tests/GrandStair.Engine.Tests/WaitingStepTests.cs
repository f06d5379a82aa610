using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Steps that wait: for the machine, and for a person.</summary>
public sealed class WaitingStepTests
{
    private static readonly string MediaPlan =
        EngineKit.Plan.Replace("image-in-place", "carried-media", StringComparison.Ordinal)
        + "\ncrews: [{ name: shore, kind: terminal-it, hands: 2, zone: Europe/London, weekly: [\"Mon-Sun 00:00-00:00\"] }]\n";

    [Fact]
    public async Task A_machine_in_use_is_left_alone_until_it_is_too_late_and_gets_another_slot()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1, _ => [("truth.signed-in", "1")]);
        await kit.PlanAsync(EngineKit.Plan.Replace("00:00-00:00", "20:00-23:30", StringComparison.Ordinal));
        kit.StartWorker();
        await kit.UntilAsync(async () => (await kit.StatesAsync()) is [{ MissedSlots: 1 }], () => "its slot is missed");
        var run = (await kit.StatesAsync()).Single();
        var late = (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<OrderEnded>().Last();
        Assert.Equal((OrderResult.TooLate, "sessions.active = 1"), (late.Result, late.Note));
        Assert.Equal("on", (await kit.Fleet.AllAsync(EngineKit.Stop)).Values.Single().TextOf("disk.encryption"));

        kit.World.Set("desk-1", "truth.signed-in", "0");
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified in a later slot");
        var seen = (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<OrderEnded>();
        Assert.Contains(seen, e => e is { Order.Step: "nobody-signed-in", Result: OrderResult.Ok, Note: "sessions.active = 0" });
    }

    [Fact]
    public async Task A_person_is_asked_once_though_the_service_is_killed_meanwhile_and_their_answer_carries_the_run_on()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync(MediaPlan);
        await kit.WorkUntilAsync(r => r.AskedOfPerson is not null, "a person is asked");
        kit.StartWorker();
        var run = (await kit.StatesAsync()).Single();
        Assert.Equal(("media-bring", 1), (run.Outstanding!.Name.Step, run.Outstanding.Name.Attempt));
        Assert.Equal("terminal-it", run.AskedOfPerson!.Who);

        var elsewhere = await Assert.ThrowsAsync<RefusedException>(() =>
            kit.RunCommands.AnswerAsync(run.Run, "another-step", true, "", new("shore"), EngineKit.Stop)
        );
        Assert.Contains("asks by its step 'media-bring' now", elsewhere.Message, StringComparison.Ordinal);
        await kit.RunCommands.AnswerAsync(run.Run, "media-bring", true, "in the second port", new("shore"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");
        run = (await kit.StatesAsync()).Single();
        Assert.Equal(1, run.Attempts["1/media-bring"]);
        var again = await Assert.ThrowsAsync<RefusedException>(() =>
            kit.RunCommands.AnswerAsync(run.Run, null, true, "", new("shore"), EngineKit.Stop)
        );
        Assert.Equal("nothing-asked", again.Name);
    }

    [Fact]
    public async Task Whoever_cannot_do_it_parks_the_run_and_an_answer_that_comes_late_still_counts()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        await kit.PlanAsync(MediaPlan);
        kit.StartWorker();
        await kit.AskedAsync(2);
        var (first, second) = ((await kit.StatesAsync())[0], (await kit.StatesAsync())[1]);
        await kit.RunCommands.AnswerAsync(first.Run, null, false, "no port for it", new("shore"), EngineKit.Stop);
        await kit.UntilAsync(
            async () => (await kit.StatesAsync()).Single(r => r.Run == second.Run).Parked is not null,
            () => "the other one is given up"
        );
        var states = await kit.StatesAsync();
        Assert.Equal(
            "Bring the media and plug it in: shore says that it is not possible, no port for it",
            states.Single(r => r.Run == first.Run).Parked
        );
        Assert.Equal(
            "Bring the media and plug it in: waited for 3 d in vain; found: no answer from terminal-it",
            states.Single(r => r.Run == second.Run).Parked
        );
        // An answer that comes late still counts.
        await kit.RunCommands.AnswerAsync(second.Run, null, true, "", new("shore"), EngineKit.Stop);
        await kit.WaitAsync(members => members.Any(m => m.Verified is not null), "it is verified");
    }
}
