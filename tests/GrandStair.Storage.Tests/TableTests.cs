using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Storage.Calendars;
using GrandStair.Storage.Checks;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Media;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using GrandStair.Storage.Scripts;
using GrandStair.Storage.Secrets;
using Xunit;

namespace GrandStair.Storage.Tests;

/// <summary>What each table keeps and gives back, and what it leaves as it was.</summary>
public abstract partial class StoreTests
{
    private static readonly Actor Planner = new("planner");

    [Fact]
    public async Task An_import_that_is_undone_gives_back_the_readings_that_it_replaced()
    {
        await ImportAsync([Machine("desk-1", "S1", ("os.version", "6.4"))]);
        var imports = new ImportTable(Database);
        var import = await imports.BeginAsync("digest", null, "import", new("planner"), 2, Now, Stop);
        ReportedMachine[] later =
        [
            Machine("desk-1", "S1") with
            {
                Seen = Now.AddHours(1),
                Report = Report("import", Now.AddHours(1), ("os.version", "6.5")),
            },
            Machine("desk-2", "S2"),
        ];
        await Fleet.ImportAsync(later, "import", new("planner"), Now.AddHours(1), Stop, import.Id);
        var undone = await new RemovalTable(Database).UndoAsync(import.Id, "wrong file", new("planner"), Now.AddHours(2), Stop);
        Assert.Equal((1, 1), (undone.Removed, undone.Restored));
        var machine = (await Fleet.ChangedAsync(0, Stop)).Machines.Single(m => m.IsInFleet);
        Assert.Equal("6.4", machine.TextOf("os.version"));
        Assert.Equal(["6.4"], (await Fleet.HistoryAsync(machine.Id, "os.version", Stop)).Select(r => r.Value!.Text));
    }

    [Fact]
    public async Task A_baseline_stays_once_a_plan_has_started_and_a_draft_s_is_that_of_its_newest_revision()
    {
        await PlanAsync("desk-1");
        var member = (await Plans.MembersAsync(Plan, Stop))[0] with { PlannedEnd = Now.AddDays(1) };
        var started = (await Plans.FindAsync(Plan, Stop))!;
        await Plans.ReviseAsync(started with { Revision = 2, Body = "plan: winter, earlier" }, [member], "x", Planner, Now, Stop);
        await Plans.ReviseAsync(
            started with
            {
                Revision = 3,
                Body = "plan: winter, later",
            },
            [member with { PlannedEnd = Now.AddDays(9) }],
            "x",
            Planner,
            Now,
            Stop
        );
        Assert.Equal(Now.AddDays(1), (await Plans.MembersAsync(Plan, Stop))[0].PlannedEnd);

        var draft = started with { Name = "draft", State = PlanStatus.Drafted, Started = null, Body = "plan: draft" };
        await Plans.CreateAsync(draft, [member with { Plan = "draft" }], Planner, Stop);
        await Plans.ReviseAsync(
            draft with
            {
                Revision = 2,
                Body = "plan: draft, later",
            },
            [member with { Plan = "draft", PlannedEnd = Now.AddDays(9) }],
            "x",
            Planner,
            Now,
            Stop
        );
        Assert.Equal(Now.AddDays(9), (await Plans.MembersAsync("draft", Stop))[0].PlannedEnd);

        // A draft can be deleted with all that belongs to it, and its name be used again; what was started stays.
        Assert.False(await Plans.DiscardAsync(Plan, "x", Planner, Now, Stop));
        Assert.True(await Plans.DiscardAsync("draft", "too late", Planner, Now, Stop));
        Assert.Equal((null, 0), (await Plans.FindAsync("draft", Stop), (await Plans.MembersAsync("draft", Stop)).Count));
        await Plans.CreateAsync(draft, [member with { Plan = "draft" }], Planner, Stop);
    }

