using System.Collections.Immutable;
using GrandStair.Core.Approvals;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Plans;

/// <summary>
/// Takes a plan that has started one step further: opens waves by the advance rule, judges machines, gives slots, opens runs, and ends the
/// plan. Pure: the same plan, facts and moment give the same changes.
/// </summary>
public static class PlanProgress
{
    /// <summary>How long before its readings grow too old a machine is read again.</summary>
    public static readonly TimeSpan ReadAhead = TimeSpan.FromHours(24);

    /// <summary>How long after no slot was found for a machine it is looked for again.</summary>
    public static readonly TimeSpan SearchAgain = TimeSpan.FromHours(1);

    /// <summary>Why a plan goes on hold whose change only its consequence shows.</summary>
    public const string SomeChange = "what it is going to do was changed";

    /// <summary>What changes in a plan at a moment.</summary>
    /// <param name="state">The plan.</param>
    /// <param name="facts">What it follows from.</param>
    /// <param name="now">The moment, UTC.</param>
    public static PlanChanges Step(PlanState state, PlanFacts facts, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(state);
        ArgumentNullException.ThrowIfNull(facts);
        // Nothing is opened that was not approved: the approvals are of the very members that runs are opened for below.
        return Consent.MayGoOn(facts.Approvals)
            ? new Stepping(state, facts, now).Make()
            : new() { Hold = SomeChange, Memory = state.Memory };
    }

    /// <summary>One step.</summary>
    private sealed class Stepping
    {
        private readonly PlanState _state;
        private readonly PlanFacts _facts;
        private readonly DateTimeOffset _now;
        private readonly Aim _aim;
        private readonly Judged[] _judged;
        private readonly IReadOnlyDictionary<string, MachineId> _pending;
        private readonly bool _isChanged;
        private readonly ILookup<MachineId, Slot> _elsewhere;
        private readonly Dictionary<MachineId, Member> _members;
        private PlanMemory _memory;
        private DateTimeOffset? _next;

        public Stepping(PlanState state, PlanFacts facts, DateTimeOffset now)
        {
            (_state, _facts, _now, _memory) = (state, facts, now, state.Memory);
            _members = state.Members.ToDictionary(m => m.Machine);
            _elsewhere = facts.Elsewhere.Slots.ToLookup(s => s.Of.Machine, s => s.Slot);
            _aim = PlanSlots.AimOf(Plan, state.Product);
            Member[] open = [.. state.Members.Where(m => m is { Run: null, Exemption: null })];
            (var assessments, var assessed) = _memory.Assessed.Assess(state, _aim, facts, open.Select(m => Machines[m.Machine]), now);
            _memory = _memory with { Assessed = assessed };
            _judged = [.. open.Zip(assessments, (m, a) => new Judged(m, Machines[m.Machine], a))];
            var arrived = _judged.Where(j => j.Assessment.Route.Arrived).Select(j => j.Member.Machine).ToHashSet();
            _pending = PlanSlots.Pending(facts.Elsewhere, state.Members.Where(m => !arrived.Contains(m.Machine)), Machines);
            // Slots stand as long as nothing that they were scheduled by has changed; otherwise each is looked at again, and moves only
            // where it has to.
            _isChanged = (_memory.ScheduledBy ?? facts.ScheduledBy) != facts.ScheduledBy;
        }

        private Plan Plan => _state.Plan;

        private IReadOnlyDictionary<MachineId, Machine> Machines => _facts.Machines;

        public PlanChanges Make()
        {
            var waves = Advance();
            var placed = Place(waves);
            Judged[] after =
            [
                .. _judged.Select(j => j with { Member = j.Member.Judge(j.Assessment, placed.GetValueOrDefault(j.Member.Machine)) }),
            ];
            foreach (var judged in after)
                _members[judged.Member.Machine] = judged.Member;
            var openings = Openings(after, waves);
            var moves = Move();
            LookAgain(after);
            return new()
            {
                Waves = [.. waves.Except(_state.Record.Waves)],
                Members = [.. after.Zip(_judged).Where(a => a.First.Member != a.Second.Member).Select(a => a.First.Member)],
                Openings = openings,
                Moves = moves,
                ToRead = [.. ToRead()],
                Ends = _members.Values.All(m => m.Status is Status.Done or Status.Exempt),
                Next = _next,
                Memory = _memory with { ScheduledBy = _facts.ScheduledBy },
            };
        }

