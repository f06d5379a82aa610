using System.Collections.Immutable;
using System.Text.Json;
using CsCheck;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Refusals;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using Xunit;

namespace GrandStair.Core.Tests.Runs;

public sealed class RunMachineTests
{
    private static readonly DateTimeOffset Slot = Fleets.Now.AddHours(8);
    private static readonly Noted Broken = new("services-up", "All services run", "services.failed = 1", "Start it.");

    private static readonly StepSpec Patching = new(
        "patch",
        "Patch",
        Phase.Protect,
        StepKind.Patch,
        "patch.sh",
        TimeSpan.FromMinutes(20),
        TimeSpan.FromHours(1)
    )
    {
        Until = "patches.pending = 0",
        Rounds = 2,
        Restarts = true,
    };

    private static readonly StepSpec Deleting = new(
        "delete",
        "Delete the old release",
        Phase.Reclaim,
        StepKind.Script,
        "delete.sh",
        TimeSpan.FromMinutes(2),
        TimeSpan.FromMinutes(30)
    );

    [Fact]
    public void A_run_goes_through_its_phases_to_done()
    {
        var run = Journey.Opened();
        run.Open().Ok("fetch");
        Assert.Equal((Phase.Wait, OrderKind.Slot), (run.State.Phase, run.State.Outstanding!.Kind));
        Assert.Equal(Slot, run.State.DueAt);
        run.At(Slot)
            .Say(o => new SlotOpened(run.Now, "worker", o.Name))
            .Open()
            .Ok("save")
            .Open()
            .Ok("apply")
            .Ok("restart")
            .Ok("look")
            .Open();
        Assert.Equal((Phase.Settle, run.Now), (run.State.Phase, run.State.Verified));
        Assert.Equal(run.Now.AddDays(10), run.State.DueAt);
        run.At(run.Now.AddDays(10)).Say(o => new Settled(run.Now, "worker", o.Name));
        Assert.Equal((Outcome.Done, Status.Done), (run.State.Outcome, run.Status));
        Assert.Equal(
            [
                Phase.Gate,
                Phase.Stage,
                Phase.Wait,
                Phase.Gate,
                Phase.Protect,
                Phase.Gate,
                Phase.Apply,
                Phase.Verify,
                Phase.Settle,
                Phase.Closed,
            ],
            run.State.Phases.Select(p => p.Phase)
        );
        Assert.Equal("r1/1/apply/1", run.Asked.Single(o => o.Name.Step == "apply").Name.ToString());
    }

    [Fact]
    public void An_answer_that_comes_twice_changes_nothing()
    {
        var run = Journey.Opened().Open();
        var ended = new OrderEnded(run.Now, "worker", run.State.Outstanding!.Name, OrderResult.Ok, 0, "");
        var once = RunMachine.Step(run.State, ended).State;
        var twice = RunMachine.Step(once, ended);
        Assert.Empty(twice.Orders);
        Assert.Equal(once with { Events = once.Events + 1 }, twice.State);
    }

    [Fact]
    public void A_person_s_answer_carries_the_run_on_or_parks_it_with_their_words()
    {
        var run = Journey.Waiting(Ask(TimeSpan.FromHours(1)));
        Assert.Equal(("Bring it", Slot.AddHours(1)), (run.State.AskedOfPerson!.Words, run.State.WaitsUntil));
        run.At(Slot.AddMinutes(20)).Answer(OrderResult.NotPossible, "it has no port");
        Assert.Equal("Bring the media: owner says that it is not possible, it has no port", run.State.Parked);
        Assert.Null(run.State.AskedOfPerson);
        run.Decide(Decision.Retry);
        Assert.Equal("r1/1/ask/2", run.State.Outstanding!.Name.ToString());
        run.Answer(OrderResult.Ok, "");
        Assert.Equal("save", run.State.CurrentStep!.Name);
    }

    [Fact]
    public void An_answer_that_is_late_parks_the_run_and_still_counts_when_it_comes()
    {
        var run = Journey.Waiting(Ask(TimeSpan.FromHours(1)));
        run.At(Slot.AddMinutes(61)).Say(o => new OrderOverdue(run.Now, "worker", o.Name, "no answer"));
        Assert.Equal(Status.Parked, run.Status);
        Assert.NotNull(run.State.AskedOfPerson);
        run.Answer(OrderResult.Ok, "");
        Assert.Equal((Status.Running, "save"), (run.Status, run.State.CurrentStep!.Name));
    }

