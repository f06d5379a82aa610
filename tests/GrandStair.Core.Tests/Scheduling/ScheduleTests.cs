using System.Collections.Immutable;
using CsCheck;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Testing;
using GrandStair.Testing.Schedules;
using NodaTime;
using Xunit;

namespace GrandStair.Core.Tests.Scheduling;

public sealed class ScheduleTests
{
    [Fact]
    public void No_slot_breaks_a_window_a_freeze_a_limit_a_uplink_a_crew_or_a_cluster_at_any_minute_whatever_is_asked_for() =>
        Cases.Sample(
            @case =>
            {
                var schedule = SlotPlacer.Place(@case);
                Assert.Equal(@case.Requests.Select(r => r.Machine), schedule.All.Select(p => p.Machine));
                Assert.Empty(Broken(@case, schedule));
                Assert.All(schedule.All.Where(p => p.Slot is null), p => Assert.True(p.Why!.Length > 10 && p.Change!.Length > 5));
                if (schedule is { End: { } end, Bound: { } bound } && schedule.All.All(p => p.Slot is not null))
                    Assert.True(bound.End <= end, $"{bound.Why}: {bound.End:u} after {end:u}");
            },
            iter: Seeds.Cases(150)
        );

    [Fact]
    public void The_same_case_gives_the_same_slots() =>
        Cases.Sample(@case => SlotPlacer.Place(@case).All.SequenceEqual(SlotPlacer.Place(@case).All), iter: Seeds.Cases(40));

    [Fact]
    public void Placing_again_without_a_change_moves_nothing() =>
        Cases.Sample(
            @case =>
            {
                var first = SlotPlacer.Place(@case);
                var again = SlotPlacer.Place(@case with { Requests = Status(@case, first) });
                Assert.Empty(again.Moved);
                Assert.Equal(first.All.Select(p => p.Slot), again.All.Select(p => p.Slot));
            },
            // The first case is one whose staging has begun and that comes after another machine.
            seed: "4G-6lnX-zpc1",
            iter: Seeds.Cases(100)
        );

    [Fact]
    public void After_a_change_only_what_is_in_its_way_is_moved() =>
        Cases.Sample(
            @case =>
            {
                var first = SlotPlacer.Place(@case);
                if (first.All.FirstOrDefault(p => p.Slot is not null)?.Slot is not { } slot)
                    return;
                var day = DateOnly.FromDateTime(slot.Start.UtcDateTime);
                var changed = @case.Plan with
                {
                    Freezes =
                    [
                        .. @case.Plan.Freezes,
                        new(TargetSelector.Everyone, new("UTC", []) { Days = [new(day, day)] }, "the harbour is blocked"),
                    ],
                };
                var closed = @case with { Plan = changed, Requests = Status(@case, first) };
                var again = SlotPlacer.Place(closed);
                Assert.Empty(Broken(closed, again));
                var blocked = new DaySpan(day, day).In(DateTimeZone.Utc);
                // One may move because the freeze is in its way, or because one that it comes after or that takes its crew has moved; the
                // others stay.
                var hit = first
                    .All.Where(p => p.Slot is { } s && s.Start < blocked.To && s.LatestTurn > blocked.From.AddDays(-2))
                    .Select(p => p.Machine)
                    .ToHashSet();
                var chained = @case.Requests.Where(r => r.After.Length > 0).Select(r => r.Machine).ToHashSet();
                Assert.All(again.Moved, m =>
                    Assert.True(hit.Contains(m.Machine) || chained.Contains(m.Machine), $"{m.Before.Start:u} was not in the way of {day}")
                );
            },
            iter: Seeds.Cases(100)
        );

