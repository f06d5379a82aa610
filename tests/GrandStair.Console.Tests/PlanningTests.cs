using GrandStair.Contracts;
using GrandStair.Files.Calendars;
using GrandStair.Testing;
using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>
/// Plans in the console: whether they end in time, what a pilot stands for, sites over time, and their calendars as others read them.
/// </summary>
public sealed class PlanningTests(ConsoleFixture demo) : IClassFixture<ConsoleFixture>
{
    private const string Plan = "winter-crossing";

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_plan_says_whether_it_ends_in_time_and_what_its_pilot_does_not_stand_for()
    {
        var page = await demo.OpenAsync($"/plans/{Plan}");
        await Assertions.Expect(page.Locator(".before-and-pilot")).ToContainTextAsync("in time for 31 March");
        await Assertions.Expect(page.Locator(".before-and-pilot")).ToContainTextAsync("It cannot end before");
        var bridges = page.Locator(".before-and-pilot a", new() { HasText = "os.edition = Bridge" });
        await Assertions.Expect(bridges).ToBeVisibleAsync();
        await bridges.ClickAsync();
        await Assertions.Expect(page.Locator("h1")).ToHaveTextAsync("12 machines match");
    }

    [Fact]
    public async Task Sites_over_time_show_windows_freezes_and_slots_that_lead_to_their_machines()
    {
        var page = await demo.OpenAsync($"/plans/{Plan}/board");
        await Assertions.Expect(page.Locator(".board .site")).ToHaveCountAsync(11);
        await Assertions.Expect(page.Locator(".board .open").First).ToBeVisibleAsync();
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("slots from");
        await page.GotoAsync(new Uri(demo.Service.Url, $"/plans/{Plan}/board?site=mv+").ToString());
        await Assertions.Expect(page.Locator(".board .site")).ToHaveTextAsync(["MV Fulmar", "MV Gannet", "MV Kittiwake", "MV Puffin"]);
        await page.GotoAsync(new Uri(demo.Service.Url, $"/plans/{Plan}/board?from=2027-02-01T00:00:00Z&days=7").ToString());
        await Assertions.Expect(page.Locator(".board .closed")).ToHaveCountAsync(2);
        await Assertions.Expect(page.Locator(".board .closed title").First).ToContainTextAsync("The winter regatta");
        await page.GetByRole(AriaRole.Button, new() { Name = "Earlier" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Earlier" }).ClickAsync();
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("from=2027-01-18"));
        // Until then the weeks before are still shown.
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("slots from 18 January");
        var slot = page.Locator(".board .slot rect").First;
        var name = (await slot.GetAttributeAsync("aria-label"))!.Split(',')[0];
        await slot.FocusAsync();
        await page.Keyboard.PressAsync("Enter");
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex($"/machines/{name}"));
    }

