using System.Collections.Immutable;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Rehearsals;

/// <summary>A machine of a plan that is rehearsed.</summary>
/// <param name="Request">How it asks for a slot.</param>
/// <param name="Wave">The number of its wave, from 0.</param>
/// <param name="Legs">Its legs.</param>
public sealed record RehearsedMachine(SlotRequest Request, int Wave, ImmutableArray<LegSpec> Legs)
{
    /// <summary>Its model; empty where it is not known.</summary>
    public string Model { get; init; } = "";

    /// <summary>
    /// How long its site's uplink, as the plan says it, takes to bring what is staged; null where no uplink is in the way.
    /// </summary>
    public TimeSpan? OverUplink { get; init; }

    /// <summary>Whether nothing is in its way now.</summary>
    public bool Ready { get; init; } = true;

    /// <summary>Whether somebody can make it ready where it is not.</summary>
    public bool CanBeFixed { get; init; } = true;

    /// <summary>The slot that it has; null where it has none.</summary>
    public Slot? Slot { get; init; }

    /// <summary>Its run; null where it has not begun.</summary>
    public RunState? Run { get; init; }
}

/// <summary>A wave when a rehearsal begins.</summary>
/// <param name="Opened">When it began, UTC; null where it has not.</param>
/// <param name="Passed">Whether the next one may begin.</param>
public readonly record struct RehearsedWave(DateTimeOffset? Opened, bool Passed);

/// <summary>What is rehearsed.</summary>
/// <param name="Plan">The plan.</param>
/// <param name="Calendars">The calendars that its rules name.</param>
/// <param name="Machines">Its machines without those that are exempt.</param>
/// <param name="Waves">Its waves as they stand.</param>
/// <param name="From">When the rehearsal begins: when the plan would start, or now where it is running, UTC.</param>
public sealed record RehearsalCase(
    Plan Plan,
    IReadOnlyDictionary<string, ICalendar> Calendars,
    ImmutableArray<RehearsedMachine> Machines,
    ImmutableArray<RehearsedWave> Waves,
    DateTimeOffset From
)
{
    /// <summary>The slots of other plans, which do not depend on this one.</summary>
    public ImmutableArray<TakenSlot> Others { get; init; } = [];
}