    [Fact]
    public void A_machine_that_cannot_be_placed_is_told_which_limit_kept_it_out_and_what_would_have_to_change()
    {
        var plan = Basic with { Windows = [new(TargetSelector.At("Westhaven"), Weekly("Mon 20:00-22:00"))] };
        Told(plan, [Ask(1, "Westhaven", 180)], "the longest window of site 'Westhaven' is 120 min", "a window of at least 180 min");
        Told(plan, [Ask(1, "Eastness", 60)], "no window of site 'Eastness' within 120 days", "a window for site 'Eastness'");
        Told(
            plan,
            [Ask(1, "Westhaven", 100) with { RollbackLasts = TimeSpan.FromMinutes(30) }],
            "and 30 min to go back",
            "at least 130 min"
        );
        Told(
            plan,
            [Ask(1, "Westhaven", 60) with { Crew = "deck-it" }],
            "the plan has none that comes to site 'Westhaven'",
            "a crew of kind 'deck-it'"
        );
        Told(
            plan with
            {
                Limits = new(100, 1),
            },
            [.. Enumerable.Range(1, 20).Select(i => Ask(i, "Westhaven", 120))],
            "the limit of 1 at one site",
            "more at once at one site"
        );
        Told(
            plan with
            {
                Limits = new(1, 100),
            },
            [.. Enumerable.Range(1, 20).Select(i => Ask(i, "Westhaven", 120))],
            "the limit of 1 at once in the whole plan",
            "more at once in the whole plan"
        );
        Told(
            plan with
            {
                Uplinks = [new(["Westhaven"], 8000, 0.5, null)],
            },
            [Ask(1, "Westhaven", 60) with { Stages = 8e9 }],
            "the uplink of site 'Westhaven' cannot bring its 7.5 GiB",
            "a faster uplink"
        );
        Told(
            plan with
            {
                Crews = [new("deck", "deck-it", 1, null, [], Weekly("Tue 08:00-18:00"))],
            },
            [Ask(1, "Westhaven", 60) with { Crew = "deck-it" }],
            "no crew 'deck-it' is free within the windows",
            "other hours of a crew"
        );
        Told(
            plan,
            [Ask(1, "Eastness", 60) with { Name = "gw" }, Ask(2, "Westhaven", 60) with { After = [new(new(1), "m1")] }],
            "it depends on gw, which has no slot",
            "a slot for gw"
        );
    }

    [Fact]
    public void Staging_over_a_thin_uplink_is_spread_over_the_nights_that_it_takes()
    {
        // 600 MB at 50 % of 512 kbit/s take some 5 h 12 min; the uplink is given to staging for two hours a night.
        var plan = Basic with
        {
            Uplinks = [new(["MV Gannet"], 512e3, 0.5, Weekly("Mon-Sun 01:00-03:00"))],
            StageAhead = TimeSpan.FromHours(12),
        };
        var slot = SlotPlacer.Place(Case(plan, Ask(1, "MV Gannet", 60) with { Stages = 600e6 })).All.Single().Slot!;
        Assert.Equal(Utc(2027, 1, 13, 2).AddMinutes(13), slot.Start);
        // What is through in the third night begins in the first: the plan would rather begin later, and the uplink does not let it.
        Assert.Equal(Utc(2027, 1, 11, 1).AddSeconds(30), slot.StageFrom);
    }

    [Fact]
    public void A_staging_that_is_running_keeps_the_uplink_from_one_whose_slot_is_earlier()
    {
        var plan = Basic with { Uplinks = [new(["MV Gannet"], 512e3, 0.5, null)], StageAhead = TimeSpan.FromDays(5) };
        var (first, second) = (Ask(1, "MV Gannet", 60) with { Stages = 20e6 }, Ask(2, "MV Gannet", 60) with { Stages = 20e6 });
        Slot SlotOn(int day, SlotRequest of) => new(Utc(2027, 1, day, 20), Utc(2027, 1, day, 20) + of.Lasts, Utc(2027, 1, day, 20));
        var placed = SlotPlacer.Place(
            Case(
                plan,
                first with
                {
                    Stands = SlotOn(14, first) with { StageFrom = Now },
                },
                second with
                {
                    Stands = SlotOn(13, second) with { StageFrom = Now.AddHours(2) },
                }
            )
        );
        Assert.Equal(Now, placed.All[0].Slot!.StageFrom);
        // 20 MB at 50 % of 512 kbit/s take 10 min 25 s.
        Assert.Equal(Now.AddMinutes(10).AddSeconds(25), placed.All[1].Slot!.StageFrom!.Value, TimeSpan.FromSeconds(1));
    }

