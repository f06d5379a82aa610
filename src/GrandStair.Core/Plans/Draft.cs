using System.Collections.Concurrent;
using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Methods;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Plans;

/// <summary>All that a draft follows from.</summary>
/// <param name="Plan">The plan as its text says it.</param>
/// <param name="Body">Its text.</param>
/// <param name="Product">Its product.</param>
/// <param name="Now">The moment, UTC.</param>
public sealed record DraftFacts(Plan Plan, string Body, Product Product, DateTimeOffset Now)
{
    /// <summary>The plan of its name as it is kept; null where there is none yet.</summary>
    public PlanRecord? Before { get; init; }

    /// <summary>The members that it has.</summary>
    public IReadOnlyList<Member> Members { get; init; } = [];

    /// <summary>The sites that a new plan is for: machines elsewhere are not in it, whatever its scope says.</summary>
    public SiteScope Sites { get; init; } = SiteScope.All;

    /// <summary>The fleet, with machines that left it.</summary>
    public required IReadOnlyDictionary<MachineId, Machine> Machines { get; init; }

    /// <summary>What people decided about machines.</summary>
    public required IReadOnlyDictionary<MachineId, Decisions> Decided { get; init; }

    /// <summary>The calendars by name.</summary>
    public required IReadOnlyDictionary<string, ICalendar> Calendars { get; init; }

    /// <summary>What other plans hold.</summary>
    public required HeldElsewhere Elsewhere { get; init; }

    /// <summary>How long methods take.</summary>
    public required LengthsOf Lengths { get; init; }

    /// <summary>Whether it is asked when each machine would go; else the schedule is empty.</summary>
    public bool MakeSchedule { get; init; } = true;
}

