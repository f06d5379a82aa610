using GrandStair.Client;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Plans as they are written, compared, approved and changed, through the client and the interface.</summary>
public sealed class PlanningTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    /// <summary>How long the steps in the slot of the method by image usually last.</summary>
    private static readonly TimeSpan SlotLength = TimeSpan.FromMinutes(77);

    private const string Plan = """
        plan: NAME
        target: { product: Brae Desktop, release: "7" }
        scope: os.product = "Brae Desktop" and os.version < 7
        methods: [update-channel, image-in-place]
        waves:
          - { name: Pilot, cover: { keys: [site, hardware.processor], prefer: tag = "pilot" } }
          - { name: Rest, approval: yes }
        windows: [{ zone: Europe/London, calendar: berths }]
        freezes: [{ sites: [Eastness], zone: Europe/London, days: [2026-12-24..2027-01-01], why: The yard is closed }]
        limits: { all: 2, site: 1 }
        advance: { verified: 100 %, failures: 0, soak: 1 d }
        approval: { by: [board] }
        change-record: NF-7
        """;

    private const string Newcomer =
        "desk-9,S9,New Quay,office,,simulated,Brae Desktop,Workplace,6.4,Ness 6,16 GiB,2.0,on,80 GiB,0,yes,NOW,100 Mbit/s,,4.2";

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private ServiceProcess Service => fleet.Service;

    /// <summary>Approves the plan as a whole, as somebody who has just looked at it.</summary>
    private static async Task<IReadOnlyList<ApprovalView>> ApproveAsync(GrandStairClient client, string plan, string reason) =>
        await client.ApproveAsync(
            plan,
            new((await client.PlanAsync(plan, Stop)).Planning.Approvals.Single(a => a.Subject == "plan").Intent, reason),
            Stop
        );

    [Fact]
    public async Task A_plan_is_compared_loaded_approved_by_another_and_asks_again_when_it_was_changed()
    {
        var own = await fleet.OwnMachinesAsync("first");
        var file = await WriteAsync("first", own);
        var compared = await Service.OkAsync("plan", "compare", file);
        Assert.Contains("first would be new, with ", compared, StringComparison.Ordinal);
        Assert.Contains("Wave Pilot covers", compared, StringComparison.Ordinal);
        Assert.DoesNotContain(await Service.Client.PlansAsync(Stop), p => p.Name == "first");
        Assert.Equal(3, (await Service.GstairAsync("plan", "load", file)).Exit);
        Assert.Contains("Loaded first, revision 1", await Service.OkAsync("plan", "load", file, "--yes"), StringComparison.Ordinal);
        await Service.Client.AcknowledgeAsync("first", new("read", null), Stop);

        await RefusedAsync("not-approved", () => Service.Client.StartAsync("first", Stop));
        await RefusedAsync("own-change", () => ApproveAsync(Service.Client, "first", "mine"));
        using var board = new GrandStairClient(Service.Url, await Calls.AccountAsync(Service, "board", ["approver"], "*"));
        using var other = new GrandStairClient(Service.Url, await Calls.AccountAsync(Service, "other", ["approver"], "*"));
        await RefusedAsync("not-asked", () => ApproveAsync(other, "first", "me too"));
        await RefusedAsync("another-intent", () => board.ApproveAsync("first", new("0000", "seen"), Stop));
        await RefusedAsync("no-approval-needed", () => board.ApproveAsync("first", new("0000", "seen", "Pilot"), Stop));
        var given = await ApproveAsync(board, "first", "talked over");
        Assert.Equal([("plan", "board"), ("wave Rest", null)], given.Select(a => (a.Subject, a.By)));
        Assert.Equal("started", (await Service.Client.StartAsync("first", Stop)).Plan.State);

        // A change of what was approved holds the plan until somebody says yes again.
        var changed = await WriteAsync("first", own, ("all: 2", "all: 4"));
        var difference = await Service.OkAsync("plan", "compare", changed);
        Assert.Contains("would become revision 2", difference, StringComparison.Ordinal);
        Assert.Contains("- limits: { all: 2, site: 1 }", difference, StringComparison.Ordinal);
        Assert.Contains("+ limits: { all: 4, site: 1 }", difference, StringComparison.Ordinal);
        Assert.Equal(3, (await Service.GstairAsync("plan", "load", changed, "--yes")).Exit);
        await Service.OkAsync("plan", "load", changed, "--yes", "--reason", "two more hands");
        var held = await Service.Client.PlanAsync("first", Stop);
        Assert.Equal(("revision 2 waits for approval", 2, 4), (held.Plan.Held, held.Planning.Revision, held.Limits.All));
        Assert.Contains("board approved revision 1", held.Planning.Approvals[0].Before, StringComparison.Ordinal);
        await RefusedAsync("not-approved", () => Service.Client.StartAsync("first", Stop));
        await ApproveAsync(board, "first", "fine");
        Assert.Null((await Service.Client.StartAsync("first", Stop)).Plan.Held);
        var waiting = (await Service.Client.MembersAsync("first", null, 2, null, 100, Stop)).Items.First(m => m.Run is null).Name;
        await Service.Client.MoveAsync("first", waiting, new("Pilot", "on loan"), Stop);
        Assert.Equal(
            $"{waiting} was moved to wave Pilot, which waits for approval",
            (await Service.Client.PlanAsync("first", Stop)).Plan.Held
        );
        Assert.Equal(
            [(1, ""), (2, "two more hands")],
            (await Service.Client.RevisionsAsync("first", Stop)).Select(r => (r.Number, r.Reason))
        );
    }

    [Fact]
    public async Task What_has_begun_stays_and_a_machine_that_is_moved_keeps_the_reason()
    {
        var own = await fleet.OwnMachinesAsync("second");
        await Service.OkAsync("plan", "load", await WriteAsync("second", own, ("approval: { by: [board] }", "")), "--yes");
        await Service.Client.AcknowledgeAsync("second", new("read", null), Stop);
        var before = await Service.Client.MembersAsync("second", null, null, null, 100, Stop);
        var machine = before.Items.First(m => m.Wave == 2).Name;
        Assert.Contains(
            $"{machine} is in wave pilot",
            await Service.OkAsync("plan", "move", "second", machine, "pilot", "--reason", "its owner asked"),
            StringComparison.Ordinal
        );
        var moved = (await Service.Client.MembersAsync("second", null, 1, null, 100, Stop)).Items.Single(m => m.Name == machine);
        Assert.Equal("admin: its owner asked", moved.Moved);
        Assert.Empty(await Service.Client.ProposalsAsync("second", Stop));
        await RefusedAsync("unknown-wave", () => Service.Client.MoveAsync("second", machine, new("Last", "why not"), Stop));
        await RefusedAsync("no-reason", () => Service.Client.MoveAsync("second", machine, new("Rest", ""), Stop));

        // A wave of it asks for an approval, so that a move before the start asks for one of the whole.
        await RefusedAsync("not-approved", () => Service.Client.StartAsync("second", Stop));
        using var mate = new GrandStairClient(Service.Url, await Calls.AccountAsync(Service, "mate", ["approver"], "*"));
        await ApproveAsync(mate, "second", "the owner asked me too");
        await Service.Client.StartAsync("second", Stop);
        while ((await Service.Client.PlanAsync("second", Stop)).Waves[0].State != "open")
            await Task.Delay(100, Stop);
        var members = (await Service.Client.MembersAsync("second", null, 1, null, 100, Stop)).Items.Select(m => m.Name).Order().ToArray();
        // The pilot has begun: it chooses nobody any more, whatever else would cover now.
        var reloaded = await WriteAsync(
            "second",
            own,
            ("approval: { by: [board] }", ""),
            ("keys: [site, hardware.processor]", "keys: [name]")
        );
        await Service.OkAsync("plan", "load", reloaded, "--yes", "--reason", "wider");
        Assert.Equal(members, (await Service.Client.MembersAsync("second", null, 1, null, 100, Stop)).Items.Select(m => m.Name).Order());
        var shuffled = await WriteAsync("second", own, ("approval: { by: [board] }", ""), ("name: Pilot", "name: Someone else"));
        Assert.Contains(
            "Wave 'Pilot' of plan 'second' has begun",
            (await Service.GstairAsync("plan", "compare", shuffled)).Error,
            StringComparison.Ordinal
        );
        var tooLate = await WriteAsync(
            "second",
            own,
            ("approval: { by: [board] }", ""),
            ("name: Pilot,", "name: Pilot, not-before: 2040-02-08 18:00,")
        );
        Assert.Contains(
            "that it begins not before 2040-02-08 18:00 changes nothing any more.",
            await Service.OkAsync("plan", "compare", tooLate),
            StringComparison.Ordinal
        );

        // A wave that needs a yes waits for it even when the one before has passed.
        Assert.Equal("waiting", (await Service.Client.PlanAsync("second", Stop)).Waves[1].State);
    }

    [Fact]
    public async Task Machines_that_came_into_the_scope_are_proposals_until_somebody_accepts_them()
    {
        await Service.OkAsync(
            "plan",
            "load",
            await WriteAsync(
                "third",
                ("approval: { by: [board] }", ""),
                ("scope: os.product", "scope: name in (\"desk-1\", \"desk-8\") and os.product")
            ),
            "--yes"
        );
        Assert.Single((await Service.Client.MembersAsync("third", null, null, null, 100, Stop)).Items);
        await ImportAsync(Newcomer.Replace("9", "8", StringComparison.Ordinal));
        var proposal = Assert.Single(await Service.Client.ProposalsAsync("third", Stop), p => p.Machine == "desk-8");
        Assert.Null(proposal.From);
        Assert.Contains("1 machine would change", await Service.OkAsync("plan", "scope-changes", "third"), StringComparison.Ordinal);
        Assert.Single((await Service.Client.MembersAsync("third", null, null, null, 100, Stop)).Items);
        await Service.OkAsync("plan", "scope-changes", "third", "--accept", "--reason", "new quay");
        Assert.Contains((await Service.Client.MembersAsync("third", null, null, null, 100, Stop)).Items, m => m.Name == "desk-8");
        Assert.Empty(await Service.Client.ProposalsAsync("third", Stop));
    }

    [Fact]
    public async Task The_schedule_tells_what_finds_no_place_and_what_would_meet_the_deadline()
    {
        var tight = await WriteAsync(
            "fourth",
            ("approval: { by: [board] }", ""),
            ("keys: [site, hardware.processor]", "keys: [os.product]"),
            ("change-record: NF-7", $"deadline: {DateTime.UtcNow:yyyy-MM-dd}")
        );
        await ImportAsync(Newcomer);
        await Service.OkAsync("plan", "load", tight, "--yes");
        var schedule = await Service.Client.ScheduleAsync("fourth", Stop);
        Assert.False(schedule.MeetsDeadline);
        Assert.NotEmpty(schedule.Changes);
        Assert.All(schedule.Waves.Where(w => w.Share is not null), w => Assert.True(w.Share >= 1 - 1e-9 && w.BoundWhy!.Length > 5));
        Assert.Contains("after the deadline", await Service.OkAsync("plan", "schedule", "fourth"), StringComparison.Ordinal);

        var board = await Service.Client.BoardAsync("fourth", null, null, Stop);
        Assert.Contains(board.Sites, s => s.Site == "Westhaven" && s.Slots.Count > 0 && s.Open.Count > 0);
        Assert.All(board.Sites.SelectMany(s => s.Slots.Select(x => (s.Open, x))), s =>
            Assert.Contains(s.Open, o => o.From <= s.x.Start && s.x.End <= o.To)
        );
        Assert.Contains("Westhaven", await Service.OkAsync("plan", "board", "fourth"), StringComparison.Ordinal);
        await RefusedAsync("board-span", () =>
            Service.Client.BoardAsync("fourth", DateTimeOffset.UtcNow, DateTimeOffset.UtcNow.AddDays(-1), Stop)
        );

        var calendar = await Service.OkAsync("plan", "slots", "fourth");
        Assert.Contains("BEGIN:VEVENT", calendar, StringComparison.Ordinal);
        Assert.Contains("desk-1", await Service.OkAsync("plan", "slots", "fourth", "--format", "csv"), StringComparison.Ordinal);
        var page = await Service.OkAsync("plan", "slots", "fourth", "--format", "html");
        Assert.Contains("<h2>Waves</h2>", page, StringComparison.Ordinal);
        Assert.Contains("Quay, north", page, StringComparison.Ordinal);
        Assert.DoesNotContain("<script", page, StringComparison.OrdinalIgnoreCase);
        Assert.DoesNotContain("desk-1", await Service.OkAsync("plan", "slots", "fourth", "--site", "Eastness"), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_plans_text_is_had_back_as_it_was_loaded_and_a_change_of_it_made_meanwhile_is_not_overwritten()
    {
        var file = await WriteAsync("texts", ("approval: { by: [board] }", "# nobody is asked"));
        await Service.OkAsync("plan", "load", file, "--yes");
        Assert.Equal(await File.ReadAllTextAsync(file, Stop), await Service.OkAsync("plan", "text", "texts"));
        var kept = fleet.Service.Write("", "kept.yaml");
        Assert.Contains("Wrote ", await Service.OkAsync("plan", "text", "texts", "--out", kept), StringComparison.Ordinal);
        await File.WriteAllTextAsync(
            kept,
            (await File.ReadAllTextAsync(kept, Stop)).Replace(
                "name: Rest,",
                "name: Rest, not-before: 2030-02-08 18:00,",
                StringComparison.Ordinal
            ),
            Stop
        );
        Assert.Contains("8 Feb 2030 18:00", await Service.OkAsync("plan", "compare", kept), StringComparison.Ordinal);
        await Service.OkAsync("plan", "load", kept, "--yes", "--reason", "after the season");
        var board = await Service.Client.BoardAsync("texts", null, null, Stop);
        Assert.Equal(
            [("Pilot", "waiting", null), ("Rest", "waiting", "2030-02-08")],
            board.Waves.Select(w => (w.Name, w.State, w.NotBefore?.ToString("yyyy-MM-dd")))
        );
        Assert.True(board.Waves[1].From is null || board.Waves[1].From > board.Waves[1].NotBefore);

        // Somebody else began with revision 1.
        await using var late = File.OpenRead(file);
        await RefusedAsync("plan-changed", () => Service.Client.LoadPlanAsync("texts", late, "mine", 1, Stop));
        Assert.Equal(2, (await Service.Client.PlanAsync("texts", Stop)).Planning.Revision);
        Assert.Equal(4, (await Service.GstairAsync("plan", "text", "textures")).Exit);
    }

    [Fact]
    public async Task A_machine_gets_a_time_that_somebody_chose_and_owners_choose_at_a_secret_address()
    {
        var day = DateTimeOffset.UtcNow.Date.AddDays(2);
        await ImportAsync(
            Newcomer.Replace("9", "11", StringComparison.Ordinal).Replace("office,", "office,quay-crew,", StringComparison.Ordinal)
                + "\n"
                + Newcomer.Replace("9", "12", StringComparison.Ordinal).Replace("office,", "office,quay-crew,", StringComparison.Ordinal),
            ("group,", "group,owner,")
        );
        await Service.OkAsync(
            "plan",
            "load",
            await WriteAsync(
                "seventh",
                ("approval: { by: [board] }", "owners: { within: 5 d, notice: 1 h }\nlead: 0 s"),
                ("scope: os.product", "scope: name in (\"desk-11\", \"desk-12\") and os.product"),
                ("cover: { keys: [site, hardware.processor], prefer: tag = \"pilot\" }", "members: os.version < 7"),
                ("zone: Europe/London, calendar: berths", $"zone: UTC, days: [{day:yyyy-MM-dd}..{day.AddDays(9):yyyy-MM-dd}]"),
                ("all: 2", "all: 1")
            ),
            "--yes"
        );
        var first = new DateTimeOffset(day, TimeSpan.Zero);
        var members = (await Service.Client.MembersAsync("seventh", null, null, null, 9, Stop)).Items;
        Assert.Equal([("desk-11", first), ("desk-12", first.Add(SlotLength))], members.Select(m => (m.Name, m.PlannedStart!.Value)));

        // Those that are only scheduled make room; those that somebody was told, or chose, do not.
        Assert.Contains(
            "other times are free",
            await Service.OkAsync("plan", "free-slots", "seventh", "desk-12"),
            StringComparison.Ordinal
        );
        var early = await Service.Client.TryTimeAsync("seventh", "desk-12", first.AddHours(-12), Stop);
        Assert.Equal(
            (null, true),
            (
                early.Slot,
                early
                    .InTheWay.Single(w => w.Contains("may not be touched then", StringComparison.Ordinal))
                    .Contains($"{day:yyyy-MM-dd} 00:00 UTC", StringComparison.Ordinal)
            )
        );
        var tried = await Service.Client.TryTimeAsync("seventh", "desk-12", first, Stop);
        Assert.Equal([("desk-11", first, first.Add(SlotLength))], tried.Moved.Select(m => (m.Machine, m.Before, m.After!.Value)));
        Assert.Equal(2, (await Service.GstairAsync("plan", "reschedule", "seventh", "desk-12", "--reason", "none")).Exit);
        Assert.Contains(
            "desk-11 makes room",
            await Service.OkAsync("plan", "reschedule", "seventh", "desk-12", $"{first:O}", "--reason", "its user starts at noon"),
            StringComparison.Ordinal
        );
        await RefusedAsync("time-taken", () =>
            Service.Client.RescheduleAsync("seventh", "desk-11", new("me too", first.AddMinutes(30)), Stop)
        );
        var chosen = (await Service.Client.MembersAsync("seventh", null, null, null, 9, Stop)).Items.Single(m => m.Name == "desk-12");
        Assert.Equal((first, "admin: its user starts at noon"), (chosen.Chosen, chosen.ChosenBy));
        var slots = (await Service.Client.BoardAsync("seventh", first, first.AddDays(1), Stop))
            .Sites.SelectMany(s => s.Slots)
            .ToDictionary(s => s.Machine);
        Assert.Equal(
            (true, first, false, first.Add(SlotLength)),
            (slots["desk-12"].Chosen, slots["desk-12"].Start, slots["desk-11"].Chosen, slots["desk-11"].Start)
        );

        // Whoever knows the address sees those slots and nothing else, and the plan says how far he may choose.
        Assert.Contains(
            "did you mean 'quay-crew'?",
            (await Service.GstairAsync("share", "create", "seventh", "owner", "quay-crews")).Error,
            StringComparison.Ordinal
        );
        var made = await Service.Client.MakeShareLinkAsync("seventh", new("owner", "Quay-Crew"), Stop);
        var at = made.Calendar[..made.Calendar.LastIndexOf('/')];
        var shared = await Calls.JsonAsync(Service, "GET", at, null);
        Assert.Equal(
            ["desk-12", "desk-11"],
            shared.GetProperty("slots").EnumerateArray().Select(s => s.GetProperty("machine").GetString())
        );
        using (var calendar = await Calls.SendAsync(Service, "GET", made.Calendar))
            Assert.Contains($"DTSTART:{first:yyyyMMdd}T000000Z", await calendar.Content.ReadAsStringAsync(Stop), StringComparison.Ordinal);
        var free = (await Calls.JsonAsync(Service, "GET", $"{at}/machines/desk-11/times", null))
            .EnumerateArray()
            .Select(t => t.GetProperty("from").GetDateTimeOffset())
            .ToArray();
        Assert.True(free.Length > 20 && free.All(f => f >= first.Add(SlotLength) && f <= first.AddDays(5)), string.Join(' ', free));
        await Calls.JsonAsync(Service, "POST", $"{at}/machines/desk-11/choose", null, new { start = free[5] });
        await ProblemAsync("not-to-be-chosen", "POST", $"{at}/machines/desk-11/choose", $$"""{"start":"{{first.AddDays(6):O}}"}""");
        await ProblemAsync("time-taken", "POST", $"{at}/machines/desk-11/choose", $$"""{"start":"{{first:O}}"}""");
        await ProblemAsync("unknown-machine", "POST", $"{at}/machines/desk-1/choose", $$"""{"start":"{{first:O}}"}""");
        var site = await Service.Client.MakeShareLinkAsync("seventh", new("site", "New Quay"), Stop);
        await ProblemAsync(
            "not-to-be-chosen",
            "POST",
            $"{site.Calendar[..site.Calendar.LastIndexOf('/')]}/machines/desk-11/choose",
            $$"""{"start":"{{free[6]:O}}"}"""
        );
        await ProblemAsync("unknown-share-link", "GET", $"{at}x", null);
        Assert.Equal(
            ("owner quay-crew: chosen by its owner", free[5]),
            (
                (await Service.Client.MembersAsync("seventh", null, null, "name = \"desk-11\"", 9, Stop)).Items[0].ChosenBy,
                (await Service.Client.MembersAsync("seventh", null, null, "name = \"desk-11\"", 9, Stop)).Items[0].Chosen
            )
        );

        // When the wave begins each has the time that was chosen; another is had at once.
        await Service.Client.AcknowledgeAsync("seventh", new("read", null), Stop);
        await Service.Client.StartAsync("seventh", Stop);
        await Eventually.TrueAsync(
            async () => (await Service.Client.MembersAsync("seventh", "scheduled", null, null, 9, Stop)).Items.Count == 2,
            TimeSpan.FromSeconds(20),
            () => "both are scheduled"
        );
        Assert.Equal(
            [("desk-12", first), ("desk-11", free[5])],
            (await Service.Client.MembersAsync("seventh", null, null, null, 9, Stop)).Items.Select(m => (m.Name, m.SlotStart!.Value))
        );
        await Service.OkAsync("plan", "reschedule", "seventh", "desk-12", $"{first.AddHours(3):O}", "--reason", "later after all");
        Assert.Equal(
            first.AddHours(3),
            (await Service.Client.MembersAsync("seventh", null, null, "name = \"desk-12\"", 9, Stop)).Items[0].SlotStart
        );
        await Service.OkAsync("plan", "reschedule", "seventh", "desk-12", "--give-up", "--reason", "any time will do");
        Assert.Null((await Service.Client.MembersAsync("seventh", null, null, "name = \"desk-12\"", 9, Stop)).Items[0].Chosen);
        await RefusedAsync("no-time-chosen", () => Service.Client.RescheduleAsync("seventh", "desk-12", new("again"), Stop));

        Assert.Contains("owner quay-crew", await Service.OkAsync("share", "list", "seventh"), StringComparison.Ordinal);
        await Service.OkAsync("share", "revoke", "seventh", made.Link.Id, "--reason", "it was passed on");
        await ProblemAsync("unknown-share-link", "GET", at, null);
        Assert.Equal(4, (await Service.GstairAsync("share", "revoke", "seventh", made.Link.Id, "--reason", "again")).Exit);
    }

    [Fact]
    public async Task A_calendar_that_is_loaded_anew_is_told_beside_the_yes_or_asks_for_another_as_the_plan_says()
    {
        var day = new DateTimeOffset(DateTimeOffset.UtcNow.Date.AddDays(30), TimeSpan.Zero);
        await TidesAsync(day);
        using var harbour = new GrandStairClient(Service.Url, await Calls.AccountAsync(Service, "harbour", ["approver"], "*"));
        await ImportAsync(
            string.Join(
                '\n',
                new[] { "21", "22" }.Select(n =>
                    Newcomer.Replace("9", n, StringComparison.Ordinal).Replace("office,", "office,tide-crew,", StringComparison.Ordinal)
                )
            ),
            ("group,", "group,owner,")
        );
        foreach (var (name, machine, asks) in new[] { ("told", "desk-21", ""), ("asked", "desk-22", ", calendars: yes") })
        {
            await Service.OkAsync(
                "plan",
                "load",
                await WriteAsync(
                    name,
                    ("by: [board]", $"by: [harbour]{asks}"),
                    ("scope: os.product", $"scope: name = \"{machine}\" and os.product"),
                    ("calendar: berths", "calendar: tides"),
                    ("change-record: NF-7", "owners: { within: 5 d, notice: 1 h }"),
                    ("- { name: Pilot, cover: { keys: [site, hardware.processor], prefer: tag = \"pilot\" } }", "- { name: Only }"),
                    ("- { name: Rest, approval: yes }", "- { name: None, count: 1 }")
                ),
                "--yes"
            );
            await Service.Client.AcknowledgeAsync(name, new("read", null), Stop);
            await ApproveAsync(harbour, name, "fine");
        }

        await Service.Client.StartAsync("asked", Stop);
        var address = await Service.Client.MakeShareLinkAsync("told", new("owner", "tide-crew"), Stop);
        var at = address.Calendar[..address.Calendar.LastIndexOf('/')];
        async Task<DateTimeOffset> BeginsAsync() =>
            (await Calls.JsonAsync(Service, "GET", at, null)).GetProperty("slots")[0].GetProperty("start").GetDateTimeOffset();
        Assert.Equal(day, await BeginsAsync());

        // The same again says nothing new.
        await TidesAsync(day);
        Assert.Empty((await Service.Client.PlanAsync("told", Stop)).Planning.Approvals[0].LoadedSince);
        await TidesAsync(day.AddDays(40));
        var told = (await Service.Client.PlanAsync("told", Stop)).Planning.Approvals[0];
        Assert.Equal(("harbour", "tides", "admin"), (told.By, told.LoadedSince.Single().Calendar, told.LoadedSince.Single().By));
        Assert.Contains(
            "since then calendar tides was loaded again by admin",
            await Service.OkAsync("plan", "approve", "told"),
            StringComparison.Ordinal
        );
        await Service.Client.StartAsync("told", Stop);
        var asked = await Service.Client.PlanAsync("asked", Stop);
        Assert.Equal(
            ("calendar tides was loaded again, which waits for approval", null, "tides"),
            (asked.Plan.Held, asked.Planning.Approvals[0].By, asked.Planning.Approvals[0].LoadedSince.Single().Calendar)
        );
        await RefusedAsync("not-approved", () => Service.Client.StartAsync("asked", Stop));
        await ApproveAsync(harbour, "asked", "the tide it is");
        Assert.Null((await Service.Client.StartAsync("asked", Stop)).Plan.Held);

        // Where the plan slips, what its owner may choose slips with it.
        await Eventually.TrueAsync(
            async () => await BeginsAsync() == day.AddDays(40),
            TimeSpan.FromSeconds(60),
            () => "the slot follows the calendar"
        );
        var choice = (await Calls.JsonAsync(Service, "GET", at, null)).GetProperty("slots")[0];
        Assert.Equal(
            (day.AddDays(35), day.AddDays(45)),
            (choice.GetProperty("chooseFrom").GetDateTimeOffset(), choice.GetProperty("chooseTo").GetDateTimeOffset())
        );
        Assert.NotEmpty((await Calls.JsonAsync(Service, "GET", $"{at}/machines/desk-21/times", null)).EnumerateArray());
    }

    [Fact]
    public async Task Some_of_a_plan_go_to_another_release_and_each_is_told_its_own()
    {
        await Service.OkAsync(
            "plan",
            "load",
            await WriteAsync(
                "eighth",
                ("approval: { by: [board] }", ""),
                ("release: \"7\"", "release: \"7\", but: [{ groups: [office], release: \"8\" }, { machines: [desk-5], release: \"7\" }]"),
                ("os.version < 7", "os.version < 8")
            ),
            "--yes"
        );
        var plan = await Service.Client.PlanAsync("eighth", Stop);
        Assert.Equal("Brae Desktop 7 (Brae Desktop 8 for group office; Brae Desktop 7 for desk-5)", plan.Plan.Target);
        async Task<string> ToAsync(string machine) =>
            (await Calls.JsonAsync(Service, "GET", $"/api/v1/machines/{machine}/gate?plan=eighth", Service.Token))
                .GetProperty("target")
                .GetString()!;
        Assert.Equal(
            ["Brae Desktop 7", "Brae Desktop 8", "Brae Desktop 7", "Brae Desktop 8"],
            [await ToAsync("desk-1"), await ToAsync("desk-4"), await ToAsync("desk-5"), await ToAsync("desk-6")]
        );
        // One that runs the others' release already has still to go to its own.
        Assert.Contains((await Service.Client.MembersAsync("eighth", null, null, null, 100, Stop)).Items, m => m.Name == "desk-6");
        var summary = await Calls.JsonAsync(Service, "GET", "/api/v1/readiness?plan=eighth", Service.Token);
        Assert.Equal((plan.Plan.Target, 0), (summary.GetProperty("target").GetString(), summary.GetProperty("arrived").GetInt32()));
        var calendar = await Service.OkAsync("plan", "slots", "eighth");
        Assert.Contains("SUMMARY:desk-1 to Brae Desktop 7 (scheduled)", calendar, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_calendar_is_loaded_told_and_missed_where_a_plan_needs_it()
    {
        var file = await WriteAsync("fifth", ("calendar: berths", "calendar: bertsh"));
        Assert.Contains(
            "there is none of that name; did you mean 'berths'?",
            (await Service.GstairAsync("plan", "compare", file)).Error,
            StringComparison.Ordinal
        );
        var wrong = await Service.GstairAsync("calendar", "load", "tides", fleet.Service.Write("high,low", "tides.ics"));
        Assert.Equal(3, wrong.Exit);
        Assert.Contains("expected the iCalendar format", wrong.Error, StringComparison.Ordinal);
        Assert.Contains("berths", await Service.OkAsync("calendar", "list"), StringComparison.Ordinal);
        Assert.Contains("BEGIN:VCALENDAR", await Service.OkAsync("calendar", "show", "berths"), StringComparison.Ordinal);
        Assert.Equal(4, (await Service.GstairAsync("calendar", "show", "berth")).Exit);
    }

    [Fact]
    public async Task A_plan_is_checked_without_a_service_down_to_the_line()
    {
        var file = fleet.Service.Write(
            Plan.Replace("NAME", "sixth", StringComparison.Ordinal)
                .Replace("keys: [site,", "keys: [sitte,", StringComparison.Ordinal)
                .Replace("all: 2", "all: none", StringComparison.Ordinal),
            "sixth.yaml"
        );
        var checkedOffline = await Service.GstairAsync("plan", "check", file, "--catalogue", Path.Combine(Repository.Root, "catalogue"));
        Assert.Equal(3, checkedOffline.Exit);
        Assert.Contains("sixth.yaml:6", checkedOffline.Error, StringComparison.Ordinal);
        Assert.Contains("did you mean 'site'?", checkedOffline.Error, StringComparison.Ordinal);
        Assert.Contains("sixth.yaml:10", checkedOffline.Error, StringComparison.Ordinal);
    }

    private async Task<string> WriteAsync(string name, params (string From, string To)[] changes)
    {
        await Service.Client.LoadCalendarAsync("berths", new MemoryStream(System.Text.Encoding.UTF8.GetBytes(BusyFleet.Berths)), Stop);
        return fleet.Service.Write(
            changes.Aggregate(Plan.Replace("NAME", name, StringComparison.Ordinal), (text, c) =>
                text.Replace(c.From, c.To, StringComparison.Ordinal)
            ),
            $"{name}.yaml"
        );
    }

    /// <summary>Loads a calendar that is open for nine days from a day on.</summary>
    private Task TidesAsync(DateTimeOffset from) =>
        Service.OkAsync(
            "calendar",
            "load",
            "tides",
            fleet.Service.Write(
                $"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//test//EN\r\nBEGIN:VEVENT\r\nUID:tide\r\nDTSTAMP:20260101T000000Z\r\n"
                    + $"DTSTART:{from:yyyyMMdd}T000000Z\r\nDURATION:P9D\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
                "tides.ics"
            )
        );

    private async Task ProblemAsync(string name, string method, string path, string? body) =>
        Assert.Equal(name, (await Calls.OutcomeAsync(Service, method, path, null, body)).Problem);

    private Task ImportAsync(string line, (string From, string To) head = default) =>
        Service.GstairAsync(
            "fleet",
            "import",
            fleet.Service.Write(
                $"{SmallFleet.Csv.Split('\n')[0].Replace(head.From ?? "\n", head.To, StringComparison.Ordinal)}\n"
                    + $"{line.Replace("NOW", $"{DateTimeOffset.UtcNow:yyyy-MM-ddTHH:mm:ssZ}", StringComparison.Ordinal)}\n",
                "more.csv"
            ),
            "--seen",
            "now"
        );

    private static async Task RefusedAsync(string name, Func<Task> call) =>
        Assert.Equal(name, (await Assert.ThrowsAsync<ServiceException>(call)).Name);
}
