using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Scheduling;

namespace GrandStair.Core.Runs;

/// <summary>The part of a run that does one hop, pinned when the run was opened.</summary>
/// <param name="Hop">The hop's name.</param>
/// <param name="Method">The method's name.</param>
/// <param name="Steps">The method's steps.</param>
/// <param name="RollbackSteps">The steps that undo it.</param>
/// <param name="RollbackLasts">How long after the verification it can be undone.</param>
/// <param name="AfterPointOfNoReturn">How long it usually takes from the point of no return to the verification.</param>
public sealed record LegSpec(
    string Hop,
    string Method,
    ImmutableArray<StepSpec> Steps,
    ImmutableArray<StepSpec> RollbackSteps,
    TimeSpan RollbackLasts,
    TimeSpan AfterPointOfNoReturn
)
{
    /// <summary>Whether a second machine is upgraded, which then takes the first one's place.</summary>
    public bool GoesSideBySide => Steps.Any(s => s.OnSuccessor);

    /// <summary>The release that the hop leads to; empty for the hop of a component.</summary>
    public string To { get; init; } = "";

    /// <summary>For how long after the verification its rollback can be kept; zero where it cannot be kept longer.</summary>
    public TimeSpan RollbackAtMost { get; init; }

    /// <summary>The steps that delete what is kept for the rollback, once its period is over.</summary>
    public ImmutableArray<StepSpec> ReclaimSteps { get; init; } = [];

    /// <summary>All steps of the leg: those of the upgrade, of its rollback, and those that delete what was kept for that.</summary>
    public IEnumerable<StepSpec> AllSteps => [.. Steps, .. RollbackSteps, .. ReclaimSteps];

    /// <summary>The first build of that release that the plan accepts; null for any.</summary>
    public string? LeastBuild { get; init; }

    /// <summary>When it takes the newest patches, by the plan; null for as the method does by itself.</summary>
    public PatchTime? Patches { get; init; }
}

/// <summary>How a run ended.</summary>
public enum Outcome
{
    /// <summary>Verified, its follow-ups closed, its rollback given up.</summary>
    Done,

    /// <summary>Undone by its rollback.</summary>
    RolledBack,

    /// <summary>Given up as failed.</summary>
    Failed,

    /// <summary>Cancelled before the point of no return.</summary>
    Cancelled,
}

/// <summary>What follows once all that a run has suspended is resumed.</summary>
/// <param name="Outcome">How the run ends; null where it waits for another slot.</param>
/// <param name="Reason">Why, in a sentence; null where it waits for another slot.</param>
public sealed record AfterResume(Outcome? Outcome, string? Reason);

/// <summary>A phase that a run went through.</summary>
/// <param name="Leg">The leg, from 1.</param>
/// <param name="Phase">The phase.</param>
/// <param name="From">When it was entered, UTC.</param>
/// <param name="To">When it was left, UTC; null while it lasts.</param>
public sealed record PhaseSpan(int Leg, Phase Phase, DateTimeOffset From, DateTimeOffset? To);

/// <summary>Something small left to do on a machine after its upgrade.</summary>
/// <param name="Name">Its name within the run: that of the check that does not hold, of the comparison, or one of its own.</param>
/// <param name="Title">What is left to do.</param>
/// <param name="Seen">What was seen.</param>
/// <param name="Fix">How it is fixed.</param>
/// <param name="Opened">Since when it is open, UTC.</param>
/// <param name="Closed">When it was closed, UTC; null while it is open.</param>
/// <param name="By">Who closed it; null while it is open.</param>
public sealed record FollowUp(string Name, string Title, string Seen, string Fix, DateTimeOffset Opened, DateTimeOffset? Closed, string? By)
{
    /// <summary>Who added it; null where the run found it itself.</summary>
    public string? AddedBy { get; init; }

    /// <summary>Who is to do it; null for nobody yet.</summary>
    public string? Owner { get; init; }

    /// <summary>The last day on which it is in time, by UTC; null for none.</summary>
    public DateOnly? Due { get; init; }

    /// <summary>What was done when it was closed; null while it is open.</summary>
    public string? Because { get; init; }

