using System.Text.Json;
using GrandStair.Contracts;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>Runs as people see them.</summary>
internal static class RunViews
{
    private static readonly JsonSerializerOptions Indented = new(RunEvent.Json) { WriteIndented = true };

    // That a step of a minute took three is not worth reporting.
    private const double LeastOver = 600;

    public static RunRow Row(StoredRun stored, Machine machine, StepLengths lengths, DateTimeOffset now)
    {
        var run = stored.State;
        var step = run.Outstanding?.Kind == OrderKind.Step ? run.CurrentStep : null;
        var since = step is not null ? run.Patch?.Began ?? run.Outstanding!.At : run.Phases[^1].From;
        var elapsed = Math.Max(0, ((run.Closed ?? now) - since).TotalSeconds);
        // How long people take to answer says nothing about the machine.
        UsualLength? usual = step is { IsWaiting: false } ? lengths.Of(run, step, machine) : null;
        var progress = stored.Progress is { } p && p.Order == run.Outstanding?.Name.ToString() ? p : null;
        return new(
            $"r{run.Run}",
            machine.Name,
            machine.Site,
            run.Plan,
            run.Wave,
            run.CurrentLeg.Method,
            RunMachine.Name(Statuses.Of(false, default, true, run)),
            RunMachine.Name(run.Phase),
            PhaseNumber(run),
            stored.WaitsFor is { } limit ? WaitingFor(limit)
                : step is null ? Waiting(run)
                : run.Patch is { } patch ? $"{step.Title}: {Part(patch, step.Rounds)}"
                : step.Title,
            // Of a script that runs in rounds, the share says nothing about the step.
            run.Patch
                is null
                ? progress?.Share
                : null,
            progress?.Note,
            elapsed,
            Left(run, step, s => lengths.Of(run, s, machine).Middle.TotalSeconds, elapsed),
            usual is { } u && elapsed > u.Longest.TotalSeconds && elapsed - u.Middle.TotalSeconds > LeastOver
                ? elapsed - u.Middle.TotalSeconds
                : null,
            run.Slot.Start,
            run.Parked,
            run.Outcome is { } outcome ? RunMachine.Name(outcome) : null,
            run.Reason,
            run.Verified,
            run.Closed,
            run.FollowUps.Count(l => l.Closed is null),
            step is not null && run.Outstanding!.NotBefore > now && run.Phase == Phase.RollBack ? run.Outstanding.NotBefore : null,
            progress?.LostContact is { Looks: >= LostContact.ShownFrom } lost
                ? new(lost.Since, Math.Max(0, (now - lost.Since).TotalSeconds), lost.Why)
                : null
        )
        {
            Usual = usual is { } known ? new(known.Middle.TotalSeconds, known.Longest.TotalSeconds, known.Measured) : null,
            Suspended = run.SuspendedThings,
            Asked = run.AskedOfPerson is { } task
                ? new(run.WaitingStep!.Name, task.Words, task.Who, run.Outstanding!.At, NeededBy(run))
                : null,
        };
    }

    public static RunView View(
        StoredRun stored,
        IReadOnlyList<StoredEvent> events,
        Machine machine,
        StepLengths lengths,
        Machine? successor,
        DateTimeOffset? rollbackBegins,
        DateTimeOffset now
    )
    {
        var run = stored.State;
        return new(
            Row(stored, machine, lengths, now),
            run.CurrentLeg.Hop,
            stored.Epoch,
            run.MissedSlots,
            run.Turned,
            [.. run.Phases.Select(p => new PhaseView(RunMachine.Name(p.Phase), p.From, p.To))],
            [.. Steps(run, successor, s => lengths.Of(run, s, machine).Middle.TotalSeconds)],
            [.. run.FollowUps.Select(f => View(f, now))],
            [.. RunMachine.Possible(run).Select(d => RunMachine.Name(d))],
            rollbackBegins,
            [
                .. events.Select(e => new EventView(
                    e.Number,
                    e.Event.At,
                    e.Event.Type,
                    e.Event.Actor,
                    Tell(e.Event, run),
                    JsonSerializer.Serialize(e.Event, Indented)
                )),
            ]
        )
        {
            Successor = successor?.Name,
            RollbackUntil = run.RollbackUntil,
            RollbackUntilAtMost = run.RollbackUntilAtMost,
            ReclaimedBytes = run.Reclaimed,
            RollbackCategory = run.RollbackCategory,
            Comparisons =
            [
                .. events
                    .Select(e => e.Event)
                    .OfType<Compared>()
                    .GroupBy(c => (c.Order.Leg, c.Order.Step))
                    .Select(g => Differences(g.Last(), run)),
            ],
        };
    }