    [Fact]
    public void What_does_not_come_before_the_latest_start_costs_the_slot_and_nothing_else()
    {
        var run = Journey.Waiting(Ask(TimeSpan.FromHours(9)));
        Assert.Equal(Slot.AddHours(3), run.State.WaitsUntil);
        run.At(Slot.AddHours(3.1)).Answer(OrderResult.TooLate, "");
        Assert.Equal((Phase.Wait, true, 1), (run.State.Phase, run.State.NeedsSlot, run.State.MissedSlots));
        // In its next slot it is asked again.
        run.MoveSlot(1).At(Slot.AddDays(1)).Say(o => new SlotOpened(run.Now, "worker", o.Name)).Open();
        Assert.Equal("r1/1/ask/2", run.State.Outstanding!.Name.ToString());
    }

    [Fact]
    public void A_run_that_only_waits_is_cancelled_at_once()
    {
        var run = Journey.Waiting(Ask(TimeSpan.FromHours(1)));
        run.Decide(Decision.Cancel);
        Assert.Equal((Outcome.Cancelled, Phase.Closed), (run.State.Outcome, run.State.Phase));
    }

    private static StepSpec Ask(TimeSpan limit) =>
        new("ask", "Bring the media", Phase.Protect, StepKind.AskPerson, null, TimeSpan.FromMinutes(10), limit)
        {
            Task = new("Bring it", "owner"),
        };

    [Fact]
    public void A_failed_step_is_a_new_attempt_and_then_parked()
    {
        var run = Journey.Opened().Open().Fail("fetch", 7);
        Assert.Equal("r1/1/fetch/2", run.State.Outstanding!.Name.ToString());
        Assert.Equal(run.Now + RunMachine.Pause, run.State.DueAt);
        run.Fail("fetch", 7);
        Assert.Equal(("Fetch: exit status 7, cut", Status.Parked), (run.State.Parked, run.Status));
        Assert.Null(run.State.DueAt);
        run.Decide(Decision.Retry);
        Assert.Equal("r1/1/fetch/3", run.State.Outstanding!.Name.ToString());
    }

    [Fact]
    public void What_is_gone_after_a_power_cut_is_tried_again_as_a_new_attempt()
    {
        var run = Journey.AtApply().Say(o => new OrderEnded(Slot, "worker", o.Name, OrderResult.Gone, null, ""));
        Assert.Equal("r1/1/apply/2", run.State.Outstanding!.Name.ToString());
        Assert.True(run.State.Turned);
    }

    [Fact]
    public void A_blocked_gate_parks_and_an_undecided_one_is_asked_three_times()
    {
        var blocked = Journey.Opened().Judge(GateState.Blocked, Broken);
        Assert.StartsWith(
            "the gate is blocked: All services run (found: services.failed = 1)",
            blocked.State.Parked,
            StringComparison.Ordinal
        );
        var undecided = Journey.Opened().Judge(GateState.Undecided, Broken).Judge(GateState.Undecided, Broken);
        Assert.Null(undecided.State.Parked);
        Assert.NotNull(undecided.Judge(GateState.Undecided, Broken).State.Parked);
    }

