using System.Text.Json;
using GrandStair.Testing;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>Every page, in the light and the dark scheme, by the rules of axe-core.</summary>
public sealed class AccessibilityTests(ConsoleFixture demo) : IClassFixture<ConsoleFixture>
{
    private static readonly string Rules = File.ReadAllText(
        Path.Combine(Repository.Root, "console", "node_modules", "axe-core", "axe.min.js")
    );

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Theory]
    [InlineData(ColorScheme.Light)]
    [InlineData(ColorScheme.Dark)]
    public async Task No_page_breaks_a_rule_of_accessibility_and_each_has_a_title_of_its_own(ColorScheme scheme)
    {
        var run = (await demo.Service.Client.RunsAsync("winter-crossing", null, 1, Stop)).Items[0];
        string[] paths =
        [
            "/",
            "/fleet",
            "/fleet?filter=desk-w",
            "/fleet/import",
            $"/machines/{run.Machine}",
            "/exposure",
            "/readiness",
            "/plans",
            "/plans/new",
            "/plans/winter-crossing",
            "/plans/winter-crossing/edit",
            "/plans/winter-crossing/board",
            "/plans/winter-crossing/rehearsal",
            "/runs",
            $"/runs/{run.Run}",
            "/outcomes",
            "/access",
            "/access/scripts",
            "/access/secrets",
            "/access/host-keys",
            "/audit",
            "/media",
            "/follow-ups",
            "/support-cases",
            "/support-cases/c1",
            "/me",
            "/nowhere",
        ];
        var broken = new List<string>();
        var titles = new Dictionary<string, string>();
        var page = await demo.OpenAsync("/", scheme: scheme);
        foreach (var path in paths)
        {
            await page.GotoAsync(new Uri(demo.Service.Url, path).ToString());
            await Assertions.Expect(page.Locator("main h1")).ToBeVisibleAsync();
            await page.WaitForLoadStateAsync(LoadState.NetworkIdle);
            broken.AddRange((await BrokenAsync(page)).Select(b => $"{path}: {b}"));
            titles[path] = await page.TitleAsync();
        }

        broken.AddRange((await DialogAsync(page)).Select(b => $"dialog: {b}"));
        Assert.Empty(broken);
        Assert.Equal(titles["/fleet"], titles["/fleet?filter=desk-w"]);
        Assert.Equal(paths.Length - 1, titles.Values.Distinct().Count());
        Assert.All(titles.Values, t => Assert.EndsWith(" · Grand Stair", t, StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_dialog_gives_the_focus_back_when_it_is_left_by_escape()
    {
        var run = (await demo.Service.Client.RunsAsync("winter-crossing", "verified", 1, Stop)).Items[0];
        var page = await demo.OpenAsync($"/runs/{run.Run}");
        var button = page.GetByRole(AriaRole.Button, new() { Name = "Roll back to the previous release" });
        await button.FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        var dialog = page.GetByRole(AriaRole.Dialog);
        await Assertions.Expect(dialog).ToBeVisibleAsync();
        await Assertions.Expect(dialog).ToContainTextAsync("It begins in the machine’s next window");
        await Assertions.Expect(dialog.GetByRole(AriaRole.Button, new() { Name = "Close" })).ToBeVisibleAsync();
        await page.Keyboard.PressAsync("Escape");
        await Assertions.Expect(dialog).ToHaveCountAsync(0);
        await Assertions.Expect(button).ToBeFocusedAsync();
    }

    /// <summary>The rules that a page breaks, each with the first element that does.</summary>
    internal static async Task<IReadOnlyList<string>> BrokenAsync(IPage page)
    {
        // Evaluated by the browser's debugger, since the content security policy lets no other script in.
        await page.EvaluateAsync(Rules);
        var found = await page.EvaluateAsync<JsonElement>(
            "() => axe.run().then(r => r.violations.map(v => `${v.id}: ${v.nodes[0].html} (${v.nodes.length})`))"
        );
        return [.. found.EnumerateArray().Select(v => v.GetString()!)];
    }

    private async Task<IReadOnlyList<string>> DialogAsync(IPage page)
    {
        await page.GotoAsync(new Uri(demo.Service.Url, "/plans/winter-crossing").ToString());
        await page.GetByRole(AriaRole.Button, new() { Name = "Hold" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Dialog)).ToBeVisibleAsync();
        return await BrokenAsync(page);
    }
}