        /// <summary>Opens the first wave, and each next one when the rule holds for the one before.</summary>
        private WaveProgress[] Advance()
        {
            WaveProgress[] waves = [.. _state.Record.Waves];
            for (var i = 0; i < waves.Length; i++)
            {
                if (waves[i].State == WaveState.Waiting && (i == 0 || waves[i - 1].State == WaveState.Passed))
                    waves[i] = waves[i].Begin(Plan.Waves[i], IsApproved(waves[i]), _now);
                if (waves[i].State == WaveState.Waiting && Plan.Waves[i].NotBefore is { } begins)
                    NoteNext(begins);
                if (waves[i].State == WaveState.Open)
                    waves[i] = Pass(waves[i]);
            }

            return waves;
        }

        private bool IsApproved(WaveProgress wave) => Consent.MayOpenRuns(_facts.Approvals, wave.Name, hasBegun: false);

        private WaveProgress Pass(WaveProgress wave)
        {
            var own = _state.Members.Where(m => m.Wave == wave.Number).ToArray();
            string[] lapsed =
            [
                .. own.Where(m => IsLapsed(m, wave.Opened)).Select(m => Machines[m.Machine].Name).Order(StringComparer.OrdinalIgnoreCase),
            ];
            var verified = own.Select(m => m.Verified).OfType<DateTimeOffset>();
            var advance = Plan.Advance.Evaluate(new(own.Select(m => m.Status)), verified, _now, lapsed);
            NoteNext(advance.Until);
            return wave with { Why = advance.Why, State = advance.Holds ? WaveState.Passed : WaveState.Open };
        }

        /// <summary>Whether a machine of an open wave had a time, and has become not ready since the wave opened.</summary>
        private static bool IsLapsed(Member member, DateTimeOffset? opened) =>
            member is { Status: Status.NotReady, Run: null, TimeChanges: > 0 } && member.Lapsed > opened;

        /// <summary>Looks for slots for machines of waves that have begun and have none, or one that they can no longer have.</summary>
        private Dictionary<MachineId, Placed> Place(WaveProgress[] waves)
        {
            var wanting = _judged
                .Where(j => waves[j.Member.Wave - 1].State != WaveState.Waiting && j.Assessment.CanBePlanned && NeedsSlot(j))
                .ToArray();
            if (wanting.Length == 0 || IsInVain(wanting.Select(w => w.Member.Machine), _memory.Machines, _memory.MachinesUntil))
                return [];
            var lead = wanting.Max(w => Plan.LeadFor(w.Assessment.Choice!.Method!.Steps));
            var requests = PlanSlots
                .Requests(wanting.Select(w => (w.Machine, w.Assessment, Stands(w.Member))), _facts.Lengths, _pending)
                .Select(r => r.Stands is null ? r with { NotBefore = _now + lead } : r);
            var placed = SlotPlacer.Place(CaseOf([.. requests])).All;
            if (placed.Any(p => p.Slot is null))
                _memory = _memory with { Machines = Without(placed), MachinesUntil = _now + SearchAgain };
            return placed.ToDictionary(p => p.Machine);
        }

        private bool NeedsSlot(Judged judged) =>
            _isChanged || judged.Member.Slot is not { } slot || slot.LatestTurn < _now || IsBeforeWhatItDependsOn(judged.Machine, slot);

        private Slot? Stands(Member member) => (member.Slot?.LatestTurn < _now ? null : member.Slot) ?? member.ChosenSlot(_now);

        private static ImmutableHashSet<MachineId> Without(IEnumerable<Placed> placed) =>
            [.. placed.Where(p => p.Slot is null).Select(p => p.Machine)];

        /// <summary>Whether nothing has changed for any of them since no slot was found.</summary>
        private bool IsInVain(IEnumerable<MachineId> wanting, ImmutableHashSet<MachineId> before, DateTimeOffset until) =>
            !_isChanged && _now < until && wanting.All(before.Contains);

        /// <summary>Opens the runs of machines whose staging is due.</summary>
        private ImmutableArray<RunOpening> Openings(Judged[] after, WaveProgress[] waves)
        {
            var openings = ImmutableArray.CreateBuilder<RunOpening>();
            foreach (var (member, machine, assessment) in after.Where(a => a.Member.Slot is not null))
            {
                var stage = member.Slot!.StageFrom ?? (member.Slot.Start - Plan.StageAhead);
                var wave = waves[member.Wave - 1].Name;
                NoteNext(stage);
                NoteNext(member.Slot.LatestTurn);
                if (stage > _now || !Consent.MayOpenRuns(_facts.Approvals, wave, hasBegun: true))
                    continue;
                var legs = assessment.Legs.Select(l => PlanSlots.Leg(l.Hop, l.Method!, _aim.LeastBuildOf(l.Hop, machine), Plan.Patches));
                openings.Add(new(member, wave, [.. legs]));
            }

            return openings.ToImmutable();
        }

