using System.Collections.Immutable;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Testing.Schedules;

/// <summary>
/// Makes up two plans of several waves at shared sites, lays one out, then the other around it, then lets some days pass and lays both out
/// again, as happens while plans are running; and says what their slots break.
/// </summary>
public sealed class SharedSchedules
{
    private static readonly ImmutableDictionary<string, ICalendar> NoCalendars = ImmutableDictionary<string, ICalendar>.Empty;
    private static readonly string[] Sites = ["Westhaven", "St Brendan", "Otter Sound"];
    private static readonly string[] Groups = ["office", "till"];
    private static readonly string[] Kinds = ["deck-it", "shore-it"];
    private static readonly string[] Zones = ["Europe/London", "America/St_Johns", "Pacific/Auckland", "UTC"];
    private static readonly string[] Weeks =
    [
        "Mon-Fri 19:00-05:00",
        "Sat,Sun 22:30-06:15",
        "Mon-Sun 20:00-23:45",
        "Tue,Thu,Sat 12:00-16:20",
        "Fri-Mon 23:10-04:40",
    ];
    private readonly Random _draw;
    private readonly DateTimeOffset _from;
    private readonly UplinkSpec _uplink;
    private readonly CrewSpec[] _crews;

    private SharedSchedules(int seed)
    {
        _draw = new(seed);
        _from = new DateTimeOffset(2027, 1, 4, 0, 0, 0, TimeSpan.Zero).AddDays(_draw.Next(300)).AddMinutes(_draw.Next(3000));
        _uplink = new(
            ["Otter Sound"],
            (200 + _draw.Next(4000)) * 1000,
            0.5,
            _draw.Next(2) == 0 ? null : new("Europe/London", [WeeklyRule.Parse("Mon-Sun 20:00-04:00")])
        );
        _crews =
        [
            .. Kinds.Select(k => new CrewSpec(
                $"{k}-crew",
                k,
                1 + _draw.Next(2),
                _draw.Next(4) is > 0 and var most ? most : null,
                [],
                AnyRule()
            )),
            new("spare", "shore-it", 1, 1, ["St Brendan"], AnyRule()),
        ];
    }

    /// <summary>What the schedule of a seed breaks, and how many slots there are.</summary>
    public static (IReadOnlyList<string> Broken, int Slots) Check(int seed) => new SharedSchedules(seed).Check();

    private (IReadOnlyList<string> Broken, int Slots) Check()
    {
        var (first, second) = (AnyPlan("first"), AnyPlan("second"));
        var machines = new List<SlotRequest>();
        var (ofFirst, ofSecond) = (AnyWaves(first, machines), AnyWaves(second, machines));
        var tentative = Lay(first, ofFirst, [], _from);
        var around = Lay(second, ofSecond, [.. tentative.Select(s => Other(s, first))], _from);
        List<string> broken = [.. ScheduleOracle.Broken([new(first, tentative), new(second, around)], _from)];

        // Some days later what has begun stands, what was told stays where it can, and the rest is scheduled anew.
        var later = _from.AddMinutes(_draw.Next(6 * 24 * 60));
        GivenSlot[] firstBegun = [.. tentative.Where(s => HasBegun(s, later))],
            secondBegun = [.. around.Where(s => HasBegun(s, later))];
        var firstAgain = LayAgain(first, ofFirst, tentative, firstBegun, [.. secondBegun.Select(s => Other(s, second))], later);
        var secondAgain = LayAgain(
            second,
            ofSecond,
            around,
            secondBegun,
            [.. firstBegun.Concat(firstAgain).Select(s => Other(s, first))],
            later
        );
        broken.AddRange(
            ScheduleOracle
                .Broken(
                    [new(first, [.. firstBegun.Select(Old), .. firstAgain]), new(second, [.. secondBegun.Select(Old), .. secondAgain])],
                    later
                )
                .Select(b => $"after {later:u}: {b}")
        );
        return (broken, tentative.Length + around.Length + firstAgain.Length + secondAgain.Length);
    }

    /// <summary>
    /// Makes up a plan that ends after its deadline, and says what is wrong with the changes that are advised: one that does not meet the
    /// deadline as it is said to, or of which less would do.
    /// </summary>
    /// <returns>What is wrong, and how many changes were advised.</returns>
    public static (IReadOnlyList<string> Wrong, int Advised) CheckAdvice(int seed)
    {
        var made = new SharedSchedules(seed);
        var plan = made.AnyPlan("late");
        var waves = made.AnyWaves(plan, []);
        var usual = PlanSchedule.Of(plan, NoCalendars, waves, [], [], made._from);
        // Those that cannot be scheduled at all are no matter of the deadline.
        var placed = usual.All.Where(p => p.Slot is not null).Select(p => p.Machine).ToHashSet();
        waves = [.. waves.Select(w => w.Where(r => placed.Contains(r.Machine)).ToArray())];
        if (placed.Count < 2)
            return ([], 0);
        var (first, last) = (usual.All.Min(p => p.Slot?.End)!.Value, usual.End!.Value);
        plan = plan with { Deadline = DateOnly.FromDateTime((first + ((last - first) * made._draw.NextDouble())).UtcDateTime.AddDays(-1)) };
        var advised = PlanSchedule.ToMeet(plan, NoCalendars, waves, [], [], made._from);
        var wrong = new List<string>();
        foreach (var change in advised)
        {
            if (IsInTime(change.Changed) != change.Meets)
                wrong.Add($"'{change.What}' {(change.Meets ? "does not meet the deadline" : "meets the deadline, and is said not to")}");
            if (change is { Meets: true, WithLess: { } less } && IsInTime(less))
                wrong.Add($"less than '{change.What}' is enough");
        }

        return (wrong, advised.Length);

        bool IsInTime(Plan changed) =>
            PlanSchedule.Of(changed, NoCalendars, waves, [], [], made._from) is var schedule
            && !schedule.Left.Any()
            && PlanSchedule.IsInTime(changed, schedule.End);
    }

