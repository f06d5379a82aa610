using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Scheduling;

/// <summary>Finds the smallest changes by which a late plan would end in time, by scheduling it with each of them.</summary>
/// <param name="plan">The plan.</param>
/// <param name="deadline">By when its last slot has to end, UTC.</param>
/// <param name="makeSchedule">Schedules a changed plan, thoroughly or quickly.</param>
/// <param name="from">When the plan would start, or now, UTC.</param>
internal sealed class DeadlineAdvice(Plan plan, DateTimeOffset deadline, Func<Plan, bool, PlanSchedule> makeSchedule, DateTimeOffset from)
{
    /// <summary>
    /// Up to this number each step is tried in turn, since one more step can by chance be worse; beyond it the steps are bisected.
    /// </summary>
    private const int Few = 8;

    /// <summary>
    /// Up to how many machines a plan is scheduled thoroughly for every step that is tried; in a larger one only what is then advised.
    /// </summary>
    private const int Small = 300;

    private bool _thorough;

    /// <summary>The changes; empty where the plan is in time as it is, or where nothing helps.</summary>
    public ImmutableArray<Change> Find()
    {
        var schedule = makeSchedule(plan, true);
        _thorough = schedule.All.Take(Small + 1).Count() <= Small;
        var now = new Ends(schedule);
        if (now.Meets(deadline))
            return [];
        var helping = new List<(Knob Knob, int Step, Ends Ends)>();
        foreach (var knob in Knob.All(plan, from))
        {
            var most = EndsOf(knob.Turn(plan, knob.Steps), _thorough);
            if (Least(plan, knob, most) is { } least)
                helping.Add((knob, least.Step, least.Ends));
            else if (most.CompareTo(now) < 0)
                helping.Add((knob, knob.Steps, most));
        }

        var alone = helping.Where(h => h.Ends.Meets(deadline)).ToArray();
        // A change of two values is no advice if a change of one of them is enough.
        alone = [.. alone.Where(h => !h.Knob.Parts.Any(p => alone.Any(a => a.Knob.Name == p)))];
        return alone.Length > 0
            ?
            [
                .. alone
                    .OrderBy(h => h.Step / (double)h.Knob.Steps)
                    .Select(h => new Change(h.Knob.Told(plan, h.Knob.Turn(plan, h.Step)), h.Ends.End, true)
                    {
                        Changed = h.Knob.Turn(plan, h.Step),
                        WithLess = h.Step > 1 ? h.Knob.Turn(plan, h.Step - 1) : null,
                    }),
            ]
            : Together([.. helping.OrderBy(h => h.Ends).Select(h => h.Knob)], now);
    }

    /// <summary>Those that help most, together, each as little as that takes.</summary>
    private ImmutableArray<Change> Together(Knob[] helping, Ends now)
    {
        var (changed, made) = (plan, new List<(Knob Knob, int Step)>());
        foreach (var knob in helping.Where(k => k.Parts.IsEmpty))
        {
            var turned = knob.Turn(changed, knob.Steps);
            var ends = EndsOf(turned, _thorough);
            if (ends.CompareTo(now) >= 0)
                continue;
            (changed, now) = (turned, ends);
            made.Add((knob, knob.Steps));
            if (ends.Meets(deadline))
                break;
        }

        if (now.Meets(deadline))
        {
            for (var i = 0; i < made.Count; i++)
            {
                var others = made.Where((_, j) => j != i).Aggregate(plan, (p, m) => m.Knob.Turn(p, m.Step));
                if (Least(others, made[i].Knob, EndsOf(made[i].Knob.Turn(others, made[i].Knob.Steps), _thorough)) is { } least)
                    made[i] = (made[i].Knob, least.Step);
            }
        }

        var changes = ImmutableArray.CreateBuilder<Change>();
        changed = plan;
        foreach (var (knob, step) in made)
        {
            changed = knob.Turn(changed, step);
            var ends = EndsOf(changed, thorough: true);
            changes.Add(
                new($"{(changes.Count > 0 ? "and " : "")}{knob.Told(plan, changed)}", ends.End, ends.Meets(deadline)) { Changed = changed }
            );
        }

        return changes.ToImmutable();
    }

