using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using Xunit;

namespace GrandStair.Core.Tests.Outcomes;

public sealed class StatusTests
{
    private static readonly DateTimeOffset Now = Fleets.Now;

    [Theory]
    [InlineData(GateState.Open, true, false, Status.Scheduled)]
    [InlineData(GateState.Open, false, false, Status.Ready)]
    [InlineData(GateState.Blocked, false, false, Status.NotReady)]
    [InlineData(GateState.Undecided, true, false, Status.NotReady)]
    [InlineData(GateState.Open, true, true, Status.Exempt)]
    [InlineData(GateState.Blocked, false, true, Status.Exempt)]
    public void Before_its_run_a_machine_stands_by_its_gate_and_its_slot(GateState gate, bool scheduled, bool exempt, Status expected) =>
        Assert.Equal(expected, Statuses.Of(exempt, gate, scheduled, null));

    [Fact]
    public void With_a_run_a_machine_stands_by_it()
    {
        var run = Opened();
        Assert.Equal(Status.Scheduled, Of(run));
        Assert.Equal(Status.Running, Of(run with { Phase = Phase.Apply }));
        Assert.Equal(Status.Parked, Of(run with { Phase = Phase.Apply, Parked = "why" }));
        Assert.Equal(Status.Verified, Of(run with { Phase = Phase.Settle, Verified = Now }));
        Assert.Equal(Status.Done, Of(run with { Closed = Now, Outcome = Outcome.Done }));
        Assert.Equal(Status.Stopped, Of(run with { Closed = Now, Outcome = Outcome.Failed }));
        Assert.Equal(Status.Exempt, Statuses.Of(true, GateState.Open, true, run with { Closed = Now, Outcome = Outcome.Cancelled }));
        Assert.Equal(Status.Done, Statuses.Of(true, GateState.Open, true, run with { Closed = Now, Outcome = Outcome.Done }));
    }

    [Fact]
    public void A_tally_counts_every_machine_once()
    {
        var tally = new Tally([Status.Done, Status.Done, Status.Parked]);
        Assert.Equal((3, 2, 1, 0), (tally.Total, tally[Status.Done], tally[Status.Parked], tally[Status.Ready]));
    }

    [Fact]
    public void The_next_leg_begins_when_the_last_is_verified_and_only_the_last_one_s_rollback_is_waited_for()
    {
        var state = Opened(legs: 2);
        foreach (var leg in new[] { 1, 2 })
        {
            Answer(ref state, GateState.Open);
            End(ref state, "fetch");
            // The first leg has the slot that the run was opened with; the second waits for one of its own.
            Assert.Equal((leg == 2, leg == 2 ? null : state.Slot.Start, 0), (state.NeedsSlot, state.DueAt, state.MissedSlots));
            if (leg == 2)
                Take(ref state, new SlotMoved(Now, "worker", state.Slot, "the second leg's"));
            Assert.Equal(state.Slot.Start, state.DueAt);
            Take(ref state, new SlotOpened(Now, "worker", state.Outstanding!.Name));
            Answer(ref state, GateState.Open);
            End(ref state, "save");
            Answer(ref state, GateState.Open);
            foreach (var step in new[] { "apply", "restart", "look" })
            {
                Assert.Equal($"r1/{leg}/{step}/1", state.Outstanding!.Name.ToString());
                End(ref state, step);
            }

            Assert.Null(state.Verified);
            Answer(ref state, GateState.Open);
        }

        Assert.Equal((Phase.Settle, Now, Now.AddDays(10)), (state.Phase, state.Verified, state.DueAt));
        Assert.Equal(2, state.Phases.Count(p => p.Phase == Phase.Apply));
        Assert.All(state.Phases.SkipLast(1), p => Assert.NotNull(p.To));
    }

