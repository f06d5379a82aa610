using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Testing.Schedules;
using Xunit;

namespace GrandStair.Core.Tests.Scheduling;

public class SharedScheduleTests
{
    private const int Cases = 20;
    private const int LatePlans = 5;

    [Fact]
    public void Two_plans_of_several_waves_break_no_limit_crew_uplink_cluster_or_dependency_between_them()
    {
        var slots = CountWhereNothingIsWrong(Cases, SharedSchedules.Check);
        Assert.True(slots > Cases * 20, $"{slots} slots are too few to say anything");
    }

    [Fact]
    public void What_is_advised_to_a_late_plan_meets_its_deadline_and_less_does_not()
    {
        var advised = CountWhereNothingIsWrong(LatePlans, SharedSchedules.CheckAdvice);
        Assert.True(advised > LatePlans / 2, $"{advised} changes are too few to say anything");
    }

    [Fact]
    public void Without_a_window_it_is_told_whose_windows_count_and_which_freeze_takes_them()
    {
        TimeRule Weekly(string when) => new("Europe/London", [WeeklyRule.Parse(when)]);
        var plan = ScheduleTests.Basic with
        {
            Windows =
            [
                new(TargetSelector.Everyone, Weekly("Mon-Sun 00:00-00:00")),
                new(new([], ["till"], []), Weekly("Mon 08:00-09:00")),
                new(new([], [], ["m2"]), Weekly("Mon-Sun 20:00-23:00")),
            ],
            Freezes = [new(TargetSelector.At("Westhaven"), Weekly("Mon-Sun 19:00-22:00"), "the ferries dock")],
        };
        SlotRequest Ask(int id, string group) =>
            new(new(id), "Westhaven", TimeSpan.FromMinutes(90), TimeSpan.FromMinutes(10)) { Name = $"m{id}", Group = group };
        var placed = SlotPlacer
            .Place(
                new(
                    plan,
                    new Dictionary<string, ICalendar>(),
                    [Ask(1, "till"), Ask(2, "till")],
                    [],
                    new DateTimeOffset(2027, 1, 11, 0, 0, 0, TimeSpan.Zero)
                )
            )
            .All;
        Assert.Equal(
            ("it takes 90 min, and the longest window of group 'till' is 60 min", "a window of at least 90 min for group 'till'"),
            (placed[0].Why, placed[0].Change)
        );
        Assert.Equal(
            (
                "it takes 90 min, and the freeze 'the ferries dock' leaves no more than 60 min of machine 'm2' within 120 days",
                "an earlier end of that freeze, or a window for machine 'm2' outside of it"
            ),
            (placed[1].Why, placed[1].Change)
        );
    }

    [Fact]
    public void What_a_crew_did_earlier_today_counts_for_its_day()
    {
        var now = new DateTimeOffset(2027, 1, 11, 14, 0, 0, TimeSpan.Zero);
        var crew = new CrewSpec("north", "deck-it", 1, 4, [], new("Europe/London", [WeeklyRule.Parse("Mon-Fri 08:00-18:00")]));
        var plan = ScheduleTests.Basic with
        {
            Windows = [new(TargetSelector.Everyone, new("Europe/London", [WeeklyRule.Parse("Mon-Sun 00:00-00:00")]))],
            Crews = [crew],
        };
        SlotRequest Ask(int id) =>
            new(new(id), "Westhaven", TimeSpan.FromMinutes(30), TimeSpan.FromMinutes(10)) { Name = $"m{id}", Crew = "deck-it" };
        // Three were done this morning, one yesterday.
        TakenSlot[] done =
        [
            .. new[] { -6, -5, -4, -24 }.Select(
                (h, i) => new TakenSlot(Ask(10 + i), new(now.AddHours(h), now.AddHours(h), now.AddHours(h)) { Crew = "north" })
            ),
        ];
        var placed = SlotPlacer.Place(new(plan, new Dictionary<string, ICalendar>(), [Ask(1), Ask(2), Ask(3)], done, now)).All;
        Assert.Equal([11, 12, 12], placed.Select(p => p.Slot!.Start.Day).Order());
    }

    [Fact]
    public void Whoever_depends_on_a_machine_of_a_later_wave_goes_in_that_wave()
    {
        var (radio, gateway, till, hub) = (new MachineId(1), new MachineId(2), new MachineId(3), new MachineId(4));
        var on = new Dictionary<MachineId, Predecessor>
        {
            [radio] = new(gateway, "gateway"),
            [gateway] = new(hub, "hub"),
            [till] = new(radio, "radio"),
        };
        var waves = new Dictionary<MachineId, int>
        {
            [radio] = 1,
            [gateway] = 1,
            [till] = 2,
            [hub] = 3,
        };
        var deferred = WaveOrder.Defer(waves, m => on.TryGetValue(m, out var before) ? before : null, m => m == till);
        Assert.Equal([new(radio, 1, 3, new(hub, "hub")), new(gateway, 1, 3, new(hub, "hub"))], deferred);
    }

    [Fact]
    public void Machines_that_depend_on_one_another_in_a_circle_are_told_apart_from_those_that_can_go()
    {
        SlotRequest Ask(int id, int on) =>
            new(new(id), "Westhaven", TimeSpan.FromMinutes(30), TimeSpan.FromMinutes(10))
            {
                Name = $"m{id}",
                After = [new(new(on), $"m{on}")],
            };
        var placed = SlotPlacer
            .Place(
                new(
                    ScheduleTests.Basic,
                    new Dictionary<string, ICalendar>(),
                    [Ask(1, 2), Ask(2, 1)],
                    [],
                    new DateTimeOffset(2027, 1, 11, 0, 0, 0, TimeSpan.Zero)
                )
            )
            .All;
        Assert.All(placed, p => Assert.Null(p.Slot));
        Assert.Contains("it depends on m2, which has no slot", placed[0].Why, StringComparison.Ordinal);
    }

    private static int CountWhereNothingIsWrong(int seeds, Func<int, (IReadOnlyList<string> Wrong, int Count)> check) =>
        Enumerable
            .Range(1, seeds)
            .Sum(seed =>
            {
                var (wrong, count) = check(seed);
                Assert.True(wrong.Count == 0, $"seed {seed}: {string.Join("; ", wrong.Take(5))}");
                return count;
            });
}