    [Fact]
    public void A_second_crew_halves_what_one_crew_takes()
    {
        var crew = new CrewSpec("north", "deck-it", 1, 2, [], Weekly("Mon-Fri 19:00-23:30"));
        SlotRequest[] asked = [.. Enumerable.Range(1, 12).Select(i => Ask(i, "Westhaven", 60) with { Crew = "deck-it" })];
        var one = SlotPlacer.Place(Case(Basic with { Crews = [crew] }, asked));
        var two = SlotPlacer.Place(Case(Basic with { Crews = [crew, crew with { Name = "south" }] }, asked));
        Assert.All(one.All.CountBy(p => p.Slot!.Start.Date), day => Assert.Equal(2, day.Value));
        Assert.Equal("the capacity of the crews 'deck-it'", one.Bound!.Why);
        Assert.Equal(7, one.All.Max(p => (p.Slot!.Start - Now).Days));
        Assert.Equal(2, two.All.Max(p => (p.Slot!.Start - Now).Days));
        Assert.Equal(["north", "south"], two.All.Select(p => p.Slot!.Crew!).Distinct().Order());
    }

    [Fact]
    public void What_is_for_a_machine_counts_before_its_group_its_site_and_everyone_and_every_freeze_holds()
    {
        var plan = Basic with
        {
            Windows =
            [
                new(TargetSelector.Everyone, Weekly("Mon 08:00-09:00")),
                new(TargetSelector.At("Westhaven"), Weekly("Tue 08:00-09:00")),
                new(new([], ["office"], []), Weekly("Wed 08:00-09:00")),
                new(new([], [], ["wh-1"]), Weekly("Thu 08:00-12:00")),
            ],
            Freezes =
            [
                new(TargetSelector.At("Westhaven"), new("Europe/London", []) { Days = [DaySpan.Parse("2027-01-14")] }, "stocktaking"),
                new(TargetSelector.Everyone, Weekly("Thu 09:00-10:00"), "the weekly drill"),
            ],
        };
        var windows = new Windows(plan, NoCalendars, Now, Now.AddDays(14));
        Assert.Equal(Utc(2027, 1, 11, 8), windows.Of("Eastness", "till", "e-1")[0].From);
        Assert.Equal(Utc(2027, 1, 12, 8), windows.Of("westhaven", "till", "wh-2")[0].From);
        Assert.Equal(Utc(2027, 1, 13, 8), windows.Of("Westhaven", "office", "wh-3")[0].From);
        Assert.Equal(
            [new(Utc(2027, 1, 21, 8), Utc(2027, 1, 21, 9)), new(Utc(2027, 1, 21, 10), Utc(2027, 1, 21, 12))],
            windows.Of("Westhaven", "office", "WH-1")
        );
    }

    [Fact]
    public void A_deadline_that_cannot_be_met_is_told_with_the_smallest_changes_that_would_meet_it()
    {
        SlotRequest[][] waves =
        [
            [.. Enumerable.Range(1, 4).Select(i => Ask(i, "Westhaven", 120))],
            [.. Enumerable.Range(5, 40).Select(i => Ask(i, "Westhaven", 120))],
        ];
        var plan = Basic with
        {
            Waves = [new("Pilot", null, 4), new("Rest", null, null)],
            Limits = new(4, 1),
            Deadline = new(2027, 1, 20),
            Advance = new(1, 0, TimeSpan.FromDays(2)),
        };
        var schedule = PlanSchedule.Of(plan, NoCalendars, waves, [], [], Now);
        Assert.True(schedule.End > PlanSchedule.EndOf(plan.Deadline.Value));
        var changes = PlanSchedule.ToMeet(plan, NoCalendars, waves, [], [], Now);
        Assert.All(changes, c => Assert.True(c.Meets && c.End <= PlanSchedule.EndOf(plan.Deadline.Value)));
        Assert.Contains(changes, c => c.What == "machines at once at one site: 2 instead of 1");
        // With one fewer than it says it would not do: the change is the smallest.
        Assert.Empty(PlanSchedule.ToMeet(plan with { Limits = new(4, 2) }, NoCalendars, waves, [], [], Now));
        Assert.Empty(PlanSchedule.ToMeet(plan with { Deadline = null }, NoCalendars, waves, [], [], Now));
        var hopeless = PlanSchedule.ToMeet(plan with { Deadline = new(2027, 1, 13) }, NoCalendars, waves, [], [], Now);
        Assert.NotEmpty(hopeless);
        Assert.True(hopeless.Length > 1 || !hopeless[0].Meets);
    }