    [Fact]
    public void A_run_is_opened_once_and_nothing_comes_before()
    {
        var opened = Event(1);
        var state = RunMachine.Step(null, opened).State;
        Assert.Throws<InvalidOperationException>(() => RunMachine.Step(state, opened));
        Assert.Throws<InvalidOperationException>(() => RunMachine.Step(null, new Settled(Now, "worker", new(1, 1, "settle", 1))));
        Assert.Null(RunMachine.Replay([]));
    }

    [Theory]
    [InlineData("r118/1/full-upgrade/2", 118, 1, "full-upgrade", 2)]
    [InlineData("r1/12/gate-start/1", 1, 12, "gate-start", 1)]
    public void An_order_s_name_is_written_and_read(string text, long run, int leg, string step, int attempt)
    {
        Assert.Equal(new(run, leg, step, attempt), OrderName.Parse(text));
        Assert.Equal(text, OrderName.Parse(text).ToString());
    }

    [Theory]
    [InlineData("118/1/x/2")]
    [InlineData("r118/1/x")]
    [InlineData("r118/one/x/2")]
    [InlineData("")]
    public void What_is_no_order_s_name_is_refused(string text) =>
        Assert.Contains(
            "expected one such as r118/1/full-upgrade/2",
            Assert.Throws<FormatException>(() => OrderName.Parse(text)).Message,
            StringComparison.Ordinal
        );

    [Theory]
    [InlineData("m12", 12)]
    [InlineData("m0", null)]
    [InlineData("12", null)]
    [InlineData("desk-1", null)]
    public void A_machine_s_id_is_read(string text, int? id) => Assert.Equal(id, (int?)MachineId.Parse(text)?.Value);

    [Theory]
    [InlineData("desk-w-01", "desk-w-001")]
    [InlineData("OFFICE-C-007", "office-c-007")]
    [InlineData("completely-different-thing", null)]
    public void The_nearest_word_is_found_and_none_where_none_is_near(string word, string? nearest) =>
        Assert.Equal(nearest, Spelling.Nearest(word, ["desk-w-001", "office-c-007", "deck-kit-04"]));

    [Theory]
    [InlineData(44023414784, ValueKind.Size, "41 GiB")]
    [InlineData(1536, ValueKind.Size, "1.5 KiB")]
    [InlineData(12, ValueKind.Size, "12 B")]
    [InlineData(0, ValueKind.Duration, "0 s")]
    [InlineData(5400, ValueKind.Duration, "1.5 h")]
    [InlineData(777600, ValueKind.Duration, "9 d")]
    [InlineData(200000000, ValueKind.Rate, "200 Mbit/s")]
    public void An_amount_is_shown_in_the_unit_that_people_use(double amount, ValueKind kind, string shown) =>
        Assert.Equal(shown, Units.Show(amount, kind));

    private static Status Of(RunState run) => Statuses.Of(false, GateState.Open, true, run);

    private static RunOpened Event(int legs)
    {
        var method = Fleets.Method("image");
        var leg = new LegSpec(
            "6-to-7",
            "image",
            method.Steps,
            method.Rollback.Steps,
            method.Rollback.Lasts,
            method.Typical.AfterPointOfNoReturn
        );
        return new(
            Now,
            "worker",
            1,
            1,
            "winter",
            1,
            "Pilot",
            "hash",
            [.. Enumerable.Repeat(leg, legs)],
            new Slot(Now, Now.AddHours(1), Now.AddHours(3))
        );
    }

    private static RunState Opened(int legs = 1) => RunMachine.Step(null, Event(legs)).State;

    private static void Take(ref RunState state, RunEvent e) => state = RunMachine.Step(state, e).State;

    private static void Answer(ref RunState state, GateState gate) =>
        Take(
            ref state,
            new GateJudged(Now, "worker", state.Outstanding!.Name, gate, ImmutableArray<Noted>.Empty, ImmutableArray<Noted>.Empty)
        );

    private static void End(ref RunState state, string step)
    {
        Assert.Equal(step, state.Outstanding!.Name.Step);
        Take(ref state, new OrderEnded(Now, "worker", state.Outstanding.Name, OrderResult.Ok, 0, ""));
    }
}
