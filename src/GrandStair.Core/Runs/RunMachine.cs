using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Refusals;

namespace GrandStair.Core.Runs;

/// <summary>What one event leads to.</summary>
/// <param name="State">The new state.</param>
/// <param name="Orders">The orders that follow: at most one.</param>
public sealed record Stepped(RunState State, ImmutableArray<Order> Orders);

/// <summary>
/// Carries a run from event to event. Pure: the same events give the same state and the same orders. An event that answers
/// an order which is not outstanding changes nothing, so that an answer may come twice.
/// </summary>
public static class RunMachine
{
    /// <summary>How often an undecided gate is read again before a person is asked.</summary>
    public const int GateTries = 3;

    private const string TooManyMissed = "more slots were missed than are caught up without asking";

    /// <summary>How long after a failure or an undecided gate it is tried again.</summary>
    public static readonly TimeSpan Pause = TimeSpan.FromMinutes(5);

    /// <summary>The state after all events, or null where there are none.</summary>
    public static RunState? Replay(IEnumerable<RunEvent> events)
    {
        RunState? state = null;
        foreach (var e in events)
            state = Step(state, e).State;
        return state;
    }

    /// <summary>Takes one event.</summary>
    /// <exception cref="InvalidOperationException">The first event does not open the run, or a later one does.</exception>
    /// <exception cref="RefusedException">A decision cannot be taken in this state; the message says why and which can.</exception>
    public static Stepped Step(RunState? state, RunEvent e)
    {
        if (e is RunOpened opened)
        {
            if (state is not null)
                throw new InvalidOperationException($"Run r{opened.Run} is open already.");
            return Counted(Open(opened));
        }

        if (state is null)
            throw new InvalidOperationException($"The first event of a run must open it, and is {e.Type}.");
        return Counted(
            e switch
            {
                GateJudged judged => OnGate(state, judged),
                OrderEnded ended => OnEnded(state, ended),
                OrderOverdue overdue => OnOverdue(state, overdue),
                Compared compared => OnCompared(state, compared),
                SlotOpened slot => IsOutstanding(state, slot.Order) ? AskGate(state, Moment.Start, e.At) : Same(state),
                SlotMoved moved => OnSlotMoved(state, moved),
                Decided decided => OnDecided(state, decided),
                FollowUpAdded added => OnFollowUpAdded(state, added),
                FollowUpAssigned assigned => OnFollowUp(state, assigned.FollowUp, f =>
                    f with
                    {
                        Owner = assigned.Owner,
                        Due = assigned.Due,
                    }
                ),
                FollowUpClosed closed => OnFollowUp(state, closed.FollowUp, f => Closed(f, closed, closed.Reason)),
                FollowUpScriptBegun begun => OnFollowUp(state, begun.FollowUp, f => WithScript(f, begun)),
                FollowUpScriptEnded ended => OnFollowUp(state, ended.FollowUp, f => AfterScript(f, ended)),
                RollbackExtended extended => OnRollbackExtended(state, extended),
                RollbackCategorised categorised => OnCategorised(state, categorised),
                Settled settled => IsOutstanding(state, settled.Order) && !state.HasOpenFollowUps ? Settle(state, e.At) : Same(state),
                _ => throw new InvalidOperationException($"Unknown event {e.Type}."),
            }
        );
    }

    private static Stepped Counted(Stepped stepped) => stepped with { State = stepped.State with { Events = stepped.State.Events + 1 } };

    private static Stepped Same(RunState state) => new(state, []);

    private static bool IsOutstanding(RunState state, OrderName name) => state.Outstanding?.Name == name;

    private static Stepped Open(RunOpened e)
    {
        var state = new RunState
        {
            Run = e.Run,
            Machine = e.Machine,
            Successor = e.Successor,
            Plan = e.Plan,
            Wave = e.Wave,
            CatalogueHash = e.CatalogueHash,
            Legs = e.Legs,
            Slot = e.Slot,
            CatchUp = e.CatchUp,
        };
        return AskGate(state, Moment.Planning, e.At);
    }

