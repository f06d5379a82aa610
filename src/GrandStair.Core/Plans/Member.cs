using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;

namespace GrandStair.Core.Plans;

/// <summary>
/// A machine's place in a plan. Each change of it is a function here, from the member before to the member after; the store applies it to
/// the newest row, so whoever was faster counts.
/// </summary>
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

    /// <summary>Whether the machine is still to be upgraded: whatever depends on it waits until it is verified, or exempt.</summary>
    public bool IsPending => Status is not (Status.Verified or Status.Done or Status.Exempt);

    /// <summary>The time that calendars show: the slot, or what is scheduled before there is one; null without either.</summary>
    public Slot? ShownSlot => Slot ?? Tentative;

    /// <summary>The time that somebody chose, as a slot to begin with; null where nobody did, or it is over.</summary>
    /// <param name="now">The moment, UTC.</param>
    public Slot? ChosenSlot(DateTimeOffset now) => Rescheduled is { } at && at > now ? new(at, at, at) : null;

    /// <summary>As it is judged by an assessment; nothing is looked up.</summary>
    /// <param name="assessment">The machine's assessment for planning.</param>
    /// <param name="placed">The slot it was given, or why it got none; null where none was asked for now.</param>
    public Member Judge(Assessment assessment, Placed? placed)
    {
        ArgumentNullException.ThrowIfNull(assessment);
        if (assessment.Route.Arrived)
        {
            return this with
            {
                Gate = assessment.State,
                Method = null,
                CannotBeFixed = false,
                Why = "it runs the target already, and not by this plan; exempt it",
                Change = null,
                Slot = null,
                Status = Status.NotReady,
            };
        }

        var slot = placed?.Slot ?? (placed is null ? Slot : null);
        var canGo = assessment.CanBePlanned;
        // Whoever has no slot and is not asked about now keeps what was said of it.
        var keepsWhy = placed is null && canGo && slot is null && Status == Status.Ready;
        return this with
        {
            Gate = assessment.State,
            Method = assessment.Choice?.Method?.Name,
            CannotBeFixed = assessment.CannotBeFixed,
            Why = assessment.Why ?? (keepsWhy ? Why : placed?.Why),
            Change =
                !canGo ? null
                : placed is null && slot is null ? Change
                : placed?.Change,
            Slot = canGo ? slot : null,
            Status = Statuses.Of(Exemption is not null, assessment.State, canGo && slot is not null, null),
        };
    }

    /// <summary>
    /// Takes what was judged of it a moment ago. Unchanged where it has begun, was exempted, or was given another time since.
    /// </summary>
    /// <param name="judged">The member as it was judged.</param>
    /// <param name="now">The moment, UTC.</param>
    public Member Take(Member judged, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(judged);
        if (Run is not null || Exemption is not null || Rescheduled != judged.Rescheduled)
            return this;
        var after = this with
        {
            Status = judged.Status,
            Gate = judged.Gate,
            Why = judged.Why,
            Method = judged.Method,
            CannotBeFixed = judged.CannotBeFixed,
            Slot = judged.Slot,
            Change = judged.Change,
        };
        return after.NoteReadiness(Status, now);
    }

    /// <summary>As a plan's next revision has it. What was first scheduled stays the baseline once the plan has started.</summary>
    /// <param name="drafted">The member as the revision was drafted.</param>
    /// <param name="plan">The plan's status.</param>
    /// <param name="now">The moment, UTC.</param>
    public Member Revise(Member drafted, PlanStatus plan, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(drafted);
        var after = this with
        {
            Wave = drafted.Wave,
            PlannedStart = drafted.PlannedStart,
            PlannedEnd = plan == PlanStatus.Drafted ? drafted.PlannedEnd : PlannedEnd ?? drafted.PlannedEnd,
        };
        return after.Schedule(drafted.Tentative).Take(drafted, now);
    }

    /// <summary>With the slot that is scheduled for it as things are now; null where none was found.</summary>
    public Member Schedule(Slot? tentative) =>
        // The latest turn of what is only scheduled is not kept.
        this with
        {
            Tentative = tentative is null ? null : tentative with { LatestTurn = tentative.End },
        };

    /// <summary>In another wave. Unchanged where it has begun.</summary>
    /// <param name="wave">The wave's number, from 1.</param>
    /// <param name="baseline">When the last machine of that wave was to end by the plan's baseline, UTC; null where none is.</param>
    /// <param name="plan">The plan's status.</param>
    /// <param name="by">Who moves it.</param>
    /// <param name="reason">Why.</param>
    public Member MoveTo(int wave, DateTimeOffset? baseline, PlanStatus plan, string by, string reason) =>
        Run is not null
            ? this
            : this with
            {
                Wave = wave,
                MovedBy = by,
                MovedReason = reason,
                Rescheduled = null,
                PlannedStart = null,
                PlannedEnd = plan == PlanStatus.Drafted ? baseline : PlannedEnd ?? baseline,
                Tentative = null,
                Slot = null,
                Status = Status == Status.Scheduled ? Status.Ready : Status,
            };

    /// <summary>With the time that somebody chose, and its slot where its wave has begun.</summary>
    /// <param name="start">The time, UTC; null gives the choice up.</param>
    /// <param name="slot">The slot that it has from now on; null where it gets one when its wave begins, or where its run has it.</param>
    /// <param name="by">Who chose it.</param>
    /// <param name="reason">Why.</param>
    /// <param name="now">The moment, UTC.</param>
    public Member Reschedule(DateTimeOffset? start, Slot? slot, string by, string reason, DateTimeOffset now)
    {
        var chosen = this with
        {
            Rescheduled = start,
            RescheduledBy = start is null ? null : by,
            RescheduledReason = start is null ? null : reason,
        };
        return slot is null ? chosen : chosen.Take(chosen with { Status = Status.Scheduled, Slot = slot, Why = null, Change = null }, now);
    }

    /// <summary>Exempt from the plan.</summary>
    /// <param name="exemption">How.</param>
    /// <param name="until">Until when it stays; null for ever.</param>
    /// <param name="by">Who exempts it.</param>
    /// <param name="reason">Why.</param>
    public Member Exempt(Exemption exemption, DateOnly? until, string by, string reason) =>
        this with
        {
            Exemption = exemption,
            ExemptUntil = until,
            ExemptedBy = by,
            ExemptionReason = reason,
            Status = Status.Exempt,
            Slot = null,
        };

    /// <summary>Exempt since its machine left the fleet. Unchanged where it is exempt already, or verified.</summary>
    public Member Retire(string by, string reason) =>
        Exemption is null && IsPending ? Exempt(Outcomes.Exemption.Retired, null, by, reason) : this;

    /// <summary>As one that may go again after a run that ended without success; unchanged where it is not stopped.</summary>
    public Member Retry() =>
        Status != Status.Stopped
            ? this
            : this with
            {
                Run = null,
                Status = Status.NotReady,
                Gate = GateState.Undecided,
                Lapsed = null,
                Slot = null,
            };

    /// <summary>As its run has it.</summary>
    /// <param name="run">The run's state.</param>
    /// <param name="at">When its last event happened, UTC.</param>
    public Member Follow(RunState run, DateTimeOffset at)
    {
        ArgumentNullException.ThrowIfNull(run);
        // Whoever needs another slot has one whose time is over, whatever the window says.
        var latest = run.NeedsSlot && at < run.Slot.LatestTurn ? at : run.Slot.LatestTurn;
        return this with
        {
            Run = run.Run,
            Verified = run.Verified,
            Slot = run.Slot with { LatestTurn = latest },
            Missed = run.MissedSlots,
            Status = Statuses.Of(Exemption is not null, default, true, run),
        };
    }

    /// <summary>
    /// Counts a change of the time that calendars show. They tell by it which of two copies of an appointment is the newer (RFC 5546,
    /// SEQUENCE).
    /// </summary>
    /// <param name="before">The member before the change.</param>
    /// <param name="now">The moment, UTC.</param>
    public Member CountTimeChange(Member before, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(before);
        return (before.ShownSlot?.Start, before.ShownSlot?.End) == (ShownSlot?.Start, ShownSlot?.End)
            ? this
            : this with
            {
                TimeChanges = before.TimeChanges + 1,
                TimeChanged = now,
            };
    }

    private Member NoteReadiness(Status before, DateTimeOffset now) =>
        (before == Status.NotReady, Status == Status.NotReady) switch
        {
            (false, true) => this with { Lapsed = now },
            (true, false) => this with { Readied = now },
            _ => this,
        };
}