    /// <summary>The file name of its script; null where it has none.</summary>
    public string? Script { get; init; }

    /// <summary>Whether that script restarts the machine.</summary>
    public bool Restarts { get; init; }

    /// <summary>How its script went last, or since when it runs; null where it was never sent.</summary>
    public ScriptTry? Tried { get; init; }

    /// <summary>Whether it is open and its day is over.</summary>
    /// <param name="now">The time, UTC.</param>
    public bool IsOverdue(DateTimeOffset now) => Closed is null && Due < DateOnly.FromDateTime(now.UtcDateTime);
}

/// <summary>How the script of a follow-up went.</summary>
/// <param name="Fix">The fix as which it runs or ran, such as f12.</param>
/// <param name="Begins">When it was sent, UTC, or from when on it may begin.</param>
/// <param name="Ended">When it had ended, UTC; null while it runs or waits for its window.</param>
/// <param name="Said">How it went, in words; empty while it runs.</param>
public sealed record ScriptTry(string Fix, DateTimeOffset Begins, DateTimeOffset? Ended, string Said);

/// <summary>What a step that patches does.</summary>
public enum PatchPart
{
    /// <summary>The machine is read: is anything left?</summary>
    Look,

    /// <summary>The script of the step runs.</summary>
    Script,

    /// <summary>The machine restarts.</summary>
    Restart,
}

/// <summary>How far a step that patches is.</summary>
/// <param name="Part">What it does now.</param>
/// <param name="Round">How often its script was begun.</param>
/// <param name="Began">When the step began, UTC.</param>
public sealed record PatchState(PatchPart Part, int Round, DateTimeOffset Began);

/// <summary>What the events of a run add up to. Made by <see cref="RunMachine"/> alone.</summary>
public sealed record RunState
{
    /// <summary>How this shape is numbered; a stored state of another number is made again from the events.</summary>
    public const int Shape = 7;

    /// <summary>The run's number.</summary>
    public required long Run { get; init; }

    /// <summary>The machine's id.</summary>
    public required long Machine { get; init; }

    /// <summary>The id of the second machine, which is to take the machine's place; null where it is upgraded in place.</summary>
    public long? Successor { get; init; }

    /// <summary>The plan's name.</summary>
    public required string Plan { get; init; }

    /// <summary>The wave's name.</summary>
    public required string Wave { get; init; }

    /// <summary>The hash of the catalogue content that the run was opened with.</summary>
    public required string CatalogueHash { get; init; }

    /// <summary>The legs in order.</summary>
    public required ImmutableArray<LegSpec> Legs { get; init; }

    /// <summary>The machine's slot.</summary>
    public required Slot Slot { get; init; }

    /// <summary>How many events there are.</summary>
    public int Events { get; init; }

    /// <summary>The leg that is running, from 0.</summary>
    public int Leg { get; init; }

    /// <summary>The phase.</summary>
    public Phase Phase { get; init; }

    /// <summary>The moment whose gate was judged last or is to be judged, within the phase <see cref="Catalogue.Phase.Gate"/>.</summary>
    public Catalogue.Moment Moment { get; init; }

    /// <summary>The step within the phase, from 0.</summary>
    public int Step { get; init; }

    /// <summary>The outstanding order; null once closed.</summary>
    public Order? Outstanding { get; init; }

    /// <summary>The last attempt made of every step and gate, by <c>leg/step</c>: an attempt's number is never used twice.</summary>
    public ImmutableDictionary<string, int> Attempts { get; init; } = ImmutableDictionary<string, int>.Empty;

    /// <summary>How often the present step or gate was tried since a person last decided.</summary>
    public int Tries { get; init; }

    /// <summary>How far its present step is; null where that does not patch.</summary>
    public PatchState? Patch { get; init; }

    /// <summary>Why it waits for a person; null while it does not.</summary>
    public string? Parked { get; init; }

    /// <summary>
    /// Why it waits for a person, in the words that runs parked for the same reason have in common; null while it does not.
    /// </summary>
    public string? ParkedCause { get; init; }

    /// <summary>The order that it was parked at; null while it is not parked.</summary>
    public Order? ParkedAt { get; init; }