    [Fact]
    public async Task A_plan_s_next_revision_keeps_what_has_begun_and_of_two_made_at_once_one_is_told()
    {
        await PlanAsync("desk-1", "desk-2", "desk-3");
        var run = await OpenRunAsync();
        var (stored, members) = ((await Plans.FindAsync(Plan, Stop))!, await Plans.MembersAsync(Plan, Stop));
        var revised = stored with
        {
            Revision = 2,
            Body = "plan: winter, wider",
            RevisedBy = "other",
            Held = "revision 2 waits for approval",
            Waves = [.. stored.Waves, new(2, "Rest", WaveState.Waiting, null, "it waits")],
        };
        // One that has a run is told of no more, one goes to another wave, and one leaves.
        var going = members.Single(m => m.Run is null && m.Machine == members[1].Machine) with
        {
            Wave = 2,
            Status = Status.Ready,
            Slot = null,
        };
        await Plans.ReviseAsync(revised, [going], "more of them", Planner, Now.AddHours(1), Stop);
        var after = (await Plans.FindAsync(Plan, Stop))!;
        Assert.Equal(
            (2, "plan: winter, wider", "revision 2 waits for approval", "other"),
            (after.Revision, after.Body, after.Held, after.RevisedBy)
        );
        Assert.Equal([("Pilot", WaveState.Open), ("Rest", WaveState.Waiting)], after.Waves.Select(w => (w.Name, w.State)));
        var left = await Plans.MembersAsync(Plan, Stop);
        Assert.Equal([(1, run), (2, null)], left.Select(m => (m.Wave, m.Run)).Order());

        var late = await Assert.ThrowsAsync<RefusedException>(() => Plans.ReviseAsync(revised, [going], "mine", Planner, Now, Stop));
        Assert.Equal("plan-changed", late.Name);
        var both = await Task.WhenAll(
            Enumerable
                .Range(0, 2)
                .Select(async i =>
                {
                    try
                    {
                        await Plans.ReviseAsync(
                            revised with
                            {
                                Revision = 3,
                                Body = $"plan: winter, by {i}",
                            },
                            [going],
                            $"by {i}",
                            Planner,
                            Now.AddHours(2),
                            Stop
                        );
                        return true;
                    }
                    catch (RefusedException)
                    {
                        return false;
                    }
                })
        );
        Assert.Single(both, kept => kept);
        var revisions = await new ApprovalTable(Database).RevisionsAsync(Plan, Stop);
        Assert.Equal([(1, ""), (2, "more of them"), (3, both[0] ? "by 0" : "by 1")], revisions.Select(r => (r.Number, r.Reason)));
        Assert.Equal(revisions[^1].Body, (await Plans.FindAsync(Plan, Stop))!.Body);
    }

    [Fact]
    public async Task A_machine_goes_to_another_wave_is_exempt_and_goes_again_each_with_its_reason()
    {
        await PlanAsync("desk-1", "desk-2");
        var (first, second) = ((await Plans.MembersAsync(Plan, Stop))[0].Machine, (await Plans.MembersAsync(Plan, Stop))[1].Machine);
        await Plans.MoveAsync(Plan, first, new(2, "Rest", WaveState.Waiting, null, null), "on loan", Planner, Now, Stop);
        var moved = (await Plans.OfMachineAsync(first, Stop)).Single();
        Assert.Equal(
            (2, "on loan", "planner", null, Status.Ready),
            (moved.Wave, moved.MovedReason, moved.MovedBy, moved.Slot, moved.Status)
        );
        await Plans.ExemptAsync(Plan, second, Exemption.Stays, "at sea", new(2027, 9, 30), Planner, Now, Stop);
        var exempt = (await Plans.OfMachineAsync(second, Stop)).Single();
        Assert.Equal(
            (Status.Exempt, Exemption.Stays, "at sea", "planner", new DateOnly(2027, 9, 30)),
            (exempt.Status, exempt.Exemption, exempt.ExemptionReason, exempt.ExemptedBy, exempt.ExemptUntil)
        );
        // Whoever has not ended does not go again.
        await Plans.AgainAsync(Plan, first, "try", Planner, Now, Stop);
        Assert.Equal(Status.Ready, (await Plans.OfMachineAsync(first, Stop)).Single().Status);

        await Plans.PutStatusAsync(Plan, PlanStatus.Started, "storm", "hold", Planner, Now, Stop);
        await Plans.PutWaveAsync(Plan, new(1, "Pilot", WaveState.Passed, Now, "2 of 2 verified and soaked"), Now, Stop);
        var plan = (await Plans.FindAsync(Plan, Stop))!;
        Assert.Equal(
            ("storm", Now, null, WaveState.Passed, "2 of 2 verified and soaked"),
            (plan.Held, plan.Started, plan.Ended, plan.Waves[0].State, plan.Waves[0].Why)
        );
        await Plans.PutStatusAsync(Plan, PlanStatus.Ended, null, "end", Actor.Worker, Now.AddDays(1), Stop);
        // Whoever looked at it before does not begin it again.
        await Plans.PutStatusAsync(Plan, PlanStatus.Started, "too late", "hold", Planner, Now.AddDays(2), Stop);
        Assert.Equal(
            (PlanStatus.Ended, Now.AddDays(1)),
            ((await Plans.FindAsync(Plan, Stop))!.State, (await Plans.AllAsync(Stop)).Single().Ended)
        );
    }

