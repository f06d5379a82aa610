using System.Collections.Immutable;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Scheduling;

/// <summary>A wave as it is scheduled.</summary>
/// <param name="Wave">Its name.</param>
/// <param name="From">When it begins, UTC.</param>
/// <param name="Schedule">Its machines with their slots.</param>
/// <param name="Next">When the next wave can begin, after the soak, UTC.</param>
public sealed record WaveSchedule(string Wave, DateTimeOffset From, Schedule Schedule, DateTimeOffset Next);

/// <summary>The present state of a wave.</summary>
/// <param name="Ends">When its machines that have begun were verified, or will be as their slots say, UTC.</param>
/// <param name="Passed">Whether the next wave may begin, whatever becomes of the rest.</param>
public sealed record BegunWave(ImmutableArray<DateTimeOffset> Ends, bool Passed);

/// <summary>A change of a plan that would make it end earlier.</summary>
/// <param name="What">What is changed, in words, with the value now and then.</param>
/// <param name="End">When the last slot would end then, UTC.</param>
/// <param name="Meets">Whether that is in time.</param>
public sealed record Change(string What, DateTimeOffset End, bool Meets)
{
    /// <summary>The plan with this change, and with those before it where several are needed together.</summary>
    public required Plan Changed { get; init; }

    /// <summary>The plan with one step less of it; null where less would be none, or where several are needed together.</summary>
    public Plan? WithLess { get; init; }
}

/// <summary>The schedule of a whole plan, wave after wave, if nothing fails.</summary>
/// <param name="Waves">The waves in order.</param>
public sealed record PlanSchedule(ImmutableArray<WaveSchedule> Waves)
{
    /// <summary>When the last slot ends, UTC; null where none was found.</summary>
    public DateTimeOffset? End => Waves.Max(w => w.Schedule.End);

    /// <summary>Every machine that wants a slot, wave after wave.</summary>
    public IEnumerable<Placed> All => Waves.SelectMany(w => w.Schedule.All);

    /// <summary>The machines that could not be scheduled.</summary>
    public IEnumerable<Placed> Left => All.Where(p => p.Slot is null);

    /// <summary>The moment at which a deadline's day is over, UTC.</summary>
    public static DateTimeOffset EndOf(DateOnly deadline) => new(deadline.AddDays(1), TimeOnly.MinValue, TimeSpan.Zero);

    /// <summary>Whether an end is before the deadline's day is over; true where there is no end or no deadline.</summary>
    public static bool IsInTime(Plan plan, DateTimeOffset? end)
    {
        ArgumentNullException.ThrowIfNull(plan);
        return plan.Deadline is not { } day || end is not { } at || at <= EndOf(day);
    }

    /// <summary>Schedules a plan.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="calendars">The calendars that its rules name.</param>
    /// <param name="waves">The requests for slots, by wave.</param>
    /// <param name="status">The slots that are fixed.</param>
    /// <param name="begun">The present state of the waves, in order; empty where nothing has begun.</param>
    /// <param name="from">When the plan would start, or now where it is running, UTC.</param>
    /// <param name="thorough">Whether to search for a better order than the usual one.</param>
    public static PlanSchedule Of(
        Plan plan,
        IReadOnlyDictionary<string, ICalendar> calendars,
        IReadOnlyList<IReadOnlyList<SlotRequest>> waves,
        IReadOnlyList<TakenSlot> status,
        IReadOnlyList<BegunWave> begun,
        DateTimeOffset from,
        bool thorough = true
    )
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(waves);
        ArgumentNullException.ThrowIfNull(begun);
        var taken = new List<TakenSlot>(status);
        var tentative = ImmutableArray.CreateBuilder<WaveSchedule>();
        for (var i = 0; i < waves.Count; i++)
        {
            from = plan.Waves[i].BeginsFrom(from);
            var schedule = SlotPlacer.Place(
                new(plan, calendars, waves[i], taken, from + (plan.Lead ?? TimeSpan.Zero)) { Thorough = thorough }
            );
            var next = Next(plan, schedule, begun.ElementAtOrDefault(i), from);
            tentative.Add(new(plan.Waves[i].Name, from, schedule, next));
            taken.AddRange(
                schedule.All.Zip(waves[i]).Where(p => p.First.Slot is not null).Select(p => new TakenSlot(p.Second, p.First.Slot!))
            );
            from = next;
        }

        return new(tentative.ToImmutable());
    }

    /// <summary>
    /// The smallest changes by which a plan would end in time: each limit, the soak, each uplink, each crew, a wave's earliest day and the
    /// weekly windows on its own; where none alone will do, those that help most are made together. Each was found by scheduling the plan
    /// with exactly that change, and one step less is not enough. Empty where the plan ends in time as it is.
    /// </summary>
    public static ImmutableArray<Change> ToMeet(
        Plan plan,
        IReadOnlyDictionary<string, ICalendar> calendars,
        IReadOnlyList<IReadOnlyList<SlotRequest>> waves,
        IReadOnlyList<TakenSlot> status,
        IReadOnlyList<BegunWave> begun,
        DateTimeOffset from
    )
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(waves);
        // What is changed may move every slot that has not begun.
        IReadOnlyList<IReadOnlyList<SlotRequest>> free =
        [
            .. waves.Select(w => (IReadOnlyList<SlotRequest>)[.. w.Select(r => r with { Stands = null })]),
        ];
        return plan.Deadline is { } day
            ? new DeadlineAdvice(
                plan,
                EndOf(day),
                (changed, thorough) => Of(changed, calendars, free, status, begun, from, thorough),
                from
            ).Find()
            : [];
    }

    /// <summary>When as many slots of a wave have ended as the advance rule wants, and the soak is over.</summary>
    private static DateTimeOffset Next(Plan plan, Schedule schedule, BegunWave? begun, DateTimeOffset from)
    {
        if (begun is { Passed: true })
            return from;
        var ends = schedule.All.Select(p => p.Slot?.End).OfType<DateTimeOffset>().Concat(begun?.Ends ?? []).Order().ToArray();
        if (ends.Length == 0)
            return from;
        var needed = Math.Clamp((int)Math.Ceiling(plan.Advance.Verified * ends.Length), 1, ends.Length);
        var soaked = ends[needed - 1] + plan.Advance.Soak;
        return soaked > from ? soaked : from;
    }
}
