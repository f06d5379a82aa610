using System.Collections.Immutable;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Waves;

/// <summary>A wave as it is laid out.</summary>
/// <param name="Wave">Its name.</param>
/// <param name="From">When it begins, UTC.</param>
/// <param name="Placement">Its machines with their slots.</param>
/// <param name="Next">When the next wave can begin, after the soak, UTC.</param>
public sealed record WaveLayout(string Wave, DateTimeOffset From, Placement Placement, DateTimeOffset Next);

/// <summary>What a wave has come to already.</summary>
/// <param name="Ends">When its machines that have begun were proved, or will be as their slots say, UTC.</param>
/// <param name="Passed">Whether the next wave may begin, whatever becomes of the rest.</param>
public sealed record BegunWave(ImmutableArray<DateTimeOffset> Ends, bool Passed);

/// <summary>A change of a plan that would make it end earlier.</summary>
/// <param name="What">What is changed, in words, with the value now and then.</param>
/// <param name="End">When the last slot would end then, UTC.</param>
/// <param name="Meets">Whether that is in time.</param>
public sealed record Change(string What, DateTimeOffset End, bool Meets);

/// <summary>A whole plan laid out in time, wave after wave, as it goes when nothing fails.</summary>
/// <param name="Waves">The waves in order.</param>
public sealed record Layout(ImmutableArray<WaveLayout> Waves)
{
    /// <summary>When the last slot ends, UTC; null where none was found.</summary>
    public DateTimeOffset? End => Waves.Max(w => w.Placement.End);

    /// <summary>Every machine that wants a slot, wave after wave.</summary>
    public IEnumerable<Placed> All => Waves.SelectMany(w => w.Placement.All);

    /// <summary>The machines that found no place.</summary>
    public IEnumerable<Placed> Left => All.Where(p => p.Slot is null);

    /// <summary>The moment at which a deadline's day is over, UTC.</summary>
    public static DateTimeOffset EndOf(DateOnly deadline) => new(deadline.AddDays(1), TimeOnly.MinValue, TimeSpan.Zero);

    /// <summary>Whether an end is before the deadline's day is over; true where there is no end or no deadline.</summary>
    public static bool IsInTime(Plan plan, DateTimeOffset? end)
    {
        ArgumentNullException.ThrowIfNull(plan);
        return plan.Deadline is not { } day || end is not { } at || at <= EndOf(day);
    }

    /// <summary>Lays a plan out.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="calendars">The calendars that its rules name.</param>
    /// <param name="waves">Who wants a slot, by wave.</param>
    /// <param name="standing">The slots that stand whatever else is placed.</param>
    /// <param name="begun">What the waves have come to already, in order; empty where nothing has begun.</param>
    /// <param name="from">When the plan would start, or now where it is under way, UTC.</param>
    /// <param name="thorough">Whether better orders are looked for than the usual one.</param>
    public static Layout Of(
        Plan plan, IReadOnlyDictionary<string, ICalendar> calendars, IReadOnlyList<IReadOnlyList<SlotRequest>> waves, IReadOnlyList<TakenSlot> standing, IReadOnlyList<BegunWave> begun, DateTimeOffset from, bool thorough = true)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(waves);
        ArgumentNullException.ThrowIfNull(begun);
        var taken = new List<TakenSlot>(standing);
        var laid = ImmutableArray.CreateBuilder<WaveLayout>();
        for (var i = 0; i < waves.Count; i++)
        {
            from = plan.Waves[i].BeginsFrom(from);
            var placement = SlotPlacer.Place(new(plan, calendars, waves[i], taken, from + (plan.Lead ?? TimeSpan.Zero)) { Thorough = thorough });
            var next = Next(plan, placement, begun.ElementAtOrDefault(i), from);
            laid.Add(new(plan.Waves[i].Name, from, placement, next));
            taken.AddRange(placement.All.Zip(waves[i]).Where(p => p.First.Slot is not null).Select(p => new TakenSlot(p.Second, p.First.Slot!)));
            from = next;
        }