    [Fact]
    public async Task Approvals_are_kept_in_their_order_with_what_was_changed_before_each()
    {
        await PlanAsync("desk-1");
        var approvals = new ApprovalTable(Database);
        Approval To(string intent, int hour) => new("wave Pilot", intent, 1, 1, "board", Now.AddHours(hour), "talked over");
        foreach (var approval in new[] { To("a", 0), To("b", 1), To("a", 2) })
            await approvals.AddAsync(Plan, approval, new("board"), Stop);
        var machine = (await Plans.MembersAsync(Plan, Stop))[0].Machine;
        await new DecisionTable(Database).ChooseMethodAsync(Plan, machine, "image", "x", new("other"), Now, Stop);
        var consent = await approvals.ConsentAsync(Plan, Stop);
        Assert.Equal([To("a", 0), To("b", 1), To("a", 2)], consent.Approvals);
        Assert.Equal(
            [(1, "planner", "revision 1"), (2, "other", $"method of {machine}")],
            consent.Changes.Select(c => (c.Number, c.By, c.What))
        );
        Assert.False(consent.EveryPlan);
        await approvals.AskForEveryPlanAsync(true, "after the audit", new("admin"), Now, Stop);
        Assert.True((await approvals.ConsentAsync("summer", Stop)).EveryPlan);
        Assert.Empty((await approvals.ConsentAsync("summer", Stop)).Approvals);
    }

    [Fact]
    public async Task Waivers_methods_and_acknowledgements_are_what_was_decided_until_they_end()
    {
        await PlanAsync("desk-1", "desk-2");
        var (one, two) = ((await Plans.MembersAsync(Plan, Stop))[0].Machine, (await Plans.MembersAsync(Plan, Stop))[1].Machine);
        var decisions = new DecisionTable(Database);
        var before = await decisions.StampAsync(Stop);
        Waiver Until(int days) =>
            new(
                "space",
                "v1",
                ImmutableSortedDictionary<string, string>.Empty.Add("disk.system.free", "20 GiB"),
                "a disk is on order",
                "approver",
                Now,
                Now.AddDays(days)
            );
        var short_ = await decisions.WaiveAsync("Brae Desktop", one, Until(1), new("approver"), Stop);
        var ended = await decisions.WaiveAsync("Brae Desktop", two, Until(9), new("approver"), Stop);
        await decisions.WaiveAsync("Brae Server", two, Until(9), new("approver"), Stop);
        await decisions.ChooseMethodAsync(Plan, two, "image", "no line there", Planner, Now, Stop);
        await decisions.ChooseMethodAsync(Plan, one, "image", "x", Planner, Now, Stop);
        await decisions.ChooseMethodAsync(Plan, one, null, "back", Planner, Now, Stop);

        var decided = await decisions.OfAsync("Brae Desktop", Plan, Now, Stop);
        Assert.Equal(["20 GiB"], decided[one].Waivers.Single().Seen.Values);
        Assert.Equal((null, "image", "no line there"), (decided[one].Method, decided[two].Method?.Method, decided[two].Method?.Reason));
        Assert.True(await decisions.EndWaiverAsync(ended, "it came", new("approver"), Now.AddHours(1), Stop));
        Assert.False(await decisions.EndWaiverAsync(ended, "twice", new("approver"), Now.AddHours(2), Stop));
        Assert.False(await decisions.EndWaiverAsync(999, "none", new("approver"), Now, Stop));
        // What ran out, or was ended, counts no more and stays to be read.
        var later = await decisions.OfAsync("Brae Desktop", null, Now.AddDays(2), Stop);
        Assert.All(later.Values, r => Assert.Empty(r.Waivers));
        Assert.Equal(
            [(false, "Brae Server"), (true, "Brae Desktop"), (false, "Brae Desktop")],
            (await decisions.WaiversAsync(Stop)).Select(w => (w.Ended is not null, w.Product))
        );
        Assert.Equal(short_, (await decisions.WaiversAsync(Stop))[^1].Id);

        Acknowledgement Given(string reason) => new("must-read", "licence", reason, "planner", Now, reason);
        await decisions.AcknowledgeAsync(Plan, [Given("read")], Planner, Stop);
        await decisions.AcknowledgeAsync(Plan, [Given("read again")], Planner, Stop);
        Assert.Equal("read again", Assert.Single(await decisions.AcknowledgedAsync(Plan, Stop)).Covers);
        Assert.True(await decisions.StampAsync(Stop) >= before + 8);
    }

