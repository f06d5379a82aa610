using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Plans;

/// <summary>The effect of giving a machine a time.</summary>
/// <param name="Trial">Its slot, or what is in the way.</param>
/// <param name="Moved">The slots of others that are scheduled otherwise then; none of those that somebody has been told already.</param>
/// <param name="EndBefore">When the last slot of those still to be given would end without it, UTC; null without any.</param>
/// <param name="End">When it would end with it.</param>
/// <param name="MeetsDeadline">Whether that is in time.</param>
public sealed record Rescheduling(
    SlotTrial Trial,
    ImmutableArray<(Machine Machine, Slot Before, Slot? After)> Moved,
    DateTimeOffset? EndBefore,
    DateTimeOffset? End,
    bool MeetsDeadline
);

/// <summary>Reschedules machines to chosen times, and finds free times.</summary>
public sealed class SlotCommands(
    PlanWriter writer,
    PlanTable plans,
    RunLog runs,
    FleetCache fleet,
    PlanFactsReader facts,
    TimeProvider clock
)
{
    /// <summary>How many times are offered at most.</summary>
    public const int MostTimes = 100;

    /// <summary>The free times of a machine, in order.</summary>
    /// <param name="stored">The plan.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="from">The earliest begin, UTC.</param>
    /// <param name="to">The latest begin, UTC.</param>
    /// <param name="apart">How far apart times are.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">It is not in the plan, or can have no other time now.</exception>
    public async Task<ImmutableArray<Slot>> TimesAsync(
        PlanRecord stored,
        Machine machine,
        DateTimeOffset from,
        DateTimeOffset to,
        TimeSpan apart,
        CancellationToken stop
    )
    {
        var asked = await AskedAsync(stored, machine, stop);
        return SlotTrial.Times(asked.Case, from > asked.Case.From ? from : asked.Case.From, to, apart, MostTimes);
    }

    /// <summary>What would come of it if a machine were given a time; nothing is kept.</summary>
    /// <exception cref="RefusedException">As <see cref="TimesAsync"/>.</exception>
    public async Task<Rescheduling> TryAsync(PlanRecord stored, Machine machine, DateTimeOffset start, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var asked = await AskedAsync(stored, machine, stop);
        var trial = SlotTrial.At(asked.Case, start);
        var draft = asked.Draft;
        var before = draft.PlanSchedule;
        if (trial.Slot is not { } slot)
            return new(trial, [], before.End, before.End, draft.MeetsDeadline);
        // All others keep what is scheduled for them, unless it is in the way.
        var tentative = before.All.ToDictionary(p => p.Machine, p => p.Slot);
        var requests = draft
            .Requests.Select(w =>
                (IReadOnlyList<SlotRequest>)[.. w.Where(r => r.Machine != machine.Id).Select(r => r with { Stands = tentative[r.Machine] })]
            )
            .ToArray();
        var after = PlanSchedule.Of(
            draft.Plan,
            draft.Calendars,
            requests,
            [.. draft.Taken.Where(t => t.Of.Machine != machine.Id), new(asked.Case.Requests[0], slot)],
            draft.Begun,
            before.Waves[0].From,
            thorough: false
        );
        var end = after.End > slot.End ? after.End : slot.End;
        var machines = await fleet.AllAsync(stop);
        return new(
            trial,
            [
                .. after
                    .All.Where(p => tentative[p.Machine] is { } was && was.Start != p.Slot?.Start)
                    .Select(p => (Machine: machines[p.Machine], Before: tentative[p.Machine]!, After: p.Slot))
                    .OrderBy(m => m.Before.Start)
                    .ThenBy(m => m.Machine.Name, StringComparer.OrdinalIgnoreCase),
            ],
            before.End,
            end,
            PlanSchedule.IsInTime(draft.Plan, end)
        );
    }

    /// <summary>Gives a machine a time, which it keeps as long as nothing prevents it.</summary>
    /// <exception cref="RefusedException">As <see cref="TimesAsync"/>, or something is in the way of that time.</exception>
    public async Task<Slot> RescheduleAsync(
        PlanRecord stored,
        Machine machine,
        DateTimeOffset start,
        string reason,
        Actor actor,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(stored);
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(actor);
        // Two who choose at once do not get the same time, whichever services they ask.
        await using var turn = await plans.TurnToChooseAsync(stop);
        var asked = await AskedAsync(stored, machine, stop);
        var trial = SlotTrial.At(asked.Case, start);
        if (trial.Slot is not { } slot)
            throw RefusedException.Conflict(
                "time-taken",
                $"{machine.Name} cannot begin at {start.UtcDateTime:yyyy-MM-dd HH:mm} UTC: {string.Join("; ", trial.InTheWay)}. "
                    + $"'gstair plan free-slots {stored.Name} {machine.Name}' shows when it can."
            );
        var now = clock.GetUtcNow();
        if (asked.Run is { } run)
        {
            var moved = new SlotMoved(now, actor.Name, slot, reason);
            if (!await runs.DecideAsync(run, moved, RunMachine.Step(run, moved).State, new(actor, "run move-slot", reason), stop))
                throw RefusedException.Conflict(
                    "run-went-on",
                    $"The run of {machine.Name} went on meanwhile. Look again, and choose again."
                );
        }

        await plans.RescheduleAsync(
            stored.Name,
            machine.Id,
            slot.Start,
            asked is { Run: null, HasBegun: true } ? slot : null,
            reason,
            actor,
            now,
            stop
        );
        if (!asked.HasBegun)
            await writer.ScheduleAsync(stored, stop);
        return slot;
    }

    /// <summary>Discards the time that was chosen for a machine: it keeps its slot, which may move again like any other.</summary>
    /// <exception cref="RefusedException">None was chosen.</exception>
    public async Task GiveUpAsync(PlanRecord stored, Machine machine, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        ArgumentNullException.ThrowIfNull(machine);
        if ((await MemberAsync(stored, machine, stop)).Rescheduled is null)
            throw RefusedException.Conflict("no-time-chosen", $"{machine.Name} has no manually chosen time.");
        await plans.RescheduleAsync(stored.Name, machine.Id, null, null, reason, actor, clock.GetUtcNow(), stop);
        await writer.ScheduleAsync(stored, stop);
    }

    /// <summary>A machine's place in a plan.</summary>
    /// <exception cref="RefusedException">It has none.</exception>
    public Task<Member> MemberAsync(PlanRecord stored, Machine machine, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        ArgumentNullException.ThrowIfNull(machine);
        return PlanCommands.MemberAsync(plans, stored.Name, machine, stop);
    }

    private async Task<Asked> AskedAsync(PlanRecord stored, Machine machine, CancellationToken stop)
    {
        var member = await MemberAsync(stored, machine, stop);
        if (member.Exemption is not null)
            throw RefusedException.Conflict("machine-exempted", $"{machine.Name} is exempt and needs no time.");
        var run = member.Run is { } number ? (await runs.FindAsync(number, stop))!.State : null;
        if (run is not null && !(run.Phase is Phase.Stage or Phase.Wait || (run.Phase == Phase.Gate && run.Moment == Moment.Planning)))
            throw RefusedException.Conflict("machine-running", $"{machine.Name} has begun (r{member.Run}); it can have no other time now.");
        var now = clock.GetUtcNow();
        var draft = await writer.DraftAsync(stored.Body, stored.Sites, stop);
        var wave = draft.Record.Waves[member.Wave - 1];
        var request = run is not null
            ? PlanSlots.Request(machine, run, draft.Product, await facts.LengthsAsync(draft.Product, stop), draft.Pending)
            : draft.Requests.SelectMany(r => r).FirstOrDefault(r => r.Machine == machine.Id)
                ?? throw RefusedException.Conflict("not-ready", $"{machine.Name} can have no time yet: {member.Why ?? "it is not ready"}.");
        var begins =
            wave.State == WaveState.Waiting ? draft.PlanSchedule.Waves[member.Wave - 1].From + (draft.Plan.Lead ?? TimeSpan.Zero)
            : run?.Phase == Phase.Wait ? now
            : now + draft.Plan.LeadFor(draft.Product.Method(run?.CurrentLeg.Method ?? member.Method ?? "")?.Steps ?? []);
        // Slots that somebody was told, or chose, stay; those that are only scheduled make room.
        var placed = draft.PlanSchedule.All.Where(p => p.Slot is not null).ToDictionary(p => p.Machine, p => p.Slot!);
        var stay = draft
            .Taken.Concat(
                draft
                    .Requests.SelectMany(r => r)
                    .Where(r => r.Stands is not null && placed.ContainsKey(r.Machine))
                    .Select(r => new TakenSlot(r, placed[r.Machine]))
            )
            .Where(t => t.Of.Machine != machine.Id)
            .ToArray();
        var machines = await fleet.AllAsync(stop);
        var alone = new Dictionary<string, MachineId>(StringComparer.OrdinalIgnoreCase) { [machine.Name] = machine.Id };
        request = request with { NotBefore = begins, After = PlanSlots.After(machine, draft.Pending) };
        return new(
            new(
                draft.Plan,
                draft.Calendars,
                [request],
                [.. stay.Select(t => t with { Of = t.Of with { After = PlanSlots.After(machines[t.Of.Machine], alone) } })],
                now
            ),
            draft,
            run,
            wave.State != WaveState.Waiting
        );
    }

    /// <summary>A machine that is to have a time.</summary>
    /// <param name="Case">What is asked for, and what stays.</param>
    /// <param name="Draft">The plan as it is scheduled now.</param>
    /// <param name="Run">Its run; null before.</param>
    /// <param name="HasBegun">Whether its wave has begun.</param>
    private sealed record Asked(ScheduleCase Case, Draft Draft, RunState? Run, bool HasBegun);
}
