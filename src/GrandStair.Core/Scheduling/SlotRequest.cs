using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Scheduling;

/// <summary>A machine that wants a slot.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Site">Its site.</param>
/// <param name="Lasts">How long the slot usually lasts.</param>
/// <param name="AfterPointOfNoReturn">How much of that comes after the point of no return.</param>
public sealed record SlotRequest(MachineId Machine, string Site, TimeSpan Lasts, TimeSpan AfterPointOfNoReturn)
{
    /// <summary>Its name.</summary>
    public string Name { get; init; } = "";

    /// <summary>Its group.</summary>
    public string Group { get; init; } = "";

    /// <summary>How long going back usually takes, which must still fit into the window.</summary>
    public TimeSpan RollbackLasts { get; init; }

    /// <summary>How much its staging brings over the site's uplink, in bytes.</summary>
    public double Stages { get; init; }

    /// <summary>The cluster of which no two go at once; null where it is in none.</summary>
    public string? Cluster { get; init; }

    /// <summary>The kind of crew whose hands it needs; null where none.</summary>
    public string? Crew { get; init; }

    /// <summary>
    /// The machines that it depends on and that are still to be upgraded, by whichever plan: it begins after their slots, and has none
    /// while one of them has none.
    /// </summary>
    public ImmutableArray<Predecessor> After { get; init; } = [];

    /// <summary>Before when it cannot begin, UTC; null where it can at once.</summary>
    public DateTimeOffset? NotBefore { get; init; }

    /// <summary>The slot that it has; it stays unless something is in its way. Null where it has none.</summary>
    public Slot? Stands { get; init; }
}

/// <summary>A fixed slot: of a running machine, or of another plan.</summary>
/// <param name="Of">How it was asked for.</param>
/// <param name="Slot">The slot. One that is over counts as an appointment of its crew on its day, and in nothing else.</param>
public sealed record TakenSlot(SlotRequest Of, Slot Slot)
{
    /// <summary>
    /// The other plan that it is of; null for this one. Plans share sites, uplinks, crews and clusters, but not the limit of a whole plan.
    /// Where two say different numbers for a site or a crew, the lower one counts while both have machines there.
    /// </summary>
    public Plan? OtherPlan { get; init; }

    /// <summary>Whether it takes a hand of its crew alone: no upgrade goes on then.</summary>
    public bool IsOfCrewAlone { get; init; }
}

/// <summary>All that slots are placed by.</summary>
/// <param name="Plan">The plan with its windows, freezes, limits, uplinks and crews.</param>
/// <param name="Calendars">The calendars that the plan's rules name.</param>
/// <param name="Requests">The requests for slots.</param>
/// <param name="Taken">The slots that stand, of this plan and of others.</param>
/// <param name="From">No slot begins before this, UTC.</param>
public sealed record ScheduleCase(
    Plan Plan,
    IReadOnlyDictionary<string, ICalendar> Calendars,
    IReadOnlyList<SlotRequest> Requests,
    IReadOnlyList<TakenSlot> Taken,
    DateTimeOffset From
)
{
    /// <summary>Whether better orders are looked for than the usual one, and a bound before when none can end.</summary>
    public bool Thorough { get; init; } = true;

    /// <summary>When its machines may be touched, where that was found out before; null where it has to be.</summary>
    internal Windows? Known { get; init; }
}

/// <summary>A slot, or why there is none.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Slot">Its slot; null where none was found.</param>
/// <param name="Why">What kept it out; null where there is a slot.</param>
/// <param name="Change">What would have to change for it to be placed; null where there is a slot.</param>
public sealed record Placed(MachineId Machine, Slot? Slot, string? Why, string? Change);

/// <summary>Before when no schedule at all can end.</summary>
/// <param name="End">That moment, UTC.</param>
/// <param name="Why">What it is that takes so long, in a few words.</param>
public sealed record ScheduleBound(DateTimeOffset End, string Why);

/// <summary>A slot that was moved.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Before">The slot that it had.</param>
/// <param name="After">The slot that it has now; null where it has none any more.</param>
public sealed record MovedSlot(MachineId Machine, Slot Before, Slot? After);

/// <summary>What came of placing.</summary>
/// <param name="All">Every machine that wanted a slot, in the order in which they were asked for.</param>
/// <param name="Bound">Before when it cannot end; null where nothing was placed, or where it was not looked for.</param>
/// <param name="Moved">The slots that could not stay.</param>
public sealed record Schedule(ImmutableArray<Placed> All, ScheduleBound? Bound, ImmutableArray<MovedSlot> Moved)
{
    /// <summary>When the last slot ends, UTC; null without any.</summary>
    public DateTimeOffset? End => All.Max(p => p.Slot?.End);
}