    [Fact]
    public async Task Of_a_product_the_content_that_was_approved_last_is_the_one_in_use()
    {
        var catalogues = new CatalogueTable(Database);
        Assert.True(await catalogues.IsEmptyAsync(Stop));
        CatalogueContent Of(string hash) =>
            new(hash, "Brae Desktop", ImmutableSortedDictionary<string, string>.Empty.Add("product.yaml", hash));
        await catalogues.AddAsync(Of("one"), Planner, Now, Stop);
        await catalogues.AddAsync(Of("two"), null, Now.AddHours(1), Stop);
        await catalogues.AddAsync(Of("two"), Planner, Now.AddHours(2), Stop);
        Assert.Equal("one", (await catalogues.ApprovedAsync("Brae Desktop", Stop))!.Hash);
        await catalogues.ApproveAsync("two", new("approver"), "looked at", Now.AddHours(3), Stop);
        Assert.Equal("two", (await catalogues.ApprovedAsync("Brae Desktop", Stop))!.Hash);
        await catalogues.ApproveAsync("one", new("approver"), "back", Now.AddHours(4), Stop);
        Assert.Equal("one", (await catalogues.ApprovedAsync("Brae Desktop", Stop))!.Hash);
        Assert.Equal("two", (await catalogues.FindAsync("two", Stop))!.Files["product.yaml"]);
        Assert.Null(await catalogues.FindAsync("three", Stop));
        Assert.Null(await catalogues.ApprovedAsync("Brae Server", Stop));
    }

    [Fact]
    public async Task A_calendar_takes_the_place_of_the_one_of_its_name_and_the_same_again_changes_nothing()
    {
        var calendars = new CalendarTable(Database);
        Assert.True(await calendars.PutAsync("berths", "a", 1, "1 event", Planner, Now, Stop));
        Assert.False(await calendars.PutAsync("berths", "a", 1, "1 event", new("other"), Now.AddHours(1), Stop));
        var first = (await calendars.StatesAsync(Stop)).Single();
        Assert.True(await calendars.PutAsync("berths", "b", 2, "2 events", new("other"), Now.AddHours(2), Stop));
        Assert.True(await calendars.PutAsync("ashore", "c", 3, "3 events", Planner, Now, Stop));
        Assert.Equal(
            [("ashore", "c", "planner"), ("berths", "b", "other")],
            (await calendars.AllAsync(Stop)).Select(c => (c.Name, c.Body, c.LoadedBy))
        );
        Assert.NotEqual(first, (await calendars.StatesAsync(Stop))[1]);
    }