    /// <summary>Makes the next attempt of something and puts it outstanding.</summary>
    private static Stepped Ask(
        RunState state,
        OrderKind kind,
        string step,
        DateTimeOffset at,
        DateTimeOffset? notBefore = null,
        Moment? moment = null
    )
    {
        var slotKey = $"{state.Leg + 1}/{step}";
        var attempt = state.Attempts.GetValueOrDefault(slotKey) + 1;
        var order = new Order(new(state.Run, state.Leg + 1, step, attempt), kind, at, notBefore ?? at, moment);
        return new(Unpark(state) with { Outstanding = order, Attempts = state.Attempts.SetItem(slotKey, attempt) }, [order]);
    }

    private static RunState Enter(RunState state, Phase phase, DateTimeOffset at)
    {
        if (state.Phases is [.., { To: null } last] && last.Phase == phase && last.Leg == state.Leg + 1)
            return state with { Phase = phase, Step = 0, Tries = 0, Patch = null };
        var phases = state.Phases is [.., { To: null } open]
            ? state.Phases.SetItem(state.Phases.Length - 1, open with { To = at })
            : state.Phases;
        return state with { Phase = phase, Step = 0, Tries = 0, Patch = null, Phases = phases.Add(new(state.Leg + 1, phase, at, null)) };
    }

    private static Stepped AskGate(RunState state, Moment moment, DateTimeOffset at)
    {
        if (moment == Moment.Start && at > state.Slot.LatestTurn)
            return MissSlot(state, at);
        var entered = moment == Moment.Verification ? state with { Tries = 0 } : Enter(state, Phase.Gate, at);
        return Ask(entered with { Moment = moment }, OrderKind.Gate, GateStep(moment), at, moment: moment);
    }

    private static string GateStep(Moment moment) =>
        moment switch
        {
            Moment.Planning => "gate-planning",
            Moment.Start => "gate-start",
            Moment.Protected => "gate-protected",
            _ => "gate-verify",
        };

    private static Stepped EnterSteps(RunState state, Phase phase, DateTimeOffset at, DateTimeOffset? notBefore = null) =>
        NextStep(Enter(state, phase, at), at, notBefore);

    /// <summary>Orders the step at <see cref="RunState.Step"/>, or goes on to what follows the phase.</summary>
    private static Stepped NextStep(RunState state, DateTimeOffset at, DateTimeOffset? notBefore = null)
    {
        if (CancelledBecause(state) is { } reason)
            return End(state, Outcome.Cancelled, reason, at);
        if (state.NextStep is { } step)
        {
            if (state.CanMissSlot && at > state.Slot.LatestTurn)
                return MissSlot(state, at);
            if (step.PointOfNoReturn)
                state = state with { Turned = true };
            // From the moment at which it is asked for, it may be suspended.
            if (step.ResumedBy is { } resumedBy)
                state = state with { Suspended = state.Suspended.Remove(resumedBy).Add(resumedBy) };

            if (step.Kind == StepKind.Patch)
                state = state with { Patch = new(PatchPart.Look, 0, at) };

            return Ask(state, OrderKind.Step, step.Name, at, notBefore > at ? notBefore : null);
        }

        return state.Phase switch
        {
            Phase.Stage => Wait(state, at),
            Phase.Protect => AskGate(state, Moment.Protected, at),
            Phase.Apply => EnterSteps(state, Phase.Verify, at),
            Phase.Verify => AskGate(state, Moment.Verification, at),
            Phase.RollBack => End(state, Outcome.RolledBack, state.Reason, at),
            Phase.Reclaim => Settle(state, at),
            Phase.Resume => state.AfterResume is { Outcome: { } outcome, Reason: var why }
                ? Close(state, outcome, why, at)
                : WaitForAnotherSlot(state, at),
            _ => throw new InvalidOperationException($"No steps follow {state.Phase}."),
        };
    }

    private static Stepped Wait(RunState state, DateTimeOffset at)
    {
        // The slot was for the first leg; every further one gets its own.
        var waiting = state.Leg > 0 ? state with { NeedsSlot = true } : state;
        return Ask(Enter(waiting, Phase.Wait, at), OrderKind.Slot, "slot", at, state.Slot.Start);
    }

    /// <summary>
    /// Too late for the point of no return: nothing is begun that would not fit into the window, and another slot is asked for; where too
    /// many were missed a person decides first.
    /// </summary>
    private static Stepped MissSlot(RunState state, DateTimeOffset at) =>
        state.Suspended.IsEmpty
            ? WaitForAnotherSlot(state, at)
            : EnterSteps(state with { AfterResume = new(null, null) }, Phase.Resume, at);

