using System.Collections.Immutable;
using GrandStair.Core.Approvals;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Methods;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Plans;

/// <summary>A plan that has started, with all that it has decided so far.</summary>
/// <param name="Record">The plan as it is kept.</param>
/// <param name="Plan">The plan as its text says it.</param>
/// <param name="Product">Its product.</param>
/// <param name="Members">Its members.</param>
public sealed record PlanState(PlanRecord Record, Plan Plan, Product Product, IReadOnlyList<Member> Members)
{
    /// <summary>What its earlier steps found.</summary>
    public PlanMemory Memory { get; init; } = PlanMemory.None;
}

/// <summary>What earlier steps found, so that not everything is looked for at every step.</summary>
/// <param name="ScheduledBy">The revision and the calendars that slots were last scheduled by; null before the first time.</param>
/// <param name="Machines">Machines for which no slot was found.</param>
/// <param name="MachinesUntil">Until when they are not looked at again, UTC; what keeps them out is seldom gone in a moment.</param>
/// <param name="Runs">Machines whose runs found no further slot.</param>
/// <param name="RunsUntil">Until when they are not looked at again, UTC.</param>
public sealed record PlanMemory(
    string? ScheduledBy,
    ImmutableHashSet<MachineId> Machines,
    DateTimeOffset MachinesUntil,
    ImmutableHashSet<MachineId> Runs,
    DateTimeOffset RunsUntil
)
{
    /// <summary>What its machines were last assessed as.</summary>
    public AssessmentMemory Assessed { get; init; } = AssessmentMemory.None;

    /// <summary>Nothing was looked for yet.</summary>
    public static PlanMemory None { get; } = new(null, [], default, [], default);
}

/// <summary>What a step of a plan follows from, beside the plan itself.</summary>
public sealed record PlanFacts
{
    /// <summary>The fleet, with machines that left it.</summary>
    public required IReadOnlyDictionary<MachineId, Machine> Machines { get; init; }

    /// <summary>What people decided about machines.</summary>
    public required IReadOnlyDictionary<MachineId, Decisions> Decided { get; init; }

    /// <summary>The approvals that the plan needs.</summary>
    public ImmutableArray<NeededApproval> Approvals { get; init; } = [];

    /// <summary>The calendars by name.</summary>
    public required IReadOnlyDictionary<string, ICalendar> Calendars { get; init; }

    /// <summary>
    /// The revision and the calendars that slots follow from; another text than before means that each slot is looked at again.
    /// </summary>
    public required string ScheduledBy { get; init; }

    /// <summary>What other plans hold.</summary>
    public required HeldElsewhere Elsewhere { get; init; }

    /// <summary>How long methods take.</summary>
    public required LengthsOf Lengths { get; init; }

    /// <summary>By number the runs of the members whose slot has not begun: those that may be moved.</summary>
    public IReadOnlyDictionary<long, RunState> Runs { get; init; } = ImmutableDictionary<long, RunState>.Empty;
}

/// <summary>A run that is to be opened.</summary>
/// <param name="Member">The machine's place in the plan.</param>
/// <param name="Wave">The name of its wave.</param>
/// <param name="Legs">The legs of its route, each by its method.</param>
public sealed record RunOpening(Member Member, string Wave, ImmutableArray<LegSpec> Legs);

/// <summary>A run that is to have another slot.</summary>
/// <param name="Run">The run as it is.</param>
/// <param name="Slot">The slot; null where none was found.</param>
/// <param name="Why">Why it is moved, or why no slot was found.</param>
public sealed record RunMove(RunState Run, Slot? Slot, string Why);

/// <summary>What changes in a plan at a moment, and why.</summary>
public sealed record PlanChanges
{
    /// <summary>Why the plan goes on hold; null where it does not. Nothing else changes then.</summary>
    public string? Hold { get; init; }

    /// <summary>Waves that began, passed, or of which something else is said.</summary>
    public ImmutableArray<WaveProgress> Waves { get; init; } = [];

    /// <summary>Members that are judged otherwise than before, or have another slot.</summary>
    public ImmutableArray<Member> Members { get; init; } = [];

    /// <summary>Runs to open.</summary>
    public ImmutableArray<RunOpening> Openings { get; init; } = [];

    /// <summary>Runs whose slot was missed or fits no longer.</summary>
    public ImmutableArray<RunMove> Moves { get; init; } = [];

    /// <summary>Machines that are worth reading again: something is in their way, or their readings soon are too old.</summary>
    public ImmutableArray<MachineId> ToRead { get; init; } = [];

    /// <summary>Whether every machine of it has an outcome or an exemption, so that the plan ends.</summary>
    public bool Ends { get; init; }

    /// <summary>When time alone may next change something, UTC; null where it does not.</summary>
    public DateTimeOffset? Next { get; init; }

    /// <summary>What it found, for the next step.</summary>
    public PlanMemory Memory { get; init; } = PlanMemory.None;
}
