using System.Collections.Concurrent;
using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Durations;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>A plan as a text would make it, before anything is kept.</summary>
/// <param name="Stored">The plan as it would be kept.</param>
/// <param name="Plan">The plan as it is understood.</param>
/// <param name="Product">The product.</param>
/// <param name="Members">Its members; those that have begun, or are exempt, as they are.</param>
/// <param name="Requests">The requests for slots, by wave.</param>
/// <param name="Status">The slots that stand whatever else is placed, of this plan and of others.</param>
/// <param name="Pending">By name the machines still to be upgraded, by this plan or another that has started.</param>
/// <param name="Begun">The present state of its waves.</param>
/// <param name="Calendars">The calendars that it was scheduled by.</param>
/// <param name="PlanSchedule">When each would go.</param>
/// <param name="Missing">Machines that a wave lists and that are not in the scope.</param>
/// <param name="NoEffect">What the text says and has no effect, in sentences: what comes too late, and names that nothing has.</param>
public sealed record Draft(
    StoredPlan Stored,
    Plan Plan,
    Product Product,
    ImmutableArray<Member> Members,
    IReadOnlyList<IReadOnlyList<SlotRequest>> Requests,
    IReadOnlyList<TakenSlot> Status,
    IReadOnlyDictionary<string, MachineId> Pending,
    IReadOnlyList<BegunWave> Begun,
    IReadOnlyDictionary<string, ICalendar> Calendars,
    PlanSchedule PlanSchedule,
    ImmutableArray<string> Missing,
    ImmutableArray<string> NoEffect
)
{
    /// <summary>Whether the last slot ends before the deadline's day is over; true where there is none.</summary>
    public bool MeetsDeadline => PlanSchedule.IsInTime(Plan, PlanSchedule.End);
}

/// <summary>A machine that would be in another wave.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="From">The wave that it is in; null where it is in none.</param>
/// <param name="To">The wave that it would be in; null where it would be in none.</param>
public sealed record WaveChange(MachineId Machine, string? From, string? To);