/// <summary>A plan as a text would make it, before anything is kept.</summary>
/// <param name="Record">The plan as it would be kept.</param>
/// <param name="Plan">The plan as it is understood.</param>
/// <param name="Product">The product.</param>
/// <param name="Members">Its members; those that have begun, or are exempt, as they are.</param>
/// <param name="Requests">The requests for slots, by wave.</param>
/// <param name="Taken">The slots that stand whatever else is placed, of this plan and of others.</param>
/// <param name="Pending">By name the machines still to be upgraded, by this plan or another that has started.</param>
/// <param name="Begun">The present state of its waves.</param>
/// <param name="Calendars">The calendars that it was scheduled by.</param>
/// <param name="PlanSchedule">When each would go.</param>
/// <param name="Missing">Machines that a wave lists and that are not in the scope.</param>
/// <param name="NoEffect">What the text says and has no effect, in sentences: what comes too late, and names that nothing has.</param>
public sealed record Draft(
    PlanRecord Record,
    Plan Plan,
    Product Product,
    ImmutableArray<Member> Members,
    IReadOnlyList<IReadOnlyList<SlotRequest>> Requests,
    IReadOnlyList<TakenSlot> Taken,
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

    /// <summary>Finds out what a text would make: the members of its waves, judged, and when each would go.</summary>
    /// <param name="facts">All that it follows from. Where the plan exists, it is that plan changed: what has begun stays.</param>
    /// <exception cref="RefusedException">Nothing is in its scope, the plan has ended, or the text takes away what has begun.</exception>
    public static Draft Of(DraftFacts facts)
    {
        ArgumentNullException.ThrowIfNull(facts);
        return new Drafting(facts).Make();
    }

    /// <summary>
    /// What the fleet as it is now would change of a plan's membership: machines that came into its scope, left it, or belong to another
    /// wave.
    /// </summary>
    /// <param name="before">The plan as it is kept.</param>
    /// <param name="members">Its members.</param>
    public ImmutableArray<WaveChange> Proposals(PlanRecord before, IReadOnlyList<Member> members)
    {
        ArgumentNullException.ThrowIfNull(before);
        var now = members.ToDictionary(m => m.Machine, m => before.Waves[m.Wave - 1].Name);
        var then = Members.ToDictionary(m => m.Machine, m => Record.Waves[m.Wave - 1].Name);
        return
        [
            .. now
                .Keys.Union(then.Keys)
                .Select(m => new WaveChange(m, now.GetValueOrDefault(m), then.GetValueOrDefault(m)))
                .Where(c => !string.Equals(c.From, c.To, StringComparison.OrdinalIgnoreCase))
                .OrderBy(c => c.Machine.Value),
        ];
    }

    /// <summary>What is scheduled for waves to come as things are now, where it differs from what is kept.</summary>
    /// <param name="stored">The plan as it is kept.</param>
    /// <param name="members">Its members.</param>
    public IReadOnlyList<(MachineId Machine, Slot? Tentative)> NewTentative(PlanRecord stored, IEnumerable<Member> members)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var tentative = PlanSchedule.All.ToDictionary(p => p.Machine, p => p.Slot);
        var waiting = stored.Waves.Where(w => w.State == WaveState.Waiting).Select(w => w.Number).ToHashSet();
        Slot? Of(Member m) =>
            m is { Run: null, Exemption: null, Slot: null } && waiting.Contains(m.Wave) ? tentative.GetValueOrDefault(m.Machine) : null;
        return [.. members.Where(m => m.Schedule(Of(m)) != m).Select(m => (m.Machine, Of(m)))];
    }

    /// <summary>Makes one draft.</summary>
    private sealed class Drafting
    {
        private readonly DraftFacts _facts;
        private readonly DateTimeOffset _now;
        private readonly Plan _plan;
        private readonly Aim _aim;
        private readonly WaveProgress[] _waves;

        /// <summary>The members that have begun, or are exempt, under the numbers that their waves have now.</summary>
        private readonly Member[] _begun;

        /// <summary>Those that a person moved, or whose wave has begun: they stay there.</summary>
        private readonly Member[] _staying;

        // Judging takes longest by far, and each machine is judged once.
        private readonly ConcurrentDictionary<MachineId, Assessment> _judged = new();

        public Drafting(DraftFacts facts)
        {
            _facts = facts;
            _now = facts.Now;
            var before = facts.Before;
            if (before is { State: PlanStatus.Ended })
                throw RefusedException.Conflict("plan-ended", $"Plan '{facts.Plan.Name}' has ended; give the new one another name.");
            _waves = WavesOf(facts.Plan, before);
            // What has begun waits for no begin any more.
            _plan = facts.Plan with
            {
                Waves =
                [
                    .. facts.Plan.Waves.Zip(_waves, (spec, wave) =>
                        wave.State == WaveState.Waiting ? spec : spec with { NotBefore = null }
                    ),
                ],
            };
            _aim = PlanSlots.AimOf(_plan, facts.Product);
            _begun =
            [
                .. facts.Members.Where(m => m.Run is not null || m.Exemption is not null).Select(m => m with { Wave = NewNumber(m) }),
            ];
            _staying =
            [
                .. facts.Members.Where(m => m is { Run: null, Exemption: null } && Stays(m)).Select(m => m with { Wave = NewNumber(m) }),
            ];
        }

        private IReadOnlyDictionary<MachineId, Machine> Machines => _facts.Machines;

        public Draft Make()
        {
            var apart = _begun.Concat(_staying).Select(m => m.Machine).ToHashSet();
            var inScope = Machines
                .Values.Where(m => m is { IsInFleet: true, IsInService: true } && _facts.Sites.Holds(m.Site) && !apart.Contains(m.Id))
                .ToArray();
            var others = _facts.Members.Select(m => m.Machine).ToHashSet();
            bool IsLeftToOther(Machine m) =>
                _facts.Before?.State == PlanStatus.Started && !others.Contains(m.Id) && _facts.Elsewhere.Pending.ContainsKey(m.Name);
            var free = inScope.Where(m => !IsLeftToOther(m)).ToArray();
            JudgeAll(free);
            var membership = Membership.Of(WithBegunWavesClosed(), free, _now, m => Fit(Judge(m)));
            if (membership.Waves.All(w => w.IsEmpty) && apart.Count == 0)
                throw EmptyScope(membership.Undecided.Length);
            var (going, deferred) = Deferred(Going(membership));
            var shared = _facts.Elsewhere.Shared(
                _facts.Before?.State == PlanStatus.Started
                    ? inScope.Where(m => IsLeftToOther(m) && IsInScope(m))
                    : going.Select(m => Machines[m.Machine])
            );
            var pending = PlanSlots.Pending(_facts.Elsewhere, going.Where(m => !Judge(m).Route.Arrived).Concat(_begun), Machines);
            var requests = RequestsOf(going, pending);
            TakenSlot[] taken = [.. PlanSlots.Taken(_begun, _facts.Product, Machines, _now), .. _facts.Elsewhere.Slots];
            BegunWave[] begun = [.. _waves.Select(BegunOf)];
            var schedule = _facts.MakeSchedule
                ? PlanSchedule.Of(_plan, _facts.Calendars, requests, taken, begun, _now)
                : new PlanSchedule([]);
            return new(
                RecordOf(membership),
                _plan,
                _facts.Product,
                [.. _begun, .. Drafted(going, schedule)],
                requests,
                taken,
                pending,
                begun,
                _facts.Calendars,
                schedule,
                membership.Missing,
                [.. TooLate(), .. Unknown(), .. Told(deferred), .. Shared(shared)]
            );
        }

        private Assessment Judge(Member member) => Judge(Machines[member.Machine]);

        private Assessment Judge(Machine machine) =>
            _judged.GetOrAdd(machine.Id, _ =>
                Assessment.Of(_aim, machine, Moment.Planning, _now, _facts.Decided.GetValueOrDefault(machine.Id))
            );

        /// <summary>Judges, on all processors, the machines that will be asked about.</summary>
        private void JudgeAll(Machine[] free) =>
            Parallel.ForEach(free.Where(IsInScope).Concat(_staying.Select(m => Machines[m.Machine])), machine => Judge(machine));

        private bool IsInScope(Machine machine) => _plan.Scope.Ask(machine, new EvaluationContext(_now)).Value == Kleene.Yes;

        private static Fitness Fit(Assessment assessment) =>
            new(assessment.CanBePlanned, assessment.Choice?.Method?.Rollback.Lasts > TimeSpan.Zero);

        /// <summary>
        /// The plan whose waves that have begun choose nobody any more; one of those that take whoever matches still does.
        /// </summary>
        private Plan WithBegunWavesClosed() =>
            _plan with
            {
                Waves =
                [
                    .. _plan.Waves.Zip(_waves, (spec, wave) =>
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

        private Member[] Going(Membership membership)
        {
            var known = _facts.Members.ToDictionary(m => m.Machine);
            Member MemberOf(Machine machine, int wave) =>
                known.GetValueOrDefault(
                    machine.Id,
                    new Member
                    {
                        Plan = _plan.Name,
                        Machine = machine.Id,
                        Wave = 0,
                    }
                ) with
                {
                    Wave = wave,
                };
            return [.. membership.Waves.SelectMany((wave, i) => wave.Select(m => MemberOf(m, i + 1))), .. _staying];
        }

        /// <summary>No machine goes in an earlier wave than one that it depends on.</summary>
        private (Member[] Going, IReadOnlyCollection<Deferred> Deferred) Deferred(Member[] going)
        {
            var own = PlanSlots.Pending(HeldElsewhere.Nothing, going.Concat(_begun), Machines);
            var stays = _begun
                .Concat(_staying)
                .Concat(going.Where(m => _waves[m.Wave - 1].State != WaveState.Waiting))
                .Select(m => m.Machine)
                .ToHashSet();
            var deferred = WaveOrder
                .Defer(
                    going.Concat(_begun.Where(m => m.IsPending)).ToDictionary(m => m.Machine, m => m.Wave),
                    m => PlanSlots.Before(Machines[m], own),
                    stays.Contains
                )
                .ToDictionary(d => d.Machine);
            Member[] later = [.. going.Select(m => deferred.TryGetValue(m.Machine, out var to) ? m with { Wave = to.To } : m)];
            return (later, deferred.Values);
        }

        private IReadOnlyList<SlotRequest>[] RequestsOf(Member[] going, IReadOnlyDictionary<string, MachineId> pending)
        {
            Slot? Stands(Member m, WaveProgress wave) =>
                (wave.State == WaveState.Waiting || m.Slot?.Start < _now ? null : m.Slot) ?? m.ChosenSlot(_now);
            return
            [
                .. _waves.Select(wave =>
                    PlanSlots.Requests(
                        going
                            .Where(m => m.Wave == wave.Number && Judge(m).CanBePlanned)
                            .Select(m => (Machines[m.Machine], Judge(m), Stands(m, wave))),
                        _facts.Lengths,
                        pending
                    )
                ),
            ];
        }

        private BegunWave BegunOf(WaveProgress wave) =>
            new([.. _begun.Where(m => m.Wave == wave.Number).Select(EndOf).OfType<DateTimeOffset>()], wave.State == WaveState.Passed);

        /// <summary>When a machine that has begun was verified, or will be by its slot; null where that is unknown.</summary>
        private DateTimeOffset? EndOf(Member member)
        {
            if (member.Verified is { } verified)
                return verified;
            if (member.Status is not (Status.Scheduled or Status.Running) || member.Slot is not { } slot)
                return null;
            return slot.End > _now ? slot.End : _now;
        }

        private IEnumerable<Member> Drafted(Member[] going, PlanSchedule schedule)
        {
            var placed = schedule.All.ToDictionary(p => p.Machine);
            return going.Select(m =>
            {
                var place = placed.GetValueOrDefault(m.Machine);
                var hasBegun = _waves[m.Wave - 1].State != WaveState.Waiting;
                var planned = m with { PlannedStart = place?.Slot?.Start, PlannedEnd = place?.Slot?.End, Tentative = place?.Slot };
                return planned.Judge(Judge(m), hasBegun || place is null ? place : place with { Slot = null });
            });
        }

        private PlanRecord RecordOf(Membership membership)
        {
            var before = _facts.Before;
            return new(
                _plan.Name,
                (before?.Revision ?? 0) + 1,
                _facts.Body,
                _facts.Product.Hash,
                before?.State ?? PlanStatus.Drafted,
                before?.Held,
                before?.Created ?? _now,
                before?.CreatedBy ?? "",
                before?.Started,
                null,
                [.. membership.Undecided.Select(u => new UndecidedMachine(u.Machine.Id.Value, u.Machine.Name, u.Why))],
                _waves
            )
            {
                Sites = _facts.Sites,
                Consent = ConsentRule.Of(_plan),
                Coverages =
                [
                    .. (before?.Coverages ?? []).Where(c => _waves.Any(w => w.Name == c.Wave && w.State != WaveState.Waiting)),
                    .. membership.Coverages,
                ],
            };
        }

        private bool Stays(Member member)
        {
            var wave = _facts.Before!.Waves[member.Wave - 1];
            return (member.MovedReason is not null || wave.State != WaveState.Waiting) && NumberOf(wave.Name) is not null;
        }

        private int NewNumber(Member member) => NumberOf(_facts.Before!.Waves[member.Wave - 1].Name) ?? _waves.Length;

        private int? NumberOf(string wave) => _waves.FirstOrDefault(w => w.Name.Equals(wave, StringComparison.OrdinalIgnoreCase))?.Number;

        private IEnumerable<string> TooLate() =>
            _facts
                .Plan.Waves.Zip(_waves)
                .Where(w => w.Second.Opened is { } began && w.First.NotBefore > began)
                .Select(w =>
                    $"{w.First.Name} has begun on {w.Second.Opened:yyyy-MM-dd HH:mm} UTC; that it begins not before "
                    + $"{w.First.NotBefore:yyyy-MM-dd HH:mm} changes nothing any more."
                );

        /// <summary>Names that nothing has. A planner of some sites learns nothing of names elsewhere.</summary>
        private IReadOnlyList<string> Unknown() =>
            UnknownNames.In(_facts.Plan, _facts.Product, [.. Machines.Values.Where(m => m.IsInFleet && _facts.Sites.Holds(m.Site))]);

        /// <summary>Machines that go in a later wave than the one that chose them, a sentence for each wave.</summary>
        private IEnumerable<string> Told(IEnumerable<Deferred> deferred)
        {
            foreach (var group in deferred.GroupBy(d => (d.From, d.To)).OrderBy(g => g.Key))
            {
                var first = group.OrderBy(d => Machines[d.Machine].Name, StringComparer.OrdinalIgnoreCase).First();
                var name = Machines[first.Machine].Name;
                var others = group.Count() - 1;
                yield return $"{name}{(others == 0 ? "" : $" and {others} more")} would be in wave {_plan.Waves[group.Key.From - 1].Name} "
                    + $"and go{(others == 0 ? "es" : "")} in {_plan.Waves[group.Key.To - 1].Name}: {name} depends on {first.On.Name}, "
                    + $"which goes then.";
            }
        }

        private IEnumerable<string> Shared(string? shared)
        {
            if (shared is null)
                yield break;
            yield return _facts.Before?.State == PlanStatus.Started
                ? $"{shared}. They are left to it."
                : $"{shared}. This plan can start when they are done or exempt there, or are left out of its scope.";
        }

        private RefusedException EmptyScope(int undecided) =>
            RefusedException.Conflict(
                "empty-scope",
                $"No machine is in the scope of plan '{_plan.Name}' ({_plan.Scope})"
                    + $"{(undecided == 0 ? "" : $"; for {undecided} it is unknown")}. "
                    + $"See 'gstair fleet list' with the same condition."
            );

        /// <summary>The waves of a plan: those of the same name keep what became of them.</summary>
        private static WaveProgress[] WavesOf(Plan plan, PlanRecord? before)
        {
            WaveProgress Of(WaveSpec spec, int number)
            {
                var known = before?.Waves.FirstOrDefault(o => o.Name.Equals(spec.Name, StringComparison.OrdinalIgnoreCase));
                return (known ?? new(0, spec.Name, WaveState.Waiting, null, null)) with { Number = number, Name = spec.Name };
            }

            WaveProgress[] waves = [.. plan.Waves.Select((w, i) => Of(w, i + 1))];
            foreach (var begun in before?.Waves.Where(w => w.State != WaveState.Waiting) ?? [])
            {
                if (waves.ElementAtOrDefault(begun.Number - 1)?.Name.Equals(begun.Name, StringComparison.OrdinalIgnoreCase) != true)
                    throw RefusedException.Conflict(
                        "wave-begun",
                        $"Wave '{begun.Name}' of plan '{plan.Name}' has begun; it stays wave {begun.Number} of the plan, under that name."
                    );
            }

            return waves;
        }
    }
}

/// <summary>A machine that would be in another wave.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="From">The wave that it is in; null where it is in none.</param>
/// <param name="To">The wave that it would be in; null where it would be in none.</param>
public sealed record WaveChange(MachineId Machine, string? From, string? To);