    [Fact]
    public async Task A_secret_is_known_by_name_says_when_it_was_used_and_is_written_anew_with_all_others_or_not_at_all()
    {
        var secrets = new SecretTable(Database);
        await secrets.PutAsync("fleet-key", "x1", Planner, Now, Stop);
        await secrets.PutAsync("directory", "x2", Planner, Now, Stop);
        await secrets.PutAsync("fleet-key", "x3", new("other"), Now.AddDays(1), Stop);
        Assert.Equal([("directory", null), ("fleet-key", null)], (await secrets.AllAsync(Stop)).Select(s => (s.Name, s.LastUsed)));
        Assert.Equal("x3", await secrets.FindAsync("fleet-key", Now.AddDays(2), Stop));
        Assert.Equal("x3", await secrets.FindAsync("fleet-key", Now.AddDays(2).AddSeconds(20), Stop));
        Assert.Null(await secrets.FindAsync("none", Now, Stop));
        var used = (await secrets.AllAsync(Stop)).Single(s => s.Name == "fleet-key");
        Assert.Equal(
            (Now, "planner", Now.AddDays(1), "other", Now.AddDays(2)),
            (used.Created, used.CreatedBy, used.Changed, used.ChangedBy, used.LastUsed)
        );
        await Assert.ThrowsAsync<InvalidOperationException>(() =>
            secrets.RewriteAsync(v => v == "x3" ? throw new InvalidOperationException("its key is lost") : "y", Planner, Now, Stop)
        );
        Assert.Equal("x2", await secrets.FindAsync("directory", Now, Stop));
        Assert.Equal(2, await secrets.RewriteAsync(v => v + "!", Planner, Now, Stop));
        Assert.Equal("x2!", await secrets.FindAsync("directory", Now, Stop));
        Assert.True(await secrets.RemoveAsync("directory", Planner, "not used", Now, Stop));
        Assert.False(await secrets.RemoveAsync("directory", Planner, "twice", Now, Stop));
    }

    [Fact]
    public async Task An_import_of_the_same_file_goes_on_where_it_was_cut_short_and_one_that_took_nothing_is_forgotten()
    {
        var imports = new ImportTable(Database);
        var first = await imports.BeginAsync("digest", "t-1", "inventory", Planner, 100, Now, Stop);
        var again = await imports.BeginAsync("digest", "t-2", "inventory", new("other"), 100, Now.AddHours(1), Stop);
        Assert.Equal((first.Id, "t-2", "other", Now, null), (again.Id, again.Ticket, again.Actor, again.Begun, again.Ended));
        var another = await imports.BeginAsync("another", null, "stock", Planner, 5, Now.AddHours(2), Stop);
        Assert.Equal([another.Id, first.Id], (await imports.NewestAsync(9, Stop)).Select(i => i.Id));
        await imports.ForgetAsync(another.Id, Stop);
        Assert.Equal(first.Id, Assert.Single(await imports.NewestAsync(9, Stop)).Id);
        Assert.Equal(100, (await imports.FindAsync(first.Id, Stop))!.Lines);
    }

    [Fact]
    public async Task Of_each_source_the_last_reading_is_known_and_of_each_day_how_many_machines_ran_what()
    {
        var sources = new SourceTable(Database);
        await sources.PutAsync(new("directory", Now, 5000, 12, null), Stop);
        await sources.PutAsync(new("directory", Now.AddHours(4), 0, 0, "it does not answer"), Stop);
        await sources.PutAsync(new("assets", Now, 3, 0, null), Stop);
        Assert.Equal(
            [new("assets", Now, 3, 0, null), new SourceRead("directory", Now.AddHours(4), 0, 0, "it does not answer")],
            await sources.AllAsync(Stop)
        );

        var tallies = new TallyTable(Database);
        var day = new DateOnly(2027, 1, 11);
        await tallies.PutAsync(day, "Brae Desktop", new Dictionary<string, int> { ["6"] = 240, ["7"] = 0 }, Stop);
        await tallies.PutAsync(day, "Brae Desktop", new Dictionary<string, int> { ["6"] = 229, ["7"] = 11 }, Stop);
        await tallies.PutAsync(day.AddDays(1), "Brae Desktop", new Dictionary<string, int> { ["7"] = 240 }, Stop);
        await tallies.PutAsync(day, "Brae Server", new Dictionary<string, int> { ["4"] = 6 }, Stop);
        Assert.Equal(
            [("6", 229), ("7", 11), ("7", 240)],
            (await tallies.SinceAsync("Brae Desktop", day, Stop)).Select(t => (t.Release, t.Machines))
        );
        Assert.Equal(240, Assert.Single(await tallies.SinceAsync("Brae Desktop", day.AddDays(1), Stop)).Machines);
    }

