using GrandStair.Core.Access;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Plans that are running at once, and machines that depend on one another.</summary>
public class SharedPlansTests
{
    private static string Body(string name, string scope, string waves = "[{ name: All }]") =>
        EngineKit
            .Plan.Replace("plan: small", $"plan: {name}", StringComparison.Ordinal)
            .Replace("and os.version < 7", $"and os.version < 7 and ({scope})", StringComparison.Ordinal)
            .Replace("[{ name: All }]", waves, StringComparison.Ordinal)
            .Replace("limits: { all: 3, site: 2 }", "limits: { all: 3, site: 1 }", StringComparison.Ordinal);

    [Fact]
    public async Task Two_plans_at_one_site_have_no_more_machines_running_there_than_one_may()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(6);
        await kit.PlanAsync(Body("small", "name in (desk-1, desk-2, desk-3)"));
        await kit.PlanAsync(Body("second", "name in (desk-4, desk-5, desk-6)"), "second");
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "the first plan is through");
        await WaitForSecondAsync(kit);

        var runs = new List<(string Site, DateTimeOffset From, DateTimeOffset To)>();
        var machines = await kit.Fleet.AllAsync(EngineKit.Stop);
        foreach (var run in (await kit.Runs.ListAsync(null, EngineKit.Stop)).Select(r => r.State))
            runs.Add((machines[new(run.Machine)].Site, await OpenedAsync(kit, run.Run), run.Verified!.Value));
        Assert.Equal(6, runs.Count);
        foreach (var site in runs.GroupBy(r => r.Site))
        {
            var inOrder = site.OrderBy(r => r.From).ToArray();
            Assert.All(inOrder.Zip(inOrder.Skip(1)), next =>
                Assert.True(next.Second.From >= next.First.To, $"two at {site.Key} at {next.Second.From:u}")
            );
        }
    }

    [Fact]
    public async Task A_machine_is_in_one_plan_that_has_started_at_a_time()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(3);
        await kit.PlanAsync();
        var draft = await kit.Writer.CreateAsync(Body("second", "name = desk-2"), new("planner"), SiteScope.All, EngineKit.Stop);
        Assert.Contains(
            "1 machine is still to be upgraded by plan 'small', which has started: desk-2",
            Assert.Single(draft.NoEffect),
            StringComparison.Ordinal
        );
        var refused = await Assert.ThrowsAsync<RefusedException>(() => kit.Commands.StartAsync("second", new("planner"), EngineKit.Stop));
        Assert.Equal("machines-shared", refused.Name);

        // Exempt there, it may go here.
        await kit.Commands.ExemptAsync(
            "small",
            (await kit.Fleet.FindAsync("desk-2", EngineKit.Stop))!,
            Exemption.Stays,
            "goes by another plan",
            new(2027, 6, 1),
            new("planner"),
            EngineKit.Stop
        );
        await kit.Acknowledgements.AcknowledgeAsync(
            (await kit.Plans.FindAsync("second", EngineKit.Stop))!,
            null,
            "read",
            new("planner"),
            EngineKit.Stop
        );
        await kit.Commands.StartAsync("second", new("planner"), EngineKit.Stop);
        Assert.Equal(PlanStatus.Started, (await kit.Plans.FindAsync("second", EngineKit.Stop))!.State);
    }

    [Fact]
    public async Task A_machine_goes_in_the_wave_of_what_it_depends_on_and_only_when_that_is_verified()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2, i => i == 2 ? [(Dependents.HangsOn, "desk-1")] : []);
        var draft = await kit.Writer.DraftAsync(
            Body("small", "name is known", "[{ name: Pilot, machines: [desk-2] }, { name: Rest }]"),
            SiteScope.All,
            EngineKit.Stop
        );
        Assert.All(draft.Members, m => Assert.Equal(2, m.Wave));
        Assert.Equal(
            "desk-2 would be in wave Pilot and goes in Rest: desk-2 depends on desk-1, which goes then.",
            Assert.Single(draft.NoEffect)
        );

        await kit.PlanAsync(Body("small", "name is known", "[{ name: First }, { name: Second, machines: [] }]"));
        var plan = (await kit.Plans.FindAsync("small", EngineKit.Stop))!;
        var on = (await kit.Fleet.FindAsync("desk-1", EngineKit.Stop))!;
        var refused = await Assert.ThrowsAsync<RefusedException>(() =>
            kit.Writer.MoveAsync(plan, on, "Second", "later", new("planner"), EngineKit.Stop)
        );
        Assert.Equal("desk-2 depends on desk-1 and cannot go in an earlier wave; move desk-2 first.", refused.Message);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "both are through");
        var (first, second) = (
            (await kit.StatesAsync()).Single(r => r.Machine == on.Id.Value),
            (await kit.StatesAsync()).Single(r => r.Machine != on.Id.Value)
        );
        Assert.True(await OpenedAsync(kit, second.Run) >= first.Verified, "desk-2 began before desk-1 was verified");
    }

    private static Task WaitForSecondAsync(EngineKit kit) =>
        kit.UntilAsync(
            async () => (await kit.Plans.MembersAsync("second", EngineKit.Stop)).All(m => m.Verified is not null),
            () => "the second plan is through"
        );

    private static async Task<DateTimeOffset> OpenedAsync(EngineKit kit, long run) =>
        (await kit.Runs.EventsAsync(run, EngineKit.Stop)).Select(e => e.Event).OfType<SlotOpened>().First().At;
}