    [Fact]
    public void A_wave_begins_not_before_it_may_and_where_that_is_too_late_it_is_told_how_much_earlier_would_do()
    {
        SlotRequest[][] waves =
        [
            [Ask(1, "Westhaven", 60)],
            [Ask(2, "Westhaven", 60)],
            [Ask(3, "Westhaven", 60)],
        ];
        var plan = Basic with
        {
            Waves = [new("Pilot", null, 1), new("Middle", null, null) { NotBefore = Now.AddDays(20) }, new("Rest", null, null)],
            Advance = new(1, 0, TimeSpan.FromDays(2)),
        };
        var schedule = PlanSchedule.Of(plan, NoCalendars, waves, [], [], Now);
        Assert.Equal([Now, Now.AddDays(20)], schedule.Waves.Take(2).Select(w => w.From));
        Assert.True(schedule.Waves[1].Schedule.All[0].Slot!.Start >= Now.AddDays(20));
        Assert.True(schedule.Waves[2].From >= schedule.Waves[1].Schedule.End!.Value.AddDays(2));
        // One that the wave before is later than anyway holds nothing up.
        var early = PlanSchedule.Of(
            plan with
            {
                Waves = plan.Waves.SetItem(1, plan.Waves[1] with { NotBefore = Now.AddHours(1) }),
            },
            NoCalendars,
            waves,
            [],
            [],
            Now
        );
        Assert.Equal(
            PlanSchedule
                .Of(plan with { Waves = plan.Waves.SetItem(1, plan.Waves[1] with { NotBefore = null }) }, NoCalendars, waves, [], [], Now)
                .End,
            early.End
        );

        var deadline = DateOnly.FromDateTime(schedule.End!.Value.UtcDateTime.AddDays(-5));
        var change = Assert.Single(
            PlanSchedule.ToMeet(
                plan with
                {
                    Deadline = deadline,
                    Advance = plan.Advance with { Soak = TimeSpan.Zero },
                },
                NoCalendars,
                waves,
                [],
                [],
                Now
            ),
            c => c.What.StartsWith("wave Middle begins", StringComparison.Ordinal)
        );
        Assert.Matches("^wave Middle begins not before 2027-01-[0-9]{2} [0-9:]+ UTC instead of not before 2027-01-31 ", change.What);
        Assert.True(change.Meets && change.End > PlanSchedule.EndOf(deadline).AddDays(-3));
    }

    [Fact]
    public void A_wave_waits_for_those_of_the_one_before_that_are_running_unless_it_has_passed()
    {
        SlotRequest[][] waves =
        [
            [],
            [Ask(2, "Westhaven", 60)],
        ];
        var plan = Basic with { Waves = [new("Pilot", null, null), new("Rest", null, null)], Advance = new(0.5, 0, TimeSpan.FromDays(2)) };
        DateTimeOffset[] ends = [Now.AddDays(-1), Now.AddHours(9), Now.AddHours(30), Now.AddHours(50)];
        DateTimeOffset From(params BegunWave[] begun) => PlanSchedule.Of(plan, NoCalendars, waves, [], begun, Now).Waves[1].From;
        Assert.Equal(Now, From());
        // The second of four is half of them.
        Assert.Equal(Now.AddHours(9).AddDays(2), From(new BegunWave([.. ends], Passed: false)));
        Assert.Equal(Now, From(new BegunWave([.. ends], Passed: true)));
        Assert.Equal(Now, From(new BegunWave([Now.AddDays(-9), Now.AddDays(-8)], Passed: false)));
        // Those that have a slot and those that are running count together.
        waves[0] = [.. Enumerable.Range(10, 4).Select(i => Ask(i, "Eastness", 60))];
        var tentative = PlanSchedule.Of(plan, NoCalendars, waves, [], [new([.. ends], Passed: false)], Now);
        var all = tentative.Waves[0].Schedule.All.Select(p => p.Slot!.End).Concat(ends).Order().ToArray();
        Assert.Equal(all[3].AddDays(2), tentative.Waves[1].From);
    }