    private static Stepped WaitForAnotherSlot(RunState state, DateTimeOffset at)
    {
        var waiting = Wait(
            state with
            {
                NeedsSlot = at > state.Slot.LatestTurn,
                AfterResume = null,
                MissedSlots = state.MissedSlots + 1,
            },
            at
        );
        return waiting.State.MissedSlots > state.CatchUp
            ? Park(
                waiting.State,
                $"{TooManyMissed} (found: {waiting.State.MissedSlots} missed, {state.CatchUp} caught up); a retry takes the next window",
                at,
                TooManyMissed
            )
            : waiting;
    }

    private static Stepped OnSlotMoved(RunState state, SlotMoved e)
    {
        var moved = state with { Slot = e.Slot, NeedsSlot = false };
        // Whoever gives it a time has decided.
        if (state.ParkedAt?.Kind == OrderKind.Slot)
            return Ask(moved, OrderKind.Slot, "slot", e.At, e.Slot.Start);
        if (state.Outstanding?.Kind != OrderKind.Slot)
            return Same(moved);
        return Same(moved with { Outstanding = state.Outstanding with { NotBefore = e.Slot.Start } });
    }

    private static Stepped OnGate(RunState state, GateJudged e)
    {
        if (!IsOutstanding(state, e.Order))
            return Same(state);
        if (CancelledBecause(state) is { } reason)
            return End(state, Outcome.Cancelled, reason, e.At);
        if (e.State == GateState.Open)
        {
            return state.Moment switch
            {
                Moment.Planning => EnterSteps(state, Phase.Stage, e.At),
                Moment.Start => EnterSteps(state, Phase.Protect, e.At),
                Moment.Protected => EnterSteps(state, Phase.Apply, e.At),
                _ => Verify(state, e),
            };
        }

        var tries = state.Tries + 1;
        if (e.State == GateState.Undecided && tries < GateTries)
            return Ask(state with { Tries = tries }, OrderKind.Gate, GateStep(state.Moment), e.At, e.At + Pause, state.Moment);
        var gate = $"{What(state.Moment)} {(e.State == GateState.Blocked ? "blocked" : "undecided")}: ";
        return Park(
            state,
            gate + string.Join("; ", e.InTheWay.Select(n => $"{n.Title} (found: {n.Seen})")),
            e.At,
            gate + string.Join("; ", e.InTheWay.Select(n => n.Title))
        );
    }

    private static string What(Moment moment) => moment == Moment.Verification ? "the verification is" : "the gate is";

    private static Stepped Verify(RunState state, GateJudged e)
    {
        var known = state.FollowUps.Select(l => l.Name).ToHashSet(StringComparer.Ordinal);
        var verified = state with
        {
            FollowUps =
            [
                .. state.FollowUps,
                .. e
                    .Cautions.Where(c => !known.Contains(c.Check))
                    .Select(c => new FollowUp(c.Check, c.Title, c.Seen, c.Fix, e.At, null, null)
                    {
                        Script = c.Script,
                        Restarts = c.Restarts,
                    }),
            ],
        };
        if (state.Leg + 1 < state.Legs.Length)
            return AskGate(verified with { Leg = state.Leg + 1, Turned = false }, Moment.Planning, e.At);

        var settling = Enter(verified with { Verified = e.At }, Phase.Settle, e.At);
        return Ask(settling, OrderKind.Settle, "settle", e.At, e.At + state.CurrentLeg.RollbackLasts);
    }

    private static Stepped OnEnded(RunState state, OrderEnded e)
    {
        // An order that is overdue stays outstanding while its run is parked; when it ends after all, the run goes on.
        if (!IsOutstanding(state, e.Order) || state.Outstanding!.Kind != OrderKind.Step)
            return Same(state);
        var step = state.NextStep!;
        if (e.Result == OrderResult.Ok && state.Phase == Phase.Reclaim)
            state = state with { Reclaimed = ReclaimedSpace.Of(e.Note) is { } freed ? (state.Reclaimed ?? 0) + freed : state.Reclaimed };
        if (e.Result == OrderResult.Ok && state.Patch is null or { Part: PatchPart.Look })
            return AfterStep(state, e.At);
        if (CancelledBecause(state) is { } reason)
            return End(state, Outcome.Cancelled, reason, e.At);
        if (e.Result == OrderResult.TooLate)
            return MissSlot(state with { Tries = 0 }, e.At);
        if (state.Patch is { } patch && e.Result is OrderResult.Ok or OrderResult.NotYet)
            return GoOnPatching(state, step, patch, e);

        return RetryOrPark(state, step, Tell(e), e.At);
    }