    /// <summary>Whether one can only go forward, or back by the rollback.</summary>
    public bool Turned { get; init; }

    /// <summary>
    /// The steps that have to resume what steps of this leg have suspended, by name, in the order in which it was suspended.
    /// </summary>
    public ImmutableArray<string> Suspended { get; init; } = [];

    /// <summary>
    /// What is suspended on the machine, in words. That of a run that was marked as failed stays suspended until its follow-up is closed.
    /// </summary>
    public ImmutableArray<string> SuspendedThings =>
        [
            .. Suspended
                .Where(name => !FollowUps.Any(f => f.Name == name && f.Closed is not null))
                .Select(name => CurrentLeg.Steps.First(s => s.ResumedBy == name))
                // Runs that were opened before that was asked for know only the step.
                .Select(step => step.Suspends ?? step.Title),
        ];

    /// <summary>What comes once all that is suspended is resumed; null outside of <see cref="Catalogue.Phase.Resume"/>.</summary>
    public AfterResume? AfterResume { get; init; }

    /// <summary>The step at which the run stopped, as <c>leg/step</c>; null where it did not stop at one.</summary>
    public string? StoppedAt { get; init; }

    /// <summary>Whether it is to be cancelled as soon as what is running has ended, and why.</summary>
    public string? Cancel { get; init; }

    /// <summary>Whether the slot was missed and another is needed.</summary>
    public bool NeedsSlot { get; init; }

    /// <summary>How many slots were missed.</summary>
    public int MissedSlots { get; init; }

    /// <summary>How many missed slots are caught up without asking anybody; null for all.</summary>
    public int? CatchUp { get; init; }

    /// <summary>When it was verified, UTC; null before.</summary>
    public DateTimeOffset? Verified { get; init; }

    /// <summary>When it was closed, UTC; null before.</summary>
    public DateTimeOffset? Closed { get; init; }

    /// <summary>Whether the rollback period is over, so that it cannot be rolled back any more.</summary>
    public bool RollbackOver { get; init; }

    /// <summary>How much space was freed when the rollback period was over, in bytes; null where no step said so.</summary>
    public double? Reclaimed { get; init; }

    /// <summary>What kind of reason it was rolled back for, in a word of the administrators'; null where nobody has said so.</summary>
    public string? RollbackCategory { get; init; }

    /// <summary>How it ended; null before.</summary>
    public Outcome? Outcome { get; init; }

    /// <summary>Why it ended so, in a sentence; null where it is done or not over.</summary>
    public string? Reason { get; init; }

    /// <summary>The differences at which it is parked; empty while it is not parked at a comparison.</summary>
    public ImmutableArray<Difference> Unaccepted { get; init; } = [];

    /// <summary>What is left to do on the machine.</summary>
    public ImmutableArray<FollowUp> FollowUps { get; init; } = [];

    /// <summary>The phases it went through, in order.</summary>
    public ImmutableArray<PhaseSpan> Phases { get; init; } = [];

    /// <summary>The leg that is running.</summary>
    public LegSpec CurrentLeg => Legs[Leg];

    /// <summary>The step of the present phase at <see cref="Step"/>; null where all of them are done.</summary>
    public StepSpec? NextStep
    {
        get
        {
            if (Phase == Phase.Resume)
                return Suspended.IsEmpty ? null : CurrentLeg.Steps.First(s => s.Name == Suspended[^1]);
            if (Phase is Phase.RollBack or Phase.Reclaim)
                return (Phase == Phase.RollBack ? CurrentLeg.RollbackSteps : CurrentLeg.ReclaimSteps).ElementAtOrDefault(Step);
            var left = Step;
            foreach (var step in CurrentLeg.Steps)
            {
                if (step.Phase == Phase && left-- == 0)
                    return step;
            }

            return null;
        }
    }

    /// <summary>The step that the outstanding order asks for; null where it asks for none.</summary>
    public StepSpec? CurrentStep => Outstanding?.Kind == OrderKind.Step || ParkedAt?.Kind == OrderKind.Step ? NextStep : null;