    [Fact]
    public void A_time_that_is_tried_breaks_nothing_where_nothing_is_in_its_way_and_the_time_that_a_machine_has_is_free_for_it() =>
        Cases.Sample(
            @case =>
            {
                var schedule = SlotPlacer.Place(@case);
                foreach (
                    var (request, had) in @case.Requests.Zip(schedule.All, (r, p) => (r, p.Slot)).Where(p => p.Item2 is not null).Take(4)
                )
                {
                    var others = @case
                        .Requests.Zip(schedule.All, (r, p) => (Of: r, p.Slot))
                        .Where(o => o.Slot is not null && o.Of.Machine != request.Machine)
                        .Select(o => new TakenSlot(o.Of, o.Slot!));
                    var one = @case with { Requests = [request], Taken = [.. @case.Taken, .. others] };
                    Assert.Equal(had!.Start, SlotTrial.At(one, had.Start).Slot?.Start);
                    var times = SlotTrial.Times(one, @case.From, @case.From.AddDays(9), TimeSpan.FromMinutes(50), 20);
                    Assert.True(times.Zip(times.Skip(1)).All(t => t.Second.Start - t.First.Start >= TimeSpan.FromMinutes(50)));
                    foreach (var slot in times)
                    {
                        Assert.Empty(Broken(one, new([new(request.Machine, slot, null, null)], null, [])));
                        Assert.DoesNotContain(one.Taken, t =>
                            (request.After.Any(a => a.Machine == t.Of.Machine) && t.Slot.End > slot.Start)
                            || (t.Of.After.Any(a => a.Machine == request.Machine) && t.Slot.Start < slot.End)
                        );
                    }

                    for (var start = @case.From; start < @case.From.AddDays(2); start = start.AddMinutes(173))
                    {
                        var trial = SlotTrial.At(one, start);
                        Assert.Equal(trial.InTheWay.IsEmpty, trial.Slot is not null);
                        if (trial.Slot is not null)
                            Assert.Empty(Broken(one, new([new(request.Machine, trial.Slot, null, null)], null, [])));
                    }
                }
            },
            iter: Seeds.Cases(40)
        );

    [Fact]
    public void All_that_is_in_the_way_of_a_time_is_told()
    {
        var night = Utc(2027, 1, 11, 20);
        var plan = Basic with
        {
            Limits = new(1, 1),
            Uplinks = [new(["MV Gannet"], 512e3, 0.5, null)],
            Crews = [new("north", "deck-it", 1, 1, [], Weekly("Mon-Fri 19:00-23:30"))],
        };
        TakenSlot[] taken =
        [
            new(
                Ask(2, "MV Gannet", 60) with
                {
                    Cluster = "pair",
                    Crew = "deck-it",
                    After = [new(new(1), "m1")],
                },
                new(night, night.AddHours(1), night.AddHours(2)) { Crew = "north" }
            ),
        ];
        var asked = Ask(1, "MV Gannet", 90) with
        {
            Cluster = "pair",
            Crew = "deck-it",
            Stages = 3e9,
            RollbackLasts = TimeSpan.FromHours(1),
            NotBefore = night.AddHours(1),
        };
        var trial = SlotTrial.At(new(plan, NoCalendars, [asked], taken, Now), night);
        Assert.Null(trial.Slot);
        Assert.Equal(
            [
                "it cannot begin before 2027-01-11 21:00 UTC",
                "1 of the whole plan go at that time already",
                "1 at site 'MV Gannet' go at that time already",
                "another of its cluster 'pair' goes at that time",
                "no crew 'deck-it' is free at that time; the next is 2027-01-12 19:00 UTC",
                "the uplink of site 'MV Gannet' has brought its 2.8 GiB by 2027-01-12 02:03 UTC at the earliest",
                "m2 goes after it, and begins 2027-01-11 20:00 UTC",
            ],
            trial.InTheWay
        );
        Assert.Contains(
            "its next window begins 2027-01-12 19:00 UTC",
            SlotTrial
                .At(new(plan, NoCalendars, [asked], taken, Now), Utc(2027, 1, 12, 12))
                .InTheWay.First(w => w.Contains("may not be touched", StringComparison.Ordinal)),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "its window ends 2027-01-12 05:00 UTC, and it takes 90 min and 60 min to go back",
            SlotTrial.At(new(plan, NoCalendars, [asked with { Crew = null }], taken, Now), Utc(2027, 1, 12, 3)).InTheWay
        );
    }

