using GrandStair.Core.Runs;
using GrandStair.Storage.Media;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Steps that fetch media, and clean up before.</summary>
public sealed class MediaStepTests
{
    [Fact]
    public async Task Each_machine_fetches_the_variant_that_is_for_it()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2, i => [("os.edition", i == 1 ? "Bridge" : "Workplace")]);
        await kit.PlanAsync(EngineKit.Plan);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "both are verified");
        var runs = await kit.StatesAsync();
        Assert.Equal(
            [
                "brae-desktop-7.1.4-bridge.img fetched (2867 MiB); its SHA-256 matches: "
                    + "71961503175df53d98e275fecfc21efe7512717dc6a106d83614c6817859f55f",
                "brae-desktop-7.1.4.img fetched (2662 MiB); its SHA-256 matches: "
                    + "0357438ea5d2425e0dc2ce4efa1f3d0ab2ab940614428b1c109f27dd23b0b052",
            ],
            [await FetchedAsync(kit, runs.Single(r => r.Machine == 1)), await FetchedAsync(kit, runs.Single(r => r.Machine == 2))]
        );
    }

    [Fact]
    public async Task A_service_that_is_killed_before_the_result_is_written_does_not_fetch_clean_up_or_save_twice()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(3);
        await kit.PlanAsync(EngineKit.Plan);
        foreach (var step in new[] { "clean", "fetch-image", "save-settings" })
            await kit.WorkUntilAskedForAsync(step);

        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        foreach (var run in await kit.StatesAsync())
        {
            var ended = (await EndsAsync(kit, run)).Where(e => e.Order.Step is "clean" or "fetch-image" or "save-settings").ToArray();
            // One that failed, as a cut line, is tried again under another name; of each name there is one result.
            Assert.Equal(ended.Length, ended.Select(e => e.Order).Distinct().Count());
            Assert.Equal(3, ended.Count(e => e.Result == OrderResult.Ok));
        }
    }

    [Fact]
    public async Task What_a_machine_has_fetched_is_known_until_a_step_deletes_it()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2);
        await kit.PlanAsync(EngineKit.Plan);
        var staged = new StagedMediaTable(kit.Database);
        await staged.AddAsync(new(new(1), new('a', 64), "left-behind.img", kit.Clock.GetUtcNow()), EngineKit.Stop);
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "both are verified");
        Assert.Equal(
            [(1, "brae-desktop-7.1.4.img"), (2, "brae-desktop-7.1.4.img")],
            (await staged.AllAsync(EngineKit.Stop)).Select(s => ((int)s.Machine.Value, s.File)).Order()
        );
        // The last step of what follows the rollback period deletes the media.
        await kit.UntilAsync(async () => (await staged.AllAsync(EngineKit.Stop)).Count == 0, () => "no machine has media any more");
    }

    private static async Task<string> FetchedAsync(EngineKit kit, RunState run) =>
        (await EndsAsync(kit, run)).Last(e => e.Order.Step == "fetch-image").Note;

    private static async Task<IEnumerable<OrderEnded>> EndsAsync(EngineKit kit, RunState run) =>
        (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop)).Select(e => e.Event).OfType<OrderEnded>();
}