    [Fact]
    public void A_run_can_be_cancelled_until_the_point_of_no_return_and_not_after()
    {
        Assert.Equal(Outcome.Cancelled, Journey.Opened().Open().Ok("fetch").Decide(Decision.Cancel).State.Outcome);
        var staging = Journey.Opened().Open().Decide(Decision.Cancel);
        Assert.Null(staging.State.Closed);
        Assert.Equal(Outcome.Cancelled, staging.Ok("fetch").State.Outcome);
        var error = Assert.Throws<RefusedException>(() => Journey.AtApply().Decide(Decision.Cancel));
        Assert.Contains("cannot 'cancel'", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public void Past_the_latest_point_of_no_return_nothing_is_begun_and_another_slot_is_needed()
    {
        var run = Journey.Opened().Open().Ok("fetch").At(Slot).Say(o => new SlotOpened(Slot, "worker", o.Name)).Open();
        run.At(Slot.AddHours(4)).Ok("save").Open();
        Assert.Equal((Phase.Wait, true, 1), (run.State.Phase, run.State.NeedsSlot, run.State.MissedSlots));
        Assert.Null(run.State.DueAt);
        Assert.DoesNotContain(run.Asked, o => o.Name.Step == "apply");
        run.Add(new SlotMoved(run.Now, "worker", new(Slot.AddDays(1), Slot.AddDays(1).AddHours(1), Slot.AddDays(1).AddHours(3)), "missed"));
        Assert.Equal(Slot.AddDays(1), run.State.DueAt);
    }

    [Fact]
    public void Of_missed_slots_as_many_are_caught_up_as_the_plan_says_and_then_a_person_decides()
    {
        var run = Journey.Opened(catchUp: 1).Open().Ok("fetch").Miss(1);
        Assert.Equal((1, null), (run.State.MissedSlots, run.State.Parked));
        run.MoveSlot(1).Miss(2);
        Assert.Equal((2, Status.Parked, OrderKind.Decide), (run.State.MissedSlots, run.Status, run.State.Outstanding!.Kind));
        Assert.Contains("(found: 2 missed, 1 caught up)", run.State.Parked, StringComparison.Ordinal);
        Assert.Equal([Decision.Retry, Decision.Cancel], RunMachine.Possible(run.State));
        run.Decide(Decision.Retry);
        Assert.Equal((true, null, OrderKind.Slot), (run.State.NeedsSlot, run.State.Parked, run.State.Outstanding!.Kind));
        // Each further one is asked about; whoever gives it a time has decided.
        run.MoveSlot(2).Miss(3);
        Assert.Equal(Status.Parked, run.Status);
        run.MoveSlot(5);
        Assert.Equal((Status.Scheduled, Slot.AddDays(5)), (run.Status, run.State.DueAt));
        run.At(Slot.AddDays(5)).Say(o => new SlotOpened(run.Now, "worker", o.Name)).Open().Ok("save").Open().Ok("apply");
        Assert.True(run.State.Turned);
        Assert.Equal(run.State.MissedSlots, RunMachine.Replay(run.Log)!.MissedSlots);
    }

    [Fact]
    public void A_run_that_is_overdue_is_parked_and_goes_on_when_its_order_ends_after_all()
    {
        var run = Journey.AtApply().Say(o => new OrderOverdue(Slot.AddHours(4), "worker", o.Name, "long"));
        Assert.Equal(("long", OrderKind.Step), (run.State.Parked, run.State.Outstanding!.Kind));
        Assert.Contains(Decision.Wait, RunMachine.Possible(run.State));
        run.Ok("apply");
        Assert.Equal((null, "restart"), (run.State.Parked, run.State.Outstanding!.Name.Step));
    }

    [Fact]
    public void A_verification_that_does_not_hold_can_be_gone_back_from()
    {
        var run = Journey.AtApply().Ok("apply").Ok("restart").Ok("look").Judge(GateState.Blocked, Broken);
        Assert.StartsWith("the verification is blocked", run.State.Parked, StringComparison.Ordinal);
        run.Decide(Decision.RollBack).Ok("roll-back");
        Assert.Equal((Outcome.RolledBack, "because", Status.Stopped), (run.State.Outcome, run.State.Reason, run.Status));
    }

    [Fact]
    public void A_caution_at_the_verification_is_a_follow_up_and_must_be_closed_before_the_run_is_done()
    {
        var run = Journey
            .AtApply()
            .Ok("apply")
            .Ok("restart")
            .Ok("look")
            .Say(o => new GateJudged(Slot, "worker", o.Name, GateState.Open, [], [Broken]));
        Assert.Equal(Status.Verified, run.Status);
        Assert.Null(run.State.DueAt);
        run.Say(o => new Settled(Slot.AddDays(10), "worker", o.Name));
        Assert.Null(run.State.Closed);
        run.Add(new FollowUpClosed(Slot.AddDays(10), "deck-it", "services-up", "started it"));
        run.Say(o => new Settled(Slot.AddDays(10), "worker", o.Name));
        Assert.Equal(Outcome.Done, run.State.Outcome);
        Assert.Equal("deck-it", run.State.FollowUps[0].By);
    }

    [Fact]
    public void A_follow_up_is_closed_by_its_script_once_the_check_is_met()
    {
        var byScript = Broken with { Script = "start-services.sh" };
        var run = Journey
            .AtApply()
            .Ok("apply")
            .Ok("restart")
            .Ok("look")
            .Say(o => new GateJudged(Slot, "worker", o.Name, GateState.Open, [], [byScript]));
        run.Add(new FollowUpScriptBegun(Slot.AddDays(1), "deck-it", "services-up", "f1", null));
        Assert.Equal(new("f1", Slot.AddDays(1), null, ""), run.State.FollowUps[0].Tried);
        run.Add(new FollowUpScriptEnded(Slot.AddDays(2), "worker", "services-up", "f1", false, "it failed with status 1"));
        Assert.True(run.State.HasOpenFollowUps);
        Assert.Equal(new("f1", Slot.AddDays(1), Slot.AddDays(2), "it failed with status 1"), run.State.FollowUps[0].Tried);
        run.Add(new FollowUpScriptBegun(Slot.AddDays(2), "deck-it", "services-up", "f1", null));
        Assert.NotNull(run.State.FollowUps[0].Tried!.Ended);
        run.Add(new FollowUpScriptBegun(Slot.AddDays(3), "deck-it", "services-up", "f2", Slot.AddDays(4)));
        run.Add(new FollowUpScriptEnded(Slot.AddDays(5), "worker", "services-up", "f2", true, "it ended well"));
        var closed = Assert.Single(run.State.FollowUps);
        Assert.Equal((Slot.AddDays(5), "worker", "start-services.sh (f2): it ended well"), (closed.Closed, closed.By, closed.Because));
        run.Say(o => new Settled(Slot.AddDays(10), "worker", o.Name));
        Assert.Equal(Outcome.Done, run.State.Outcome);
    }

    [Fact]
    public void A_rollback_is_kept_for_longer_as_long_as_its_method_allows()
    {
        var run = Journey.Opened(keeps: TimeSpan.FromDays(30)).Open().Ok("fetch").At(Slot);
        run.Say(o => new SlotOpened(Slot, "worker", o.Name)).Open().Ok("save").Open().Ok("apply").Ok("restart").Ok("look");
        Assert.Throws<RefusedException>(() => run.Add(Kept(5)));
        run.Open();
        Assert.Equal((Slot.AddDays(10), Slot.AddDays(30)), (run.State.RollbackUntil, run.State.RollbackUntilAtMost));
        run.Add(Kept(20));
        Assert.Equal((Slot.AddDays(20), Slot.AddDays(20)), (run.State.RollbackUntil, run.State.DueAt));
        Assert.Contains(
            "can be kept until 2027-",
            Assert.Throws<RefusedException>(() => run.Add(Kept(31))).Message,
            StringComparison.Ordinal
        );
        Assert.Throws<RefusedException>(() => run.Add(Kept(20)));
        run.Add(Kept(30));
        // It is at its end now.
        Assert.Null(run.State.RollbackUntilAtMost);
        Assert.Contains(
            "does not keep it for longer",
            Assert.Throws<RefusedException>(() => run.Add(Kept(31))).Message,
            StringComparison.Ordinal
        );
        Assert.Equal(Outcome.Done, run.Say(o => new Settled(Slot.AddDays(30), "worker", o.Name)).State.Outcome);
        Assert.Throws<RefusedException>(() => run.Add(Kept(31)));

        RollbackExtended Kept(int days) => new(Slot, "planner", Slot.AddDays(days), "the month's end is not over");
    }

    [Fact]
    public void What_was_kept_for_the_rollback_is_deleted_when_its_period_is_over()
    {
        var run = Journey.Verified(Deleting).At(Slot.AddDays(11)).Say(o => new Settled(Slot.AddDays(11), "worker", o.Name));
        Assert.Equal((Phase.Reclaim, "delete", Status.Verified), (run.State.Phase, run.State.Outstanding!.Name.Step, run.Status));
        Assert.Empty(RunMachine.Possible(run.State));
        Assert.Equal((null, null), (run.State.RollbackUntil, run.State.RollbackUntilAtMost));
        run.Say(o => new OrderEnded(run.Now, "worker", o.Name, OrderResult.Ok, 0, "deleted it\nreclaimed 9.5 GiB in /old"));
        Assert.Equal((Outcome.Done, 9.5 * (1 << 30)), (run.State.Outcome, run.State.Reclaimed));
    }

    [Fact]
    public void What_cannot_be_deleted_after_the_rollback_period_becomes_a_follow_up_and_parks_nothing()
    {
        var failed = Journey.Verified(Deleting).Say(o => new Settled(Slot.AddDays(11), "worker", o.Name)).Fail("delete", 1);
        var overdue = Journey.Verified(Deleting).Say(o => new Settled(Slot.AddDays(11), "worker", o.Name));
        overdue.Say(o => new OrderOverdue(overdue.Now, "worker", o.Name, "no answer for 30 min"));
        foreach (var (run, seen) in new[] { (failed, "exit status 1, cut"), (overdue, "no answer for 30 min") })
        {
            Assert.Equal((Phase.Settle, null, null), (run.State.Phase, run.State.Parked, run.State.DueAt));
            Assert.Equal(("delete", "Delete the old release", seen), run.State.FollowUps.Select(f => (f.Name, f.Title, f.Seen)).Single());
            Assert.DoesNotContain(Decision.RollBack, RunMachine.Possible(run.State));
            run.Add(new FollowUpClosed(Slot.AddDays(12), "planner", "delete", "by hand"));
            // It is not tried again.
            Assert.Equal(Outcome.Done, run.Say(o => new Settled(Slot.AddDays(12), "worker", o.Name)).State.Outcome);
        }
    }

    [Fact]
    public void Why_a_run_was_rolled_back_can_be_categorised_and_a_run_that_was_not_cannot()
    {
        var run = Journey.AtApply().Ok("apply").Fail("restart", 1);
        RollbackCategorised As(string category) => new(Slot, "planner", category);
        Assert.Contains(
            "was not rolled back",
            Assert.Throws<RefusedException>(() => run.Add(As("printing"))).Message,
            StringComparison.Ordinal
        );
        run.Decide(Decision.RollBack).Ok("roll-back").Add(As("slow")).Add(As("printing"));
        Assert.Equal((Outcome.RolledBack, "because", "printing"), (run.State.Outcome, run.State.Reason, run.State.RollbackCategory));
    }

    [Fact]
    public void A_follow_up_that_somebody_adds_keeps_the_run_open_until_it_is_closed()
    {
        var run = Journey.AtApply().Ok("apply").Ok("restart").Ok("look").Open();
        var due = DateOnly.FromDateTime(Slot.UtcDateTime).AddDays(3);
        run.Add(new FollowUpAdded(Slot, "owner deck-it", "added-12", "the receipts are cut", "", null, null));
        Assert.Null(run.State.DueAt);
        run.Add(new FollowUpAssigned(Slot, "planner", "added-12", "terminal-it", due));
        var open = Assert.Single(run.State.FollowUps);
        Assert.Equal(("owner deck-it", "terminal-it", due), (open.AddedBy, open.Owner, open.Due));
        Assert.False(open.IsOverdue(Slot.AddDays(3)));
        Assert.True(open.IsOverdue(Slot.AddDays(4)));
        run.Add(new FollowUpClosed(Slot.AddDays(5), "terminal-it", "added-12", "cut length set"));
        // What is closed is not given to anybody else.
        run.Add(new FollowUpAssigned(Slot.AddDays(6), "planner", "added-12", null, null));
        var closed = Assert.Single(run.State.FollowUps);
        Assert.Equal(("cut length set", "terminal-it", false), (closed.Because, closed.Owner, closed.IsOverdue(Slot.AddDays(9))));
        Assert.NotNull(run.State.DueAt);
    }

    [Fact]
    public void What_is_suspended_is_resumed_however_the_run_ends()
    {
        var cancelled = Journey.Suspended().Ok("save").Decide(Decision.Cancel).Open();
        Assert.Equal((Phase.Resume, "r1/1/look/1"), (cancelled.State.Phase, cancelled.State.Outstanding!.Name.ToString()));
        Assert.Equal((Outcome.Cancelled, "because"), (cancelled.Ok("look").State.Outcome, cancelled.State.Reason));

        var missed = Journey.Suspended().At(Slot.AddHours(4)).Ok("save").Open();
        Assert.Equal(Phase.Resume, missed.State.Phase);
        Assert.Equal((Phase.Wait, true, 1), (missed.Ok("look").State.Phase, missed.State.NeedsSlot, missed.State.MissedSlots));

        var rolledBack = Journey.Suspended().Ok("save").Open().Ok("apply").Fail("restart", 1).Decide(Decision.RollBack).Ok("roll-back");
        Assert.Equal(Phase.Resume, rolledBack.State.Phase);
        Assert.Equal((Outcome.RolledBack, "1/restart"), (rolledBack.Ok("look").State.Outcome, rolledBack.State.StoppedAt));
    }

    [Fact]
    public void A_step_that_patches_goes_on_until_nothing_is_left()
    {
        var run = Journey.Waiting(Patching).Left("2 left");
        Assert.Equal((PatchPart.Script, 1, StepKind.Script), (run.Patch.Part, run.Patch.Round, run.State.CurrentAction));
        run.Ok("patch");
        Assert.Equal((PatchPart.Restart, 1, StepKind.Restart), (run.Patch.Part, run.Patch.Round, run.State.CurrentAction));
        run.Ok("patch").Left("1 left").Ok("patch").At(Slot.AddMinutes(50)).Ok("patch").Ok("patch");
        Assert.Equal((null, "save"), (run.State.Patch, run.State.Outstanding!.Name.Step));
        var asked = run.Asked.Where(o => o.Name.Step == "patch").Select(o => o.Name.Attempt);
        Assert.Equal([1, 2, 3, 4, 5, 6, 7], asked);
        // However many rounds it took, it is one step that took so long.
        var measured = Measurements.Of(run.Log, "", "").Steps.Where(s => s.Step.Step == "patch");
        Assert.Equal([(false, TimeSpan.FromMinutes(50))], measured.Select(s => (s.Again, s.Lasted)));

        Assert.Equal("save", Journey.Waiting(Patching).Ok("patch").State.Outstanding!.Name.Step);
        Assert.Equal(PatchPart.Look, Journey.Waiting(Patching with { Restarts = false }).Left("1 left").Ok("patch").Patch.Part);
    }

    [Fact]
    public void A_step_that_patches_in_vain_is_parked_and_a_retry_begins_with_the_first_round()
    {
        var run = Journey.Waiting(Patching).Left("2 left").Ok("patch").Ok("patch").Left("2 left").Ok("patch").Ok("patch").Left("2 left");
        Assert.Equal("Patch: something is left after 2 rounds (found: 2 left)", run.State.Parked);
        Assert.Equal("Patch: something is left after 2 rounds", run.State.ParkedCause);
        run.Decide(Decision.Retry);
        Assert.Equal((PatchPart.Look, 0), (run.Patch.Part, run.Patch.Round));

        var failed = Journey.Waiting(Patching).Left("2 left").Fail("patch", 100);
        Assert.StartsWith("Patch: exit status 100", failed.State.Parked, StringComparison.Ordinal);
        Assert.Equal((PatchPart.Script, 1), (failed.Decide(Decision.Retry).Patch.Part, failed.Patch.Round));

        // That nothing can be said may pass: a reading is repeated before somebody is asked.
        var unknown = Journey.Waiting(Patching).Fail("patch", 1).Fail("patch", 1);
        Assert.Null(unknown.State.Parked);
        Assert.NotNull(unknown.Fail("patch", 1).State.Parked);
    }

    [Fact]
    public void A_step_that_patches_is_left_after_what_is_running_when_it_is_cancelled_or_too_late()
    {
        var cancelled = Journey.Waiting(Patching).Left("2 left").Decide(Decision.Cancel);
        Assert.Null(cancelled.State.Closed);
        Assert.Equal((Outcome.Cancelled, "1/patch"), (cancelled.Ok("patch").State.Outcome, cancelled.State.StoppedAt));

        var late = Journey.Waiting(Patching).Left("2 left").At(Slot.AddHours(4)).Ok("patch");
        Assert.Equal((Phase.Wait, 1, null), (late.State.Phase, late.State.MissedSlots, late.State.Patch));
    }

    [Fact]
    public void What_a_failed_run_leaves_suspended_becomes_a_follow_up()
    {
        var failed = Journey.Suspended().Ok("save").Open().Ok("apply").Fail("restart", 1).Decide(Decision.GiveUp);
        Assert.Equal(["disk encryption"], failed.State.SuspendedThings);
        Assert.Empty(Journey.Suspended().Ok("save").Open().Ok("apply").Ok("restart").Ok("look").State.SuspendedThings);
        Assert.Equal((Outcome.Failed, "1/restart"), (failed.State.Outcome, failed.State.StoppedAt));
        Assert.Equal(("look", true), (failed.State.FollowUps.Single().Name, failed.State.HasOpenFollowUps));
        Assert.StartsWith("because (Restart: exit status 1", failed.State.Reason, StringComparison.Ordinal);
        Assert.Empty(failed.Add(new FollowUpClosed(Slot.AddDays(1), "deck-it", "look", "switched on")).State.SuspendedThings);

        var stuck = Journey.Suspended().Ok("save").Decide(Decision.Cancel).Open().Fail("look", 1);
        Assert.Equal([Decision.Retry, Decision.GiveUp], RunMachine.Possible(stuck.State));
        Assert.Equal("look", stuck.Decide(Decision.GiveUp).State.FollowUps.Single().Name);
    }

    [Fact]
    public void Room_is_needed_from_the_slot_to_the_verification_and_given_back_while_parked()
    {
        var run = Journey.Opened().Open().Ok("fetch");
        Assert.False(run.State.NeedsRoom);
        run.At(Slot).Say(o => new SlotOpened(Slot, "worker", o.Name));
        Assert.True(run.State.NeedsRoom);
        Assert.False(run.Judge(GateState.Blocked, Broken).State.NeedsRoom);
        Assert.True(Journey.AtApply().State.NeedsRoom);
    }

    [Fact]
    public void Replaying_any_history_gives_the_same_state_and_no_attempt_is_ever_asked_for_twice() =>
        Gen.Int[0, 5]
            .Array[1, 60]
            .Sample(choices =>
            {
                var run = Journey.Opened(suspends: true, reclaims: Deleting);
                foreach (var choice in choices)
                    run.Random(choice);
                Assert.True(run.State.Closed is null || run.State.Suspended.All(s => run.State.FollowUps.Any(f => f.Name == s)));
                Assert.Equal(Json(run.State), Json(RunMachine.Replay(run.Log)!));
                Assert.Equal(run.Asked.Count, run.Asked.Select(o => o.Name).Distinct().Count());
                Assert.Equal(run.State.Closed is null, run.State.Outstanding is not null);
            });

    [Fact]
    public void Events_are_written_and_read_back()
    {
        var run = Journey.AtApply().Ok("apply");
        var back = run.Log.Select(e => JsonSerializer.Deserialize<RunEvent>(JsonSerializer.Serialize(e, RunEvent.Json), RunEvent.Json)!);
        Assert.Equal(Json(run.State), Json(RunMachine.Replay(back)!));
        Assert.Equal(Json(run.State), Json(JsonSerializer.Deserialize<RunState>(Json(run.State), RunEvent.Json)!));
    }

    /// <summary>Logs of every version that was ever written replay for ever; new versions add files, none is changed.</summary>
    [Theory]
    [MemberData(nameof(GoldenLogs))]
    public void A_golden_log_still_replays_to_its_state(string name)
    {
        var lines = File.ReadAllLines(Path.Combine(AppContext.BaseDirectory, "Runs", "golden", name));
        var state = RunMachine.Replay(lines[..^1].Select(l => JsonSerializer.Deserialize<RunEvent>(l, RunEvent.Json)!))!;
        var expected = JsonDocument.Parse(lines[^1]).RootElement;
        Assert.Equal(expected.GetProperty("phase").GetString(), RunMachine.Name(state.Phase));
        Assert.Equal(expected.GetProperty("events").GetInt32(), state.Events);
        Assert.Equal(expected.GetProperty("outstanding").GetString(), state.Outstanding?.Name.ToString());
        Assert.Equal(expected.GetProperty("outcome").GetString(), state.Outcome is { } outcome ? RunMachine.Name(outcome) : null);
    }

    public static TheoryData<string> GoldenLogs() =>
        [.. Directory.GetFiles(Path.Combine(AppContext.BaseDirectory, "Runs", "golden"), "*.jsonl").Select(f => Path.GetFileName(f)!)];

    private static string Json(RunState state) => JsonSerializer.Serialize(state, RunEvent.Json);

    /// <summary>A run that is told what happens.</summary>
    private sealed class Journey
    {
        public RunState State { get; private set; } = null!;

        public List<RunEvent> Log { get; } = [];

        public List<Order> Asked { get; } = [];

        public DateTimeOffset Now { get; private set; } = Fleets.Now;

        public PatchState Patch => State.Patch!;

        public Status Status => Statuses.Of(false, default, true, State);

        public static Journey Opened(
            int? catchUp = null,
            bool suspends = false,
            StepSpec? waits = null,
            TimeSpan keeps = default,
            StepSpec? reclaims = null
        )
        {
            var method = Fleets.Method("image");
            ImmutableArray<StepSpec> steps =
            [
                .. method.Steps.SelectMany(s =>
                    s.Name != "save" ? [s]
                    : waits is not null ? [waits, s]
                    : new[] { suspends ? s with { Kind = StepKind.Suspend, Suspends = "disk encryption", ResumedBy = "look" } : s }
                ),
            ];
            var leg = new LegSpec(
                "6-to-7",
                "image",
                steps,
                method.Rollback.Steps,
                method.Rollback.Lasts,
                method.Typical.AfterPointOfNoReturn
            )
            {
                RollbackAtMost = keeps,
                ReclaimSteps = reclaims is null ? [] : [reclaims],
            };
            return new Journey().Add(
                new RunOpened(
                    Fleets.Now,
                    "worker",
                    1,
                    1,
                    "winter",
                    1,
                    "Pilot",
                    "hash",
                    [leg],
                    new(Slot, Slot.AddHours(1), Slot.AddHours(3)),
                    catchUp
                )
            );
        }

        /// <summary>A run that is in its slot and waits in a step before 'save'.</summary>
        public static Journey Waiting(StepSpec waits) =>
            Opened(waits: waits).Open().Ok("fetch").At(Slot).Say(o => new SlotOpened(Slot, "worker", o.Name)).Open();

        /// <summary>A run whose step 'save' has begun, which suspends what 'look' resumes.</summary>
        public static Journey Suspended() =>
            Opened(suspends: true).Open().Ok("fetch").At(Slot).Say(o => new SlotOpened(Slot, "worker", o.Name)).Open();

        /// <summary>Its slot opens so late on some day that it is missed.</summary>
        public Journey Miss(int day) => At(Slot.AddDays(day).AddHours(-1)).Say(o => new SlotOpened(Now, "worker", o.Name));

        public Journey MoveSlot(int days) =>
            Add(
                new SlotMoved(
                    Now,
                    "planner",
                    new(Slot.AddDays(days), Slot.AddDays(days).AddHours(1), Slot.AddDays(days).AddHours(3)),
                    "another"
                )
            );

        /// <summary>A run that is verified, and after whose rollback period a step deletes what was kept.</summary>
        public static Journey Verified(StepSpec reclaims) => AtApply(reclaims).Ok("apply").Ok("restart").Ok("look").Open();

        public static Journey AtApply(StepSpec? reclaims = null) =>
            Opened(reclaims: reclaims)
                .Open()
                .Ok("fetch")
                .At(Slot)
                .Say(o => new SlotOpened(Slot, "worker", o.Name))
                .Open()
                .Ok("save")
                .Open();

        public Journey Add(RunEvent e)
        {
            var stepped = RunMachine.Step(Log.Count == 0 ? null : State, e);
            State = stepped.State;
            Log.Add(e);
            Asked.AddRange(stepped.Orders);
            return this;
        }

        public Journey At(DateTimeOffset now)
        {
            Now = now;
            return this;
        }

        public Journey Say(Func<Order, RunEvent> answer) => Add(answer(State.Outstanding!));

        public Journey Open() => Judge(GateState.Open);

        public Journey Judge(GateState state, params Noted[] notes) =>
            Say(o => new GateJudged(Now, "worker", o.Name, state, [.. notes], []));

        public Journey Ok(string step)
        {
            Assert.Equal(step, State.Outstanding!.Name.Step);
            return Say(o => new OrderEnded(Now, "worker", o.Name, OrderResult.Ok, 0, "done"));
        }

        public Journey Fail(string step, int exit)
        {
            Assert.Equal(step, State.Outstanding!.Name.Step);
            return Say(o => new OrderEnded(Now, "worker", o.Name, OrderResult.Failed, exit, "the line was\ncut"));
        }

        /// <summary>The reading of a step that patches finds that something is left.</summary>
        public Journey Left(string found) => Answer(OrderResult.NotYet, found);

        public Journey Answer(OrderResult result, string note) => Say(o => new OrderEnded(Now, "owner", o.Name, result, null, note));

        public Journey Decide(Decision decision) => Add(new Decided(Now, "planner", decision, "because"));

        /// <summary>Lets something happen that may: an answer of some kind, a repeated one, time that passes, a decision.</summary>
        public void Random(int choice)
        {
            Now = Now.AddMinutes(17 * (choice + 1));
            if (State.Closed is not null)
                return;
            var order = State.Outstanding!;
            var possible = RunMachine.Possible(State);
            RunEvent e = (order.Kind, choice) switch
            {
                (_, 5) when possible.Length > 0 => new Decided(Now, "planner", possible[Now.Minute % possible.Length], "chance"),
                (OrderKind.Gate, 0) => new GateJudged(Now, "worker", order.Name, GateState.Undecided, [Broken], []),
                (OrderKind.Gate, 1) => new GateJudged(Now, "worker", order.Name, GateState.Blocked, [Broken], []),
                (OrderKind.Gate, _) => new GateJudged(Now, "worker", order.Name, GateState.Open, [], []),
                (OrderKind.Step, 0) => new OrderEnded(Now, "worker", order.Name, OrderResult.Failed, 1, "x"),
                (OrderKind.Step, 1) => new OrderEnded(Now, "worker", order.Name, OrderResult.Gone, null, ""),
                (OrderKind.Step, 2) => new OrderOverdue(Now, "worker", order.Name, "long"),
                (OrderKind.Step, _) => new OrderEnded(Now, "worker", order.Name, OrderResult.Ok, 0, ""),
                (OrderKind.Slot, 0) => new SlotMoved(Now, "worker", new(Now, Now.AddHours(1), Now.AddHours(choice)), "moved"),
                (OrderKind.Slot, _) => new SlotOpened(Now, "worker", order.Name),
                (OrderKind.Settle, _) => new Settled(Now, "worker", order.Name),
                _ => new OrderEnded(Now, "worker", Asked[0].Name, OrderResult.Ok, 0, "an old answer"),
            };
            Add(e);
        }
    }
}
