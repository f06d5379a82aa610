using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;

namespace GrandStair.Storage.Plans;

/// <summary>A machine's place in a plan.</summary>
public sealed record Member
{
    /// <summary>The plan's name.</summary>
    public required string Plan { get; init; }

    /// <summary>The machine.</summary>
    public required MachineId Machine { get; init; }

    /// <summary>The wave's number, from 1.</summary>
    public required int Wave { get; init; }

    /// <summary>Where it is.</summary>
    public Status Status { get; init; }

    /// <summary>Its gate when it was last judged.</summary>
    public GateState Gate { get; init; }

    /// <summary>What is in the way, or why it has no slot; null where nothing is.</summary>
    public string? Why { get; init; }

    /// <summary>The chosen method; null where there is none.</summary>
    public string? Method { get; init; }

    /// <summary>Whether nobody can fix what is in the way.</summary>
    public bool CannotBeFixed { get; init; }

    /// <summary>Its slot; null where it has none.</summary>
    public Slot? Slot { get; init; }

    /// <summary>When its slot was to end when the plan was first placed, UTC; the planned line is made of these.</summary>
    public DateTimeOffset? PlannedEnd { get; init; }

    /// <summary>When its slot was to begin then, UTC.</summary>
    public DateTimeOffset? PlannedStart { get; init; }

    /// <summary>What would have to change for it to get a slot; null where it has one or is not ready.</summary>
    public string? Change { get; init; }

    /// <summary>How often its time, be it a slot or only scheduled, has changed.</summary>
    public int TimeChanges { get; init; }

    /// <summary>When its time last changed, UTC; null where it has never had one.</summary>
    public DateTimeOffset? TimeChanged { get; init; }

    /// <summary>How many slots it missed.</summary>
    public int Missed { get; init; }

    /// <summary>When it was last seen that it is not ready, UTC; null where it was so never, or not since it was let go again.</summary>
    public DateTimeOffset? Lapsed { get; init; }

    /// <summary>When it was last made ready, UTC; null where it was so from the first, or is not.</summary>
    public DateTimeOffset? Readied { get; init; }

    /// <summary>Why a person moved it to another wave; null where nobody did.</summary>
    public string? MovedReason { get; init; }

    /// <summary>Who moved it.</summary>
    public string? MovedBy { get; init; }

    /// <summary>
    /// The slot that is scheduled for it as things are now; it is told to nobody as its own before its wave begins. Null where none was
    /// found, and after that.
    /// </summary>
    public Slot? Tentative { get; init; }

    /// <summary>The time that somebody chose for it, UTC; it keeps it as long as nothing is in the way. Null where nobody did.</summary>
    public DateTimeOffset? Rescheduled { get; init; }

    /// <summary>Who chose it.</summary>
    public string? RescheduledBy { get; init; }

    /// <summary>Why.</summary>
    public string? RescheduledReason { get; init; }

    /// <summary>Its run; null before.</summary>
    public long? Run { get; init; }

    /// <summary>When it was verified, UTC; null before.</summary>
    public DateTimeOffset? Verified { get; init; }

    /// <summary>How it is exempt; null where it is not.</summary>
    public Exemption? Exemption { get; init; }

    /// <summary>Why it is exempt.</summary>
    public string? ExemptionReason { get; init; }

    /// <summary>Who exempt it.</summary>
    public string? ExemptedBy { get; init; }

    /// <summary>Until when it stays; null for ever.</summary>
    public DateOnly? ExemptUntil { get; init; }
}