    private static void Told(Plan plan, SlotRequest[] asked, string why, string change)
    {
        var left = SlotPlacer.Place(Case(plan, asked)).All.Last(p => p.Slot is null);
        Assert.Contains(why, left.Why, StringComparison.Ordinal);
        Assert.Contains(change, left.Change, StringComparison.Ordinal);
    }

    private static IReadOnlyList<SlotRequest> Status(ScheduleCase @case, Schedule schedule) =>
        [.. @case.Requests.Zip(schedule.All, (r, p) => r with { Stands = p.Slot })];

    private static IEnumerable<string> Broken(ScheduleCase @case, Schedule schedule) =>
        ScheduleOracle.Broken(
            [
                new(
                    @case.Plan,
                    [
                        .. @case
                            .Requests.Zip(schedule.All)
                            .Where(p => p.Second.Slot is not null)
                            .Select(p => new GivenSlot(p.First, p.Second.Slot!)),
                        .. @case.Taken.Select(t => new GivenSlot(t.Of, t.Slot, IsNew: false)),
                    ]
                ),
            ],
            @case.From
        );

    private static readonly DateTimeOffset Now = Utc(2027, 1, 11);

    private static readonly ImmutableDictionary<string, ICalendar> NoCalendars = ImmutableDictionary<string, ICalendar>.Empty;

    internal static readonly Plan Basic = new()
    {
        Name = "winter",
        Product = "Brae Desktop",
        Release = "7",
        Scope = Fleets.Parse("os.version < 7"),
        Methods = ["image"],
        Waves = [new("All", null, null)],
        Windows = [new(TargetSelector.Everyone, Weekly("Mon-Fri 19:00-05:00"))],
        Limits = new(100, 100),
        Advance = new(0.9, 1, TimeSpan.FromDays(3)),
    };

    private static readonly string[] SiteNames = ["Westhaven", "St Brendan", "Otter Sound"];
    private static readonly string[] GroupNames = ["office", "till"];
    private static readonly string[] Kinds = ["deck-it", "shore-it"];

    // Ends and begins keep away from the hour that a change of the clocks skips or repeats; they run over it.
    private static readonly Gen<TimeRule> AnyRule = Gen.Select(
        Fleets.Among("Europe/London", "America/St_Johns", "Pacific/Auckland", "Asia/Kolkata", "UTC"),
        Fleets.Among(
            "Mon-Fri 19:00-05:00",
            "Sat,Sun 22:30-06:15",
            "Mon-Sun 20:00-23:45",
            "Sun 05:00-05:00",
            "Tue,Thu,Sat 12:00-16:20",
            "Fri-Mon 23:10-04:40"
        ),
        (zone, weekly) => new TimeRule(zone, [WeeklyRule.Parse(weekly)])
    );

