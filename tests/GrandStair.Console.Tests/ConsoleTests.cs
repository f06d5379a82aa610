using GrandStair.Testing;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>The console in a real browser, on the demo's data.</summary>
public sealed class ConsoleTests(ConsoleFixture demo) : IClassFixture<ConsoleFixture>
{
    private const string Plan = "winter-crossing";

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task The_overview_answers_in_its_first_line_and_every_status_leads_to_its_machines()
    {
        var page = await demo.OpenAsync("/");
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("of 240 verified");
        await Assertions.Expect(page.Locator(".staircase .stair")).ToHaveCountAsync(3);
        await Assertions.Expect(page.Locator(".staircase .actual").First).ToBeVisibleAsync();
        await page.Locator(".strip a.is-not-ready").ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("/plans/winter-crossing\\?status=not-ready"));
        await Assertions.Expect(page.Locator("td .status.is-not-ready").First).ToBeVisibleAsync();
        Assert.Equal(
            0,
            await page.Locator("td .status:not(.is-not-ready)").CountAsync()
                - await page.Locator(".tally .status:not(.is-not-ready)").CountAsync()
        );
    }

    [Fact]
    public async Task What_is_in_the_way_leads_from_check_to_machine_to_reading_in_three_steps()
    {
        var page = await demo.OpenAsync("/");
        await page.GetByRole(AriaRole.Link, new() { Name = "Readiness" }).ClickAsync();
        var rows = page.Locator("table.checks tbody tr");
        await Assertions.Expect(rows.First).ToBeVisibleAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Processor on the supported list" }).ClickAsync();
        var behind = page.Locator(".pick button");
        await Assertions.Expect(behind.First).ToBeVisibleAsync();
        await Assertions.Expect(page.Locator(".explain")).ToContainTextAsync("hardware.processor = Ness 2");
        await Assertions.Expect(page.Locator(".explain")).ToContainTextAsync("no fix available");
        await page.Locator(".chosen-one a").ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("not ready");
        await Assertions.Expect(page.Locator("td", new() { HasText = "hardware.processor" })).ToBeVisibleAsync();
    }

    [Fact]
    public async Task A_condition_filters_the_fleet_and_a_mistyped_one_is_told()
    {
        var page = await demo.OpenAsync("/fleet");
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("283 machines");
        Assert.InRange(await page.Locator(".grid-row").CountAsync(), 10, 60);
        await page.Locator(".frame .filter").FillAsync("site = \"MV Gannet\" and group = bridge");
        await page.Locator(".frame .filter").PressAsync("Enter");
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("3 machines match");
        await page.Locator(".frame .filter").FillAsync("siet = \"MV Gannet\"");
        await page.Locator(".frame .filter").PressAsync("Enter");
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("There is no key 'siet'; did you mean 'site'? (column 1)");
    }

    [Fact]
    public async Task A_condition_is_completed_with_keys_comparisons_and_the_values_that_the_fleet_has()
    {
        var page = await demo.OpenAsync("/readiness");
        var field = page.Locator(".scoping .filter");
        await field.FillAsync("hardw");
        await Assertions.Expect(page.GetByRole(AriaRole.Option).First).ToContainTextAsync("hardware.memory");
        await field.FillAsync("hardware.model ");
        await Assertions.Expect(page.GetByRole(AriaRole.Option, new() { Name = "like", Exact = true }).First).ToBeVisibleAsync();
        await field.FillAsync("hardware.model = ");
        await Assertions.Expect(page.GetByRole(AriaRole.Option).First).ToContainTextAsync("\"Tarn 4\"");
        await field.PressAsync("ArrowDown");
        await field.PressAsync("Enter");
        await Assertions.Expect(field).ToHaveValueAsync("hardware.model = \"Tarn 4\" ");
        await field.PressAsync("Escape");
        await field.PressAsync("Enter");
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("scope=hardware.model"));
        var view = await demo.Service.Client.ReadinessAsync(null, null, Plan, "hardware.model = \"Tarn 4\"", Stop);
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync($"of {view.Machines - view.Arrived} machines ready");
        Assert.InRange(view.Machines, 20, 120);
    }

    [Fact]
    public async Task Exposure_leads_from_a_release_to_its_machines()
    {
        var page = await demo.OpenAsync("/exposure");
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("3 out of support");
        await Assertions.Expect(page.Locator("td.over").First).ToContainTextAsync("days ago");
        await page.Locator("tr", new() { HasText = "Brae Server 4" })
            .Filter(new() { HasText = "Standard" })
            .GetByRole(AriaRole.Link)
            .ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("2 machines match");
    }

    [Fact]
    public async Task A_gateway_s_page_says_which_radio_keeps_it_and_by_which_legs_it_would_go()
    {
        var page = await demo.OpenAsync("/machines/gate-w-1");
        await Assertions.Expect(page.Locator(".legs li").First).ToContainTextAsync("firmware-2-to-2.4");
        await Assertions.Expect(page.Locator(".explain").First).ToContainTextAsync("gate-w-1-radio-07, model Skua 1");
        await Assertions.Expect(page.Locator(".explain").First).ToContainTextAsync("Replace that radio by a Skua 2");
    }

    [Fact]
    public async Task The_sums_on_the_page_are_those_of_the_interface()
    {
        await HoldAsync();
        var page = await demo.OpenAsync($"/outcomes?plan={Plan}");
        await Assertions.Expect(page.Locator("#tally .sum")).ToContainTextAsync("240");
        var view = await demo.Service.Client.OutcomesAsync(Plan, Stop);
        await page.ReloadAsync();
        foreach (var (status, count) in view.Tally)
            await Assertions.Expect(page.Locator($"[data-status='{status}']")).ToHaveTextAsync($"{count}");
        await GoOnAsync();
    }

    [Fact]
    public async Task A_plan_is_held_with_a_reason_and_goes_on_and_the_page_follows_live()
    {
        await GoOnAsync();
        var page = await demo.OpenAsync($"/plans/{Plan}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Hold" }).ClickAsync();
        var act = page.GetByRole(AriaRole.Button, new() { Name = "Hold the plan" });
        await Assertions.Expect(act).ToBeDisabledAsync();
        await page.GetByLabel("Why").FillAsync("storm in the sound");
        await act.ClickAsync();
        await Assertions.Expect(page.Locator(".under .held")).ToContainTextAsync("storm in the sound");
        Assert.Equal("storm in the sound", (await demo.Service.Client.PlanAsync(Plan, Stop)).Plan.Held);
        // Another client goes on; the page must see it without being asked.
        await GoOnAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Button, new() { Name = "Hold" })).ToBeVisibleAsync(new() { Timeout = 10_000 });
        await Assertions.Expect(page.Locator(".under .held")).ToHaveCountAsync(0);
    }

    [Fact]
    public async Task A_run_shows_its_steps_and_its_log()
    {
        var run = (await demo.Service.Client.RunsAsync(Plan, "verified,done", 1, Stop)).Items[0];
        var page = await demo.OpenAsync($"/runs/{run.Run}");
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync(run.Machine);
        await Assertions.Expect(page.Locator(".steps .is-step-done").First).ToBeVisibleAsync();
        await page.Locator(".log summary", new() { HasText = "Verified" }).First.ClickAsync();
        await Assertions.Expect(page.Locator(".log pre").First).ToContainTextAsync("gate-judged");
    }

    [Fact]
    public async Task Without_a_session_one_signs_in_first_and_comes_back_to_the_page()
    {
        var page = await demo.OpenAsync("/runs?status=verified", signedIn: false);
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("/sign-in"));
        await page.GetByLabel("Account").FillAsync("planner");
        await page.GetByLabel("Password", new() { Exact = true }).FillAsync("not the password");
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator(".form-error")).ToContainTextAsync("User name or password is incorrect");
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in with a token" }).ClickAsync();
        await page.GetByLabel("Token", new() { Exact = true }).FillAsync("wrong");
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator(".form-error")).ToContainTextAsync("This token is not known");
        await page.GetByLabel("Token", new() { Exact = true }).FillAsync(demo.Service.Token);
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in", Exact = true }).ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("/runs\\?status=verified"));
    }

    [Fact]
    public async Task Media_is_added_in_parts_and_removed_and_what_is_missing_is_named()
    {
        var file = Path.Combine(demo.Service.Data, "harbour-map.img");
        await File.WriteAllBytesAsync(file, new byte[(16 << 20) + 5], Stop);
        var page = await demo.OpenAsync("/media");
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("8 present, 1 missing");
        await Assertions
            .Expect(page.Locator("tr", new() { HasText = "brae-desktop-8.0.1.img" }))
            .ToContainTextAsync("Add the file to let machines fetch it");
        await page.Locator("input[type=file]").SetInputFilesAsync(file);
        var row = page.Locator("tr", new() { HasText = "harbour-map.img" }).Filter(new() { HasText = "present" });
        await Assertions.Expect(row).ToContainTextAsync("16 MiB");
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("9 present, 1 missing");
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove harbour-map.img" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("only tried out");
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("8 present, 1 missing");
        Assert.Equal(8, Directory.GetFiles(Path.Combine(demo.Service.Data, "media")).Length);

        // What is not the file that the catalogue means is refused, with what to do.
        var wrong = Path.Combine(demo.Service.Data, "brae-desktop-8.0.1.img");
        await File.WriteAllTextAsync(wrong, "no image", Stop);
        await page.Locator("input[type=file]").SetInputFilesAsync(wrong);
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("Get the file from its vendor again");
    }

    [Fact]
    public async Task A_site_gets_a_repository_of_its_own_and_a_download_from_a_host_that_is_not_allowed_is_refused()
    {
        var page = await demo.OpenAsync("/media");
        var repositories = page.GetByRole(AriaRole.Region, new() { Name = "Repositories" });
        await Assertions.Expect(repositories).ToContainTextAsync("http://media.linsay.example/images");
        await repositories.GetByRole(AriaRole.Button, new() { Name = "Set a repository …" }).ClickAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        await dialog.GetByLabel("Site").FillAsync("Corran");
        await dialog.GetByLabel("URL").FillAsync("http://media.corran.example/");
        await dialog.GetByLabel("Why").FillAsync("nearer");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Set repository" }).ClickAsync();
        await Assertions.Expect(repositories).ToContainTextAsync("http://media.corran.example/");
        await repositories.GetByRole(AriaRole.Button, new() { Name = "Remove the repository of Corran" }).ClickAsync();
        await dialog.GetByLabel("Why").FillAsync("tried out");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Remove repository" }).ClickAsync();
        await Assertions.Expect(repositories).Not.ToContainTextAsync("corran");

        await page.GetByRole(AriaRole.Button, new() { Name = "Download from a URL …" }).ClickAsync();
        await dialog.GetByLabel("URL").FillAsync("https://elsewhere.example/brae-desktop-8.0.1.img");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Download", Exact = true }).ClickAsync();
        await Assertions.Expect(dialog.GetByRole(AriaRole.Alert)).ToContainTextAsync("may not download from elsewhere.example");
    }

    [Fact]
    public async Task A_login_link_that_was_used_is_told()
    {
        var page = await demo.OpenAsync(new Uri(demo.Link).AbsolutePath, signedIn: false);
        await Assertions.Expect(page.Locator(".form-error")).ToContainTextAsync("was used already");
    }

    [Theory]
    [InlineData("/")]
    [InlineData("/fleet")]
    [InlineData("/machines/desk-w-002")]
    [InlineData("/exposure")]
    [InlineData("/access")]
    [InlineData("/access/host-keys")]
    [InlineData("/access/scripts")]
    [InlineData("/access/secrets")]
    [InlineData("/audit")]
    [InlineData("/me")]
    [InlineData("/readiness")]
    [InlineData("/plans")]
    [InlineData("/plans/winter-crossing")]
    [InlineData("/plans/winter-crossing/board")]
    [InlineData("/runs")]
    [InlineData("/outcomes")]
    [InlineData("/media")]
    [InlineData("/follow-ups")]
    [InlineData("/support-cases")]
    [InlineData("/support-cases/c1")]
    [InlineData("/plans/new")]
    [InlineData("/plans/winter-crossing/edit")]
    [InlineData("/no-such-page")]
    public async Task A_page_fits_its_width_in_light_and_dark_and_the_browser_has_nothing_to_complain_of(string path)
    {
        foreach (var scheme in new[] { ColorScheme.Light, ColorScheme.Dark })
        {
            var page = await demo.OpenAsync(path, scheme: scheme);
            await Assertions.Expect(page.Locator("h1")).ToBeVisibleAsync();
            await Assertions.Expect(page.Locator(".loading")).ToHaveCountAsync(0);
            Assert.Equal(1280, await page.EvaluateAsync<int>("document.documentElement.scrollWidth"));
            Assert.True(
                await page.EvaluateAsync<double>(LeastContrast) >= 4.5,
                $"contrast on {path} in {scheme}: {await page.EvaluateAsync<double>(LeastContrast)}"
            );
            Assert.Empty(demo.Complaints);
        }
    }

    /// <summary>The least contrast of the main texts against what is behind each, by WCAG 2.2's formula.</summary>
    private const string LeastContrast = """
        (() => {
          const linear = (v) => (v / 255 <= 0.03928 ? v / 255 / 12.92 : ((v / 255 + 0.055) / 1.055) ** 2.4);
          const light = (c) => { const [r, g, b] = c.match(/[\d.]+/g).map(Number).map(linear); return 0.2126 * r + 0.7152 * g + 0.0722 * b; };
          const ratio = (a, b) => { const [x, y] = [light(a), light(b)].sort((p, q) => q - p); return (x + 0.05) / (y + 0.05); };
          const behind = (e) => {
            for (let n = e; n; n = n.parentElement) { const c = getComputedStyle(n).backgroundColor; if (/^rgb\(/.test(c)) return c; }
          };
          const texts = [...document.querySelectorAll('h1, .under, .quiet, td, main a:not(.strip a), .status')];
          return Math.min(...texts.map((e) => ratio(getComputedStyle(e).color, behind(e))));
        })()
        """;

    private async Task HoldAsync()
    {
        if ((await demo.Service.Client.PlanAsync(Plan, Stop)).Plan.Held is null)
            await demo.Service.Client.HoldAsync(Plan, "the sums are compared", Stop);
        // What is running goes on to its end first; at this pace a slow machine takes four minutes until it is overdue and parked.
        await Eventually.TrueAsync(
            async () => (await demo.Service.Client.PlanAsync(Plan, Stop)).Plan.Tally["running"] == 0,
            TimeSpan.FromMinutes(6),
            () => "nothing is running"
        );
    }

    private async Task GoOnAsync()
    {
        if ((await demo.Service.Client.PlanAsync(Plan, Stop)).Plan.Held is not null)
            await demo.Service.Client.StartAsync(Plan, Stop);
    }
}