    [Fact]
    public async Task What_ran_where_is_counted_and_found_by_machine_by_the_begin_of_its_hash_and_by_name()
    {
        await PlanAsync("desk-1", "desk-2");
        var (one, two) = ((await Plans.MembersAsync(Plan, Stop))[0].Machine, (await Plans.MembersAsync(Plan, Stop))[1].Machine);
        var scripts = new ScriptTable(Database);
        SentScript[] sent = [new("Brae Desktop", "read.sh", "abc123"), new("Brae Desktop", "fetch.sh", "def456")];
        await scripts.SentAsync(one, sent, "read", "planner", "", Now, Stop);
        await scripts.SentAsync(one, [sent[0]], "read", "planner", "", Now.AddHours(1), Stop);
        await scripts.SentAsync(two, [sent[1]], "step", Plan, "r1/1/fetch/1", Now.AddHours(2), Stop);
        var all = await scripts.ListAsync(null, null, null, Stop);
        Assert.Equal(
            [("fetch.sh", 1L, "r1/1/fetch/1"), ("read.sh", 2L, ""), ("fetch.sh", 1L, "")],
            all.Select(u => (u.Sent.Script, u.Times, u.LastOrder))
        );
        Assert.Equal((Now, Now.AddHours(1)), (all[1].First, all[1].Last));
        Assert.Equal(2, (await scripts.ListAsync(one, null, null, Stop)).Count);
        Assert.Equal(one, Assert.Single(await scripts.ListAsync(null, "abc", null, Stop)).Machine);
        Assert.Equal(two, Assert.Single(await scripts.ListAsync(two, "def", "fetch.sh", Stop)).Machine);
        Assert.Empty(await scripts.ListAsync(two, null, "read.sh", Stop));
    }

    [Fact]
    public async Task One_fix_of_a_check_is_running_on_a_machine_at_a_time_and_a_long_note_keeps_its_end()
    {
        static StoredFix Unhold(MachineId machine, DateTimeOffset at) =>
            new(0, machine, "Debian", "held", "unhold.sh", "abc", Planner.Name, at, null, null, null, "", null) { Run = 7 };
        await PlanAsync("desk-1", "desk-2");
        var (one, two) = ((await Plans.MembersAsync(Plan, Stop))[0].Machine, (await Plans.MembersAsync(Plan, Stop))[1].Machine);
        var fixes = new FixTable(Database);
        var fix = await fixes.BeginAsync(Unhold(one, Now), "it blocks", Planner, Stop);
        Assert.Equal(
            "fix-running",
            (await Assert.ThrowsAsync<RefusedException>(() => fixes.BeginAsync(Unhold(one, Now), "it blocks", Planner, Stop))).Name
        );
        await fixes.BeginAsync(Unhold(two, Now), "it blocks", Planner, Stop);
        await fixes.PutAsync(
            fix with
            {
                Ended = Now.AddMinutes(3),
                Exit = 2,
                Note = new string('x', 9000) + "the end",
                CheckState = "unmet",
            },
            Now.AddMinutes(3),
            Stop
        );
        var ended = Assert.Single(await fixes.ListAsync(one, openOnly: false, 10, Stop));
        Assert.Equal((Now.AddMinutes(3), 2, "unmet", 4000), (ended.Ended, ended.Exit, ended.CheckState, ended.Note.Length));
        Assert.Equal((fix.Id, 7, "unhold.sh", "planner"), (ended.Id, ended.Run, ended.Script, ended.Actor));
        Assert.EndsWith("the end", ended.Note, StringComparison.Ordinal);
        Assert.Equal(two, Assert.Single(await fixes.ListAsync(null, openOnly: true, 10, Stop)).Machine);
        await fixes.BeginAsync(Unhold(one, Now.AddHours(1)), "it blocks", Planner, Stop);
        Assert.Equal(3, (await fixes.ListAsync(null, openOnly: false, 10, Stop)).Count);
    }

    [Fact]
    public async Task First_use_is_trusted_at_a_site_until_it_is_not_and_what_is_set_once_stays()
    {
        var trusts = new FirstUseTable(Database);
        await trusts.PutAsync("Corran", trusts: true, "they are new", Planner, Now, Stop);
        await trusts.PutAsync("Corran", trusts: true, "and more of them", new("admin"), Now.AddDays(1), Stop);
        Assert.Equal(new("Corran", "and more of them", "admin", Now.AddDays(1)), Assert.Single(await trusts.AllAsync(Stop)));
        await trusts.PutAsync("Corran", trusts: false, "all are known", Planner, Now, Stop);
        Assert.Empty(await trusts.AllAsync(Stop));

        var clock = new ClockTable(Database);
        Assert.Null(await clock.FindAsync(Stop));
        await clock.PutAsync(new(Now, Now, 1), Stop);
        await clock.PutAsync(new(Now, Now.AddYears(1), 60.5), Stop);
        Assert.Equal(new ClockAnchor(Now, Now.AddYears(1), 60.5), await clock.FindAsync(Stop));
        var settings = new SettingsTable(Database);
        Assert.Equal(("one", "one"), (await settings.FirstAsync("id", "one", Stop), await settings.FirstAsync("id", "two", Stop)));
    }

