using System.Text.Json;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Storage.Access;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Rehearsals;
using Xunit;

namespace GrandStair.Storage.Tests;

/// <summary>Rehearsals that are asked for, made, cancelled and kept; times that somebody chose, and share links.</summary>
public abstract partial class StoreTests
{
    private static readonly RehearsalAsked Asked = new(100, 7, TimeSpan.FromDays(4), [new("more at once", ["limits.all=9"], null)]);

    private RehearsalTable Rehearsals => new(Database);

    [Fact]
    public async Task A_rehearsal_is_taken_by_one_worker_says_how_far_it_is_and_keeps_what_came_of_it()
    {
        await PlanAsync("desk-1");
        var id = await Rehearsals.AskAsync(Plan, 1, Asked, new("planner"), Now, Stop);
        var claimed = (await Rehearsals.ClaimAsync(Stop))!;
        Assert.Equal(
            (id, RehearsalState.Running, 200, "more at once"),
            (claimed.Id, claimed.State, claimed.Total, claimed.Asked.WhatIfs.Single().Name)
        );
        Assert.Null(await Rehearsals.ClaimAsync(Stop));
        Assert.True(await Rehearsals.AdvanceAsync(id, 50, Stop));
        Assert.Equal(50, (await Rehearsals.FindAsync(id, Stop))!.Done);
        await Rehearsals.EndAsync(claimed, [new("", [], new(2027, 3, 31), Made)], null, Now.AddMinutes(1), Stop);
        var done = (await Rehearsals.FindAsync(id, Stop))!;
        Assert.Equal((RehearsalState.Done, 200, Now.AddMinutes(1)), (done.State, done.Done, done.Ended));
        Assert.Equal(
            JsonSerializer.Serialize(Made, RunEvent.Json),
            JsonSerializer.Serialize(done.Results.Single().Forecast, RunEvent.Json)
        );
        Assert.False(await Rehearsals.CancelAsync(done, new("planner"), Now, Stop));
    }

    [Fact]
    public async Task A_share_link_is_known_by_its_secret_alone_until_it_is_ended()
    {
        await PlanAsync("desk-1");
        var addresses = new ShareLinkTable(Database);
        var secret = AccessTable.NewSecret();
        var id = await addresses.AddAsync(
            secret,
            new(0, Plan, ShareLinkKind.Owner, "deck-it", Core.Access.SiteScope.Of(["Westhaven"]), Now, "planner", null, null),
            new("planner"),
            Stop
        );
        var found = (await addresses.OfAsync(secret, Now.AddHours(1), Stop))!;
        Assert.Equal(
            (id, Plan, ShareLinkKind.Owner, "deck-it", true, false),
            (found.Id, found.Plan, found.Kind, found.Of, found.Sites.Holds("Westhaven"), found.Sites.Holds("Eastness"))
        );
        Assert.Null(await addresses.OfAsync(secret + "x", Now, Stop));
        Assert.Equal(Now.AddHours(1), Assert.Single(await addresses.OfPlanAsync(Plan, Stop)).LastUsed);
        Assert.False(await addresses.EndAsync("another", id, "given away", new("planner"), Now, Stop));
        Assert.True(await addresses.EndAsync(Plan, id, "given away", new("planner"), Now.AddHours(2), Stop));
        Assert.Null(await addresses.OfAsync(secret, Now, Stop));
        Assert.Equal(Now.AddHours(2), Assert.Single(await addresses.OfPlanAsync(Plan, Stop)).Ended);
        Assert.False(await addresses.EndAsync(Plan, id, "again", new("planner"), Now, Stop));
    }

    [Fact]
    public async Task A_time_that_somebody_chose_is_not_written_over_by_what_was_looked_at_before()
    {
        await PlanAsync("desk-1");
        var before = Assert.Single(await Plans.MembersAsync(Plan, Stop));
        var slot = new Slot(Now.AddHours(5), Now.AddHours(6), Now.AddHours(7));
        await Plans.RescheduleAsync(Plan, before.Machine, slot.Start, slot, "its user is away", new("helper"), Now, Stop);
        await Plans.PutMembersAsync(
            Plan,
            [before with { Status = Core.Outcomes.Status.Scheduled, Slot = new(Now.AddHours(1), Now.AddHours(2), Now.AddHours(3)) }],
            Now,
            Stop
        );
        var after = Assert.Single(await Plans.MembersAsync(Plan, Stop));
        Assert.Equal(
            (slot, slot.Start, "helper", "its user is away"),
            (after.Slot, after.Rescheduled, after.RescheduledBy, after.RescheduledReason)
        );
        await Plans.RescheduleAsync(Plan, before.Machine, null, null, "it no longer matters", new("helper"), Now, Stop);
        Assert.Equal(
            (slot, null, null),
            (
                (await Plans.MembersAsync(Plan, Stop))[0].Slot,
                (await Plans.MembersAsync(Plan, Stop))[0].Rescheduled,
                (await Plans.MembersAsync(Plan, Stop))[0].RescheduledBy
            )
        );
    }

    [Fact]
    public async Task One_at_a_time_among_all_services_has_the_turn_to_choose_times()
    {
        await using var other = await Databases.Database.OpenAsync(await WhereAsync(), Stop);
        var (at, most, all) = (0, 0, 0);
        async Task ChooseAsync(PlanTable plans)
        {
            await using var turn = await plans.TurnToChooseAsync(Stop);
            most = Math.Max(most, Interlocked.Increment(ref at));
            await Task.Delay(20, Stop);
            Interlocked.Increment(ref all);
            Interlocked.Decrement(ref at);
        }

        // More wait than there are connections.
        await Task.WhenAll(Enumerable.Range(0, 60).Select(i => ChooseAsync(i % 2 == 0 ? Plans : new(other))));
        Assert.Equal((1, 60), (most, all));
        using var impatient = new CancellationTokenSource(TimeSpan.FromMilliseconds(100));
        await using (await Plans.TurnToChooseAsync(Stop))
            await Assert.ThrowsAnyAsync<OperationCanceledException>(() => new PlanTable(other).TurnToChooseAsync(impatient.Token));
        await (await new PlanTable(other).TurnToChooseAsync(Stop)).DisposeAsync();
    }