    /// <summary>
    /// Asks for what comes next in a step that patches: the script after a reading by which something is left, the restart after the
    /// script, and then the next reading.
    /// </summary>
    private static Stepped GoOnPatching(RunState state, StepSpec step, PatchState patch, OrderEnded e)
    {
        if (state.CanMissSlot && e.At > state.Slot.LatestTurn)
            return MissSlot(state with { Tries = 0 }, e.At);
        if (patch.Part == PatchPart.Look && patch.Round >= step.Rounds)
        {
            var why = $"{step.Title}: something is left after {Count(patch.Round, "round")}";
            // A retry begins with the first round again.
            return Park(state with { Patch = new(PatchPart.Look, 0, e.At) }, $"{why} (found: {e.Note})", e.At, why);
        }

        var next = patch.Part switch
        {
            PatchPart.Look => patch with { Part = PatchPart.Script, Round = patch.Round + 1 },
            PatchPart.Script when step.Restarts => patch with { Part = PatchPart.Restart },
            _ => patch with { Part = PatchPart.Look },
        };
        return Ask(state with { Tries = 0, Patch = next }, OrderKind.Step, step.Name, e.At);
    }

    private static string Count(int count, string what) => $"{count} {what}{(count == 1 ? "" : "s")}";

    /// <summary>Goes on after a step that is done.</summary>
    private static Stepped AfterStep(RunState state, DateTimeOffset at) =>
        NextStep(
            Unpark(state) with
            {
                Step = state.Step + 1,
                Tries = 0,
                Patch = null,
                Suspended = state.Suspended.Remove(state.NextStep!.Name),
            },
            at
        );

    /// <summary>Tries a step again, or parks the run where it was tried as often as its method says.</summary>
    private static Stepped RetryOrPark(RunState state, StepSpec step, string why, DateTimeOffset at)
    {
        var tries = state.Tries + 1;
        // A reading costs nothing, and the machine may just be starting.
        var most = state.Patch is { Part: PatchPart.Look } ? Math.Max(step.Attempts, GateTries) : step.Attempts;
        return tries < most ? Ask(state with { Tries = tries }, OrderKind.Step, step.Name, at, at + Pause)
            : state.Phase == Phase.Reclaim ? LeaveForPerson(state, step, why, at)
            : Park(state, $"{step.Title}: {why}", at, $"{step.Title}: {why}");
    }

    /// <summary>
    /// Goes on from the end of the rollback period: what was kept for the rollback is deleted, once; then the run is done as soon as
    /// nothing is left to do.
    /// </summary>
    private static Stepped Settle(RunState state, DateTimeOffset at)
    {
        if (!state.RollbackOver && !state.CurrentLeg.ReclaimSteps.IsEmpty)
            return EnterSteps(state with { RollbackOver = true }, Phase.Reclaim, at);
        return state.HasOpenFollowUps
            ? Ask(Enter(state, Phase.Settle, at), OrderKind.Settle, "settle", at)
            : Close(state with { RollbackOver = true }, Outcome.Done, null, at);
    }

    /// <summary>The upgrade is verified: a step that cannot free its space keeps nobody waiting, and becomes a follow-up.</summary>
    private static Stepped LeaveForPerson(RunState state, StepSpec step, string why, DateTimeOffset at) =>
        AfterStep(state with { FollowUps = state.FollowUps.Add(Undone(step, why, at)) }, at);

    /// <summary>What a person has to do in place of a step.</summary>
    private static FollowUp Undone(StepSpec step, string seen, DateTimeOffset at) =>
        new(step.Name, step.Title, seen, "Do it on the machine, then close this follow-up.", at, null, null);