    [Fact]
    public async Task A_machine_is_moved_to_another_wave_with_a_reason_that_is_shown()
    {
        var page = await demo.OpenAsync($"/plans/{Plan}?wave=3&status=ready");
        var row = page.Locator("tbody tr", new() { HasText = "deck-" }).Last;
        var name = await row.Locator("code").First.InnerTextAsync();
        await row.GetByRole(AriaRole.Button, new() { Name = "Move" }).ClickAsync();
        await page.GetByLabel("To wave").First.ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "Terminals" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("it is ashore this month");
        await page.GetByRole(AriaRole.Button, new() { Name = "Move", Exact = true }).Last.ClickAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Dialog)).ToHaveCountAsync(0);
        await page.GotoAsync(new Uri(demo.Service.Url, $"/plans/{Plan}?wave=2").ToString());
        await Assertions
            .Expect(page.Locator("tbody tr", new() { HasText = name }))
            .ToContainTextAsync("Moved here by planner: it is ashore this month.");
    }

    [Fact]
    public async Task A_machine_that_is_dragged_to_another_time_says_what_is_in_the_way_and_gets_one_that_is_free()
    {
        var page = await demo.OpenAsync($"/plans/{Plan}/board");
        var slot = page.Locator(".board .is-scheduled .movable, .board .is-ready .movable").Last;
        var name = (await slot.GetAttributeAsync("aria-label"))!.Split(',')[0];
        await slot.ScrollIntoViewIfNeededAsync();
        var at = (await slot.BoundingBoxAsync())!;
        await page.Mouse.MoveAsync(at.X + 2, at.Y + 2);
        await page.Mouse.DownAsync();
        await page.Mouse.MoveAsync(at.X - 60, at.Y + 2);
        await page.Mouse.MoveAsync(at.X - 80, at.Y + 2);
        await Assertions.Expect(page.Locator(".board .ghost")).ToContainTextAsync("outside its windows");
        await page.Mouse.UpAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        await Assertions.Expect(dialog).ToContainTextAsync($"Reschedule {name}");
        await Assertions.Expect(dialog.Locator(".trial")).ToContainTextAsync("may not be touched then");
        await Assertions.Expect(dialog.GetByRole(AriaRole.Button, new() { Name = "Reschedule" })).ToBeDisabledAsync();
        var free = dialog.Locator(".free-slots button").Last;
        var wanted = await free.GetAttributeAsync("aria-label");
        await free.ClickAsync();
        await Assertions.Expect(dialog.Locator(".trial")).ToContainTextAsync("Available.");
        await dialog.GetByLabel("Why").FillAsync("its user is away that night");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Reschedule" }).ClickAsync();
        await Assertions.Expect(dialog).ToHaveCountAsync(0);
        await page.GotoAsync(new Uri(demo.Service.Url, $"/plans/{Plan}").ToString());
        await Assertions.Expect(page.Locator("tbody tr", new() { HasText = name })).ToContainTextAsync($"{wanted}");
        await Assertions
            .Expect(page.Locator("tbody tr", new() { HasText = name }).Locator("[title^='Scheduled by planner']"))
            .ToContainTextAsync("manual");
    }

    [Fact]
    public async Task An_owner_without_an_account_chooses_a_time_at_the_address_that_he_was_given_until_it_is_ended()
    {
        var page = await demo.OpenAsync($"/plans/{Plan}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Create share link" }).ClickAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Which one" }).FillAsync("deck-it");
        await page.GetByRole(AriaRole.Dialog).Locator("h2, header").First.ClickAsync();
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Create" }).ClickAsync();
        var address = await page.Locator(".share-link-secret code").First.InnerTextAsync();

        page = await demo.OpenAsync(new Uri(address).PathAndQuery, signedIn: false);
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("deck-it: ");
        var row = page.Locator("tbody tr", new() { Has = page.GetByRole(AriaRole.Button, new() { Name = "Reschedule" }) }).Last;
        var name = await row.Locator("code").InnerTextAsync();
        await row.GetByRole(AriaRole.Button, new() { Name = "Reschedule" }).ClickAsync();
        // What stands there instead is told when it fails.
        await Assertions.Expect(page.Locator("tr.choice")).ToContainTextAsync("Free");
        var free = page.Locator(".free-slots button").Last;
        var wanted = await free.GetAttributeAsync("aria-label");
        await free.ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = $"Begin {wanted}" }).ClickAsync();
        await Assertions.Expect(page.Locator("tbody tr", new() { HasText = name })).ToContainTextAsync($"{wanted} manually chosen");

        page = await demo.OpenAsync($"/plans/{Plan}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Revoke", Exact = true }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("he has left");
        await page.GetByRole(AriaRole.Button, new() { Name = "Revoke link" }).ClickAsync();
        await Assertions.Expect(page.GetByText("No links yet.")).ToBeVisibleAsync();
        page = await demo.OpenAsync(new Uri(address).PathAndQuery, signedIn: false);
        await Assertions.Expect(page.GetByText("This link is unknown or was revoked.")).ToBeVisibleAsync();
    }

    [Fact]
    public async Task Our_calendars_say_the_same_to_an_independent_parser()
    {
        var file = Path.Combine(demo.Service.Data, "slots.ics");
        async Task<MemberRow[]> TimedAsync() =>
            [
                .. (await demo.Service.Client.MembersAsync(Plan, null, null, null, 1000, Stop)).Items.Where(m =>
                    (m.SlotStart ?? m.PlannedStart) is not null
                ),
            ];
        var timed = await TimedAsync();
        // What is scheduled changes as things happen: the calendar is one of a time at which nothing did.
        await Eventually.TrueAsync(
            async () =>
            {
                await using (var slots = await demo.Service.Client.SlotsAsync(Plan, "ics", null, null, null, null, Stop))
                await using (var to = File.Create(file))
                    await slots.CopyToAsync(to, Stop);
                var before = timed;
                timed = await TimedAsync();
                return timed
                    .Select(m => (m.Id, m.SlotStart ?? m.PlannedStart))
                    .SequenceEqual(before.Select(m => (m.Id, m.SlotStart ?? m.PlannedStart)));
            },
            TimeSpan.FromSeconds(30),
            () => "nothing is scheduled anew while the calendar is fetched"
        );
        var read = await ReadAsync("events", file);
        Assert.Equal(timed.Length, read.GetArrayLength());
        foreach (var e in read.EnumerateArray())
        {
            var member = timed.Single(m => e.GetProperty("uid").GetString() == $"{m.Id}@{Plan}.grandstair");
            Assert.Equal(
                (member.SlotStart ?? member.PlannedStart)!.Value.UtcDateTime,
                e.GetProperty("start").GetDateTime().ToUniversalTime(),
                TimeSpan.FromSeconds(1)
            );
            Assert.Equal(member.Site, e.GetProperty("where").GetString());
            Assert.StartsWith(member.Name, e.GetProperty("summary").GetString(), StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task The_recurrence_examples_of_the_standard_fall_on_the_same_days_for_us_and_for_an_independent_parser()
    {
        // The 20th Monday of a year is not among them: the other parser does not know it.
        string[] rules =
        [
            "FREQ=DAILY;COUNT=10",
            "FREQ=DAILY;UNTIL=19971224T000000",
            "FREQ=DAILY;INTERVAL=2;COUNT=40",
            "FREQ=DAILY;INTERVAL=10;COUNT=5",
            "FREQ=YEARLY;UNTIL=20000131T140000;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA",
            "FREQ=WEEKLY;COUNT=10",
            "FREQ=WEEKLY;INTERVAL=2;WKST=SU;COUNT=20",
            "FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH",
            "FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000;WKST=SU;BYDAY=MO,WE,FR",
            "FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH",
            "FREQ=MONTHLY;COUNT=10;BYDAY=1FR",
            "FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU",
            "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO",
            "FREQ=MONTHLY;BYMONTHDAY=-3;COUNT=12",
            "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15",
            "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1",
            "FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15",
            "FREQ=MONTHLY;INTERVAL=2;BYDAY=TU;COUNT=20",
            "FREQ=YEARLY;COUNT=10;BYMONTH=6,7",
            "FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3",
            "FREQ=YEARLY;BYMONTH=3;BYDAY=TH;COUNT=12",
            "FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8;COUNT=20",
            "FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13;COUNT=5",
            "FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13;COUNT=10",
            "FREQ=MONTHLY;BYDAY=TU,WE,TH;BYSETPOS=3",
            "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2",
        ];
        const string start = "1997-09-02T09:00:00";
        var file = Path.Combine(demo.Service.Data, "rules.txt");
        await File.WriteAllLinesAsync(file, rules.Select(r => $"{start} {r}"), Stop);
        var theirs = (await ReadAsync("rules", file)).EnumerateArray().ToArray();
        foreach (var (rule, found) in rules.Zip(theirs))
        {
            var calendar = CalendarFile.Parse(
                $"BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//test//EN\nBEGIN:VEVENT\nUID:one\nDTSTAMP:19970101T000000Z\n"
                    + $"DTSTART:19970902T090000\nDURATION:PT1H\nRRULE:{rule}\nEND:VEVENT\nEND:VCALENDAR\n",
                "rule.ics"
            );
            var begin = new DateTimeOffset(1997, 8, 1, 0, 0, 0, TimeSpan.Zero);
            var ours = calendar
                .Between(begin, begin.AddYears(25), NodaTime.DateTimeZone.Utc)
                .Select(s => s.From.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ss", System.Globalization.CultureInfo.InvariantCulture))
                .Order(StringComparer.Ordinal);
            // That the first event counts even where the rule leaves it out is said otherwise by each; all others have to agree.
            Assert.Equal(
                (rule, string.Join(' ', found.EnumerateArray().Select(f => f.GetString()).Where(f => f != start).Take(39))),
                (rule, string.Join(' ', ours.Where(o => o != start).Take(39)))
            );
        }
    }

    private static async Task<System.Text.Json.JsonElement> ReadAsync(string what, string file)
    {
        var ran = await Shell.RunAsync("node", [Path.Combine(Repository.Root, "console", "check-calendars.mjs"), what, file]);
        Assert.True(ran.Exit == 0, ran.Error);
        return System.Text.Json.JsonDocument.Parse(ran.Out).RootElement;
    }
}
