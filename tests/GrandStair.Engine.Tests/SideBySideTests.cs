using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Files.Catalogue;
using GrandStair.Storage.Plans;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Upgrades of a second machine, which then takes the first one's place.</summary>
public sealed class SideBySideTests
{
    private const string Plan = """
        plan: small
        target: { product: Lantern Ticketing, release: "12" }
        scope: lantern.version < 12
        methods: [side-run-time, side-by-side, side-store]
        waves: [{ name: All }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        limits: { all: 3, site: 2 }
        advance: { verified: 100 %, failures: 0, soak: 1 d }
        lead: 0 s
        """;

    [Fact]
    public async Task The_second_machine_is_upgraded_and_takes_over_though_the_service_is_killed_and_the_first_one_is_the_rollback()
    {
        await using var kit = await StartAsync(2);
        Assert.Equal("yes", (await MachineAsync(kit, 2)).Find(Successors.StandsBy)!.Value!.Show());
        Assert.Equal("desk-2", (await MachineAsync(kit, 1)).TextOf(Successors.Successor));
        await kit.PlanAsync(Plan);
        // The second machine is no member of its own.
        Assert.Equal(1, Assert.Single(await kit.Plans.MembersAsync("small", EngineKit.Stop)).Machine.Value);

        await kit.WorkUntilAsync(r => r.Attempts.ContainsKey("1/install-run-time"), "the run-time is installed");
        await kit.WorkUntilAsync(r => r.Attempts.ContainsKey("2/install"), "the application is installed");
        kit.StartWorker();
        await kit.AskedAsync(1);
        var run = (await kit.StatesAsync()).Single();
        Assert.Equal(2, run.Successor);
        Assert.Equal(["selling tickets"], run.SuspendedThings);
        Assert.True((await MachineAsync(kit, 1)).IsInService);
        await kit.RunCommands.AnswerAsync(run.Run, "trial", true, "sold and refunded", new("deck-it"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified");

        run = (await kit.StatesAsync()).Single();
        Assert.Equal((1, 1), (run.Attempts["1/install-run-time"], run.Attempts["2/install"]));
        var (old, next) = (await MachineAsync(kit, 1), await MachineAsync(kit, 2));
        Assert.Equal(("11.4", "11", "4"), (old.TextOf("lantern.version"), old.TextOf("lantern.runtime"), old.TextOf("lantern.store")));
        Assert.Equal(("12.0", "17", "5"), (next.TextOf("lantern.version"), next.TextOf("lantern.runtime"), next.TextOf("lantern.store")));
        Assert.Equal("desk-2", old.TextOf(Successors.ReplacedBy));
        Assert.Equal((false, true), (old.IsInService, next.IsInService));

        await kit.RunCommands.DecideAsync(run.Run, Decision.RollBack, "tills are slow", atOnce: true, new("planner"), EngineKit.Stop);
        await kit.UntilAsync(async () => (await kit.StatesAsync())[0].Outcome == Outcome.RolledBack, () => "it is rolled back");
        (old, next) = (await MachineAsync(kit, 1), await MachineAsync(kit, 2));
        Assert.Equal((true, false), (old.IsInService, next.IsInService));
    }

    [Fact]
    public async Task Without_a_second_machine_the_gate_says_what_to_do_and_one_that_comes_later_opens_it()
    {
        await using var kit = await StartAsync(1);
        await kit.PlanAsync(Plan);
        kit.StartWorker();
        await kit.WaitAsync(members => members is [{ Status: Core.Outcomes.Status.NotReady }], "it is not ready");
        var why = (await kit.Plans.MembersAsync("small", EngineKit.Stop)).Single().Why;
        Assert.Contains("Its second machine is known", why, StringComparison.Ordinal);
        await kit.AddMachinesAsync(2, Ticketing);
        await kit.AskedAsync(1);
        var successor = (await kit.StatesAsync()).Single().Successor!.Value;
        Assert.Equal("desk-2", (await kit.Fleet.AllAsync(EngineKit.Stop))[new(successor)].Name);
    }

    private static async Task<EngineKit> StartAsync(int machines)
    {
        var kit = await EngineKit.StartAsync();
        var files = CatalogueFolder.Load(Path.Combine(Repository.Root, "catalogue", "lantern-ticketing"));
        var content = new CatalogueContent(CatalogueFolder.Hash(files), "Lantern Ticketing", files);
        await kit.CatalogueCache.LoadAsync([content], kit.Clock.GetUtcNow(), EngineKit.Stop);
        await kit.CatalogueCache.ApproveAsync(
            content.Product,
            content.Hash,
            "read",
            new("approver"),
            kit.Clock.GetUtcNow(),
            EngineKit.Stop
        );
        await kit.AddMachinesAsync(machines, Ticketing);
        return kit;
    }

    private static (string, string)[] Ticketing(int machine) =>
        [
            ("os.product", "Debian"),
            ("os.version", "12"),
            ("os.build", "12.8"),
            ("disk.system.free", "44 GiB"),
            ("lantern.version", "11.4"),
            ("lantern.runtime", "11"),
            ("lantern.store", "4"),
            ("lantern.account", "owner"),
            ("replaces", machine == 2 ? "desk-1" : "-"),
        ];

    private static async Task<Machine> MachineAsync(EngineKit kit, int number) => (await kit.Fleet.AllAsync(EngineKit.Stop))[new(number)];
}