    private static Stepped OnCategorised(RunState state, RollbackCategorised e) =>
        state.Outcome == Outcome.RolledBack || state.Phase == Phase.RollBack
            ? Same(state with { RollbackCategory = e.Category })
            : throw RefusedException.Conflict(
                "not-rolled-back",
                $"Run r{state.Run} was not rolled back, so there is no reason to categorise."
            );

    private static Stepped OnCompared(RunState state, Compared e)
    {
        if (!IsOutstanding(state, e.Order) || state.NextStep is not { Kind: StepKind.Compare } step)
            return Same(state);
        if (CancelledBecause(state) is { } reason)
            return End(state, Outcome.Cancelled, reason, e.At);
        var failing = e.Differences.Where(d => d.Result == DifferenceResult.Fail).ToImmutableArray();
        var prefix = ComparedPrefix(state);
        // A comparison that is made again replaces what an earlier one found.
        var others = state.FollowUps.RemoveAll(f => f.Closed is null && f.Name.StartsWith(prefix, StringComparison.Ordinal));
        var differing = AddFollowUps(state with { FollowUps = others }, prefix, e.Differences.Except(failing), e.At);
        return failing.IsEmpty
            ? AfterStep(differing, e.At)
            // It may be there the next time, as a service that takes its time to start.
            : RetryOrPark(differing with { Unaccepted = failing }, step, Listed(failing), e.At);
    }

    /// <summary>How the names of follow-ups begin that a comparison makes; a step's name has no dot.</summary>
    private static string ComparedPrefix(RunState state) => $"{state.NextStep!.Name}.{state.Leg + 1}.";

    /// <summary>Adds a follow-up for each kind and way in which things differ.</summary>
    private static RunState AddFollowUps(RunState state, string prefix, IEnumerable<Difference> differences, DateTimeOffset at) =>
        state with
        {
            FollowUps =
            [
                .. state.FollowUps,
                .. differences
                    .GroupBy(d => (d.Kind, d.Change))
                    .Select(g => new FollowUp(
                        $"{prefix}{g.Key.Kind}-{Name(g.Key.Change)}",
                        $"{g.Count()} {g.Key.Kind}{(g.Count() == 1 ? " is" : "s are")} {Name(g.Key.Change)} since the upgrade",
                        Listed([.. g]),
                        "Look whether it is needed, and put it back or leave it.",
                        at,
                        null,
                        null
                    )),
            ],
        };

    /// <summary>Differences in words: <c>device label-printer is missing (was 4.1)</c>.</summary>
    private static string Listed(ImmutableArray<Difference> differences)
    {
        const int most = 5;
        var named = differences
            .Take(most)
            .Select(d =>
                $"{d.Kind} {d.Name} is {Name(d.Change)}"
                + d.Change switch
                {
                    Change.Missing when d.Before!.Length > 0 => $" (was {d.Before})",
                    Change.Changed => $" (was {d.Before}, is {d.After})",
                    _ => "",
                }
            );
        return string.Join("; ", named) + (differences.Length > most ? $"; and {differences.Length - most} more" : "");
    }