    /// <summary>The fewest steps that are enough, and how the plan ends with them; null where even the most are not.</summary>
    /// <param name="of">The plan without any.</param>
    /// <param name="knob">What is changed.</param>
    /// <param name="most">How the plan ends with the most steps.</param>
    private (int Step, Ends Ends)? Least(Plan of, Knob knob, Ends most)
    {
        if (!most.Meets(deadline))
            return null;
        var few = Math.Min(Few, knob.Steps);
        for (var step = 1; step < few; step++)
        {
            if (With(step, _thorough) is var ends && ends.Meets(deadline))
                return Verified(step, ends);
        }

        var (low, high, least) = (few, knob.Steps, most);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (With(middle, _thorough) is var ends && ends.Meets(deadline))
                (high, least) = (middle, ends);
            else
                low = middle + 1;
        }

        return Verified(high, least);

        Ends With(int step, bool thorough) => EndsOf(knob.Turn(of, step), thorough);

        // A result of the quick schedule has to hold in the thorough one.
        (int, Ends)? Verified(int step, Ends found)
        {
            if (_thorough)
                return (step, found);
            for (; step <= knob.Steps; step++)
            {
                if (With(step, thorough: true) is var ends && ends.Meets(deadline))
                    return (step, ends);
            }

            return null;
        }
    }

    private Ends EndsOf(Plan changed, bool thorough) => new(makeSchedule(changed, thorough));

    /// <summary>How a plan ends: with how many left out, and when.</summary>
    private readonly record struct Ends(int Left, DateTimeOffset End) : IComparable<Ends>
    {
        public Ends(PlanSchedule schedule)
            : this(schedule.Left.Count(), schedule.End ?? DateTimeOffset.MaxValue) { }

        public bool Meets(DateTimeOffset deadline) => Left == 0 && End <= deadline;

        public int CompareTo(Ends other) => (Left, End).CompareTo((other.Left, other.End));
    }

    /// <summary>Something of a plan that can be changed in steps, each further from what it is now.</summary>
    /// <param name="Steps">How many steps there are.</param>
    /// <param name="Turn">A plan with so many steps made.</param>
    /// <param name="Shown">What it is in a plan.</param>
    /// <param name="Name">What it is called.</param>
    private sealed record Knob(int Steps, Func<Plan, int, Plan> Turn, Func<Plan, string> Shown, string Name)
    {
        /// <summary>The names of what it changes together; empty where it changes one thing.</summary>
        public ImmutableArray<string> Parts { get; init; } = [];

        /// <summary>The change in words: what it is then, and what it is now.</summary>
        public string Told(Plan now, Plan then) => $"{Name} {Shown(then)} instead of {Shown(now)}";

        public static IEnumerable<Knob> All(Plan plan, DateTimeOffset from)
        {
            if (plan.Limits.All < int.MaxValue / 8)
                yield return new(
                    plan.Limits.All * 4,
                    (p, s) => p with { Limits = p.Limits with { All = plan.Limits.All + s } },
                    p => $"{p.Limits.All}",
                    "machines at once in the whole plan:"
                );
            if (plan.Limits.Site < int.MaxValue / 8)
                yield return new(
                    Math.Max(4, plan.Limits.Site * 4),
                    (p, s) => p with { Limits = p.Limits with { Site = plan.Limits.Site + s } },
                    p => $"{p.Limits.Site}",
                    "machines at once at one site:"
                );
            if (plan.Advance.Soak > TimeSpan.Zero)
            {
                var steps = Math.Max(1, (int)Math.Floor(plan.Advance.Soak.TotalDays));
                yield return new(
                    steps,
                    (p, s) =>
                        p with
                        {
                            Advance = p.Advance with { Soak = s == steps ? TimeSpan.Zero : plan.Advance.Soak - TimeSpan.FromDays(s) },
                        },
                    p => Units.Show(p.Advance.Soak.TotalSeconds, ValueKind.Duration),
                    "soak between waves:"
                );
            }

            foreach (var wave in plan.Waves.Where(w => w.NotBefore > from))
            {
                var steps = (int)Math.Ceiling((wave.NotBefore!.Value - from).TotalDays);
                yield return new(
                    steps,
                    (p, s) =>
                        p with
                        {
                            Waves =
                            [
                                .. p.Waves.Select(w =>
                                    w.Name == wave.Name ? w with { NotBefore = s == steps ? null : wave.NotBefore.Value.AddDays(-s) } : w
                                ),
                            ],
                        },
                    p =>
                        p.Waves.Single(w => w.Name == wave.Name).NotBefore is { } at
                            ? $"not before {at:yyyy-MM-dd HH:mm} UTC"
                            : "as soon as it can",
                    $"wave {wave.Name} begins"
                );
            }

            if (plan.Windows.Any(w => !w.When.Weekly.IsEmpty))
                yield return OfWindows(plan);
            foreach (var crew in plan.Crews)
            {
                foreach (var knob in OfCrew(crew))
                    yield return knob;
            }

            foreach (var uplink in plan.Uplinks.Where(l => l.Share < 1))
            {
                var steps = Math.Max(1, (int)Math.Round((1 - uplink.Share) * 20));
                yield return new(
                    steps,
                    (p, s) =>
                        p with
                        {
                            Uplinks =
                            [
                                .. p.Uplinks.Select(l =>
                                    l.Sites.SequenceEqual(uplink.Sites)
                                        ? l with
                                        {
                                            Share = uplink.Share + ((1 - uplink.Share) * s / steps),
                                        }
                                        : l
                                ),
                            ],
                        },
                    p => $"{p.Uplinks.Single(l => l.Sites.SequenceEqual(uplink.Sites)).Share * 100:0} %",
                    $"share of the uplink of {string.Join(", ", uplink.Sites)}:"
                );
            }
        }

        /// <summary>More at a time, more appointments a day, or both.</summary>
        private static IEnumerable<Knob> OfCrew(CrewSpec crew)
        {
            var (hands, perDay) = ($"hands of crew {crew.Name}:", $"appointments a day of crew {crew.Name}:");
            var steps = Math.Max(4, crew.Hands * 2);
            yield return new(steps, (p, s) => With(p, c => c with { Hands = crew.Hands + s }), p => $"{Of(p).Hands}", hands);
            if (crew.PerDay is not { } most)
                yield break;
            yield return new(Math.Max(4, most * 2), (p, s) => With(p, c => c with { PerDay = most + s }), p => $"{Of(p).PerDay}", perDay);
            yield return new(
                steps,
                (p, s) => With(p, c => c with { Hands = crew.Hands + s, PerDay = most + (s * Math.Max(1, most / crew.Hands)) }),
                p => $"{Of(p).Hands} and {Of(p).PerDay}",
                $"hands and appointments a day of crew {crew.Name}:"
            )
            {
                Parts = [hands, perDay],
            };

            Plan With(Plan p, Func<CrewSpec, CrewSpec> change) =>
                p with
                {
                    Crews = [.. p.Crews.Select(c => c.Name == crew.Name ? change(c) : c)],
                };

            CrewSpec Of(Plan p) => p.Crews.Single(c => c.Name == crew.Name);
        }

        private static Knob OfWindows(Plan plan)
        {
            const int HalfHours = 8;
            return new(
                HalfHours,
                (p, s) =>
                    p with
                    {
                        Windows =
                        [
                            .. plan.Windows.Select(w =>
                                w with
                                {
                                    When = w.When with { Weekly = [.. w.When.Weekly.Select(r => Longer(r, s))] },
                                }
                            ),
                        ],
                    },
                Shown,
                "weekly windows:"
            );

            string Shown(Plan p) =>
                p
                    .Windows.SelectMany(w => w.When.Weekly)
                    .Zip(plan.Windows.SelectMany(w => w.When.Weekly))
                    .Max(z => (int)(z.First.To - z.Second.To).TotalMinutes)
                    is > 0
                        and var longer
                    ? $"{longer} min longer"
                    : "as they are";
        }

        private static WeeklyRule Longer(WeeklyRule rule, int halfHours)
        {
            var length = (rule.To - rule.From).TotalMinutes is var minutes && minutes <= 0 ? minutes + 1440 : minutes;
            return rule with { To = rule.To.AddMinutes(Math.Min(halfHours * 30, 1440 - length)) };
        }
    }
}