        /// <summary>
        /// Gives another slot to runs that missed theirs, and to those that wait for one that they can no longer have: to all of them
        /// together, so that none is in another's way.
        /// </summary>
        private ImmutableArray<RunMove> Move()
        {
            var moving = new Dictionary<MachineId, (RunState Run, string Why)>();
            foreach (var member in _members.Values.Where(m => m is { Status: Status.Scheduled, Run: not null, Slot: not null }))
            {
                NoteNext(member.Slot!.LatestTurn);
                if (_facts.Runs.GetValueOrDefault(member.Run!.Value) is { } run && WhyMoved(member, run) is { } why)
                    moving[member.Machine] = (run, why);
            }

            if (moving.Count == 0 || IsInVain(moving.Keys, _memory.Runs, _memory.RunsUntil))
                return [];
            var requests = moving.Select(m => PlanSlots.Request(Machines[m.Key], m.Value.Run, _state.Product, _facts.Lengths, _pending));
            var placed = SlotPlacer.Place(CaseOf([.. requests])).All;
            if (placed.Any(p => p.Slot is null))
                _memory = _memory with { Runs = Without(placed), RunsUntil = _now + SearchAgain };
            return
            [
                .. placed
                    .Select(p => (p.Slot, Moving: moving[p.Machine], p.Why))
                    // A slot that is only looked at again may stay where it is.
                    .Where(p => p.Slot is null || p.Moving.Run.NeedsSlot || p.Slot.Start != p.Moving.Run.Slot.Start)
                    .Select(p => new RunMove(p.Moving.Run, p.Slot, p.Slot is null ? p.Why! : p.Moving.Why)),
            ];
        }

        private string? WhyMoved(Member member, RunState run)
        {
            var isToCome = member.Slot!.Start > _now && run.Slot.Start > _now;
            if (run.NeedsSlot)
                return "the slot before was missed";
            if (isToCome && IsBeforeWhatItDependsOn(Machines[member.Machine], member.Slot))
                return "what it depends on goes later";
            return isToCome && _isChanged ? "its windows were changed" : null;
        }

        /// <summary>Whether a slot begins before the slot of what its machine depends on is over.</summary>
        private bool IsBeforeWhatItDependsOn(Machine machine, Slot slot) =>
            PlanSlots.Before(machine, _pending) is { } before && LastSlotOf(before.Machine) is { } first && slot.Start < first.End;

        private Slot? LastSlotOf(MachineId machine) =>
            _elsewhere[machine].Append(_members.GetValueOrDefault(machine)?.Slot).MaxBy(s => s?.End);

        /// <summary>Some requests among all slots that others have.</summary>
        private ScheduleCase CaseOf(IReadOnlyList<SlotRequest> requests)
        {
            var wanting = requests.Select(r => r.Machine).ToHashSet();
            var others = PlanSlots.Taken(_members.Values.Where(m => !wanting.Contains(m.Machine)), _state.Product, Machines, _now);
            return new(Plan, _facts.Calendars, requests, [.. others, .. _facts.Elsewhere.Slots], _now);
        }

        /// <summary>Machines that are worth reading again, so that what was fixed meanwhile is seen and nothing grows too old.</summary>
        private IEnumerable<MachineId> ToRead()
        {
            var waiting = _state
                .Members.Where(m => m is { Status: Status.Scheduled, Run: not null })
                .Where(m => Machines[m.Machine].Find(_state.Product.VersionKey)?.Seen < _now - ReadAhead)
                .Select(m => m.Machine);
            var judged = _judged
                .Where(j => j.Assessment.State != GateState.Open || j.Assessment.Route.Arrived || j.Assessment.Until < _now + ReadAhead)
                .Select(j => j.Member.Machine);
            return waiting.Concat(judged);
        }

        private void LookAgain(Judged[] after)
        {
            foreach (var judged in after)
                NoteNext(judged.Assessment.Until);
            if (!_memory.Machines.IsEmpty)
                NoteNext(_memory.MachinesUntil);
            if (!_memory.Runs.IsEmpty)
                NoteNext(_memory.RunsUntil);
        }

        private void NoteNext(DateTimeOffset? at)
        {
            if (at > _now && (_next is null || at < _next))
                _next = at;
        }

        private sealed record Judged(Member Member, Machine Machine, Assessment Assessment);
    }
}
