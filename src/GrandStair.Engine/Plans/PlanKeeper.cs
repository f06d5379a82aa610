using System.Collections.Concurrent;
using System.Diagnostics;
using GrandStair.Core.Access;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Duties;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Plans;

/// <summary>Keeps plans going: reads what <see cref="PlanProgress"/> decides by, and writes what it decides.</summary>
public sealed class PlanKeeper(
    PlanFactsReader facts,
    PlanTable plans,
    PlanApprovals approvals,
    RunLog runs,
    PlanWriter writer,
    MachineRefresh refresh,
    PlanTroubles troubles,
    ChangeSignal changes,
    DomainClock clock,
    ILogger<PlanKeeper> log
)
{
    private static readonly WorkShare Scheduling = new(TimeSpan.FromSeconds(15));
    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(250);

    /// <summary>The longest time between two looks: what other services write shows only by looking.</summary>
    private static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(2);

    /// <summary>
    /// How many times as long as a look at all plans took is waited for the next: large plans do not keep a processor from their runs.
    /// </summary>
    private const int Rests = 4;

    /// <summary>By plan what earlier steps found.</summary>
    private readonly Dictionary<string, PlanMemory> _memories = new(StringComparer.Ordinal);

    /// <summary>By plan from when on, as a timestamp, waves to come are scheduled again.</summary>
    private readonly ConcurrentDictionary<string, long> _scheduleDue = new(StringComparer.Ordinal);
    private Task _scheduling = Task.CompletedTask;

    /// <summary>Where time moves in steps, the turn that it waits for, and when time alone may next change something.</summary>
    private SteppedTime.Turn? _turn;
    private DateTimeOffset? _next;
    private long _seen;

    /// <summary>Keeps plans going.</summary>
    public Duty Duty =>
        clock.Stepped is null
            ? new("plans", Tick, KeepAsync)
            {
                IsSingle = true,
                Rests = Rests,
                Wait = WaitForChangeAsync,
            }
            : new("plans", TimeSpan.Zero, KeepAsync)
            {
                IsSingle = true,
                Wait = WaitForTurnAsync,
                Ended = Leave,
            };

    /// <summary>Takes every plan that has started one step further.</summary>
    public async Task KeepAsync(CancellationToken stop)
    {
        _turn?.Begin();
        _seen = changes.Count;
        _next = null;
        foreach (var plan in (await plans.AllAsync(stop)).Where(p => p is { State: PlanStatus.Started, Held: null }))
        {
            try
            {
                await KeepAsync(plan, stop);
                troubles.Clear(plan.Name);
            }
            catch (Exception error) when (error is not (OperationCanceledException or StoreException or System.Data.Common.DbException))
            {
                // A fault in one plan must not keep the others from going on.
                var why = error is CalendarException or RefusedException
                    ? error.Message
                    : "Something went wrong that should not; the service's log says what.";
                if (troubles.Set(plan.Name, why))
                    log.LogError(error, "Plan {Plan} cannot be kept going, and is tried again", plan.Name);
            }
        }
    }

    /// <summary>Waits until something was written since the last look began, or time alone may change something.</summary>
    private Task WaitForChangeAsync(CancellationToken stop)
    {
        var next = _next is { } at ? clock.ToReal(at - clock.GetUtcNow()) : LongestWait;
        return changes.WaitAsync(_seen, next < LongestWait ? next : LongestWait, stop);
    }

    private async Task WaitForTurnAsync(CancellationToken stop)
    {
        if (_turn is null)
        {
            // The first pass is over before there is a turn to look again for what was changed meanwhile.
            _turn = clock.Stepped!.Join();
            return;
        }

        await _turn.WaitAsync(_next, stop);
    }

    /// <summary>Gives its turn up, so that time does not wait for a keeper that has ended.</summary>
    private void Leave()
    {
        _turn?.Dispose();
        _turn = null;
    }

    private void NoteNext(DateTimeOffset? next)
    {
        if (next is not null && (_next is null || next < _next))
            _next = next;
    }

    private async Task KeepAsync(PlanRecord record, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var state = await facts.StateAsync(record, stop) with { Memory = _memories.GetValueOrDefault(record.Name, PlanMemory.None) };
        var found = await facts.OfStateAsync(state, now, stop);
        var needed = await approvals.NeededAsync(record, state.Plan, state.Members, found.Decided, stop);
        var waiting = await facts.RunsAsync(state.Members.Where(m => m.Status == Status.Scheduled), stop);
        var step = PlanProgress.Step(state, found with { Approvals = needed, Runs = waiting }, now);
        if (step.Hold is { } change)
        {
            await approvals.HoldUnlessApprovedAsync(record.Name, change, Actor.Worker, stop);
            return;
        }

        await ApplyAsync(state, step, found.Machines, now, stop);
        _memories[record.Name] = step.Memory;
        NoteNext(step.Next);
        NoteNext(refresh.Begin(step.ToRead, now, stop));
        BeginScheduling(record with { Waves = WithChanges(record.Waves, step) }, stop);
        if (step.Ends)
            await plans.PutStatusAsync(record.Name, PlanStatus.Ended, null, "end", Actor.Worker, now, stop);
    }

    /// <summary>Writes what a step decided. Whatever a person has changed meanwhile counts: each write looks at the newest state.</summary>
    private async Task ApplyAsync(
        PlanState state,
        PlanChanges step,
        IReadOnlyDictionary<MachineId, Machine> machines,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var plan = state.Record.Name;
        foreach (var wave in step.Waves)
            await plans.PutWaveAsync(plan, wave, now, stop);
        if (!step.Members.IsEmpty)
            await plans.PutMembersAsync(plan, step.Members, now, stop);
        foreach (var opening in step.Openings)
            await OpenAsync(state, opening, machines, now, stop);
        foreach (var move in step.Moves)
            await MoveAsync(move, now, stop);
    }

    private async Task OpenAsync(
        PlanState state,
        RunOpening opening,
        IReadOnlyDictionary<MachineId, Machine> machines,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var (member, wave, legs) = opening;
        var machine = machines[member.Machine];
        var successor =
            legs.Any(l => l.GoesSideBySide) && machine.TextOf(Successors.Successor) is { } name
                ? machines.Values.FirstOrDefault(m => m.IsInFleet && m.Name.Equals(name, StringComparison.OrdinalIgnoreCase))
                : null;
        RunOpened First(long number) =>
            new(
                now,
                "worker",
                number,
                member.Machine.Value,
                state.Record.Name,
                state.Record.Revision,
                wave,
                state.Product.Hash,
                legs,
                member.Slot!,
                state.Plan.CatchUp
            )
            {
                Successor = successor?.Id.Value,
            };
        if (await runs.OpenAsync(state.Record.Name, member.Machine, First, stop) is { } run)
            log.LogInformation(
                "Run r{Run} opened for {Machine} by {Method}",
                run,
                machine.Name,
                string.Join(", ", legs.Select(l => l.Method))
            );
    }

    private async Task MoveAsync(RunMove move, DateTimeOffset now, CancellationToken stop)
    {
        if (move.Slot is not { } slot)
        {
            log.LogWarning("Run r{Run} has no further slot: {Why}", move.Run.Run, move.Why);
            return;
        }

        var moved = new SlotMoved(now, "worker", slot, move.Why);
        var after = RunMachine.Step(move.Run, moved).State;
        await runs.DecideAsync(move.Run, moved, after, new(Actor.Worker, "run move-slot", move.Why), stop);
    }

    private static IReadOnlyList<WaveProgress> WithChanges(IReadOnlyList<WaveProgress> waves, PlanChanges step) =>
        [.. waves.Select(w => step.Waves.FirstOrDefault(c => c.Number == w.Number, w))];

    /// <summary>Begins to schedule waves to come again, which takes its time for large plans; nothing waits for it.</summary>
    private void BeginScheduling(PlanRecord stored, CancellationToken stop)
    {
        if (!_scheduling.IsCompleted || stored.Waves.All(w => w.State != WaveState.Waiting))
            return;
        if (Stopwatch.GetTimestamp() >= _scheduleDue.GetValueOrDefault(stored.Name))
            _scheduling = ScheduleAsync(stored, stop);
    }

    private async Task ScheduleAsync(PlanRecord stored, CancellationToken stop)
    {
        var begun = Stopwatch.GetTimestamp();
        using var running = clock.Stepped?.Run();
        try
        {
            await Task.Yield();
            await writer.ScheduleAsync(stored, stop);
        }
        catch (Exception error) when (error is RefusedException or CalendarException or StoreException or System.Data.Common.DbException)
        {
            log.LogWarning("Plan {Plan} cannot be scheduled again: {Why}", stored.Name, error.Message);
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            log.LogError(error, "Plan {Plan} cannot be scheduled again, and that is tried again", stored.Name);
        }

        _scheduleDue[stored.Name] = Scheduling.NextAfter(begun);
    }
}
