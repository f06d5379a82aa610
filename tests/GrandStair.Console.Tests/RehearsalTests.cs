using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>The forecast and rehearsals in the console.</summary>
public sealed class RehearsalTests(ConsoleFixture demo) : IClassFixture<ConsoleFixture>
{
    private const string Plan = "winter-crossing";

    [Fact]
    public async Task The_overview_says_when_it_will_be_done_and_draws_the_band_and_leads_to_what_is_in_the_way()
    {
        var page = await demo.OpenAsync("/");
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("likely in time", new() { Timeout = 30_000 });
        await Assertions.Expect(page.Locator(".staircase .forecast .band")).ToHaveCountAsync(1);
        await page.Locator("h1 a.answer").ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex($"/plans/{Plan}/rehearsal"));
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("likely by 31 March");
        await Assertions.Expect(page.GetByText("Last sites to finish")).ToBeVisibleAsync();
        await page.Locator("table td a", new() { HasText = "MV Gannet" }).First.ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("machines match");
    }

    [Fact]
    public async Task What_ifs_are_rehearsed_side_by_side_and_a_wrong_one_is_told()
    {
        var page = await demo.OpenAsync($"/plans/{Plan}/rehearsal");
        var field = page.GetByLabel("What-if scenarios");
        await field.FillAsync("limits.al=3");
        await page.GetByRole(AriaRole.Button, new() { Name = "Rehearse", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("did you mean 'all'?");
        await field.FillAsync("limits.site=4\nadvance.soak=1 d; limits.all=12");
        await page.GetByLabel("Times").FillAsync("30");
        await page.GetByRole(AriaRole.Button, new() { Name = "Rehearse", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator(".ranges .range")).ToHaveCountAsync(3, new() { Timeout = 60_000 });
        await Assertions.Expect(page.Locator(".ranges")).ToContainTextAsync("advance.soak=1 d, limits.all=12");
        await Assertions.Expect(page.Locator(".under")).ToContainTextAsync("30 simulations");
        await Assertions.Expect(page.GetByText("Rehearsals so far")).ToBeVisibleAsync();
    }
}
