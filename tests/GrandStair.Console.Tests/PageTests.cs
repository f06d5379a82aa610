using System.Text.RegularExpressions;
using GrandStair.Testing;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>Pages that lead on: lists that are long, readings with their past, files that are carried away.</summary>
public sealed class PageTests(ConsoleFixture demo) : IClassFixture<ConsoleFixture>
{
    private const string Plan = "winter-crossing";

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_long_fleet_is_fetched_part_by_part_down_to_its_last_machine()
    {
        var page = await demo.OpenAsync("/fleet");
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("283 machines");
        var rows = page.Locator(".grid-table");
        await Assertions.Expect(rows).ToHaveAttributeAsync("aria-rowcount", "200");
        var list = page.GetByRole(AriaRole.Region, new() { Name = "Machines" });
        await list.EvaluateAsync("box => box.scrollTo(0, box.scrollHeight)");
        await Assertions.Expect(rows).ToHaveAttributeAsync("aria-rowcount", "283");
        await list.EvaluateAsync("box => box.scrollTo(0, box.scrollHeight)");
        var last = (await demo.Service.Client.MachinesAsync(null, 1000, Stop)).Items[^1].Name;
        await Assertions.Expect(page.Locator(".grid-row", new() { HasText = last })).ToBeVisibleAsync();
        await page.Locator(".grid-row", new() { HasText = last }).GetByRole(AriaRole.Link).First.ClickAsync();
        await Assertions.Expect(page.Locator("h1 code")).ToHaveTextAsync(last);
    }

    [Fact]
    public async Task A_reading_shows_its_past_and_a_machine_s_pack_for_the_vendor_is_carried_away()
    {
        var machine = (await demo.Service.Client.MembersAsync(Plan, "verified", null, null, 10, Stop)).Items[0].Name;
        var page = await demo.OpenAsync($"/machines/{machine}");
        var version = page.Locator("tr", new() { HasText = "os.version" });
        await version.GetByRole(AriaRole.Button).ClickAsync();
        // It ran 6 before it was verified on 7.
        await Assertions.Expect(version.Locator(".history li").First).ToContainTextAsync("7");
        await Assertions.Expect(version.Locator(".history li").Last).ToContainTextAsync("6");
        await version.GetByRole(AriaRole.Button).ClickAsync();
        await Assertions.Expect(version.Locator(".history")).ToHaveCountAsync(0);
        var download = await page.RunAndWaitForDownloadAsync(() =>
            page.GetByRole(AriaRole.Link, new() { Name = "Download support bundle" }).ClickAsync()
        );
        using var pack = System.IO.Compression.ZipFile.OpenRead(await download.PathAsync());
        Assert.Contains(pack.Entries, e => e.Length > 500 && e.FullName.EndsWith(".html", StringComparison.Ordinal));
        await page.GetByRole(AriaRole.Link, new() { NameRegex = new("^run r") }).First.ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new Regex("/runs/r[0-9]+$"));
    }

    [Fact]
    public async Task Runs_are_counted_by_status_and_each_count_leads_to_its_runs()
    {
        var page = await demo.OpenAsync("/runs");
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("running");
        // Which there are changes while they go on.
        var first = page.Locator(".targets a").Nth(1);
        var status = (await first.GetAttributeAsync("href"))!.Split('=')[1];
        await first.ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new Regex($"status={status}"));
        var chosen = page.Locator($".targets a[href$='={status}']");
        var rows = page.Locator("tbody tr");
        await Eventually.TrueAsync(
            async () =>
                int.Parse((await chosen.InnerTextAsync()).Split(' ', '\n')[0], System.Globalization.CultureInfo.InvariantCulture)
                == await rows.CountAsync(),
            TimeSpan.FromSeconds(15),
            () => "there are as many as are counted"
        );
        Assert.True(await rows.CountAsync() > 0);
        await Assertions.Expect(page.Locator($"tbody .status:not(.is-{status})")).ToHaveCountAsync(0);
        await rows.First.GetByRole(AriaRole.Link).First.ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new Regex("/runs/r[0-9]+$"));
    }

    [Fact]
    public async Task Who_is_open_in_the_outcomes_leads_to_his_run_or_his_page()
    {
        var page = await demo.OpenAsync($"/outcomes?plan={Plan}");
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("of 240 closed");
        var open = page.Locator("section", new() { HasText = "not closed yet" }).Locator("tbody tr");
        var row = open.Filter(new() { HasText = "not ready" }).First;
        Assert.NotEqual("", await row.Locator(".quiet").InnerTextAsync());
        var name = await row.Locator("code").InnerTextAsync();
        await row.GetByRole(AriaRole.Link).ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new Regex($"/machines/{name}$"));
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("not ready");
    }
}