    public static FollowUpView View(FollowUp f, DateTimeOffset now) =>
        new(f.Name, f.Title, f.Seen, f.Fix, f.Opened, f.Closed, f.By)
        {
            AddedBy = f.AddedBy,
            Owner = f.Owner,
            Due = f.Due,
            Overdue = f.IsOverdue(now),
            Because = f.Because,
            Script = f.Script is { } script
                ? new(script, f.Restarts, f.Tried?.Fix, f.Tried?.Begins, f.Tried?.Ended, f.Tried?.Said ?? "")
                : null,
        };

    private static DifferencesView Differences(Compared compared, RunState run) =>
        new(
            compared.Order.Step,
            Title(run, compared.Order),
            compared.At,
            compared.CountOf(DifferenceResult.Fail),
            compared.CountOf(DifferenceResult.FollowUp),
            compared.CountOf(DifferenceResult.Ignore),
            [
                .. compared.Differences.Select(d => new DifferenceView(
                    d.Kind,
                    d.Name,
                    RunMachine.Name(d.Change),
                    d.Before,
                    d.After,
                    RunMachine.Name(d.Result)
                )),
            ]
        );

    /// <summary>By when what a run waits for is needed: what is asked while it is staged, by the time at which its slot starts.</summary>
    private static DateTimeOffset NeededBy(RunState run)
    {
        var until = run.WaitsUntil!.Value;
        return run.Phase == Phase.Stage && run.Slot.Start < until ? run.Slot.Start : until;
    }

    /// <summary>
    /// How far a run is: gate 1, stage 2, wait 3, protect 4, apply 5, verify 6, settle 7, closed 8; a gate in the window counts as
    /// protecting. One that stopped stays at the phase that it had reached.
    /// </summary>
    private static int PhaseNumber(RunState run) =>
        run.Phase switch
        {
            Phase.Gate => run.Moment switch
            {
                Moment.Planning => 1,
                Moment.Verification => 6,
                _ => 4,
            },
            Phase.Resume => Reached(run),
            Phase.Closed when run.Outcome != Outcome.Done => Reached(run),
            var phase => NumberOf(phase),
        };

    private static int Reached(RunState run) =>
        run.Phases.Where(p => p.Leg == run.Leg + 1 && p.Phase is not (Phase.Resume or Phase.Closed)).Max(p => NumberOf(p.Phase));

    private static int NumberOf(Phase phase) =>
        phase switch
        {
            Phase.Gate => 1,
            Phase.Stage => 2,
            Phase.Wait => 3,
            Phase.Protect => 4,
            Phase.Apply => 5,
            Phase.Verify or Phase.RollBack => 6,
            Phase.Settle or Phase.Reclaim => 7,
            _ => 8,
        };

    private static string? Waiting(RunState run) =>
        run.Outstanding?.Kind switch
        {
            OrderKind.Gate => run.Moment switch
            {
                Moment.Planning => "asking the gate",
                Moment.Start => "reading it and asking the gate at the start",
                Moment.Protected => "asking the gate again before it is applied",
                _ => "reading it for the verification",
            },
            OrderKind.Slot => run.NeedsSlot ? "waiting for another slot" : "waiting for its slot",
            OrderKind.Settle => run.HasOpenFollowUps ? "follow-ups to close" : "rollback period",
            OrderKind.Decide => "waiting for a decision",
            _ => null,
        };

    private static string WaitingFor(string limit) =>
        limit.Split(':', 2) switch
        {
            ["site", var site] => $"waiting: the limit of {site} is reached",
            ["cluster", var cluster] => $"waiting: another machine of {cluster} is being upgraded",
            ["crew", var crew] => $"waiting: {crew} has its hands full",
            ["machine", var before] => $"waiting: it depends on {before}, which is not verified yet",
            ["uplink", var site] => $"waiting: another machine stages over the uplink of {site}",
            _ => "waiting: the plan's limit is reached",
        };