    private static string Tell(OrderEnded e)
    {
        var last = e.Note.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).LastOrDefault();
        var how = e.Result switch
        {
            OrderResult.Gone => "it is gone without a result",
            OrderResult.Refused => "it was refused",
            OrderResult.NotPossible => $"{e.Actor} says that it is not possible",
            _ => e.Exit is { } exit ? $"exit status {exit}" : "it failed",
        };
        return last is null ? how : $"{how}, {last}";
    }

    private static Stepped OnOverdue(RunState state, OrderOverdue e) =>
        !IsOutstanding(state, e.Order) ? Same(state)
        : state is { Phase: Phase.Reclaim, NextStep: { } step } ? LeaveForPerson(state, step, e.Note, e.At)
        : Park(state, e.Note, e.At, e.Note, keepAsking: true);

    /// <summary>Parks a run at its outstanding order. Where that is still running, it is still watched.</summary>
    /// <param name="state">The run.</param>
    /// <param name="why">Why, with what was found on this machine.</param>
    /// <param name="at">When, UTC.</param>
    /// <param name="cause">Why, in the words that runs parked for the same reason have in common.</param>
    /// <param name="keepAsking">Whether the outstanding order is still watched.</param>
    private static Stepped Park(RunState state, string why, DateTimeOffset at, string cause, bool keepAsking = false)
    {
        var parked = state with { Parked = why, ParkedCause = cause, ParkedAt = state.Outstanding };
        if (keepAsking)
            return Same(parked);
        var decide = new Order(new(state.Run, state.Leg + 1, "decide", state.Events + 1), OrderKind.Decide, at, at);
        return new(parked with { Outstanding = decide }, [decide]);
    }

    /// <summary>The state in which nobody is waited for any more.</summary>
    private static RunState Unpark(RunState state) => state with { Parked = null, ParkedCause = null, ParkedAt = null, Unaccepted = [] };

    /// <summary>The decisions that can be taken in a state.</summary>
    public static ImmutableArray<Decision> Possible(RunState state)
    {
        if (state.Closed is not null)
            return [];
        var possible = ImmutableArray.CreateBuilder<Decision>();
        var stillRunning = state.Parked is not null && state.Outstanding?.Kind != OrderKind.Decide;
        if (state.Parked is not null)
            possible.Add(stillRunning ? Decision.Wait : Decision.Retry);
        if (!state.Unaccepted.IsEmpty)
            possible.Add(Decision.Accept);
        if (state.Phase == Phase.Resume)
        {
            possible.Add(Decision.GiveUp);
            return possible.ToImmutable();
        }

        if (!state.Turned)
            possible.Add(Decision.Cancel);
        if (CanRollBack(state) && !stillRunning)
            possible.Add(Decision.RollBack);
        if (state.Parked is not null && state.Turned)
            possible.Add(Decision.GiveUp);
        return possible.ToImmutable();
    }

    private static bool CanRollBack(RunState state) =>
        state is { Turned: true, RollbackOver: false }
        && !state.CurrentLeg.RollbackSteps.IsEmpty
        && state.Phase != Phase.RollBack
        && (state.Parked is not null || state.Phase == Phase.Settle);

    private static Stepped OnDecided(RunState state, Decided e)
    {
        var possible = Possible(state);
        if (!possible.Contains(e.Decision))
        {
            throw RefusedException.Conflict(
                "decision",
                state.Closed is not null
                    ? $"Run r{state.Run} is closed; nothing can be decided about it."
                    : $"Run r{state.Run} cannot '{Name(e.Decision)}' in phase '{Name(state.Phase)}'; possible now: "
                        + $"{string.Join(", ", possible.Select(p => Name(p)).DefaultIfEmpty("nothing"))}."
            );
        }

        switch (e.Decision)
        {
            case Decision.Wait:
                return Same(Unpark(state) with { Outstanding = state.Outstanding! with { At = e.At } });
            case Decision.Accept:
                return AfterStep(AddFollowUps(state, $"{ComparedPrefix(state)}accepted-", state.Unaccepted, e.At), e.At);
            case Decision.Retry:
                var at = state.ParkedAt!;
                return Ask(state with { Tries = 0 }, at.Kind, at.Name.Step, e.At, moment: at.Moment);
            case Decision.RollBack:
                return EnterSteps(
                    Unpark(state) with
                    {
                        StoppedAt = StoppedStep(state),
                        Reason = e.Reason,
                        Verified = null,
                    },
                    Phase.RollBack,
                    e.At,
                    e.NotBefore
                );
            case Decision.GiveUp:
                return Fail(state, e);
            default:
                // What is running on the machine is let end first; all else stops at once.
                var busy = state.Outstanding?.Kind is OrderKind.Step or OrderKind.Gate && state.WaitingStep is null;
                return busy ? Same(state with { Cancel = e.Reason }) : End(state, Outcome.Cancelled, e.Reason, e.At);
        }
    }

    /// <summary>
    /// Closes a run as failed at once. The machine may never answer again, so what is suspended on it is left to a person.
    /// </summary>
    private static Stepped Fail(RunState state, Decided e)
    {
        var left = state
            .Suspended.Select(name => state.CurrentLeg.Steps.First(s => s.Name == name))
            .Select(step => Undone(step, "not done: the run was marked as failed", e.At));
        return Close(
            state with
            {
                FollowUps = [.. state.FollowUps, .. left],
            },
            Outcome.Failed,
            state.Parked is null ? e.Reason : $"{e.Reason} ({state.Parked})",
            e.At
        );
    }

    /// <summary>Why a run is to end as cancelled now that what was running has ended; null where it is not, or is ending already.</summary>
    private static string? CancelledBecause(RunState state) => state is { Turned: false, Phase: not Phase.Resume } ? state.Cancel : null;

    /// <summary>Ends a run, once what it has suspended is resumed.</summary>
    private static Stepped End(RunState state, Outcome outcome, string? reason, DateTimeOffset at) =>
        state.Suspended.IsEmpty
            ? Close(state, outcome, reason, at)
            : EnterSteps(Unpark(state) with { StoppedAt = StoppedStep(state), AfterResume = new(outcome, reason) }, Phase.Resume, at);

    private static string? StoppedStep(RunState state) =>
        state.StoppedAt ?? (state.CurrentStep is { } step ? $"{state.Leg + 1}/{step.Name}" : null);

    private static Stepped OnRollbackExtended(RunState state, RollbackExtended e)
    {
        if (state.RollbackUntil is not { } until)
            throw RefusedException.Conflict("no-rollback", $"Run r{state.Run} is not in a rollback period, so there is none to extend.");
        if (state.RollbackUntilAtMost is not { } most)
            throw RefusedException.Conflict(
                "rollback-not-extendable",
                $"The rollback of run r{state.Run} ends {Moment(until)}, and its method does not keep it for longer."
            );
        return e.Until > until && e.Until <= most
            ? Same(state with { Outstanding = state.Outstanding! with { NotBefore = e.Until } })
            : throw RefusedException.Conflict(
                "rollback-until",
                $"The rollback of run r{state.Run} ends {Moment(until)} and can be kept until {Moment(most)}, not until {Moment(e.Until)}."
            );

        static string Moment(DateTimeOffset time) => $"{time.UtcDateTime:yyyy-MM-dd HH:mm} UTC";
    }

    /// <summary>Changes a follow-up that is open.</summary>
    private static Stepped OnFollowUpAdded(RunState state, FollowUpAdded added) =>
        Same(
            state with
            {
                FollowUps = state.FollowUps.Add(
                    new(added.FollowUp, added.Title, "", added.Fix, added.At, null, null)
                    {
                        AddedBy = added.Actor,
                        Owner = added.Owner,
                        Due = added.Due,
                    }
                ),
            }
        );

    /// <summary>A follow-up whose script was sent. The script may have ended before that was noted.</summary>
    private static FollowUp WithScript(FollowUp followUp, FollowUpScriptBegun begun) =>
        followUp.Tried?.Fix == begun.Fix ? followUp : followUp with { Tried = new(begun.Fix, begun.NotBefore ?? begun.At, null, "") };

    private static FollowUp AfterScript(FollowUp followUp, FollowUpScriptEnded ended)
    {
        var tried = followUp with { Tried = new(ended.Fix, followUp.Tried?.Begins ?? ended.At, ended.At, ended.Said) };
        return ended.IsMet ? Closed(tried, ended, $"{followUp.Script} ({ended.Fix}): {ended.Said}") : tried;
    }

    private static FollowUp Closed(FollowUp followUp, RunEvent e, string because) =>
        followUp with
        {
            Closed = e.At,
            By = e.Actor,
            Because = because,
        };

    private static Stepped OnFollowUp(RunState state, string name, Func<FollowUp, FollowUp> change) =>
        Same(state with { FollowUps = [.. state.FollowUps.Select(f => f.Name == name && f.Closed is null ? change(f) : f)] });

    private static Stepped Close(RunState state, Outcome outcome, string? reason, DateTimeOffset at)
    {
        var stopped = outcome == Outcome.Done ? null : StoppedStep(state);
        var closed = Enter(Unpark(state), Phase.Closed, at);
        return new(
            closed with
            {
                Outstanding = null,
                StoppedAt = stopped,
                AfterResume = null,
                Closed = at,
                Outcome = outcome,
                Reason = reason,
            },
            []
        );
    }

    /// <summary>A word of the run's as it is written: <c>wait</c>.</summary>
    public static string Name<T>(T word)
        where T : struct, Enum => System.Text.Json.JsonNamingPolicy.KebabCaseLower.ConvertName(word.ToString());
}
