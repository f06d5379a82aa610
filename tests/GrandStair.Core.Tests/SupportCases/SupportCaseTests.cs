using GrandStair.Core.Refusals;
using GrandStair.Core.Scheduling;
using GrandStair.Core.SupportCases;
using GrandStair.Core.Tests.Scheduling;
using GrandStair.Core.Waves;
using Xunit;

namespace GrandStair.Core.Tests.SupportCases;

public sealed class SupportCaseTests
{
    private static readonly DateTimeOffset Monday = new(2027, 1, 11, 0, 0, 0, TimeSpan.Zero);
    private static readonly SupportCase Opened = new(3, "NM-40", "the vendor", "its chip is off again", [new(1)], Monday, "planner");
    private static readonly Plan WithCrew = ScheduleTests.Basic with
    {
        Crews = [new("north", "deck-it", 1, 2, [], new("Europe/London", [WeeklyRule.Parse("Mon-Fri 19:00-23:30")]))],
    };

    [Fact]
    public void A_case_keeps_what_was_said_who_acts_next_and_its_result_and_changes_no_more_once_it_is_closed()
    {
        var at = Monday.AddHours(9);
        var asked = Opened.Noted(SupportCaseState.WithUs, "they ask for the logs", "deck-it", at);
        Assert.Equal((SupportCaseState.WithSupport, SupportCaseState.WithUs), (Opened.State, asked.State));
        var booked = asked.Booked(new(at.AddDays(1), at.AddDays(1).AddHours(1), new("small", "north")), "deck-it", at);
        Assert.Equal(new CrewBooking("north", at.AddDays(1), at.AddDays(1).AddHours(1), new(1)), booked.Booking);
        var closed = booked.Ended("a new board", "deck-it", at.AddHours(2));
        Assert.Equal(
            (SupportCaseState.Closed, "a new board", null, null),
            (closed.State, closed.Result, closed.Appointment, closed.Booking)
        );
        Assert.Equal(
            ["they ask for the logs", "Appointment 2027-01-12 09:00 UTC, 60 min, with north", "a new board"],
            closed.Notes.Select(n => n.Text)
        );
        foreach (
            var change in new Action[]
            {
                () => closed.Noted(SupportCaseState.WithUs, "again", "deck-it", at),
                () => closed.Ended("again", "deck-it", at),
                () => closed.Booked(new(at.AddDays(1), at.AddDays(2), null), "deck-it", at),
            }
        )
            Assert.Equal("case-closed", Assert.Throws<RefusedException>(change).Name);
        // What took place is kept.
        Assert.NotNull(booked.Ended("done", "deck-it", at.AddDays(2)).Appointment);
    }

    [Fact]
    public void An_appointment_takes_a_hand_of_its_crew_and_neither_a_place_at_the_site_nor_in_the_plan()
    {
        var plan = WithCrew with { Limits = new(1, 1) };
        var booking = new CrewBooking("north", Monday.AddHours(19), Monday.AddHours(20), new(9)).Taken();
        var slots = SlotPlacer.Place(new(plan, NoCalendars, [Ask(1, "deck-it"), Ask(2, null)], [booking], Monday.AddHours(19))).All;
        Assert.Equal((Monday.AddHours(20), Monday.AddHours(19)), (slots[0].Slot!.Start, slots[1].Slot!.Start));
    }

    [Fact]
    public void A_crew_is_free_where_it_works_has_a_hand_and_has_not_done_its_jobs_of_the_day()
    {
        DateTimeOffset? Free(DateTimeOffset from, params TakenSlot[] taken) =>
            CrewBooking.FreeFrom(new(WithCrew, NoCalendars, [], taken, from), "north", TimeSpan.FromHours(1));

        TakenSlot Taken(double hour) =>
            new(Ask(1, "deck-it"), new(Monday.AddHours(hour), Monday.AddHours(hour + 1), Monday.AddHours(hour)) { Crew = "north" });

        Assert.Equal(Monday.AddHours(19), Free(Monday.AddHours(9)));
        Assert.Equal(Monday.AddHours(20.5), Free(Monday.AddHours(19), Taken(19.5)));
        // Two jobs a day are its most, whatever the hour.
        Assert.Equal(Monday.AddDays(1).AddHours(19), Free(Monday.AddHours(19), Taken(20), Taken(22)));
        Assert.Throws<ArgumentException>(() =>
            CrewBooking.FreeFrom(new(WithCrew, NoCalendars, [], [], Monday), "south", TimeSpan.FromHours(1))
        );
    }

    private static IReadOnlyDictionary<string, ICalendar> NoCalendars { get; } = new Dictionary<string, ICalendar>();

    private static SlotRequest Ask(int id, string? crew) =>
        new(new(id), "Westhaven", TimeSpan.FromHours(1), TimeSpan.FromMinutes(10)) { Name = $"m{id}", Crew = crew };
}