    private static double? Left(RunState run, StepSpec? step, Func<StepSpec, double> usual, double elapsed)
    {
        if (
            run.Parked is not null
            || run.Verified is not null
            || run.Closed is not null
            || run.Phase is Phase.Wait or Phase.RollBack or Phase.Resume or Phase.Reclaim
        )
            return null;
        var steps = run.CurrentLeg.Steps;
        var from = step is not null
            ? steps.IndexOf(step)
            : run.Phase switch
            {
                Phase.Gate when run.Moment == Moment.Planning => 0,
                Phase.Gate when run.Moment == Moment.Start => FirstOf(steps, Phase.Protect),
                Phase.Gate => FirstOf(steps, Phase.Apply),
                _ => steps.Length,
            };
        return Math.Max(0, steps.Skip(from).Sum(usual) - (step is null ? 0 : Math.Min(elapsed, usual(step))));
    }

    private static int FirstOf(IReadOnlyList<StepSpec> steps, Phase phase) =>
        steps.Select((s, i) => (s, i)).Where(x => x.s.Phase >= phase).Select(x => x.i).DefaultIfEmpty(steps.Count).First();

    private static IEnumerable<StepView> Steps(RunState run, Machine? successor, Func<StepSpec, double> usual)
    {
        var leg = run.Leg + 1;
        // After a missed slot what is protected and applied is done again.
        var setBack = run.MissedSlots > 0 && (run.Phase == Phase.Wait || run is { Phase: Phase.Gate, Moment: Moment.Start });
        var current = run.CurrentStep;
        var rolledBack = run.Phases.Any(p => p.Leg == leg && p.Phase == Phase.RollBack);
        var after =
            rolledBack ? run.CurrentLeg.RollbackSteps
            : run.RollbackOver ? run.CurrentLeg.ReclaimSteps
            : [];
        foreach (var step in run.CurrentLeg.Steps.Concat(after))
        {
            var attempts = run.Attempts.GetValueOrDefault($"{leg}/{step.Name}");
            // A step is over once the run asked for something after it.
            var state =
                attempts == 0 || (setBack && step.Phase >= Phase.Protect) ? (run.Closed is null && !rolledBack ? "to-come" : "not-done")
                : current?.Name == step.Name ? (run.Parked is not null ? "failed" : "running")
                : run.StoppedAt == $"{leg}/{step.Name}" ? "failed"
                : "done";
            yield return new(
                step.Name,
                step.Title,
                RunMachine.Name(step.Phase),
                state,
                // Rounds are no new attempts.
                step.Kind == StepKind.Patch
                    ? Math.Min(1, attempts)
                    : attempts,
                step.PointOfNoReturn,
                usual(step)
            )
            {
                Machine = step.OnSuccessor ? successor?.Name : null,
            };
        }
    }

    /// <summary>An event in a sentence.</summary>
    public static string Tell(RunEvent e, RunState run) =>
        e switch
        {
            RunOpened x => $"Opened for {x.Legs[0].Hop} by {x.Legs[0].Method}; slot {x.Slot.Start:ddd d MMM HH:mm} UTC",
            GateJudged { Order.Step: "gate-verify" } x => x.State == Core.Gates.GateState.Open
                ? Cautions("Verified", x)
                : $"Not verified: {Names(x.InTheWay)}",
            GateJudged x => x.State == Core.Gates.GateState.Open
                ? Cautions("Gate open", x)
                : $"Gate {RunMachine.Name(x.State)}: {Names(x.InTheWay)}",
            OrderEnded { Patch: { } patch } x =>
                $"{Title(run, x.Order)}, {Part(patch, StepOf(run, x.Order)?.Rounds ?? patch.Round)}: {Result(run, x)}",
            OrderEnded x => $"{Title(run, x.Order)}: {Result(run, x)}{(x.Order.Attempt > 1 ? $" (attempt {x.Order.Attempt})" : "")}",
            OrderOverdue x => x.Note,
            Compared x => $"{Title(run, x.Order)}: {Counts(x)}{(x.Order.Attempt > 1 ? $" (attempt {x.Order.Attempt})" : "")}",
            SlotOpened => "Slot started, within all limits",
            SlotMoved x => $"New slot {x.Slot.Start:ddd d MMM HH:mm} UTC: {x.Reason}",
            Decided x => $"Decided to "
                + $"{RunMachine.Name(x.Decision).Replace('-', ' ')}"
                + $"{(x.NotBefore is { } begins ? $" from {begins:ddd d MMM HH:mm} UTC on" : "")}: {x.Reason}",
            RollbackExtended x => $"Rollback period extended until {x.Until:ddd d MMM HH:mm} UTC: {x.Reason}",
            FollowUpAdded x => $"Follow-up added: {x.Title}{For(x.Owner, x.Due)}",
            FollowUpAssigned x => $"Follow-up assigned: {TitleOf(run, x.FollowUp)}{For(x.Owner ?? "nobody", x.Due)}",
            FollowUpClosed x => $"Follow-up closed: {TitleOf(run, x.FollowUp)} ({x.Reason})",
            FollowUpScriptBegun x => $"Script of a follow-up sent as {x.Fix}: {TitleOf(run, x.FollowUp)}"
                + (x.NotBefore is { } begins ? $", from {begins:yyyy-MM-dd HH:mm} UTC on" : ""),
            FollowUpScriptEnded x => $"{(x.IsMet ? "Follow-up closed by its script" : "Script of a follow-up ended")}: "
                + $"{TitleOf(run, x.FollowUp)} ({x.Fix}: {x.Said})",
            RollbackCategorised x => $"Rolled back because of: {x.Category}",
            Settled => "Rollback period expired",
            _ => e.Type,
        };