    [Fact]
    public async Task Media_is_known_by_its_content_and_the_right_file_does_not_get_into_quarantine()
    {
        var table = new MediaTable(Database);
        var upload = new MediaUpload("u1", "a.img", 3, "aa", Now, "planner");
        await table.BeginAsync(upload, Stop);
        Assert.Equal(upload, Assert.Single(await table.UploadsAsync(Stop)));
        var wrong = new StoredMedia("bb", "a.img", 3, Now, "planner", "expected aa");
        await table.KeepAsync(upload, wrong, new("planner"), Stop);
        Assert.Empty(await table.UploadsAsync(Stop));
        Assert.Equal(wrong, await table.FindAsync("bb", Stop));
        await table.AddAsync(wrong with { File = "b.img", Quarantined = null }, new("planner"), Stop);
        await table.AddAsync(wrong, new("planner"), Stop);
        var right = Assert.Single(await table.AllAsync(Stop));
        Assert.Equal(("b.img", null), (right.File, right.Quarantined));
        Assert.True(await table.RemoveAsync(right, new("planner"), "over", Now, Stop));
        Assert.False(await table.RemoveAsync(right, new("planner"), "over", Now, Stop));
    }

    [Fact]
    public async Task What_an_order_printed_is_kept_in_pieces_and_a_piece_counts_once()
    {
        await PlanAsync("desk-1");
        await OpenRunAsync();
        var run = Assert.Single(await Runs.ListAsync(null, Stop)).State.Run;
        var table = new RunOutputTable(Database);
        var order = new OrderName(run, 1, "apply", 2);
        Assert.Equal(0, await table.KeptAsync(order, Stop));
        await table.AddAsync(order, 0, 4, "one\n", Now, Stop);
        await table.AddAsync(order, 4, 6, "(pw)\n", Now.AddMinutes(1), Stop);
        await table.AddAsync(order, 4, 6, "again\n", Now.AddMinutes(1), Stop);
        await table.AddAsync(order with { Step = "look" }, 0, 3, "äö\n", Now.AddMinutes(2), Stop);
        Assert.Equal(10, await table.KeptAsync(order, Stop));
        Assert.Equal("one\n(pw)\n", await table.TextAsync(order, Stop));
        Assert.Equal(
            [new KeptOutput(order, 10, Now), new(order with { Step = "look" }, 3, Now.AddMinutes(2))],
            await table.OfAsync(run, Stop)
        );
        Assert.Empty(await table.OfAsync(run + 1, Stop));
        Assert.Equal("", await table.TextAsync(order with { Attempt = 1 }, Stop));
    }

    [Fact]
    public async Task Saved_files_are_replaced_by_the_same_step_and_dropped_with_their_run()
    {
        await PlanAsync("desk-1");
        await OpenRunAsync();
        var run = Assert.Single(await Runs.ListAsync(null, Stop)).State.Run;
        var folder = Directory.CreateTempSubdirectory("grandstair-saved-").FullName;
        var files = new SavedFiles(Database, Path.Combine(folder, "saved"));
        await files.PutAsync(run, new(1, "save", Now, 3, "aa"), [1, 2, 3], Stop);
        var later = new SavedArchive(1, "save", Now.AddHours(1), 2, "bb");
        await files.PutAsync(run, later, [4, 5], Stop);
        Assert.Equal(later, Assert.Single(await files.OfAsync(run, Stop)));
        Assert.Equal([4, 5], await files.ReadAsync(run, 1, "save", Stop));
        await files.RewriteAsync(old => [.. old, 6], Stop);
        Assert.Equal([4, 5, 6], await files.ReadAsync(run, 1, "save", Stop));
        await files.DropAsync(run, Stop);
        Assert.Empty(await files.OfAsync(run, Stop));
        Assert.Empty(Directory.GetFiles(Path.Combine(folder, "saved")));
        Directory.Delete(folder, recursive: true);
    }
}