    /// <summary>What its present step does on the machine now; null where it has none.</summary>
    public StepKind? CurrentAction =>
        CurrentStep is not { } step ? null
        : step.RunsScript ? (Patch?.Part == PatchPart.Restart ? StepKind.Restart : StepKind.Script)
        : step.Kind;

    /// <summary>The step in which it only waits, for the machine or for a person; null where it does not.</summary>
    public StepSpec? WaitingStep => Outstanding?.Kind == OrderKind.Step && NextStep is { IsWaiting: true } step ? step : null;

    /// <summary>Whether its present step needs its site's uplink.</summary>
    public bool UsesUplink => Phase == Phase.Stage && CurrentStep is { UsesUplink: true };

    /// <summary>What a person is asked for now; null where nobody is.</summary>
    public PersonTask? AskedOfPerson => WaitingStep?.Task;

    /// <summary>Whether it is in its slot and has not begun the point of no return, so that it may still come too late for it.</summary>
    public bool CanMissSlot => Phase is Phase.Protect or Phase.Apply && !Turned;

    /// <summary>
    /// Until when it waits in its present step, UTC: until the step's limit, and in the slot not beyond the latest start of the point of no
    /// return. Null where it does not wait.
    /// </summary>
    public DateTimeOffset? WaitsUntil
    {
        get
        {
            if (WaitingStep is not { } step)
                return null;
            var limit = Outstanding!.At + step.Limit;
            return CanMissSlot && Slot.LatestTurn < limit ? Slot.LatestTurn : limit;
        }
    }

    /// <summary>Whether it is in the part of its progress that needs room within the limits.</summary>
    public bool NeedsRoom =>
        Closed is null
        && Parked is null
        && Verified is null
        && (
            Phase is Phase.Protect or Phase.Apply or Phase.Verify or Phase.RollBack
            || (Phase == Phase.Gate && Moment != Catalogue.Moment.Planning)
        );

    /// <summary>Whether other machines of its cluster have to wait: it is running, or parked in the middle of its upgrade.</summary>
    public bool HoldsCluster =>
        NeedsRoom
        || (
            Closed is null
            && Verified is null
            && Parked is not null
            && (
                Phase is Phase.Protect or Phase.Apply or Phase.Verify or Phase.RollBack
                || (Phase == Phase.Gate && Moment is not (Catalogue.Moment.Planning or Catalogue.Moment.Start))
            )
        );

    /// <summary>When it is due to be processed next, UTC; null where it waits for a person or for nothing.</summary>
    public DateTimeOffset? DueAt =>
        Outstanding switch
        {
            null or { Kind: OrderKind.Decide } => null,
            { Kind: OrderKind.Slot } when NeedsSlot => null,
            { Kind: OrderKind.Settle } when HasOpenFollowUps => null,
            _ => Outstanding.NotBefore,
        };

    /// <summary>Until when the verified upgrade can be rolled back, UTC; null where it cannot, or is not verified.</summary>
    public DateTimeOffset? RollbackUntil =>
        Outstanding is { Kind: OrderKind.Settle } settle && !RollbackOver && !CurrentLeg.RollbackSteps.IsEmpty ? settle.NotBefore : null;

    /// <summary>Until when that can be extended, UTC; null where it cannot.</summary>
    public DateTimeOffset? RollbackUntilAtMost => Verified + CurrentLeg.RollbackAtMost is { } most && most > RollbackUntil ? most : null;

    /// <summary>
    /// The moment until which the rollback lasts where a day is its last one, UTC. The day counts whole, but not beyond what the method
    /// allows on it.
    /// </summary>
    /// <param name="day">The last day, by UTC.</param>
    public DateTimeOffset RollbackThrough(DateOnly day)
    {
        var until = new DateTimeOffset(day.AddDays(1), TimeOnly.MinValue, TimeSpan.Zero);
        return RollbackUntilAtMost is { } most && until > most && until - most < TimeSpan.FromDays(1) ? most : until;
    }

    /// <summary>Whether something is left to do on the machine.</summary>
    public bool HasOpenFollowUps => FollowUps.Any(l => l.Closed is null);
}
