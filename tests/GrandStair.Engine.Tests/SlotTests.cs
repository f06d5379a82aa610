using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Durations;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>Slots as they are kept when plans run: clusters, crews, and calendars that change.</summary>
public sealed class SlotTests
{
    private const string Day =
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//test//EN\r\nBEGIN:VEVENT\r\nUID:one\r\nDTSTAMP:20270101T000000Z\r\n"
        + "DTSTART:202701DAYT180000Z\r\nDURATION:PT8H\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";

    [Fact]
    public async Task Machines_of_one_unit_never_go_at_once_and_a_crew_has_no_more_than_its_hands()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(4, i => i <= 2 ? [("cluster", "pair")] : []);
        await kit.PlanAsync(
            EngineKit
                .Plan.Replace(
                    "methods: [image-in-place]",
                    "methods: [carried-media]\ncrews: [{ name: shore-party, kind: terminal-it, hands: 2, zone: Europe/London, weekly: "
                        + "[\"Mon-Sun 00:00-00:00\"] }]",
                    StringComparison.Ordinal
                )
                .Replace("all: 3, site: 2", "all: 9, site: 9", StringComparison.Ordinal)
        );
        kit.StartWorker();
        await kit.AskedAsync(4);
        foreach (var run in await kit.StatesAsync())
            await kit.RunCommands.AnswerAsync(run.Run, null, true, "", new("shore-party"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        var members = await kit.Plans.MembersAsync("small", EngineKit.Stop);
        Assert.All(members, m => Assert.Equal("shore-party", m.Slot!.Crew));
        // A slot that was missed on a busy machine is no time in which it goes.
        var spans = (await kit.StatesAsync())
            .SelectMany(r =>
                r.Phases.Where(p => p.Phase is Phase.Protect or Phase.Apply or Phase.Verify)
                    .Select(p => (r.Machine, p.From, To: p.To!.Value))
            )
            .ToArray();
        var pair = (await kit.Fleet.AllAsync(EngineKit.Stop))
            .Values.Where(m => m.TextOf("cluster") == "pair")
            .Select(m => m.Id.Value)
            .ToHashSet();
        Assert.All(spans, s =>
        {
            var others = spans.Where(o => o.From <= s.From && s.From < o.To).Select(o => o.Machine).ToHashSet();
            Assert.InRange(others.Count, 1, 2);
            Assert.InRange(others.Count(pair.Contains), 0, 1);
        });
    }

    [Fact]
    public async Task Staging_comes_over_a_line_one_machine_after_the_other_and_one_that_waits_for_it_can_be_cancelled()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(8);
        await kit.PlanAsync(
            EngineKit
                .Plan.Replace(
                    "limits:",
                    "stage-ahead: 36 h\nuplinks: [{ sites: [Site 0, Site 1], rate: 100 Mbit/s }]\nlimits:",
                    StringComparison.Ordinal
                )
                .Replace("all: 3, site: 2", "all: 9, site: 9", StringComparison.Ordinal)
        );
        kit.StartWorker();
        await kit.UntilAsync(async () => (await kit.StatesAsync()).Count(s => s.Phase == Phase.Stage) >= 3, () => "several want the line");
        var waits = (await kit.StatesAsync()).Where(s => s.Phase == Phase.Stage).MaxBy(s => s.Run)!;
        await kit.RunCommands.DecideAsync(waits.Run, Decision.Cancel, "its owner is away", atOnce: true, new("planner"), EngineKit.Stop);
        await kit.WaitAsync(
            members => members.Count(m => m.Verified is not null) == 7 && members.Count(m => m.Status == Status.Stopped) == 1,
            "seven are verified, one is cancelled"
        );
        var machines = await kit.Fleet.AllAsync(EngineKit.Stop);
        var ended = new List<(string Site, OrderEnded Fetched)>();
        foreach (var run in await kit.StatesAsync())
            ended.AddRange(
                (await kit.Runs.EventsAsync(run.Run, EngineKit.Stop))
                    .Select(e => e.Event)
                    .OfType<OrderEnded>()
                    .Where(e => e.Order.Step == "fetch-image")
                    .Select(e => (machines[new(run.Machine)].Site, e))
            );
        Assert.Equal(2, ended.Select(e => e.Site).Distinct().Count());
        // Each begins only when the one before it has ended, and so ends at least as long after it as it lasts itself.
        foreach (var site in ended.GroupBy(e => e.Site, e => e.Fetched))
        {
            var inOrder = site.OrderBy(e => e.At).ToArray();
            Assert.All(inOrder.Zip(inOrder.Skip(1)), pair =>
                Assert.True(
                    pair.Second.At - pair.First.At >= pair.Second.Lasted,
                    $"{pair.First.At:T} and {pair.Second.At:T}, which lasted {pair.Second.Lasted}"
                )
            );
        }
    }

