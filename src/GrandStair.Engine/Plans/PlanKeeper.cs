using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Diagnostics;
using GrandStair.Connections;
using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Durations;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Plans;

/// <summary>Keeps plans going: opens waves, judges members, gives slots, opens runs, and ends plans.</summary>
public sealed class PlanKeeper(
    CatalogueCache catalogues,
    FleetCache fleet,
    MachineReader reader,
    PlanTable plans,
    PlanApprovals approvals,
    DecisionTable decisions,
    RunLog runs,
    MeasuredRuns measured,
    PlanWriter writer,
    OtherPlans otherPlans,
    CalendarCache calendars,
    PlanTroubles troubles,
    TimeProvider clock,
    ILogger<PlanKeeper> log
)
{
    /// <summary>How long after it was last tried a machine that is not ready, or soon cannot be told, is read again.</summary>
    public static readonly TimeSpan ReadAgain = TimeSpan.FromHours(8);

    /// <summary>How long before its readings grow too old a machine is read again.</summary>
    public static readonly TimeSpan ReadAhead = TimeSpan.FromHours(24);

    /// <summary>How long after no place was found for a machine it is looked for again.</summary>
    public static readonly TimeSpan PlaceAgain = TimeSpan.FromHours(1);

    private const int MostReadsAtOnce = 8;
    private static readonly WorkShare LayingOut = new(TimeSpan.FromSeconds(15));
    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(250);

    /// <summary>
    /// How many times as long as a look at all plans took is waited for the next: large plans do not keep a processor from their runs.
    /// </summary>
    private const int Rests = 4;
    private readonly Dictionary<MachineId, DateTimeOffset> _tried = [];

    /// <summary>By plan the revision and the calendars that its slots were last scheduled by.</summary>
    private readonly Dictionary<string, string> _scheduledBy = new(StringComparer.Ordinal);

    /// <summary>
    /// By plan, for machines and for runs apart, for whom no place was found, and until when they are not looked at again; what keeps them
    /// out is seldom gone in a moment.
    /// </summary>
    private readonly Dictionary<string, (HashSet<MachineId> Machines, DateTimeOffset Until)> _inVain = new(StringComparer.Ordinal);
    private Task _reading = Task.CompletedTask;

    /// <summary>By plan from when on, as a timestamp, waves to come are scheduled again.</summary>
    private readonly ConcurrentDictionary<string, long> _makeScheduleDue = new(StringComparer.Ordinal);
    private Task _layingOut = Task.CompletedTask;

    /// <summary>Keeps plans going.</summary>
    public Duty Duty => new("plans", Tick, KeepAsync) { IsSingle = true, Rests = Rests };

    /// <summary>Takes every plan that has started one step further.</summary>
    public async Task KeepAsync(CancellationToken stop)
    {
        var started = (await plans.AllAsync(stop)).Where(p => p is { State: PlanState.Started, Held: null }).ToArray();
        if (started.Length == 0)
            return;
        var (known, state) = await calendars.AllAsync(stop);
        foreach (var plan in started)
        {
            try
            {
                await KeepAsync(plan, known, $"{plan.Revision} {state}", stop);
                troubles.Clear(plan.Name);
            }
            catch (Exception error) when (error is not (OperationCanceledException or StoreException or System.Data.Common.DbException))
            {
                // A fault in one plan must not keep the others from going on.
                if (
                    troubles.Set(
                        plan.Name,
                        error is CalendarException or CommandException
                            ? error.Message
                            : "Something went wrong that should not; the service's log says what."
                    )
                )
                    log.LogError(error, "Plan {Plan} cannot be kept going, and is tried again", plan.Name);
            }
        }
    }

    private async Task KeepAsync(
        StoredPlan stored,
        IReadOnlyDictionary<string, ICalendar> known,
        string scheduledBy,
        CancellationToken stop
    )
    {
        var now = clock.GetUtcNow();
        var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
        var aim = PlanCommands.AimOf(plan, product);
        var decided = await decisions.OfAsync(product.Name, plan.Name, now, stop);
        var members = await plans.MembersAsync(plan.Name, stop);
        // Judged by the very readings that runs are opened by below, so that nothing is opened that was not approved.
        var needed = await approvals.NeededAsync(stored, plan, members, decided, stop);
        if (!Consent.MayGoOn(needed))
        {
            await approvals.HoldUnlessApprovedAsync(plan.Name, PlanApprovals.SomeChange, Actor.Worker, stop);
            return;
        }

        var machines = await fleet.AllAsync(stop);
        var waves = await AdvanceAsync(stored, plan, members, machines, needed, now, stop);
        var open = waves.Where(w => w.State != WaveState.Waiting).Select(w => w.Number).ToHashSet();

        var judged = members
            .Where(m => m is { Run: null, Exemption: null })
            .Select(m =>
                (
                    Member: m,
                    Machine: machines[m.Machine],
                    Assessment: Assessment.Of(aim, machines[m.Machine], Moment.Planning, now, decided.GetValueOrDefault(m.Machine))
                )
            )
            .ToArray();
        var elsewhere = await otherPlans.OfAsync(plan.Name, stored.Started, stop);
        var arrived = judged.Where(j => j.Assessment.Route.Arrived).Select(j => j.Member.Machine).ToHashSet();
        var pending = PlanWriter.Pending(elsewhere, members.Where(m => !arrived.Contains(m.Machine)), machines);
        // Slots stand as long as nothing that they were scheduled by has changed; otherwise each is looked at again, and moves only where
        // it has to.
        var changedSince = _scheduledBy.GetValueOrDefault(plan.Name, scheduledBy) != scheduledBy;
        var placed = await PlaceAsync(
            new(plan, known, product, members, machines, elsewhere, pending, changedSince, now),
            judged.Where(j => open.Contains(j.Member.Wave)),
            stop
        );
        var after = judged
            .Select(j =>
                (
                    Before: j.Member,
                    After: PlanCommands.Judged(j.Member, j.Assessment, placed.GetValueOrDefault(j.Member.Machine)),
                    j.Machine,
                    j.Assessment
                )
            )
            .ToArray();
        var changed = after.Where(a => a.After != a.Before).Select(a => a.After).ToArray();
        if (changed.Length > 0)
            await plans.PutMembersAsync(plan.Name, changed, now, stop);

        foreach (
            var (_, member, machine, assessment) in after.Where(a =>
                a.After.Slot is { } slot
                && (slot.StageFrom ?? (slot.Start - plan.StageAhead)) <= now
                && Consent.MayOpenRuns(needed, waves[a.After.Wave - 1].Name, hasBegun: true)
            )
        )
            await OpenAsync(stored, plan, product, waves, member, machine, assessment, now, stop);
        var placedNow = after.ToDictionary(a => a.After.Machine, a => a.After);
        await MoveAsync(
            new(
                plan,
                known,
                product,
                [.. members.Select(m => placedNow.GetValueOrDefault(m.Machine, m))],
                machines,
                elsewhere,
                pending,
                changedSince,
                now
            ),
            stop
        );
        _scheduledBy[plan.Name] = scheduledBy;
        // Machines that do not answer take long; the plan does not wait for them.
        var waiting = members
            .Where(m => m is { Status: Status.Scheduled, Run: not null })
            .Select(m => machines[m.Machine])
            .Where(m => m.Find(product.VersionKey)?.Seen < now - ReadAhead);
        if (_reading.IsCompleted)
            _reading = ReadAgainAsync(
                [
                    .. waiting,
                    .. judged
                        .Where(j =>
                            j.Assessment.State != GateState.Open || j.Assessment.Route.Arrived || j.Assessment.Until < now + ReadAhead
                        )
                        .Select(j => j.Machine),
                ],
                now,
                stop
            );
        if (
            _layingOut.IsCompleted
            && waves.Any(w => w.State == WaveState.Waiting)
            && Stopwatch.GetTimestamp() >= _makeScheduleDue.GetValueOrDefault(plan.Name)
        )
            _layingOut = LayOutAsync(stored with { Waves = waves }, stop);
        if (members.All(m => m.Status is Status.Done or Status.Exempt))
            await plans.PutStateAsync(plan.Name, PlanState.Ended, null, "end", Actor.Worker, now, stop);
    }

    /// <summary>
    /// Keeps what is scheduled for waves to come up to date; it takes its time for large plans, and nothing waits for it.
    /// </summary>
    private async Task LayOutAsync(StoredPlan stored, CancellationToken stop)
    {
        var begun = Stopwatch.GetTimestamp();
        try
        {
            await Task.Yield();
            await writer.LayOutAsync(stored, stop);
        }
        catch (Exception error) when (error is CommandException or CalendarException or StoreException or System.Data.Common.DbException)
        {
            log.LogWarning("Plan {Plan} cannot be scheduled again: {Why}", stored.Name, error.Message);
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            log.LogError(error, "Plan {Plan} cannot be scheduled again, and that is tried again", stored.Name);
        }

        _makeScheduleDue[stored.Name] = LayingOut.NextAfter(begun);
    }

    /// <summary>Opens the first wave, and each next one when the rule holds for the one before.</summary>
    private async Task<IReadOnlyList<StoredWave>> AdvanceAsync(
        StoredPlan stored,
        Plan plan,
        IReadOnlyList<Member> members,
        IReadOnlyDictionary<MachineId, Machine> machines,
        ImmutableArray<NeededApproval> needed,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var waves = stored.Waves.ToArray();
        for (var i = 0; i < waves.Length; i++)
        {
            if (waves[i].State == WaveState.Waiting && (i == 0 || waves[i - 1].State == WaveState.Passed))
            {
                var spec = plan.Waves[i];
                var waitsFor =
                    spec.NotBefore > now ? $"it does not begin before {spec.NotBefore:yyyy-MM-dd HH:mm} UTC"
                    : !Consent.MayOpenRuns(needed, waves[i].Name, hasBegun: false) ? "it waits for approval"
                    : null;
                var begun = waitsFor is null ? waves[i] with { State = WaveState.Open, Opened = now } : waves[i] with { Why = waitsFor };
                if (begun != waves[i])
                    waves[i] = await PutAsync(plan, begun, now, stop);
            }

            if (waves[i].State != WaveState.Open)
                continue;
            var own = members.Where(m => m.Wave == i + 1).ToArray();
            string[] lapsed =
            [
                .. Lapsed(own, waves[i].Opened).Select(m => machines[m.Machine].Name).Order(StringComparer.OrdinalIgnoreCase),
            ];
            var advance = plan.Advance.Evaluate(
                new(own.Select(m => m.Status)),
                own.Select(m => m.Verified).OfType<DateTimeOffset>(),
                now,
                lapsed
            );
            var next = waves[i] with { Why = advance.Why, State = advance.Holds ? WaveState.Passed : WaveState.Open };
            if (next != waves[i])
                waves[i] = await PutAsync(plan, next, now, stop);
        }

        return waves;
    }

    /// <summary>Those of an open wave's machines that had a time, and have become not ready since it opened.</summary>
    private static IEnumerable<Member> Lapsed(IEnumerable<Member> own, DateTimeOffset? opened) =>
        own.Where(m => m is { Status: Status.NotReady, Run: null, TimeChanges: > 0 } && m.Lapsed > opened);

    private async Task<StoredWave> PutAsync(Plan plan, StoredWave wave, DateTimeOffset now, CancellationToken stop)
    {
        await plans.PutWaveAsync(plan.Name, wave, now, stop);
        return wave;
    }

    private async Task<Dictionary<MachineId, Placed>> PlaceAsync(
        Situation of,
        IEnumerable<(Member Member, Machine Machine, Assessment Assessment)> going,
        CancellationToken stop
    )
    {
        var (plan, now) = (of.Plan, of.Now);
        var wanting = going
            .Where(g =>
                g.Assessment.CanBePlanned
                && (
                    of.ChangedSince
                    || g.Member.Slot is null
                    || g.Member.Slot.LatestTurn < now
                    || of.IsBeforeWhatItDependsOn(g.Machine, g.Member.Slot)
                )
            )
            .ToArray();
        if (wanting.Length == 0 || (!of.ChangedSince && IsInVain(plan.Name, wanting.Select(w => w.Member.Machine), now)))
            return [];
        var lead = wanting.Max(w => plan.LeadFor(w.Assessment.Choice!.Method!.Steps));
        var requests = PlanWriter
            .Requests(
                wanting.Select(w =>
                    (w.Machine, w.Assessment, (w.Member.Slot?.LatestTurn < now ? null : w.Member.Slot) ?? PlanWriter.Chosen(w.Member, now))
                ),
                await measured.ExperienceAsync(of.Product, stop),
                of.Pending
            )
            .Select(r => r.Stands is null ? r with { NotBefore = now + lead } : r);
        return Placed(plan.Name, of.CaseOf([.. requests])).ToDictionary(p => p.Machine);
    }

    private bool IsInVain(string what, IEnumerable<MachineId> wanting, DateTimeOffset now) =>
        _inVain.TryGetValue(what, out var before) && now < before.Until && wanting.All(before.Machines.Contains);

    private ImmutableArray<Placed> Placed(string what, ScheduleCase @case)
    {
        var placed = SlotPlacer.Place(@case).All;
        var left = placed.Where(p => p.Slot is null).Select(p => p.Machine).ToHashSet();
        if (left.Count > 0)
            _inVain[what] = (left, @case.From + PlaceAgain);
        return placed;
    }

    private async Task OpenAsync(
        StoredPlan stored,
        Plan plan,
        Product product,
        IReadOnlyList<StoredWave> waves,
        Member member,
        Machine machine,
        Assessment assessment,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var aim = PlanCommands.AimOf(plan, product);
        ImmutableArray<LegSpec> legs = [.. assessment.Legs.Select(l => PlanWriter.Leg(l.Hop, l.Method!, aim.LeastBuildOf(l.Hop, machine)))];
        var wave = waves[member.Wave - 1].Name;
        var run = await runs.OpenAsync(
            plan.Name,
            member.Machine,
            number => new RunOpened(
                now,
                "worker",
                number,
                member.Machine.Value,
                plan.Name,
                stored.Revision,
                wave,
                product.Hash,
                legs,
                member.Slot!,
                plan.CatchUp
            ),
            stop
        );
        if (run is { } opened)
            log.LogInformation(
                "Run r{Run} opened for {Machine} by {Method}",
                opened,
                machine.Name,
                string.Join(", ", legs.Select(l => l.Method))
            );
    }

    /// <summary>
    /// Gives another slot to runs that missed theirs, and to those that wait for one that they can no longer have: to all of them together,
    /// so that none is in another's way.
    /// </summary>
    private async Task MoveAsync(Situation of, CancellationToken stop)
    {
        var (plan, now) = (of.Plan, of.Now);
        var moving = new Dictionary<MachineId, (RunState State, string Why)>();
        foreach (var member in of.Members.Where(m => m is { Status: Status.Scheduled, Run: not null, Slot: not null }))
        {
            var early = member.Slot!.Start > now && of.IsBeforeWhatItDependsOn(of.Machines[member.Machine], member.Slot);
            if (member.Slot.LatestTurn >= now && !early && !(of.ChangedSince && member.Slot.Start > now))
                continue;
            var run = (await runs.FindAsync(member.Run!.Value, stop))!.State;
            if (run.NeedsSlot)
                moving[member.Machine] = (run, "the slot before was missed");
            else if ((of.ChangedSince || early) && run.Slot.Start > now)
                moving[member.Machine] = (run, early ? "what it depends on goes later" : "its windows were changed");
        }

        if (moving.Count == 0 || (!of.ChangedSince && IsInVain($"{plan.Name} runs", moving.Keys, now)))
            return;
        var learnt = await measured.ExperienceAsync(of.Product, stop);
        var requests = moving.Select(m => PlanWriter.Request(of.Machines[m.Key], m.Value.State, of.Product, learnt, of.Pending));
        foreach (var placed in Placed($"{plan.Name} runs", of.CaseOf([.. requests])))
        {
            var (run, why) = moving[placed.Machine];
            if (placed.Slot is not { } slot)
            {
                log.LogWarning("Run r{Run} has no further slot: {Why}", run.Run, placed.Why);
                continue;
            }

            if (!run.NeedsSlot && slot.Start == run.Slot.Start)
                continue;
            var moved = new SlotMoved(now, "worker", slot, why);
            await runs.DecideAsync(run, moved, RunMachine.Step(run, moved).State, new(Actor.Worker, "run move-slot", moved.Reason), stop);
        }
    }

    /// <summary>Reads machines again, so that what was fixed meanwhile is seen and nothing grows too old to tell.</summary>
    private async Task ReadAgainAsync(Machine[] machines, DateTimeOffset now, CancellationToken stop)
    {
        var due = machines.Where(m => now - _tried.GetValueOrDefault(m.Id, DateTimeOffset.MinValue) > ReadAgain).ToArray();
        foreach (var machine in due)
            _tried[machine.Id] = now;
        await Parallel.ForEachAsync(
            due,
            new ParallelOptions { MaxDegreeOfParallelism = MostReadsAtOnce, CancellationToken = stop },
            async (machine, one) =>
            {
                try
                {
                    await reader.ReadAsync(machine, Actor.Worker, one);
                }
                catch (Exception error) when (error is ConnectionException or StoreException)
                {
                    log.LogInformation("{Machine} was not read: {Why}", machine.Name, error.Message);
                }
                catch (Exception error) when (error is not OperationCanceledException)
                {
                    log.LogError(error, "{Machine} was not read", machine.Name);
                }
            }
        );
    }

    /// <summary>All that a plan's slots are given by at a moment.</summary>
    /// <param name="Plan">The plan.</param>
    /// <param name="Calendars">All calendars.</param>
    /// <param name="Product">Its product.</param>
    /// <param name="Members">Its members.</param>
    /// <param name="Machines">The fleet.</param>
    /// <param name="Elsewhere">What other plans hold.</param>
    /// <param name="Pending">By name the machines still to be upgraded.</param>
    /// <param name="ChangedSince">Whether the plan or a calendar has changed since slots were last given.</param>
    /// <param name="Now">The moment, UTC.</param>
    private sealed record Situation(
        Plan Plan,
        IReadOnlyDictionary<string, ICalendar> Calendars,
        Product Product,
        IReadOnlyList<Member> Members,
        IReadOnlyDictionary<MachineId, Machine> Machines,
        HeldElsewhere Elsewhere,
        IReadOnlyDictionary<string, MachineId> Pending,
        bool ChangedSince,
        DateTimeOffset Now
    )
    {
        private IReadOnlyDictionary<MachineId, Slot> Slots =>
            field ??= Members
                .Where(m => m.Slot is not null)
                .Select(m => (m.Machine, Slot: m.Slot!))
                .Concat(Elsewhere.Slots.Select(s => (s.Of.Machine, s.Slot)))
                .GroupBy(s => s.Machine)
                .ToDictionary(s => s.Key, s => s.MaxBy(x => x.Slot.End).Slot);

        /// <summary>Whether a slot begins before the slot of what its machine depends on is over.</summary>
        public bool IsBeforeWhatItDependsOn(Machine machine, Slot slot) =>
            PlanWriter.Before(machine, Pending) is { } before && Slots.TryGetValue(before.Machine, out var first) && slot.Start < first.End;

        /// <summary>Some requests among all slots that others have.</summary>
        public ScheduleCase CaseOf(IReadOnlyList<SlotRequest> requests)
        {
            var wanting = requests.Select(r => r.Machine).ToHashSet();
            return new(
                Plan,
                Calendars,
                requests,
                [.. PlanWriter.Taken(Members.Where(m => !wanting.Contains(m.Machine)), Product, Machines, Now), .. Elsewhere.Slots],
                Now
            );
        }
    }
}