    private static GivenSlot Old(GivenSlot slot) => slot with { IsNew = false };

    /// <summary>What is staged, or has begun, stays.</summary>
    private static bool HasBegun(GivenSlot slot, DateTimeOffset now) => (slot.Slot.StageFrom ?? slot.Slot.Start) <= now;

    private static TakenSlot Other(GivenSlot slot, Plan of) => new(slot.Of, slot.Slot) { OtherPlan = of };

    private static GivenSlot[] Lay(Plan plan, SlotRequest[][] waves, IReadOnlyList<TakenSlot> status, DateTimeOffset from)
    {
        var schedule = PlanSchedule.Of(plan, NoCalendars, waves, status, [], from, thorough: false);
        return
        [
            .. waves
                .SelectMany(w => w)
                .Zip(schedule.All)
                .Where(p => p.Second.Slot is not null)
                .Select(p => new GivenSlot(p.First, p.Second.Slot!)),
        ];
    }

    private static GivenSlot[] LayAgain(
        Plan plan,
        SlotRequest[][] waves,
        GivenSlot[] before,
        GivenSlot[] begun,
        IReadOnlyList<TakenSlot> others,
        DateTimeOffset now
    )
    {
        var had = before.ToDictionary(s => s.Of.Machine, s => s.Slot);
        var gone = begun.Select(s => s.Of.Machine).ToHashSet();
        var again = waves
            .Select(
                (w, i) =>
                    w.Where(r => !gone.Contains(r.Machine))
                        .Select(r => i == 0 ? r with { Stands = had.GetValueOrDefault(r.Machine) } : r)
                        .ToArray()
            )
            .ToArray();
        return Lay(plan, again, [.. begun.Select(s => new TakenSlot(s.Of, s.Slot)), .. others], now);
    }

    private TimeRule AnyRule() => new(Zones[_draw.Next(Zones.Length)], [WeeklyRule.Parse(Weeks[_draw.Next(Weeks.Length)])]);

    private Plan AnyPlan(string name) =>
        new()
        {
            Name = name,
            Product = "Brae Desktop",
            Release = "7",
            Scope = ConditionParser.Parse("name is known", KeyRegistry.BuiltIn),
            Methods = ["image"],
            Waves = [new("Pilot", null, 1), new("Second", null, null), new("Rest", null, null)],
            Windows =
            [
                .. Sites.Select(s => new WindowSpec(TargetSelector.At(s), AnyRule())),
                new WindowSpec(new([], ["office"], []), AnyRule()),
            ],
            Freezes =
            [
                new(
                    TargetSelector.At("Westhaven"),
                    new("Europe/London", [])
                    {
                        Days =
                        [
                            new(DateOnly.FromDateTime(_from.UtcDateTime).AddDays(2), DateOnly.FromDateTime(_from.UtcDateTime).AddDays(3)),
                        ],
                    },
                    "stocktaking"
                ),
                new(new([], ["till"], []), AnyRule(), "the tills are counted"),
            ],
            Limits = new(1 + _draw.Next(5), 1 + _draw.Next(3)),
            Uplinks = [_uplink],
            Crews = [.. _crews],
            Advance = new(0.5 + (_draw.Next(5) * 0.1), 1, TimeSpan.FromHours(_draw.Next(60))),
        };

    private SlotRequest[][] AnyWaves(Plan plan, List<SlotRequest> machines)
    {
        var earlier = new List<SlotRequest>(machines);
        return
        [
            .. plan.Waves.Select(_ =>
            {
                SlotRequest[] wave = [.. Enumerable.Range(0, 2 + _draw.Next(7)).Select(_ => AnyRequest(machines, earlier))];
                earlier.AddRange(wave);
                return wave;
            }),
        ];
    }

    private SlotRequest AnyRequest(List<SlotRequest> machines, List<SlotRequest> earlier)
    {
        var minutes = 10 + _draw.Next(190);
        var before = earlier.Count > 0 && _draw.Next(5) == 0 ? earlier[_draw.Next(earlier.Count)] : null;
        var request = new SlotRequest(
            new(machines.Count + 1),
            Sites[_draw.Next(Sites.Length)],
            TimeSpan.FromMinutes(minutes),
            TimeSpan.FromMinutes(minutes / 2)
        )
        {
            Name = $"m{machines.Count + 1}",
            Group = Groups[_draw.Next(Groups.Length)],
            RollbackLasts = TimeSpan.FromMinutes(_draw.Next(40)),
            Cluster = _draw.Next(3) == 0 ? $"pair-{_draw.Next(2)}" : null,
            Crew = _draw.Next(4) == 0 ? Kinds[_draw.Next(Kinds.Length)] : null,
            After = before is null ? [] : [new(before.Machine, before.Name)],
            Stages = _draw.Next(400) * 1e6,
        };
        machines.Add(request);
        return request;
    }
}