    private static readonly Gen<Plan> Plans = Gen.Select(
            AnyRule.Array[SiteNames.Length],
            AnyRule,
            Gen.Bool,
            Gen.Int[1, 6],
            Gen.Int[1, 4],
            Gen.Select(Gen.Int[0, 40], AnyRule, Gen.Bool, Gen.Int[200, 4000]),
            Gen.Select(AnyRule, Gen.Int[1, 2], Gen.Int[0, 3]).Array[2]
        )
        .Select(
            (sites, office, ofOffice, all, site, more, crews) =>
                Basic with
                {
                    Windows =
                    [
                        .. SiteNames.Select((s, i) => new WindowSpec(TargetSelector.At(s), sites[i])),
                        .. ofOffice ? new[] { new WindowSpec(new([], ["office"], []), office) } : [],
                    ],
                    Freezes =
                    [
                        new(
                            more.Item3 ? TargetSelector.Everyone : TargetSelector.At("Westhaven"),
                            new(office.Zone, [])
                            {
                                Days =
                                [
                                    new(new DateOnly(2027, 3, 20).AddDays(more.Item1), new DateOnly(2027, 3, 20).AddDays(more.Item1 + 2)),
                                ],
                            },
                            "holidays"
                        ),
                        new(new([], ["till"], []), more.Item2, "the tills are counted"),
                    ],
                    Limits = new(all, site),
                    Uplinks =
                    [
                        new(
                            ["Otter Sound"],
                            more.Item4 * 1000,
                            0.5,
                            more.Item3 ? more.Item2 with { Weekly = [WeeklyRule.Parse("Mon-Sun 20:00-04:00")] } : null
                        ),
                    ],
                    Crews =
                    [
                        .. Kinds.Zip(crews, (k, c) => new CrewSpec($"{k}-crew", k, c.Item2, c.Item3 == 0 ? null : c.Item3, [], c.Item1)),
                        new("spare", "shore-it", 1, 1, ["St Brendan"], crews[0].Item1),
                    ],
                }
        );

    private static readonly Gen<SlotRequest[]> Requests = Gen.Select(
            Fleets.Among(SiteNames),
            Fleets.Among(GroupNames),
            Gen.Int[10, 200],
            Gen.Int[0, 40],
            Gen.Select(Gen.Int[0, 5], Gen.Int[0, 3], Gen.Int[0, 3], Gen.Int[0, 400]),
            (site, group, minutes, back, more) =>
                Ask(0, site, minutes) with
                {
                    Group = group,
                    RollbackLasts = TimeSpan.FromMinutes(back),
                    Cluster = more.Item1 < 2 ? $"pair-{more.Item1}" : null,
                    Crew = more.Item2 < 2 ? Kinds[more.Item2] : null,
                    After = more.Item3 == 0 ? [new(new(1), "m1")] : [],
                    Stages = more.Item4 * 1e6,
                }
        )
        .Array[1, 24]
        .Select(all => all.Select((r, i) => r with { Machine = new(i + 1), Name = $"m{i + 1}", After = i == 0 ? [] : r.After }).ToArray());

    /// <summary>Cases around the spring and the autumn change of the clocks.</summary>
    private static readonly Gen<ScheduleCase> Cases = Gen.Select(
        Plans,
        Requests,
        Fleets.Among("2027-03-24", "2027-09-23", "2027-10-28"),
        Gen.Int[0, 3000],
        (plan, requests, day, minute) =>
        {
            var from = DateTimeOffset.Parse(day + "T00:00Z", System.Globalization.CultureInfo.InvariantCulture).AddMinutes(minute);
            var taken = new Slot(from.AddHours(-1), from.AddHours(3), from.AddHours(4));
            return new ScheduleCase(plan, NoCalendars, requests, [new(Ask(999, "Westhaven", 240), taken)], from)
            {
                Thorough = minute % 4 == 0,
            };
        }
    );

    private static TimeRule Weekly(string rule) => new("Europe/London", [WeeklyRule.Parse(rule)]);

    private static ScheduleCase Case(Plan plan, params SlotRequest[] asked) => new(plan, NoCalendars, asked, [], Now);

    private static SlotRequest Ask(int id, string site, int minutes) =>
        new(new(id), site, TimeSpan.FromMinutes(minutes), TimeSpan.FromMinutes(minutes / 2)) { Name = $"m{id}" };

    private static DateTimeOffset Utc(int year, int month, int day, int hour = 0) => new(year, month, day, hour, 0, 0, TimeSpan.Zero);
}