/// <summary>Creates and changes plans: what a text would make of a plan, and storing it.</summary>
public sealed class PlanWriter(
    CatalogueCache catalogues,
    FleetCache fleet,
    PlanTable plans,
    PlanApprovals approvals,
    PlanAcknowledgements acknowledgements,
    DecisionTable decisions,
    MeasuredRuns measured,
    CalendarCache calendars,
    OtherPlans otherPlans,
    TimeProvider clock
)
{
    /// <summary>How much longer a run is thought to take, at each look, that has not ended with its slot.</summary>
    private static readonly TimeSpan OverdueTakes = TimeSpan.FromMinutes(15);

    /// <summary>How long the appointments of a crew are looked back at: longer than any day in any zone.</summary>
    private static readonly TimeSpan CrewsRemember = TimeSpan.FromHours(36);

    /// <summary>Finds out what a text would make: the members of its waves, judged, and when each would go. Nothing is kept.</summary>
    /// <param name="body">The plan, as YAML. Where there is a plan of its name, it is that plan changed: what has begun stays.</param>
    /// <param name="sites">The sites that a new plan is for: machines elsewhere are not in it, whatever its scope says.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <param name="makeSchedule">Whether it is asked when each would go; else the schedule is empty.</param>
    /// <exception cref="CommandException">Nothing is in its scope, a calendar is missing, or it takes away what has begun.</exception>
    public async Task<Draft> DraftAsync(string body, SiteScope sites, CancellationToken stop, bool makeSchedule = true)
    {
        var now = clock.GetUtcNow();
        var plan = catalogues.ReadPlan(body);
        var product = catalogues.Products[plan.Product];
        var (known, _) = await calendars.AllAsync(stop);
        CalendarCache.Check(plan, known);
        var before = await plans.FindAsync(plan.Name, stop);
        if (before is { State: PlanState.Ended })
            throw new CommandException("plan-ended", $"Plan '{plan.Name}' has ended; give the new one another name.");
        if (before is not null)
            sites = before.Sites;
        var waves = Waves(plan, before);
        ImmutableArray<string> noEffect =
        [
            .. plan
                .Waves.Zip(waves)
                .Where(w => w.Second.Opened is { } began && w.First.NotBefore > began)
                .Select(w =>
                    $"{w.First.Name} has begun on {w.Second.Opened:yyyy-MM-dd HH:mm} UTC; that it begins not before "
                    + $"{w.First.NotBefore:yyyy-MM-dd HH:mm} changes nothing any more."
                ),
        ];
        // A planner of some sites learns nothing of names elsewhere.
        var unknown = UnknownNames.In(
            plan,
            product,
            [.. (await fleet.AllAsync(stop)).Values.Where(m => m.IsInFleet && sites.Holds(m.Site))]
        );
        // What has begun waits for no begin any more.
        plan = plan with
        {
            Waves = [.. plan.Waves.Zip(waves, (spec, wave) => wave.State == WaveState.Waiting ? spec : spec with { NotBefore = null })],
        };
        var aim = PlanCommands.AimOf(plan, product);
        var learnt = await measured.ExperienceAsync(product, stop);
        var decided = await decisions.OfAsync(product.Name, plan.Name, now, stop);
        var machines = await fleet.AllAsync(stop);
        var old = before is null ? [] : await plans.MembersAsync(plan.Name, stop);
        var begun = old.Where(m => m.Run is not null || m.Exemption is not null)
            .Select(m => m with { Wave = NumberOf(before!, m) })
            .ToArray();
        // Whoever a person moved, and whoever is in a wave that has begun, stays there.
        var staying = old.Where(m =>
                m is { Run: null, Exemption: null }
                && (m.MovedReason is not null || before!.Waves[m.Wave - 1].State != WaveState.Waiting)
                && NumberIn(waves, before!.Waves[m.Wave - 1].Name) is not null
            )
            .Select(m => m with { Wave = NumberOf(before!, m) })
            .ToArray();
        var apart = begun.Concat(staying).Select(m => m.Machine).ToHashSet();
        // Judging takes longest by far; all processors do it for those who will be asked about.
        var judged = new ConcurrentDictionary<MachineId, Assessment>();
        var elsewhere = await otherPlans.OfAsync(plan.Name, before?.Started, stop);
        var members = old.Select(m => m.Machine).ToHashSet();
        // A plan that has started takes no machine in that another one is still to upgrade.
        bool IsLeftToOther(Machine machine) =>
            before?.State == PlanState.Started && !members.Contains(machine.Id) && elsewhere.Pending.ContainsKey(machine.Name);
        var inScope = machines.Values.Where(m => m.IsInFleet && sites.Holds(m.Site) && !apart.Contains(m.Id)).ToArray();
        var free = inScope.Where(m => !IsLeftToOther(m)).ToArray();
        Parallel.ForEach(
            free.Where(m => plan.Scope.Ask(m, new EvaluationContext(now)).Value == Kleene.Yes)
                .Concat(staying.Select(m => machines[m.Machine])),
            machine => Judge(machine)
        );
        var membership = Membership.Of(Open(plan, waves), free, now, m => Fit(Judge(m)));
        if (membership.Waves.All(w => w.IsEmpty) && apart.Count == 0)
            throw new CommandException(
                "empty-scope",
                $"No machine is in the scope of plan '{plan.Name}' "
                    + $"({plan.Scope}){(membership.Undecided.IsEmpty ? "" : $"; for {membership.Undecided.Length} it is unknown")}. See "
                    + $"'gstair fleet list' with the same condition."
            );

        var byMachine = old.ToDictionary(m => m.Machine);
        var going = membership
            .Waves.SelectMany(
                (w, i) =>
                    w.Select(m =>
                        byMachine.GetValueOrDefault(
                            m.Id,
                            new Member
                            {
                                Plan = plan.Name,
                                Machine = m.Id,
                                Wave = 0,
                            }
                        ) with
                        {
                            Wave = i + 1,
                        }
                    )
            )
            .Concat(staying)
            .ToArray();
        var own = Pending(HeldElsewhere.Nothing, going.Concat(begun), machines);
        var stays = apart.Concat(going.Where(m => waves[m.Wave - 1].State != WaveState.Waiting).Select(m => m.Machine)).ToHashSet();
        var deferred = WaveOrder
            .Defer(
                going.Concat(begun.Where(IsPending)).ToDictionary(m => m.Machine, m => m.Wave),
                m => Before(machines[m], own),
                stays.Contains
            )
            .ToDictionary(d => d.Machine);
        going = [.. going.Select(m => deferred.TryGetValue(m.Machine, out var later) ? m with { Wave = later.To } : m)];
        var shared = elsewhere.Shared(
            before?.State == PlanState.Started
                ? inScope.Where(m => IsLeftToOther(m) && plan.Scope.Ask(m, new EvaluationContext(now)).Value == Kleene.Yes)
                : going.Select(m => machines[m.Machine])
        );
        var pending = Pending(elsewhere, going.Where(m => !Judge(machines[m.Machine]).Route.Arrived).Concat(begun), machines);
        var requests = waves
            .Select(w =>
                Requests(
                    going
                        .Where(m => m.Wave == w.Number && Judge(machines[m.Machine]).CanBePlanned)
                        .Select(m =>
                            (
                                machines[m.Machine],
                                Judge(machines[m.Machine]),
                                (w.State == WaveState.Waiting || m.Slot?.Start < now ? null : m.Slot) ?? Chosen(m, now)
                            )
                        ),
                    learnt,
                    pending
                )
            )
            .ToArray();
        TakenSlot[] status = [.. Taken(begun, product, machines, now), .. elsewhere.Slots];
        BegunWave[] cameTo =
        [
            .. waves.Select(w => new BegunWave(
                [.. begun.Where(m => m.Wave == w.Number).Select(m => EndOf(m, now)).OfType<DateTimeOffset>()],
                w.State == WaveState.Passed
            )),
        ];
        var schedule = makeSchedule ? PlanSchedule.Of(plan, known, requests, status, cameTo, now) : new([]);
        var placed = schedule.All.ToDictionary(p => p.Machine);
        var drafted = going.Select(m =>
        {
            var place = placed.GetValueOrDefault(m.Machine);
            var hasBegun = waves[m.Wave - 1].State != WaveState.Waiting;
            return PlanCommands.Judged(
                m with
                {
                    PlannedStart = place?.Slot?.Start,
                    PlannedEnd = place?.Slot?.End,
                    Tentative = place?.Slot,
                },
                Judge(machines[m.Machine]),
                hasBegun || place is null ? place : place with { Slot = null }
            );
        });
        var stored = new StoredPlan(
            plan.Name,
            (before?.Revision ?? 0) + 1,
            body,
            product.Hash,
            before?.State ?? PlanState.Drafted,
            before?.Held,
            before?.Created ?? now,
            before?.CreatedBy ?? "",
            before?.Started,
            null,
            [.. membership.Undecided.Select(u => new UndecidedMachine(u.Machine.Id.Value, u.Machine.Name, u.Why))],
            waves
        )
        {
            Sites = sites,
            Consent = ConsentRule.Of(plan),
            Coverages =
            [
                .. (before?.Coverages ?? []).Where(c => waves.Any(w => w.Name == c.Wave && w.State != WaveState.Waiting)),
                .. membership.Coverages,
            ],
        };
        return new(
            stored,
            plan,
            product,
            [.. begun, .. drafted],
            requests,
            status,
            pending,
            cameTo,
            known,
            schedule,
            membership.Missing,
            [
                .. noEffect,
                .. unknown,
                .. Told(deferred.Values, plan, machines),
                .. shared is null
                    ? []
                    : new[]
                    {
                        before?.State == PlanState.Started
                            ? $"{shared}. They are left to it."
                            : $"{shared}. This plan can start when they are done or exempt there, or are left out of its scope.",
                    },
            ]
        );

        Assessment Judge(Machine machine) =>
            judged.GetOrAdd(machine.Id, _ => Assessment.Of(aim, machine, Moment.Planning, now, decided.GetValueOrDefault(machine.Id)));

        int NumberOf(StoredPlan of, Member member) => NumberIn(waves, of.Waves[member.Wave - 1].Name) ?? waves.Length;
    }

    /// <summary>Lays waves to come out as things are now, and keeps what is otherwise than before.</summary>
    public async Task LayOutAsync(StoredPlan stored, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var draft = await DraftAsync(stored.Body, stored.Sites, stop);
        var tentative = draft.PlanSchedule.All.ToDictionary(p => p.Machine, p => p.Slot);
        var waiting = stored.Waves.Where(w => w.State == WaveState.Waiting).Select(w => w.Number).ToHashSet();
        var changed = (await plans.MembersAsync(stored.Name, stop))
            .Select(m =>
                (
                    Member: m,
                    Tentative: m is { Run: null, Exemption: null, Slot: null } && waiting.Contains(m.Wave)
                        ? tentative.GetValueOrDefault(m.Machine)
                        : null
                )
            )
            // When a slot could turn at the latest is not kept of those that are only scheduled.
            .Where(m => m.Member.Tentative != (m.Tentative is null ? null : m.Tentative with { LatestTurn = m.Tentative.End }))
            .Select(m => (m.Member.Machine, m.Tentative))
            .ToArray();
        if (changed.Length > 0)
            await plans.PutTentativeAsync(stored.Name, changed, clock.GetUtcNow(), stop);
    }

    /// <summary>Makes a plan.</summary>
    /// <exception cref="CommandException">As <see cref="DraftAsync"/>.</exception>
    /// <exception cref="Storage.Databases.StoreException">There is a plan of that name.</exception>
    public async Task<Draft> CreateAsync(string body, Actor actor, SiteScope sites, CancellationToken stop)
    {
        var draft = await DraftAsync(body, sites, stop);
        var stored = draft.Stored with { Revision = 1, CreatedBy = actor.Name, RevisedBy = actor.Name };
        stored = stored with { FirstIntent = PlanApprovals.FirstIntent(stored, draft.Members) };
        await plans.CreateAsync(stored, draft.Members, actor, stop);
        return draft with { Stored = stored };
    }

    /// <summary>Stores a plan's next revision: what has begun stays, and slots that are not in the way of anything do not move.</summary>
    /// <param name="body">The plan, as YAML.</param>
    /// <param name="after">The revision that it was made from; null for whichever there is.</param>
    /// <param name="reason">Why it is changed.</param>
    /// <param name="actor">Who changes it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="CommandException">As <see cref="DraftAsync"/>, or there is no plan of that name, or it has another revision by
    /// now.</exception>
    public async Task<Draft> ReviseAsync(string body, int? after, string reason, Actor actor, CancellationToken stop)
    {
        var draft = await DraftAsync(body, SiteScope.All, stop);
        if (draft.Stored.Revision == 1)
            throw PlanCommands.Unknown(draft.Plan.Name, (await plans.AllAsync(stop)).Select(p => p.Name));
        if (after is { } from && draft.Stored.Revision - 1 is var now && from != now)
            throw new CommandException(
                "plan-changed",
                $"Plan '{draft.Plan.Name}' has revision {now} by now, and what is to be loaded was made from {from}. Look at what was "
                    + $"changed ('gstair plan revisions {draft.Plan.Name}'), and compare again."
            );
        // What was approved or acknowledged is another thing now: nothing further begins until that is asked for again.
        var held = draft.Stored.Held;
        if (draft.Stored.State == PlanState.Started && held is null)
        {
            if (
                draft.Stored.Consent.IsNeeded
                || !(await approvals.NeededAsync((await plans.FindAsync(draft.Plan.Name, stop))!, stop)).IsEmpty
            )
                held = $"revision {draft.Stored.Revision} waits for approval";
            else if ((await acknowledgements.OpenAsync(draft, stop)).Count > 0)
                held = $"revision {draft.Stored.Revision} waits for acknowledgement";
        }

        var stored = draft.Stored with { RevisedBy = actor.Name, Held = held };
        await plans.ReviseAsync(stored, draft.Members, reason, actor, clock.GetUtcNow(), stop);
        return draft with { Stored = stored };
    }

    /// <summary>
    /// Moves a machine that has not begun to another wave. A running plan that was approved is held until somebody approves that too.
    /// </summary>
    /// <exception cref="CommandException">There is no such wave, or the machine has begun.</exception>
    public async Task MoveAsync(StoredPlan plan, Machine machine, string wave, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(machine);
        var member = await PlanCommands.MemberAsync(plans, plan.Name, machine, stop);
        var to = plan.Waves.FirstOrDefault(w => w.Name.Equals(wave, StringComparison.OrdinalIgnoreCase))
            ?? throw new CommandException(
                "unknown-wave",
                $"Plan '{plan.Name}' has no wave '{wave}'; expected one of {string.Join(", ", plan.Waves.Select(w => w.Name))}."
            );
        if (member.Run is not null)
            throw new CommandException("machine-running", $"{machine.Name} has begun (r{member.Run}) and stays in its wave.");
        if (member.Exemption is not null)
            throw new CommandException("machine-exempted", $"{machine.Name} is exempt and in no wave's way.");
        if (member.Wave == to.Number)
            return;
        var members = await plans.MembersAsync(plan.Name, stop);
        var machines = await fleet.AllAsync(stop);
        var pending = Pending(HeldElsewhere.Nothing, members, machines);
        var inWave = members.ToDictionary(m => m.Machine, m => m.Machine == machine.Id ? to.Number : m.Wave);
        if (
            WaveOrder
                .Defer(inWave, m => Before(machines[m], pending), _ => false)
                .FirstOrDefault(d => d.Machine == machine.Id || d.On.Machine == machine.Id) is
            { } late
        )
            throw new CommandException(
                "wave-order",
                $"{machines[late.Machine].Name} depends on {late.On.Name} and cannot go in an earlier wave; move "
                    + $"{(late.Machine == machine.Id ? late.On.Name : machines[late.Machine].Name)} first."
            );
        await plans.MoveAsync(plan.Name, machine.Id, to, reason, actor, clock.GetUtcNow(), stop);
        await approvals.HoldUnlessApprovedAsync(plan.Name, $"{machine.Name} was moved to wave {to.Name}", actor, stop);
    }

    /// <summary>
    /// What the fleet as it is now would change of a plan's membership: machines that came into its scope, left it, or belong to another
    /// wave.
    /// </summary>
    public static ImmutableArray<WaveChange> Proposals(Draft draft, StoredPlan before, IReadOnlyList<Member> members)
    {
        ArgumentNullException.ThrowIfNull(draft);
        ArgumentNullException.ThrowIfNull(before);
        var now = members.ToDictionary(m => m.Machine, m => before.Waves[m.Wave - 1].Name);
        var then = draft.Members.ToDictionary(m => m.Machine, m => draft.Stored.Waves[m.Wave - 1].Name);
        return
        [
            .. now
                .Keys.Union(then.Keys)
                .Select(m => new WaveChange(m, now.GetValueOrDefault(m), then.GetValueOrDefault(m)))
                .Where(c => !string.Equals(c.From, c.To, StringComparison.OrdinalIgnoreCase))
                .OrderBy(c => c.Machine.Value),
        ];
    }

    /// <summary>How slots for machines are asked for, each with the slot that it has.</summary>
    /// <param name="wanting">The machines.</param>
    /// <param name="learnt">How long methods take.</param>
    /// <param name="pending">By name the machines still to be upgraded: whoever depends on one of them goes after it.</param>
    internal static IReadOnlyList<SlotRequest> Requests(
        IEnumerable<(Machine Machine, Assessment Assessment, Slot? Stands)> wanting,
        Experience learnt,
        IReadOnlyDictionary<string, MachineId> pending
    )
    {
        return
        [
            .. wanting.Select(w =>
            {
                var method = w.Assessment.Choice!.Method!;
                return Request(
                    w.Machine,
                    method,
                    learnt.Lengths(w.Assessment.Legs[0].Hop.Name, method, MeasuredRuns.ModelOf(w.Machine)),
                    w.Stands
                ) with
                {
                    After = After(w.Machine, pending),
                };
            }),
        ];
    }

    /// <summary>The machine that a machine depends on, where it is among some; null where it is not.</summary>
    internal static Predecessor? Before(Machine machine, IReadOnlyDictionary<string, MachineId> among) =>
        machine.TextOf(Dependents.HangsOn) is { } on && among.TryGetValue(on, out var before) && before != machine.Id
            ? new(before, on)
            : null;

    /// <summary>After whom a machine goes, as far as that is among some machines.</summary>
    internal static ImmutableArray<Predecessor> After(Machine machine, IReadOnlyDictionary<string, MachineId> among) =>
        Before(machine, among) is { } before ? [before] : [];

    /// <summary>Whether a machine is still to be upgraded: whatever depends on it waits until it is verified, or exempt.</summary>
    internal static bool IsPending(Member member) => member.Status is not (Status.Verified or Status.Done or Status.Exempt);

    /// <summary>By name the machines that are still to be upgraded, by this plan or another.</summary>
    internal static IReadOnlyDictionary<string, MachineId> Pending(
        HeldElsewhere elsewhere,
        IEnumerable<Member> own,
        IReadOnlyDictionary<MachineId, Machine> machines
    )
    {
        var pending = elsewhere.Pending.ToDictionary(p => p.Key, p => p.Value.Machine, StringComparer.OrdinalIgnoreCase);
        foreach (var member in own.Where(IsPending))
            pending[machines[member.Machine].Name] = member.Machine;
        return pending;
    }

    /// <summary>Machines that go in a later wave than the one that chose them, a sentence for each wave.</summary>
    private static IEnumerable<string> Told(IEnumerable<Deferred> deferred, Plan plan, IReadOnlyDictionary<MachineId, Machine> machines)
    {
        foreach (var group in deferred.GroupBy(d => (d.From, d.To)).OrderBy(g => g.Key))
        {
            var first = group.OrderBy(d => machines[d.Machine].Name, StringComparer.OrdinalIgnoreCase).First();
            var others = group.Count() - 1;
            yield return $"{machines[first.Machine].Name}{(others == 0 ? "" : $" and {others} more")} would be in wave "
                + $"{plan.Waves[group.Key.From - 1].Name} and go{(others == 0 ? "es" : "")} in {plan.Waves[group.Key.To - 1].Name}: "
                + $"{machines[first.Machine].Name} depends on {first.On.Name}, which goes then.";
        }
    }

    /// <summary>A leg by a method, as runs pin it.</summary>
    internal static LegSpec Leg(Hop hop, Method method, string? leastBuild) =>
        new(hop.Name, method.Name, method.Steps, method.Rollback.Steps, method.Rollback.Lasts, method.Typical.AfterPointOfNoReturn)
        {
            To = hop.Component is null ? hop.To : "",
            LeastBuild = leastBuild,
        };

    /// <summary>
    /// How a slot for a machine by a method is asked for. One that was given keeps its length, whatever was measured since: nobody is told
    /// another time for that.
    /// </summary>
    internal static SlotRequest Request(Machine machine, Method method, MethodLengths lengths, Slot? stands) =>
        new(machine.Id, machine.Site, stands?.End > stands?.Start ? stands.End - stands.Start : lengths.Slot, lengths.AfterPointOfNoReturn)
        {
            Name = machine.Name,
            Group = machine.Group,
            RollbackLasts = lengths.Rollback,
            Stages = method.Needs.Stages,
            Cluster = machine.TextOf("cluster"),
            Crew = method.Needs.Crew,
            Stands = stands,
        };

    /// <summary>How the next slot of a run is asked for.</summary>
    internal static SlotRequest Request(
        Machine machine,
        RunState run,
        Product product,
        Experience learnt,
        IReadOnlyDictionary<string, MachineId> pending
    )
    {
        var method = product.Method(run.CurrentLeg.Method)!;
        var request = Request(
            machine,
            method,
            learnt.Lengths(run.CurrentLeg.Hop, method, MeasuredRuns.ModelOf(machine)),
            run.NeedsSlot ? null : run.Slot
        ) with
        {
            After = After(machine, pending),
        };
        return run.Phase == Phase.Stage ? request : request with { Stages = 0 };
    }

    /// <summary>The time that somebody chose for a machine, as a slot to begin with; null where nobody did, or it is over.</summary>
    internal static Slot? Chosen(Member member, DateTimeOffset now) => member.Rescheduled is { } at && at > now ? new(at, at, at) : null;

    /// <summary>
    /// The slots that machines have and that are not over. A run that has overrun its slot takes room a while longer; earlier appointments
    /// of a crew count for its day.
    /// </summary>
    internal static TakenSlot[] Taken(
        IEnumerable<Member> members,
        Product product,
        IReadOnlyDictionary<MachineId, Machine> machines,
        DateTimeOffset now
    )
    {
        return
        [
            .. members
                .Where(m => m.Slot is not null && product.Method(m.Method ?? "") is not null)
                .Select(m => (Member: m, Slot: Left(m.Status, m.Slot!), Method: product.Method(m.Method!)!))
                .Where(m => m.Slot is not null)
                .Select(m => new TakenSlot(Request(machines[m.Member.Machine], m.Method, m.Method.Typical, null), m.Slot!)),
        ];

        Slot? Left(Status status, Slot slot)
        {
            if (status is Status.Scheduled or Status.Running && slot.End > now)
                return slot;
            if (status == Status.Running)
                return slot with { End = now + OverdueTakes };
            return slot.Crew is not null && slot.Start <= now && slot.Start > now - CrewsRemember ? slot with { End = slot.Start } : null;
        }
    }

    /// <summary>When a machine that has begun was verified, or will be by its slot; null where that is unknown.</summary>
    private static DateTimeOffset? EndOf(Member member, DateTimeOffset now) =>
        member.Verified
        ?? (
            member.Status is Status.Scheduled or Status.Running && member.Slot is { } slot
                ? slot.End > now
                    ? slot.End
                    : now
                : null
        );

    private static Fitness Fit(Assessment assessment) =>
        new(assessment.CanBePlanned, assessment.Choice?.Method?.Rollback.Lasts > TimeSpan.Zero);

    private static int? NumberIn(StoredWave[] waves, string name) =>
        waves.FirstOrDefault(w => w.Name.Equals(name, StringComparison.OrdinalIgnoreCase))?.Number;

    /// <summary>A plan whose waves that have begun choose nobody any more; one of those that take whoever matches still does.</summary>
    private static Plan Open(Plan plan, StoredWave[] waves) =>
        plan with
        {
            Waves =
            [
                .. plan.Waves.Zip(waves, (spec, wave) =>
                    wave.State != WaveState.Waiting && (spec.Cover ?? (object?)spec.Sample ?? spec.Count) is not null
                        ? spec with
                        {
                            Cover = null,
                            Sample = null,
                            Count = 0,
                        }
                        : spec
                ),
            ],
        };

    /// <summary>The waves of a plan: those of the same name keep what became of them.</summary>
    private static StoredWave[] Waves(Plan plan, StoredPlan? before)
    {
        StoredWave[] waves =
        [
            .. plan.Waves.Select(
                (w, i) =>
                    (
                        before?.Waves.FirstOrDefault(o => o.Name.Equals(w.Name, StringComparison.OrdinalIgnoreCase))
                        ?? new(0, w.Name, WaveState.Waiting, null, null)
                    ) with
                    {
                        Number = i + 1,
                        Name = w.Name,
                    }
            ),
        ];
        foreach (var begun in before?.Waves.Where(w => w.State != WaveState.Waiting) ?? [])
        {
            if (waves.ElementAtOrDefault(begun.Number - 1)?.Name.Equals(begun.Name, StringComparison.OrdinalIgnoreCase) != true)
                throw new CommandException(
                    "wave-begun",
                    $"Wave '{begun.Name}' of plan '{plan.Name}' has begun; it stays wave {begun.Number} of the plan, under that name."
                );
        }

        return waves;
    }
}
