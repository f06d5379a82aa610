using System.Text;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>Plans as they are made and changed in the console: as a form and as text at once, and by dragging a wave.</summary>
public sealed class EditTests(ConsoleFixture demo) : IClassFixture<ConsoleFixture>
{
    private const string Body = """
        # The pilots' desks, twice over.
        plan: NAME
        target: { product: Brae Desktop, release: "7" }
        scope: os.product = "Brae Desktop" and site = "Westhaven"
        methods:
          - image-in-place   # the quickest there is
        waves:
          - name: First
            members: group = "office"
            count: 3
          - { name: Rest } # all others
        windows:
          - { zone: Europe/London, weekly: ["Mon-Sun 18:00-06:00"] }
          # The quay is lit at night.
          - { groups: [ticket-desk], zone: Europe/London, weekly: ["Mon-Fri 22:00-04:00"] }
        limits: { all: 4, site: 2 }
        advance: { verified: 90 %, failures: 2, soak: 1 d }
        deadline: 2027-03-31
        change-record: NF-11

        """;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task What_is_changed_in_the_form_is_changed_in_the_text_and_nothing_else_of_it()
    {
        var page = await EditAsync("by-form");
        await Assertions.Expect(Changes(page)).ToContainTextAsync("Nothing yet.");
        await SayAsync(page, "In the whole plan", "9");
        await SayAsync(page, "At one site", "");
        await page.GetByRole(AriaRole.Button, new() { Name = "First · " }).ClickAsync();
        await SayAsync(page, "Maximum number", "2");
        await SayAsync(page, "Begins not before (UTC)", "2027-02-08 18:00");
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Members (empty: all remaining machines)" })
            .FillAsync("group in (\"office\", \"ticket-desk\")");
        await SayAsync(page, "Change record", "");
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove window 2" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Add a freeze" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "freeze, empty" })
            .Or(page.GetByRole(AriaRole.Button, new() { Name = "Europe/London", Exact = true }))
            .First.WaitForAsync();
        await SayAsync(page, "Why", "Stocktaking");
        await TagAsync(page, "Days", "2027-02-10..2027-02-12");
        await page.GetByLabel("Requires approval by someone else").CheckAsync();
        await page.GetByLabel("A reloaded calendar needs another approval").CheckAsync();
        await page.GetByLabel("A reloaded calendar needs another approval").UncheckAsync();
        Assert.EndsWith("\napproval: yes", (await Text(page).InputValueAsync()).TrimEnd(), StringComparison.Ordinal);
        await TagAsync(page, "By", "board");
        await Assertions.Expect(page.GetByLabel("Requires approval by someone else")).ToBeCheckedAsync();
        // What counts by its order is put in order.
        await ChooseAsync(page, "Add a method", new Regex("^update-channel: "));
        await page.GetByRole(AriaRole.Button, new() { Name = "Move update-channel up" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Move wave 1 down" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Button, new() { Name = "Move wave 2 down" })).ToBeDisabledAsync();
        var expected = Body.Replace("NAME", "by-form", StringComparison.Ordinal)
            .Replace("all: 4, site: 2", "all: 9", StringComparison.Ordinal)
            .Replace("    count: 3\n", "    count: 2\n    not-before: 2027-02-08 18:00\n", StringComparison.Ordinal)
            .Replace("members: group = \"office\"", "members: group in (\"office\", \"ticket-desk\")", StringComparison.Ordinal)
            .Replace("methods:\n", "methods:\n  - update-channel\n", StringComparison.Ordinal)
            .Replace("  - { name: Rest } # all others\n", "", StringComparison.Ordinal)
            .Replace("waves:\n", "waves:\n  - { name: Rest } # all others\n", StringComparison.Ordinal)
            .Replace(
                "  # The quay is lit at night.\n  - { groups: [ticket-desk], zone: Europe/London, weekly: [\"Mon-Fri 22:00-04:00\"] }\n",
                "",
                StringComparison.Ordinal
            )
            .Replace("change-record: NF-11\n", "", StringComparison.Ordinal)
            .TrimEnd();
        var text = await Text(page).InputValueAsync();
        Assert.Equal(
            $"{expected}\nfreezes: [{{ zone: Europe/London, days: [2027-02-10..2027-02-12], why: Stocktaking }}]\napproval: {{ by: "
                + $"[board] }}",
            text.TrimEnd()
        );

        await Assertions.Expect(Changes(page).Locator(".lines")).ToContainTextAsync("+ limits: { all: 9 }");
        await Assertions.Expect(Changes(page)).ToContainTextAsync("in time for 31 March");
        // Who leaves it finds it again, and can begin anew.
        await page.ReloadAsync();
        await Assertions.Expect(page.GetByLabel("In the whole plan")).ToHaveValueAsync("9");
        await page.GetByRole(AriaRole.Button, new() { Name = "Load it as revision 2" }).ClickAsync();
        await page.GetByRole(AriaRole.Dialog).GetByLabel("Why").FillAsync("more hands");
        await page.GetByRole(AriaRole.Button, new() { Name = "Load it", Exact = true }).ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new Regex("/plans/by-form$"));
        await Assertions.Expect(page.Locator(".under").First).ToContainTextAsync("revision 2 by planner");
        var kept = await demo.Service.Client.PlanAsync("by-form", Stop);
        Assert.Equal(text, kept.Body);
        Assert.Equal("more hands", (await demo.Service.Client.RevisionsAsync("by-form", Stop))[^1].Reason);
    }

    [Fact]
    public async Task What_is_wrong_in_the_text_is_told_with_its_line_and_what_is_right_comes_up_in_the_form()
    {
        var page = await EditAsync("by-text");
        var text = await Text(page).InputValueAsync();
        await Text(page)
            .FillAsync(
                text.Replace("soak: 1 d", "soka: 1 d", StringComparison.Ordinal).Replace("all: 4", "all: none", StringComparison.Ordinal)
            );
        await Assertions.Expect(Changes(page)).ToContainTextAsync("did you mean 'soak'?");
        await Assertions.Expect(Changes(page)).ToContainTextAsync("'all' is 'none'; expected a whole number of at least 1.");
        await Assertions.Expect(page.GetByRole(AriaRole.Button, new() { Name = "Load it as revision 2" })).ToBeDisabledAsync();
        await Changes(page).GetByRole(AriaRole.Button, new() { Name = "line 16" }).ClickAsync();
        Assert.StartsWith(
            "none",
            await page.EvaluateAsync<string>(
                "() => { const t = document.activeElement; return t.value.slice(t.selectionStart, t.selectionEnd); }"
            ),
            StringComparison.Ordinal
        );
        await Text(page).FillAsync("{ this is: no plan");
        await Assertions.Expect(Changes(page)).ToContainTextAsync("This is not YAML");
        await Text(page)
            .FillAsync(
                text.Replace("all: 4", "all: 7", StringComparison.Ordinal)
                    .Replace("{ name: Rest }", "{ name: Rest, approval: yes }", StringComparison.Ordinal)
            );
        await Assertions.Expect(page.GetByLabel("In the whole plan")).ToHaveValueAsync("7");
        await page.GetByRole(AriaRole.Button, new() { Name = "Rest", Exact = true })
            .Or(page.GetByRole(AriaRole.Button, new() { Name = "Rest · " }))
            .First.ClickAsync();
        await Assertions.Expect(page.GetByLabel("Needs its own approval")).ToBeCheckedAsync();

        // Somebody else was quicker: nothing of his is lost, and he who is late is told.
        await Assertions.Expect(page.GetByRole(AriaRole.Button, new() { Name = "Load it as revision 2" })).ToBeEnabledAsync();
        using (var other = new MemoryStream(Encoding.UTF8.GetBytes(text.Replace("all: 4", "all: 5", StringComparison.Ordinal))))
            await demo.Service.Client.LoadPlanAsync("by-text", other, "quicker", 1, Stop);
        await Assertions
            .Expect(page.GetByText("admin has loaded revision 2 meanwhile; your draft will not overwrite it."))
            .ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Load it as revision 2" }).ClickAsync();
        await page.GetByRole(AriaRole.Dialog).GetByLabel("Why").FillAsync("slower");
        await page.GetByRole(AriaRole.Button, new() { Name = "Load it", Exact = true }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Alert)).ToContainTextAsync("has revision 2 by now");
        Assert.Equal(5, (await demo.Service.Client.PlanAsync("by-text", Stop)).Limits.All);
        await page.GetByRole(AriaRole.Button, new() { Name = "Cancel" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Start again from it" }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("by-text: change revision 2");
        await Assertions.Expect(page.GetByLabel("In the whole plan")).ToHaveValueAsync("5");
    }

    [Fact]
    public async Task A_plan_is_made_from_nothing_by_choosing()
    {
        var page = await demo.OpenAsync("/plans");
        await page.GetByRole(AriaRole.Link, new() { Name = "Create a plan" }).ClickAsync();
        await SayAsync(page, "Name of the plan", "from-nothing");
        await ChooseAsync(page, "Product", new Regex("^Brae Desktop$"));
        await ChooseAsync(page, "To release", new Regex("^7$"));
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Scope" }).FillAsync("os.product = \"Brae Desktop\" and site = \"Linsay\"");
        await ChooseAsync(page, "Add a method", new Regex("^image-in-place: "));
        await Assertions.Expect(Changes(page)).ToContainTextAsync("If nothing fails the last slot of the");
        await page.GetByRole(AriaRole.Button, new() { Name = "Create the plan" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Create it" }).ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new Regex("/plans/from-nothing$"));
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("from-nothing to Brae Desktop 7: drafted");
        var plan = await demo.Service.Client.PlanAsync("from-nothing", Stop);
        Assert.Equal(("planner", "7"), (plan.Plan.CreatedBy, plan.Plan.Target[^1..]));
        Assert.True(plan.Plan.Machines > 0);
        Assert.Contains("release: \"7\"", plan.Body, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_wave_that_is_dragged_to_another_day_shows_what_comes_of_it_and_is_loaded_with_a_reason()
    {
        await MakeAsync("dragged");
        var page = await demo.OpenAsync("/plans/dragged/board");
        await page.GetByRole(AriaRole.Button, new() { Name = "Three weeks" }).ClickAsync();
        var bar = page.Locator(".wave-bar.wave-2 rect.movable");
        // Until three weeks are there the week before is still shown, where the wave stands elsewhere.
        await Assertions.Expect(page.Locator(".board[aria-label$='over 21 days']")).ToBeVisibleAsync();
        await bar.ScrollIntoViewIfNeededAsync();
        var at = (await bar.BoundingBoxAsync())!;
        await page.Mouse.MoveAsync(at.X + 3, at.Y + 4);
        await page.Mouse.DownAsync();
        await page.Mouse.MoveAsync(at.X + 150, at.Y + 4);
        await page.Mouse.MoveAsync(at.X + 259, at.Y + 4);
        var wanted = await page.Locator(".board .ghost text").TextContentAsync();
        await page.Mouse.UpAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        await Assertions.Expect(dialog).ToContainTextAsync("When Rest begins");
        await Assertions.Expect(dialog.Locator("tbody tr", new() { HasText = "Rest" })).ToContainTextAsync(wanted!);
        await Assertions.Expect(dialog).ToContainTextAsync("instead of");
        await dialog.GetByLabel("Why").FillAsync("the office moves that week");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Load it" }).ClickAsync();
        await Assertions.Expect(dialog).ToHaveCountAsync(0);
        var plan = await demo.Service.Client.PlanAsync("dragged", Stop);
        Assert.Matches("\\{ name: Rest, not-before: 2027-[0-9-]+ [0-9:]+ \\} # all others", plan.Body);
        var board = await demo.Service.Client.BoardAsync("dragged", null, null, Stop);
        Assert.True(board.Waves[1].NotBefore > board.Waves[0].To);
        Assert.True(board.Waves[1].From >= board.Waves[1].NotBefore);

        // By keyboard, and back again.
        page = await demo.OpenAsync("/plans/dragged");
        await page.GetByRole(AriaRole.Button, new() { Name = "Time when Rest begins" }).ClickAsync();
        await Assertions.Expect(dialog = page.GetByRole(AriaRole.Dialog)).ToContainTextAsync("Currently it does not begin before 2027-");
        await dialog.GetByLabel("Begins not before").FillAsync("");
        await dialog.GetByLabel("Why").FillAsync("it does not move");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Load it" }).ClickAsync();
        await Assertions.Expect(dialog).ToHaveCountAsync(0);
        Assert.Equal(
            Body.Replace("NAME", "dragged", StringComparison.Ordinal),
            (await demo.Service.Client.PlanAsync("dragged", Stop)).Body
        );
    }

    [Fact]
    public void Browsers_complain_of_nothing() => Assert.All(demo.Complaints, c => Assert.Contains("409", c, StringComparison.Ordinal));

    private static ILocator Text(IPage page) => page.GetByLabel("The plan's text");

    private static ILocator Changes(IPage page) => page.GetByRole(AriaRole.Region, new() { Name = "What it would change" });

    private static async Task SayAsync(IPage page, string field, string value)
    {
        var input = page.GetByLabel(field, new() { Exact = true });
        await input.FillAsync(value);
        await input.PressAsync("Enter");
    }

    private static async Task TagAsync(IPage page, string field, string value)
    {
        var input = page.Locator("input").And(page.GetByLabel(field, new() { Exact = true })).First;
        await input.FillAsync(value);
        await input.PressAsync("Enter");
        await input.PressAsync("Escape");
    }

    private static async Task ChooseAsync(IPage page, string field, Regex option)
    {
        await page.Locator("input").And(page.GetByLabel(field, new() { Exact = true })).First.PressAsync("ArrowDown");
        await page.GetByRole(AriaRole.Option, new() { NameRegex = option }).ClickAsync();
    }

    private async Task MakeAsync(string name)
    {
        using var body = new MemoryStream(Encoding.UTF8.GetBytes(Body.Replace("NAME", name, StringComparison.Ordinal)));
        await demo.Service.Client.CreatePlanAsync(body, Stop);
    }

    private async Task<IPage> EditAsync(string name)
    {
        await MakeAsync(name);
        var page = await demo.OpenAsync($"/plans/{name}");
        await page.GetByRole(AriaRole.Link, new() { Name = "Edit", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync($"{name}: change revision 1");
        return page;
    }
}