    [Fact]
    public async Task When_a_machine_was_not_ready_and_made_ready_is_kept_and_begins_anew_when_it_goes_again()
    {
        await PlanAsync("desk-1");
        var member = Assert.Single(await Plans.MembersAsync(Plan, Stop));
        async Task<(DateTimeOffset?, DateTimeOffset?)> StandAsync(Core.Outcomes.Status status, int hours)
        {
            await Plans.PutMembersAsync(Plan, [member with { Status = status }], Now.AddHours(hours), Stop);
            return ((await Plans.MembersAsync(Plan, Stop))[0].Lapsed, (await Plans.MembersAsync(Plan, Stop))[0].Readied);
        }

        await StandAsync(Core.Outcomes.Status.Ready, 1);
        Assert.Equal(Now.AddHours(5), (await StandAsync(Core.Outcomes.Status.NotReady, 5)).Item1);
        Assert.Equal(Now.AddHours(5), (await StandAsync(Core.Outcomes.Status.NotReady, 6)).Item1);
        Assert.Equal((Now.AddHours(5), Now.AddHours(9)), await StandAsync(Core.Outcomes.Status.Ready, 9));
        Assert.Equal((Now.AddHours(5), Now.AddHours(9)), await StandAsync(Core.Outcomes.Status.Scheduled, 10));
    }

    [Fact]
    public async Task What_is_scheduled_for_a_machine_is_kept_beside_its_slot_and_taken_away_again()
    {
        await PlanAsync("desk-1");
        var member = Assert.Single(await Plans.MembersAsync(Plan, Stop));
        var tentative = new Slot(Now.AddDays(5), Now.AddDays(5).AddHours(1), Now.AddDays(5).AddHours(1))
        {
            StageFrom = Now.AddDays(4),
            Crew = "harbour",
        };
        await Plans.PutTentativeAsync(Plan, [(member.Machine, tentative)], Now, Stop);
        Assert.Equal(
            (tentative, member.Slot),
            ((await Plans.MembersAsync(Plan, Stop))[0].Tentative, (await Plans.MembersAsync(Plan, Stop))[0].Slot)
        );
        await Plans.PutTentativeAsync(Plan, [(member.Machine, null)], Now, Stop);
        Assert.Null((await Plans.MembersAsync(Plan, Stop))[0].Tentative);
    }

    [Fact]
    public async Task A_rehearsal_that_somebody_cancels_is_told_so_and_keeps_nothing()
    {
        await PlanAsync("desk-1");
        var id = await Rehearsals.AskAsync(Plan, 1, Asked, new("planner"), Now, Stop);
        var claimed = (await Rehearsals.ClaimAsync(Stop))!;
        Assert.True(await Rehearsals.CancelAsync(claimed, new("planner"), Now, Stop));
        Assert.False(await Rehearsals.AdvanceAsync(id, 60, Stop));
        await Rehearsals.EndAsync(claimed, [], null, Now, Stop);
        Assert.Equal(RehearsalState.Cancelled, (await Rehearsals.FindAsync(id, Stop))!.State);
    }

    [Fact]
    public async Task A_plan_has_one_forecast_and_as_many_rehearsals_as_are_worth_keeping()
    {
        await PlanAsync("desk-1");
        await Rehearsals.PutForecastAsync(Plan, 1, Asked, new("", [], null, Made), 0, Now, Stop);
        await Rehearsals.PutForecastAsync(Plan, 2, Asked, new("", [], null, Made with { Machines = 2 }), 0, Now.AddHours(1), Stop);
        Assert.Equal(
            (2, 2),
            (
                (await Rehearsals.ForecastAsync(Plan, Stop))!.Revision,
                (await Rehearsals.ForecastAsync(Plan, Stop))!.Results.Single().Forecast.Machines
            )
        );
        Assert.Empty(await Rehearsals.OfAsync(Plan, Stop));
        for (var i = 0; i < RehearsalTable.Kept + 5; i++)
        {
            await Rehearsals.AskAsync(Plan, 1, Asked, new("planner"), Now.AddMinutes(i), Stop);
            await Rehearsals.EndAsync((await Rehearsals.ClaimAsync(Stop))!, null, "it could not be done", Now, Stop);
        }

        var kept = await Rehearsals.OfAsync(Plan, Stop);
        Assert.InRange(kept.Count, RehearsalTable.Kept - 1, RehearsalTable.Kept + 1);
        Assert.Equal((RehearsalState.Failed, "it could not be done"), (kept[0].State, kept[0].Why));
    }

    private static Forecast Made =>
        new()
        {
            Draws = 100,
            Seed = 7,
            From = Now,
            Machines = 1,
            Verified = new(Now.AddDays(1), Now.AddDays(2), null),
            InTime = 0.4,
            NotVerified = new(0, 1, 2),
            MissedSlots = default,
            Waves = [new("Pilot", new(Now, Now, Now), new(Now.AddDays(1), null, null))],
            Sites = [new("Westhaven", 1, default, Cause.SiteLimit, 3.5, [new(Cause.SiteLimit, 3.5), new(Cause.People, 1)])],
            Late = [new(new MachineId(1), 0.6)],
            Steps = [new(1, new(Now, Now, Now))],
        };
}