    /// <summary>What a step that patches does, in words: <c>round 2 of 5, restart</c>.</summary>
    private static string Part(PatchState patch, int rounds) =>
        (patch.Round == 0 ? "before the first round" : $"round {patch.Round} of {rounds}")
        + patch.Part switch
        {
            PatchPart.Script => ", script",
            PatchPart.Restart => ", restart",
            _ => ", read",
        };

    private static string TitleOf(RunState run, string followUp) =>
        run.FollowUps.FirstOrDefault(f => f.Name == followUp)?.Title ?? followUp;

    private static string For(string? owner, DateOnly? due) =>
        (owner is null ? "" : $", for {owner}") + (due is { } day ? $", due {day:d MMM yyyy}" : "");

    private static string Counts(Compared x) =>
        x.Counts.IsEmpty
            ? "nothing differs"
            : string.Join(
                ", ",
                x.Counts.OrderByDescending(c => c.Key)
                    .Select(c =>
                        $"{c.Value} "
                        + c.Key switch
                        {
                            DifferenceResult.Fail => "to decide about",
                            DifferenceResult.FollowUp => "to follow up",
                            _ => "expected",
                        }
                    )
            );

    private static string Cautions(string said, GateJudged x) =>
        x.Cautions.IsEmpty ? said : $"{said}, with {x.Cautions.Length} to look at: {Names(x.Cautions)}";

    private static string Names(IEnumerable<Noted> notes) => string.Join("; ", notes.Select(n => $"{n.Title} (found: {n.Seen})"));

    private static string Result(RunState run, OrderEnded ended) =>
        ended.Result switch
        {
            OrderResult.NotYet => $"something is left{Noted(ended)}",
            OrderResult.Ok => HasResultAsNote(run, ended) ? $"done{Noted(ended)}" : "done",
            OrderResult.Gone => "gone without a result",
            OrderResult.Refused => "refused",
            OrderResult.NotPossible => $"not possible{Noted(ended)}",
            OrderResult.TooLate => $"did not come before the slot's latest start{Noted(ended)}",
            _ => HasResultAsNote(run, ended) ? $"failed{Noted(ended)}" : $"failed with status {ended.Exit}",
        };

    /// <summary>
    /// Whether a note is one line that says what came of a step. What was read or answered has no exit status; the last lines of a
    /// catalogue's script may say anything.
    /// </summary>
    private static bool HasResultAsNote(RunState run, OrderEnded ended) =>
        ended.Exit is null
        || StepOf(run, ended.Order)?.Kind is StepKind.FetchMedia or StepKind.CleanUp or StepKind.SaveFiles or StepKind.RestoreFiles;

    private static string Noted(OrderEnded ended) => ended.Note.Length > 0 ? $" ({ended.Note})" : "";

    /// <summary>What an order does, for people.</summary>
    public static string Title(RunState run, OrderName order) => StepOf(run, order)?.Title ?? order.Step;

    /// <summary>An order's step, in the leg that the order is of.</summary>
    private static StepSpec? StepOf(RunState run, OrderName order)
    {
        var leg = run.Legs[order.Leg - 1];
        return leg.AllSteps.FirstOrDefault(s => s.Name == order.Step);
    }
}