        return new(laid.ToImmutable());
    }

    /// <summary>
    /// The smallest changes by which a plan would end in time: each limit, the soak, each line, each crew and the weekly windows on its
    /// own; where none alone will do, those that help most are made together. Empty where it ends in time as it is.
    /// </summary>
    public static ImmutableArray<Change> ToMeet(
        Plan plan, IReadOnlyDictionary<string, ICalendar> calendars, IReadOnlyList<IReadOnlyList<SlotRequest>> waves, IReadOnlyList<TakenSlot> standing, IReadOnlyList<BegunWave> begun, DateTimeOffset from)
    {
        ArgumentNullException.ThrowIfNull(plan);
        if (plan.Deadline is not { } day) return [];
        var deadline = EndOf(day);
        // What is changed may move every slot that has not begun.
        waves = [.. waves.Select(w => (IReadOnlyList<SlotRequest>)[.. w.Select(r => r with { Stands = null })])];
        var now = Ends(plan);
        if (now.Left == 0 && now.End <= deadline) return [];
        var found = new List<(Knob Knob, int Step, Plan Changed, (int Left, DateTimeOffset End) Ends)>();
        foreach (var knob in Knob.All(plan, from))
        {
            // The smallest step that is enough, or else the largest there is.
            int low = 1, high = knob.Steps;
            if (Ends(knob.Turn(plan, high)) is var most && !Meets(most))
            {
                if (most.CompareTo(now) < 0) found.Add((knob, high, knob.Turn(plan, high), most));
                continue;
            }

            while (low < high)
            {
                var middle = (low + high) / 2;
                if (Meets(Ends(knob.Turn(plan, middle)))) high = middle;
                else low = middle + 1;
            }

            var turned = knob.Turn(plan, high);
            found.Add((knob, high, turned, Ends(turned)));
        }

        var alone = found.Where(f => Meets(f.Ends)).ToArray();
        if (alone.Length > 0) return [.. alone.OrderBy(f => f.Step / (double)f.Knob.Steps).Select(f => new Change($"{f.Knob.Of(f.Changed)} instead of {f.Knob.Shown(plan)}", f.Ends.End, true))];

        var together = ImmutableArray.CreateBuilder<Change>();
        foreach (var (knob, step, _, _) in found.OrderBy(f => f.Ends))
        {
            plan = knob.Turn(plan, step);
            var ends = Ends(plan);
            if (ends.CompareTo(now) >= 0) continue;
            now = ends;
            together.Add(new($"{(together.Count > 0 ? "and " : "")}{knob.Of(plan)}", ends.End, Meets(ends)));
            if (Meets(ends)) break;
        }

        return together.ToImmutable();

        (int Left, DateTimeOffset End) Ends(Plan changed)
        {
            var layout = Of(changed, calendars, waves, standing, begun, from, thorough: false);
            return (layout.Left.Count(), layout.End ?? DateTimeOffset.MaxValue);
        }

        bool Meets((int Left, DateTimeOffset End) ends) => ends.Left == 0 && ends.End <= deadline;
    }

    /// <summary>When as many slots of a wave have ended as the advance rule wants, and the soak is over.</summary>
    private static DateTimeOffset Next(Plan plan, Placement placement, BegunWave? begun, DateTimeOffset from)
    {
        if (begun is { Passed: true }) return from;
        var ends = placement.All.Select(p => p.Slot?.End).OfType<DateTimeOffset>().Concat(begun?.Ends ?? []).Order().ToArray();
        if (ends.Length == 0) return from;
        var needed = Math.Clamp((int)Math.Ceiling(plan.Advance.Proved * ends.Length), 1, ends.Length);
        var soaked = ends[needed - 1] + plan.Advance.Soak;
        return soaked > from ? soaked : from;
    }

    /// <summary>Something of a plan that can be changed in steps, each further from what it is now.</summary>
    private sealed record Knob(int Steps, Func<Plan, int, Plan> Turn, Func<Plan, string> Shown, string Name)
    {
        /// <summary>What it is in a plan, with its name.</summary>
        public string Of(Plan plan) => $"{Name} {Shown(plan)}";

        public static IEnumerable<Knob> All(Plan plan, DateTimeOffset from)
        {
            if (plan.Limits.All < int.MaxValue / 8)
                yield return new(plan.Limits.All * 4, (p, s) => p with { Limits = p.Limits with { All = p.Limits.All + s } }, p => $"{p.Limits.All}", "machines at once in the whole plan:");
            if (plan.Limits.Site < int.MaxValue / 8)
                yield return new(Math.Max(4, plan.Limits.Site * 4), (p, s) => p with { Limits = p.Limits with { Site = p.Limits.Site + s } }, p => $"{p.Limits.Site}", "machines at once at one site:");
            if (plan.Advance.Soak > TimeSpan.Zero)
            {
                var steps = Math.Max(1, (int)Math.Floor(plan.Advance.Soak.TotalDays));
                yield return new(steps, (p, s) => p with { Advance = p.Advance with { Soak = plan.Advance.Soak * (1 - (s / (double)steps)) } }, p => Units.Show(p.Advance.Soak.TotalSeconds, ValueKind.Duration), "soak between waves:");
            }

            foreach (var wave in plan.Waves.Where(w => w.NotBefore > from))
            {
                var steps = (int)Math.Ceiling((wave.NotBefore!.Value - from).TotalDays);
                yield return new(
                    steps, (p, s) => p with { Waves = [.. p.Waves.Select(w => w.Name == wave.Name ? w with { NotBefore = s == steps ? null : wave.NotBefore.Value.AddDays(-s) } : w)] },
                    p => p.Waves.Single(w => w.Name == wave.Name).NotBefore is { } at ? $"not before {at:yyyy-MM-dd HH:mm} UTC" : "as soon as it can", $"wave {wave.Name} begins");
            }

            if (plan.Windows.Any(w => !w.When.Weekly.IsEmpty))
                yield return new(8, (p, s) => p with { Windows = [.. plan.Windows.Select(w => w with { When = w.When with { Weekly = [.. w.When.Weekly.Select(r => Longer(r, s))] } })] }, p => p == plan ? "as they are" : $"{(p.Windows.SelectMany(w => w.When.Weekly).Zip(plan.Windows.SelectMany(w => w.When.Weekly)).Max(z => (z.First.To - z.Second.To).TotalMinutes)):0} min longer", "weekly windows:");
            foreach (var crew in plan.Crews)
            {
                yield return new(Math.Max(4, crew.Hands * 2), (p, s) => p with { Crews = [.. p.Crews.Select(c => c.Name == crew.Name ? c with { Hands = crew.Hands + s, PerDay = c.PerDay * (crew.Hands + s) / crew.Hands } : c)] }, p => $"{p.Crews.Single(c => c.Name == crew.Name).Hands}", $"hands of crew {crew.Name}:");
            }

            foreach (var line in plan.Lines.Where(l => l.Share < 1))
            {
                var steps = Math.Max(1, (int)Math.Round((1 - line.Share) * 20));
                yield return new(steps, (p, s) => p with { Lines = [.. p.Lines.Select(l => l.Sites.SequenceEqual(line.Sites) ? l with { Share = line.Share + ((1 - line.Share) * s / steps) } : l)] }, p => $"{p.Lines.Single(l => l.Sites.SequenceEqual(line.Sites)).Share * 100:0} %", $"share of the line of {string.Join(", ", line.Sites)}:");
            }
        }

        private static WeeklyRule Longer(WeeklyRule rule, int halfHours)
        {
            var length = (rule.To - rule.From).TotalMinutes is var minutes && minutes <= 0 ? minutes + 1440 : minutes;
            return rule with { To = rule.To.AddMinutes(Math.Min(halfHours * 30, 1440 - length)) };
        }
    }
}