    [Fact]
    public async Task Slots_last_as_long_as_machines_of_that_model_have_taken_once_some_have_gone()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(8, i =>
            [("hardware.model", i % 2 == 0 ? "Beck 5" : "Tarn 3"), ("truth.slowness", i % 2 == 0 ? "1.9" : "0.8")]
        );
        await kit.PlanAsync(
            EngineKit
                .Plan.Replace("[{ name: All }]", "[{ name: First, count: 6 }, { name: Rest }]", StringComparison.Ordinal)
                .Replace("soak: 1 d", "soak: 6 h", StringComparison.Ordinal)
                .Replace("all: 3, site: 2", "all: 9, site: 9", StringComparison.Ordinal)
        );
        var method = kit.CatalogueCache.Products["Brae Desktop"].Method("image-in-place")!;
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        var machines = await kit.Fleet.AllAsync(EngineKit.Stop);
        var lasts = (await kit.Plans.MembersAsync("small", EngineKit.Stop)).ToDictionary(
            m => machines[m.Machine].Name,
            m => m.Slot!.End - m.Slot.Start
        );
        Assert.All(lasts.Where(l => l.Key is not ("desk-7" or "desk-8")), l => Assert.Equal(method.Typical.Slot, l.Value));
        Assert.True(
            lasts["desk-7"] < lasts["desk-8"] * 0.85 && lasts["desk-8"] > method.Typical.Slot * 1.2,
            $"{lasts["desk-7"]}, {lasts["desk-8"]}, {method.Typical.Slot}"
        );
    }

    [Fact]
    public async Task One_that_is_still_at_it_when_its_slot_is_over_takes_room_until_it_has_ended()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(2, i => i == 1 ? [("truth.slowness", "4")] : []);
        await kit.PlanAsync(
            EngineKit
                .Plan.Replace("[{ name: All }]", "[{ name: First, count: 1 }, { name: Rest }]", StringComparison.Ordinal)
                .Replace("all: 3, site: 2", "all: 1", StringComparison.Ordinal)
                .Replace("soak: 1 d", "soak: 0 s", StringComparison.Ordinal)
        );
        kit.StartWorker();
        await kit.WaitAsync(
            members => members[0] is { Status: Status.Running, Slot: { } slot } && slot.End < kit.Clock.GetUtcNow(),
            "the first overruns its slot"
        );
        var (asked, draft) = (
            kit.Clock.GetUtcNow(),
            await kit.Writer.DraftAsync((await kit.Plans.FindAsync("small", EngineKit.Stop))!.Body, SiteScope.All, EngineKit.Stop)
        );
        Assert.True(draft.Taken.Single().Slot.End > asked);
        Assert.True(draft.PlanSchedule.All.Single().Slot!.Start >= draft.Taken.Single().Slot.End);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
    }

    [Fact]
    public async Task Machines_that_missed_their_slots_together_get_others_within_the_limits()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(8);
        await kit.PlanAsync(EngineKit.Plan.Replace("Mon-Sun 00:00-00:00", "Mon-Sun 18:00-23:00", StringComparison.Ordinal));
        kit.StartWorker();
        await kit.WaitAsync(
            members => members.All(m => m is { Status: Status.Scheduled or Status.Running, Run: not null }),
            "all have a run"
        );
        // A hold over the night: all whose slot has not opened miss it together.
        await kit.Commands.HoldAsync("small", "storm", new("planner"), EngineKit.Stop);
        await kit.UntilAsync(
            async () =>
                (await kit.Plans.MembersAsync("small", EngineKit.Stop))
                    .Where(m => m.Status == Status.Scheduled)
                    .All(m => m.Slot!.LatestTurn < kit.Clock.GetUtcNow()),
            () => "their slots are over"
        );
        await kit.Commands.StartAsync("small", new("planner"), EngineKit.Stop);
        await kit.WaitAsync(
            members =>
                members.Where(m => m.Status == Status.Scheduled).All(m => m.Missed > 0 && m.Slot!.LatestTurn > kit.Clock.GetUtcNow()),
            "they have others"
        );
        var slots = (await kit.Plans.MembersAsync("small", EngineKit.Stop))
            .Where(m => m.Status is Status.Scheduled or Status.Running)
            .Select(m => m.Slot!)
            .ToArray();
        Assert.True(slots.Length > 3, $"{slots.Length} slots");
        Assert.All(slots, s => Assert.InRange(slots.Count(o => o.Start <= s.Start && s.Start < o.End), 1, 3));
    }

    [Fact]
    public async Task A_wave_waits_until_it_may_begin_and_a_revision_lets_it_go_earlier()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(4);
        var body = EngineKit
            .Plan.Replace(
                "[{ name: All }]",
                "[{ name: First, count: 2 }, { name: Rest, not-before: 2027-06-01 }]",
                StringComparison.Ordinal
            )
            .Replace("soak: 1 d", "soak: 1 h", StringComparison.Ordinal);
        await kit.PlanAsync(body);
        var draft = await kit.Writer.DraftAsync(body, SiteScope.All, EngineKit.Stop);
        Assert.Equal(new DateTimeOffset(2027, 6, 1, 0, 0, 0, TimeSpan.Zero), draft.PlanSchedule.Waves[1].From);
        kit.StartWorker();
        async Task<WaveProgress> RestAsync() => (await kit.Plans.FindAsync("small", EngineKit.Stop))!.Waves[1];
        await kit.UntilAsync(async () => (await RestAsync()).Why == "it does not begin before 2027-06-01 00:00 UTC", () => "it waits");
        Assert.Equal(WaveState.Waiting, (await RestAsync()).State);
        await kit.Writer.ReviseAsync(
            body.Replace("2027-06-01", "2027-01-11", StringComparison.Ordinal),
            1,
            "the berth is free now",
            new("planner"),
            EngineKit.Stop
        );
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "all are verified");
        var refused = await Assert.ThrowsAsync<RefusedException>(() =>
            kit.Writer.ReviseAsync(body, 1, "from an old text", new("planner"), EngineKit.Stop)
        );
        Assert.Equal("plan-changed", refused.Name);
    }

    [Fact]
    public async Task Where_missed_slots_are_not_caught_up_by_themselves_a_person_decides()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(1);
        await kit.PlanAsync(EngineKit.Plan + "\ncatch-up: 0\n");
        var worker = kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m.Run is not null), "its run is open");
        await worker.CancelAsync();
        var slot = (await kit.Plans.MembersAsync("small", EngineKit.Stop))[0].Slot!;
        await kit.PassAsync(slot.LatestTurn.AddDays(1));
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m is { Status: Status.Parked, Missed: 1 }), "it is parked");
        var run = Assert.Single(await kit.StatesAsync());
        Assert.Contains("(found: 1 missed, 0 caught up)", run.Parked, StringComparison.Ordinal);
        Assert.Equal(slot, run.Slot);
        await kit.RunCommands.DecideAsync(run.Run, Decision.Retry, "it is back", atOnce: true, new("planner"), EngineKit.Stop);
        await kit.WaitAsync(members => members.All(m => m.Verified is not null), "it is verified in another slot");
    }

    [Fact]
    public async Task A_slot_that_was_given_keeps_its_time_and_length_whatever_was_measured_since()
    {
        await using var kit = await EngineKit.StartAsync();
        // All are slow, and all have their slots before that is known.
        await kit.AddMachinesAsync(12, i => [("truth.slowness", "1.8")]);
        var body = EngineKit
            .Plan.Replace("Mon-Sun 00:00-00:00", "Mon-Sun 15:00-19:00", StringComparison.Ordinal)
            .Replace("all: 3, site: 2", "all: 2, site: 1", StringComparison.Ordinal)
            .Replace("lead: 0 s", "lead: 0 s\nstage-ahead: 2 h", StringComparison.Ordinal);
        await kit.PlanAsync(body);
        kit.StartWorker();
        await kit.WaitAsync(members => members.Count(m => m.Verified is not null) >= 3, "some are verified");
        var given = (await kit.Plans.MembersAsync("small", EngineKit.Stop))
            .Where(m => m is { Run: null, Slot: not null })
            .ToDictionary(m => m.Machine, m => m.Slot!);
        Assert.NotEmpty(given);
        // What was measured is learnt anew only now and then; here it is asked for afresh.
        var measured = new MeasuredRuns(kit.Runs, kit.Plans, kit.CatalogueCache, kit.Fleet, new(kit.Database), kit.Clock);
        var draft = await kit.WriterBy(measured).DraftAsync(body, SiteScope.All, EngineKit.Stop);
        var method = draft.Product.Method("image-in-place")!;
        Assert.True(
            (await measured.ExperienceAsync(draft.Product, EngineKit.Stop)).Lengths("6-to-7", method, "").Slot > method.Typical.Slot
        );
        Assert.Empty(draft.PlanSchedule.Waves.SelectMany(w => w.Schedule.Moved));
        Assert.All(draft.PlanSchedule.All.Where(p => given.ContainsKey(p.Machine)), p =>
            Assert.Equal((given[p.Machine].Start, given[p.Machine].End), (p.Slot!.Start, p.Slot.End))
        );
    }

    [Fact]
    public async Task A_calendar_that_is_loaded_anew_moves_the_slots_that_no_longer_fit_and_no_others()
    {
        await using var kit = await EngineKit.StartAsync();
        await kit.AddMachinesAsync(4);
        await kit.Calendars.PutAsync("berths", Day.Replace("DAY", "12", StringComparison.Ordinal), new("planner"), EngineKit.Stop);
        // Those of Site 0 go by the calendar and those of Site 1 by the clock; one of each has a run that waits for its slot, as staging
        // begins two days ahead.
        await kit.PlanAsync(
            EngineKit
                .Plan.Replace(
                    "windows: [{",
                    "stage-ahead: 36 h\nwindows: [{ sites: [Site 0], zone: UTC, calendar: berths }, {",
                    StringComparison.Ordinal
                )
                .Replace("Mon-Sun 00:00-00:00", "Tue 18:00-02:00", StringComparison.Ordinal)
        );
        kit.StartWorker();
        await kit.WaitAsync(members => members.All(m => m is { Status: Status.Scheduled, Run: not null }), "all have a run that waits");
        await kit.UntilAsync(async () => (await kit.StatesAsync()).All(s => s.Phase == Phase.Wait), () => "all wait for their slots");
        var before = (await kit.Plans.MembersAsync("small", EngineKit.Stop)).ToDictionary(m => m.Machine, m => m.Slot!);
        await kit.Calendars.PutAsync("berths", Day.Replace("DAY", "14", StringComparison.Ordinal), new("planner"), EngineKit.Stop);
        await kit.WaitAsync(members => members.Count(m => m.Slot!.Start.Day == 14) == 2, "those of the calendar have moved");
        var machines = await kit.Fleet.AllAsync(EngineKit.Stop);
        Assert.All(await kit.Plans.MembersAsync("small", EngineKit.Stop), m =>
            Assert.Equal(machines[m.Machine].Site == "Site 0" ? 14 : before[m.Machine].Start.Day, m.Slot!.Start.Day)
        );
        var moved = (await kit.StatesAsync()).First(s => s.Slot.Start.Day == 14);
        Assert.Contains((await kit.Runs.EventsAsync(moved.Run, EngineKit.Stop)).Select(e => e.Event).OfType<SlotMoved>(), e =>
            e.Reason == "its windows were changed"
        );
        Assert.All(await kit.StatesAsync(), s => Assert.Equal(0, s.MissedSlots));
    }
}
