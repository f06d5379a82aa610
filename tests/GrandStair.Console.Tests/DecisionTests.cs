using GrandStair.Testing;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>What people decide in the console, in a real browser, on a small fleet of their own.</summary>
public sealed class DecisionTests(DecisionFixture small) : IClassFixture<DecisionFixture>
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_parked_run_says_why_and_is_decided_about_with_a_reason()
    {
        var page = await small.OpenAsync("/runs?status=parked");
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("1 parked: waiting for a decision");
        await page.Locator("tbody tr a").First.ClickAsync();
        await Assertions
            .Expect(page.Locator(".parked-box"))
            .ToContainTextAsync("the gate is blocked: Mains power (found: power.mains = no)");
        await Assertions.Expect(page.GetByRole(AriaRole.Button, new() { Name = "Roll back to the previous release" })).ToHaveCountAsync(0);
        await page.GetByRole(AriaRole.Button, new() { Name = "Cancel this upgrade" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("the ship has left");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Cancel this upgrade" }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("stopped");
        await Assertions.Expect(page.Locator(".log")).ToContainTextAsync("Decided to cancel: the ship has left");
        await Assertions.Expect(page.Locator(".log")).ToContainTextAsync("by admin");
        var run = (await small.Service.Client.RunsAsync("small", "stopped", 10, Stop)).Items.Single();
        Assert.Equal(("cancelled", "the ship has left"), (run.Outcome, run.Reason));
    }

    [Fact]
    public async Task What_a_script_printed_is_searched_and_a_follow_up_is_added_assigned_and_closed()
    {
        await Eventually.TrueAsync(
            async () => (await small.Service.Client.RunsAsync("small", "verified,done", 10, Stop)).Total == 1,
            TimeSpan.FromMinutes(2),
            () => "desk-1 is verified"
        );
        var run = (await small.Service.Client.RunsAsync("small", "verified,done", 10, Stop)).Items.Single();
        var page = await small.OpenAsync($"/runs/{run.Run}");
        var output = page.GetByRole(AriaRole.Region, new() { Name = "Output" });
        await Assertions.Expect(output.Locator(".output")).ToContainTextAsync("look around: done");
        await output.GetByLabel("Step").SelectOptionAsync($"{run.Run}/1/apply-image/1");
        await output.GetByLabel("Find in the output").FillAsync(", 95 %");
        await Assertions.Expect(output.GetByRole(AriaRole.Status)).ToHaveTextAsync("1 line of 21");
        await Assertions.Expect(output.Locator(".output > div")).ToHaveAttributeAsync("data-line", "20");

        await page.GetByRole(AriaRole.Region, new() { Name = "Follow-ups" })
            .GetByRole(AriaRole.Button, new() { Name = "Add" })
            .ClickAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        await dialog.GetByLabel("Who").FillAsync("deck-it");
        await dialog.GetByLabel("Due").FillAsync("2020-01-31");
        await dialog.GetByLabel("What is left to do").FillAsync("the card reader is not found");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Add" }).ClickAsync();
        await Assertions
            .Expect(page.GetByRole(AriaRole.Region, new() { Name = "Follow-ups" }))
            .ToContainTextAsync("for deck-it, due 31 January 2020, overdue");

        await page.GotoAsync(new Uri(small.Service.Url, "/follow-ups").ToString());
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("1 follow-up open, 1 overdue");
        await page.GetByLabel("Select all").CheckAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Assign" }).ClickAsync();
        await Assertions.Expect(dialog.GetByLabel("Who")).ToHaveValueAsync("deck-it");
        await dialog.GetByLabel("Who").FillAsync("quay");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Assign" }).ClickAsync();
        // What was not changed in the dialog stays.
        await Assertions.Expect(page.Locator("tbody tr")).ToContainTextAsync("quay");
        await Assertions.Expect(page.Locator("tbody tr")).ToContainTextAsync("31 January 2020, overdue");
        await page.GetByLabel("Select all").CheckAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Close", Exact = true }).ClickAsync();
        await dialog.GetByLabel("What was done").FillAsync("driver put on again");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Close it" }).ClickAsync();
        await Assertions.Expect(page.Locator(".empty")).ToHaveTextAsync("Nothing is left to do here.");
        await page.GetByRole(AriaRole.Link, new() { Name = "closed", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator("tbody tr")).ToContainTextAsync("driver put on again");
        var closed = (await small.Service.Client.RunAsync(run.Run, Stop)).FollowUps.Single();
        Assert.Equal(("driver put on again", "quay"), (closed.Because, closed.Owner));
    }

    [Fact]
    public async Task A_support_case_about_all_machines_that_match_is_recorded_noted_booked_and_closed()
    {
        var page = await small.OpenAsync("/fleet?filter=desk");
        var total = (await small.Service.Client.MachinesAsync("desk", 10, Stop)).Total;
        await page.GetByRole(AriaRole.Button, new() { Name = $"Record a support case about these {total} machines …" }).ClickAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        await dialog.GetByLabel("Number that support gave it").FillAsync("NM-40117");
        await dialog.GetByRole(AriaRole.Combobox, new() { Name = "With whom" }).FillAsync("the vendor");
        await dialog.GetByLabel("What it is about").FillAsync("off again after each restart");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Record case" }).ClickAsync();
        await Assertions.Expect(dialog).ToHaveCountAsync(0);

        await page.GotoAsync(new Uri(small.Service.Url, "/support-cases").ToString());
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("1 support case open");
        await page.GetByRole(AriaRole.Button, new() { Name = "Add a note" }).ClickAsync();
        await dialog.GetByText("We do", new() { Exact = true }).ClickAsync();
        await dialog.GetByLabel("What was done or said").FillAsync("they ask for the bundle");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Add note" }).ClickAsync();
        await Assertions.Expect(page.Locator("tbody tr")).ToContainTextAsync("we have to act");
        await page.GetByRole(AriaRole.Button, new() { Name = "Book appointment" }).ClickAsync();
        await dialog.GetByLabel("Start").FillAsync("2099-02-08T09:00");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Book" }).ClickAsync();
        await Assertions.Expect(page.Locator("tbody tr")).ToContainTextAsync("Appointment Sun, 8 Feb 2099");

        await page.GetByRole(AriaRole.Link, new() { Name = "NM-40117" }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("Case NM-40117 with the vendor: we have to act");
        await page.GetByRole(AriaRole.Button, new() { Name = "Close case" }).ClickAsync();
        await dialog.GetByLabel("What came of it").FillAsync("a new board");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Close case" }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("Case NM-40117 with the vendor: closed");
        await page.GetByRole(AriaRole.Link, new() { Name = "desk-1", Exact = true }).ClickAsync();
        await Assertions
            .Expect(page.GetByRole(AriaRole.Region, new() { Name = "Support cases" }))
            .ToContainTextAsync("off again after each restart");
    }

    [Fact]
    public async Task What_runs_ask_of_a_person_is_answered_for_several_machines_at_once()
    {
        await using var own = await SmallDemo.StartAsync(started: false);
        var service = own.Service;
        // The method needs the machines' owners to be there.
        await service.OkAsync(
            "fleet",
            "import",
            service.Write("name,owner,connection\ndesk-1,quay,simulated\ndesk-4,quay,simulated\n", "owners.csv")
        );
        await service.OkAsync(
            "plan",
            "create",
            service.Write(
                SmallDemo.Plan.Replace("image-in-place", "carried-media", StringComparison.Ordinal)
                    + "\ncrews: [{ name: shore, kind: terminal-it, hands: 2, zone: Europe/London, weekly: [\"Mon-Sun 00:00-00:00\"] }]\n",
                "plan.yaml"
            )
        );
        await service.OkAsync("plan", "acknowledge", "small", "--all", "--reason", "read");
        await service.OkAsync("plan", "start", "small");
        await Eventually.TrueAsync(
            async () => (await service.Client.AskedRunsAsync("small", 10, Stop)).Total == 2,
            TimeSpan.FromMinutes(1),
            () => "both machines that are ready ask for their media"
        );
        var page = await small.OpenAsync("/", service);
        await page.GetByRole(AriaRole.Link, new() { Name = "Answer" }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("2 waiting for an answer");
        await Assertions.Expect(page.Locator("tbody tr").First).ToContainTextAsync("terminal-it, needed by");
        await page.GetByLabel("Select all").CheckAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Done" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Dialog)).ToContainTextAsync("Take the media for release 7 to the machine");
        await page.GetByLabel("Note").FillAsync("in the second port");
        await page.GetByRole(AriaRole.Button, new() { Name = "Answer done" }).ClickAsync();
        await Assertions.Expect(page.Locator("main")).ToContainTextAsync("No run waits for an answer");
        foreach (var run in (await service.Client.RunsAsync("small", null, 10, Stop)).Items)
            Assert.Contains("done (in the second port)", await service.OkAsync("run", "show", run.Run), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_file_is_previewed_before_it_is_imported_and_its_problems_are_counted()
    {
        var file = Path.Combine(small.Service.Data, "annexe.csv");
        await File.WriteAllTextAsync(
            file,
            "name,site,connection,hardware.memory\nannexe-1,Annexe,simulated,16 GiB\nannexe-2,Annexe,simulated,lots\n",
            Stop
        );
        var page = await small.OpenAsync("/fleet");
        await page.GetByRole(AriaRole.Link, new() { Name = "Import machines" }).ClickAsync();
        await page.Locator("input[type=file]").First.SetInputFilesAsync(file);
        await page.GetByRole(AriaRole.Button, new() { Name = "Preview" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Alert)).ToContainTextAsync("The file does not say when its readings were seen");
        await page.GetByRole(AriaRole.Combobox, new() { Name = "When the readings were taken" }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "now", Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Preview" }).ClickAsync();
        await Assertions.Expect(page.Locator("main")).ToContainTextAsync("Would add 2 machines and update 0");
        await Assertions.Expect(page.Locator("main")).ToContainTextAsync("1 problem. Nothing has been imported yet.");
        Assert.Equal(0, (await small.Service.Client.MachinesAsync("site = Annexe", 1, Stop)).Total);
        await page.GetByRole(AriaRole.Button, new() { Name = "Import 2 machines" }).ClickAsync();
        await Assertions.Expect(page.Locator("main")).ToContainTextAsync("Added 2 machines and updated 0");
        Assert.Equal(2, (await small.Service.Client.MachinesAsync("annexe", 5, Stop)).Total);

        // Other imports of this service stand beside it: this one added 2 machines and updated none.
        await page.GetByRole(AriaRole.Row, new() { NameRegex = new(" 2 0 done ") })
            .GetByRole(AriaRole.Button, new() { NameRegex = new("^Undo the import of") })
            .ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Dialog)).ToContainTextAsync("2 machines that it added leave the fleet");
        await page.GetByLabel("Why").FillAsync("the wrong annexe");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Undo this import" }).ClickAsync();
        await Assertions.Expect(page.Locator("main")).ToContainTextAsync("undone on");
        Assert.Equal(0, (await small.Service.Client.MachinesAsync("annexe", 5, Stop)).Total);
    }

    [Fact]
    public async Task Machines_are_removed_one_by_one_or_all_that_match_and_restored()
    {
        var file = Path.Combine(small.Service.Data, "gone.csv");
        await File.WriteAllTextAsync(
            file,
            "name,site,connection\ngone-1,Pier,simulated\ngone-2,Pier,simulated\ngone-3,Pier,simulated\n",
            Stop
        );
        await small.Service.OkAsync("fleet", "import", file);
        var page = await small.OpenAsync("/machines/gone-1");
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove from fleet …" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("sold");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Remove gone-1" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Status)).ToContainTextAsync("by admin: sold");
        await page.GotoAsync(new Uri(small.Service.Url, "/fleet?filter=gone-").ToString());
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove these 2 machines from the fleet …" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Dialog)).ToContainTextAsync("gone-2, gone-3");
        await page.GetByLabel("Why").FillAsync("sold too");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Remove 2 machines" }).ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("0 machines match");
        Assert.Equal(0, (await small.Service.Client.MachinesAsync("site = Pier", 5, Stop)).Total);

        await page.GotoAsync(new Uri(small.Service.Url, "/machines/gone-2").ToString());
        await page.GetByRole(AriaRole.Button, new() { Name = "Restore …" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("bought back");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Restore gone-2" }).ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Button, new() { Name = "Remove from fleet …" })).ToBeVisibleAsync();
        Assert.Equal(["gone-2"], (await small.Service.Client.MachinesAsync("site = Pier", 5, Stop)).Items.Select(m => m.Name));
    }

    [Fact]
    public async Task Times_in_a_refusal_are_shown_in_the_viewers_zone_which_is_named()
    {
        var page = await small.OpenAsync("/fleet", zone: "Asia/Kolkata");
        await page.RouteAsync("**/api/v1/machines/desk-1", route => route.FulfillAsync(
                new()
                {
                    Status = 409,
                    ContentType = "application/problem+json",
                    Body =
                        """{"type":"refused","status":409,"detail":"desk-1 can begin between 2027-01-18 22:37 and 2027-01-19 03:00 UTC."}""",
                }
            ));
        await page.GotoAsync(new Uri(small.Service.Url, "/machines/desk-1").ToString());
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("19 Jan 2027 04:07 GMT+5:30 and");
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("19 Jan 2027 08:30 GMT+5:30.");
    }

    [Fact]
    public async Task A_draft_is_deleted_from_its_page()
    {
        var file = Path.Combine(small.Service.Data, "draft.yaml");
        await File.WriteAllTextAsync(
            file,
            (await small.Service.Client.PlanAsync("small", Stop)).Body.Replace(
                "plan: small",
                "plan: second-thoughts",
                StringComparison.Ordinal
            ),
            Stop
        );
        await small.Service.OkAsync("plan", "create", file);
        var page = await small.OpenAsync("/plans/second-thoughts");
        await page.GetByRole(AriaRole.Button, new() { Name = "Delete this draft …" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("another quarter");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Delete this draft" }).ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("/plans$"));
        Assert.DoesNotContain(await small.Service.Client.PlansAsync(Stop), p => p.Name == "second-thoughts");
    }

    [Fact]
    public async Task A_machine_that_cannot_go_is_exempted_from_its_plan_s_page()
    {
        var page = await small.OpenAsync("/plans/small?status=not-ready");
        var row = page.Locator("tr", new() { HasText = "desk-3" });
        await Assertions.Expect(row).ToContainTextAsync("Processor on the supported list");
        await row.GetByRole(AriaRole.Button, new() { Name = "Exempt desk-3" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("a new machine is on order");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Exempt" }).ClickAsync();
        await Assertions.Expect(row).ToHaveCountAsync(0);
        await page.GetByRole(AriaRole.Link, new() { Name = "show all" }).ClickAsync();
        await Assertions
            .Expect(page.Locator("tr", new() { HasText = "desk-3" }))
            .ToContainTextAsync("replaced: a new machine is on order (admin)");
    }

    [Fact]
    public async Task A_machine_is_read_again_now_and_the_gate_follows()
    {
        var page = await small.OpenAsync("/machines/desk-2");
        await Assertions.Expect(page.Locator(".check h3")).ToContainTextAsync("Security chip 2.0 present and on");
        await Assertions.Expect(page.Locator(".explain dd").First).ToContainTextAsync("firmware.tpm.state = no");
        await page.GetByRole(AriaRole.Button, new() { Name = "Update readings" }).ClickAsync();
        await Assertions.Expect(page.Locator(".explain").First).ToContainTextAsync("by simulated");
        await Assertions.Expect(page.Locator(".explain").First).ToContainTextAsync("Switch it on in the firmware menu");
    }

    [Fact]
    public async Task Where_two_sources_conflict_the_newer_counts_and_the_older_stays_on_the_page()
    {
        await using var own = await SmallDemo.StartAsync(started: false);
        var file = Path.Combine(own.Service.Data, "agent.csv");
        await File.WriteAllTextAsync(file, "name,hardware.memory\ndesk-3,4 GiB\n", Stop);
        await using (var stream = File.OpenRead(file))
            await own.Service.Client.ImportAsync(stream, new("agent", "now"), dry: false, Stop);
        var page = await small.OpenAsync("/machines/desk-3", own.Service);
        var memory = page.Locator(".check", new() { HasText = "At least 8 GiB of memory" });
        await Assertions.Expect(memory.Locator(".explain")).ToContainTextAsync("hardware.memory = 4 GiB");
        await Assertions.Expect(memory.Locator(".explain")).ToContainTextAsync("by agent");
        var reading = page.Locator("tr", new() { HasText = "hardware.memory" });
        await Assertions.Expect(reading.Locator(".differs")).ToContainTextAsync("simulated said 16 GiB");
        await reading.GetByRole(AriaRole.Button).ClickAsync();
        await Assertions.Expect(reading.Locator(".history li")).ToHaveCountAsync(2);
    }

    [Fact]
    public async Task A_must_is_waived_until_a_day_with_a_reason_and_the_gate_opens_until_then()
    {
        await using var own = await SmallDemo.StartAsync(started: false);
        var file = Path.Combine(own.Service.Data, "agent.csv");
        await File.WriteAllTextAsync(file, "name,disk.system.free\ndesk-1,20 GiB\n", Stop);
        await using (var stream = File.OpenRead(file))
            await own.Service.Client.ImportAsync(stream, new("agent", "now"), dry: false, Stop);
        var page = await small.OpenAsync("/machines/desk-1", own.Service);
        var check = page.Locator(".check", new() { HasText = "32 GiB free on the system volume" });
        await check.GetByRole(AriaRole.Button, new() { Name = "Waive" }).ClickAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        var act = dialog.GetByRole(AriaRole.Button, new() { Name = "Waive it" });
        await dialog.GetByLabel("Why").FillAsync("a second disk is on order");
        await Assertions.Expect(act).ToBeDisabledAsync();
        await dialog.GetByLabel("Until").FillAsync("soon");
        await act.ClickAsync();
        await Assertions.Expect(dialog.Locator(".form-error")).ToContainTextAsync("expected a day such as");
        await dialog.GetByLabel("Until").FillAsync($"{DateTime.UtcNow.AddDays(60):yyyy-MM-dd}");
        await act.ClickAsync();
        await Assertions.Expect(dialog).ToHaveCountAsync(0);
        await Assertions.Expect(page.Locator(".met .is-check-waived")).ToContainTextAsync("by admin until");
        await Assertions.Expect(page.Locator(".met .is-check-waived")).ToContainTextAsync("a second disk is on order");
        await Assertions.Expect(check).ToHaveCountAsync(0);
        Assert.Equal("open", (await own.Service.Client.GateAsync("desk-1", null, null, null, Stop)).Gate);
    }

    [Fact]
    public async Task Hostile_readings_are_text_on_the_page_and_run_nothing()
    {
        await using var own = await SmallDemo.StartAsync(started: false);
        var file = Path.Combine(own.Service.Data, "evil.csv");
        await File.WriteAllTextAsync(
            file,
            "name,connection,os.product,hardware.model\nevil,simulated,Brae Desktop,\"<img src=x "
                + "onerror=\"\"document.title='owned'\"\"> \u001b[31m =1+1\"\n",
            Stop
        );
        await using (var stream = File.OpenRead(file))
            await own.Service.Client.ImportAsync(stream, new("agent", "now"), dry: false, Stop);
        var page = await small.OpenAsync("/machines/evil", own.Service);
        await Assertions.Expect(page.Locator("tr", new() { HasText = "hardware.model" })).ToContainTextAsync("<img src=x onerror=");
        await Assertions.Expect(page.Locator("main img")).ToHaveCountAsync(0);
        Assert.NotEqual("owned", await page.TitleAsync());
    }

    [Fact]
    public async Task An_unknown_machine_or_run_is_told_with_what_may_be_meant()
    {
        var page = await small.OpenAsync("/machines/desk-22");
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("There is no machine 'desk-22'; did you mean 'desk-2'?");
        page = await small.OpenAsync("/runs/r999");
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("There is no run r999");
    }

    [Fact]
    public async Task Every_page_is_reached_and_worked_by_the_keyboard_alone()
    {
        var page = await small.OpenAsync("/");
        await Assertions.Expect(page.Locator("h1")).ToBeVisibleAsync();
        await page.Keyboard.PressAsync("Tab");
        await Assertions.Expect(page.Locator(".skip")).ToBeFocusedAsync();
        foreach (
            var name in new[]
            {
                "Grand Stair",
                "Overview",
                "Fleet",
                "Exposure",
                "Readiness",
                "Plans",
                "Runs",
                "Outcomes",
                "Media",
                "Access",
                "Audit",
            }
        )
        {
            await page.Keyboard.PressAsync("Tab");
            await Assertions.Expect(page.Locator(":focus")).ToHaveTextAsync(name);
        }

        await page.Keyboard.PressAsync("Tab");
        await Assertions.Expect(page.Locator(".frame .filter")).ToBeFocusedAsync();
        await page.Keyboard.TypeAsync("name = \"desk-1\"");
        await page.Keyboard.PressAsync("Enter");
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("1 machine match");
    }

    [Fact]
    public async Task When_the_service_goes_away_the_page_says_so_and_comes_back_by_itself()
    {
        await using var own = await SmallDemo.StartAsync(started: false);
        var page = await small.OpenAsync("/fleet", own.Service);
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("4 machines");
        await own.Service.KillAsync();
        await Assertions.Expect(page.Locator(".away").First).ToBeVisibleAsync(new() { Timeout = 30_000 });
        await own.Service.StartAgainAsync();
        await Assertions.Expect(page.Locator(".away")).ToHaveCountAsync(0, new() { Timeout = 40_000 });
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("4 machines");
    }
}
