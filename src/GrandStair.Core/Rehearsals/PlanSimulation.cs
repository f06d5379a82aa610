using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using NodaTime;

namespace GrandStair.Core.Rehearsals;

/// <summary>
/// One simulation of a whole plan in simulated time: the run machine of every machine, from event to event, with the waves, slots and
/// limits as the engine keeps them.
/// </summary>
internal sealed class PlanSimulation
{
    private readonly Prepared _case;
    private readonly IWorldModel _outside;
    private readonly PriorityQueue<Due, When> _due = new();
    private readonly RunTree _tree = new();
    private readonly RunTree.Node?[] _runs;
    private readonly Slot?[] _slots;

    /// <summary>Where each machine stands; whom nobody makes ready, or tries again, counts as exempt.</summary>
    private readonly Status[] _statuses;
    private readonly int[] _passages;
    private readonly SimulatedResult[] _results;
    private readonly int[] _orders;
    private readonly int[] _begun;
    private readonly DateTimeOffset[] _since;
    private readonly int[] _waitsFor;
    private readonly Room _room;
    private readonly WaveTally[] _waves;
    private readonly Dictionary<(int Site, DateTimeOffset Window), TimeSpan> _booked = [];

    /// <summary>By crew and day how many appointments it has.</summary>
    private readonly Dictionary<(string Crew, LocalDate Day), int> _appointments = [];

    /// <summary>
    /// By machine those that depend on it and wait until it has a slot, and those that wait in their slot until it is verified.
    /// </summary>
    private readonly List<int>?[] _waitForSlot;
    private readonly List<int>?[] _waitForVerification;
    private long _pushed;
    private DateTimeOffset _now;

    public PlanSimulation(Prepared prepared, IWorldModel outside)
    {
        (_case, _outside) = (prepared, outside);
        var count = prepared.Machines.Length;
        _runs = new RunTree.Node?[count];
        _slots = [.. prepared.Machines.Select(m => m.Run?.Slot ?? m.Slot)];
        _statuses = new Status[count];
        Array.Fill(_statuses, Status.Ready);
        _passages = new int[count];
        _results = new SimulatedResult[count];
        _orders = new int[count];
        _begun = new int[count];
        _since = new DateTimeOffset[count];
        _waitsFor = new int[count];
        Array.Fill(_waitsFor, -1);
        Array.Fill(_begun, -1);
        _room = new(prepared);
        _waitForSlot = new List<int>?[count];
        _waitForVerification = new List<int>?[count];
        _waves = [.. prepared.Plan.Waves.Select((_, w) => new WaveTally(prepared.Members[w].Length))];
        Result = new(prepared);
        _now = prepared.From;
    }

    /// <summary>What came of it.</summary>
    public SimulationResult Result { get; }

    private enum What : byte
    {
        Wave,
        Advance,
        Fixed,
        Open,
        Tend,
        Ended,
        Overdue,
        Decide,
        Again,
        OtherBegins,
        OtherEnds,
    }

    /// <summary>Goes from the first event to the last.</summary>
    public void Run(CancellationToken stop)
    {
        Begin();
        for (var events = 0; _due.TryDequeue(out var due, out var when) && when.At <= _case.To; events++)
        {
            if ((events & 0xFFF) == 0)
                stop.ThrowIfCancellationRequested();
            _now = when.At;
            Handle(due);
        }
    }

    private void Begin()
    {
        for (var m = 0; m < _runs.Length; m++)
        {
            var machine = _case.Machines[m];
            if (machine.Run is { } run)
                Resume(m, run);
            else if (!machine.Ready)
                Move(m, Status.NotReady);
            else if (machine.Slot is not null && _case.Waves[machine.Wave].Opened is not null)
                Schedule(m, machine.Slot);
        }

        for (var other = 0; other < _case.Others.Length; other++)
        {
            var slot = _case.Others[other].Slot;
            CountAppointment(slot);
            if (slot.End <= _now)
                continue;
            Push(slot.Start > _now ? slot.Start : _now, What.OtherBegins, other);
            Push(slot.End, What.OtherEnds, other);
        }

        for (var w = 0; w < _waves.Length; w++)
        {
            // From here on they are verified in order.
            _waves[w].VerifiedAt.Sort();
            if (_case.Waves[w].Passed)
                _waves[w].Passed = true;
            if (_case.Waves[w].Opened is { } opened)
                Open(w, opened);
        }

        if (_waves.Length > 0 && _waves[0].Opened is null)
            BeginWave(0);
        for (var w = 0; w < _waves.Length; w++)
            Judge(w);
    }

    /// <summary>Continues a run from its present state.</summary>
    private void Resume(int m, RunState run)
    {
        if (run.Verified is { } verified && (run.Outcome is null or Outcome.Done))
        {
            Verify(m, verified);
            return;
        }

        _passages[m] = 1;
        if (run.Closed is not null)
        {
            End(m);
            return;
        }

        Move(m, run.Parked is null ? Status.Running : Status.Parked);
        CountAppointment(run.Slot);
        _runs[m] = RunTree.At(run);
        if (run.NeedsRoom || run.HoldsCluster)
            _room.Take(m, run.Slot.Crew);
        _since[m] = _now;
        // What was asked for before now may have its time already.
        Follow(m, run.Outstanding?.NotBefore);
    }

    private void Handle(Due due)
    {
        var m = due.Of;
        switch (due.What)
        {
            case What.Wave:
                // Several machines may have let it begin at the same moment.
                if (_waves[m].Opened is null)
                    Open(m, _now);
                return;
            case What.Advance:
                Judge(m);
                return;
            case What.Fixed:
                Result.Wait(m, Cause.Fixing, _now - _since[m]);
                Move(m, Status.Ready);
                Late(m);
                return;
            case What.Open:
                OpenRun(m);
                return;
            case What.OtherBegins:
                _room.TakeForOther(m);
                return;
            case What.OtherEnds:
                foreach (var limit in _room.ReleaseOther(m))
                    Wake(limit);
                return;
            case What.Again:
                Result.Wait(m, Cause.People, _now - _since[m]);
                _runs[m] = null;
                Move(m, Status.Ready);
                Late(m);
                return;
            case What.Tend:
                if (due.Order == _orders[m])
                    Tend(m);
                return;
            case What.Ended:
                if (due.Order == _orders[m])
                    Take(m, RunTree.HappeningKind.Ended, (int)_results[m].Result);
                return;
            case What.Overdue:
                if (due.Order == _orders[m])
                    Take(m, RunTree.HappeningKind.Overdue);
                return;
            default:
                if (due.Order == _orders[m] && _runs[m]!.Run.Parked is not null)
                    Take(m, RunTree.HappeningKind.Decided, (int)due.Decision);
                return;
        }
    }

    /// <summary>Begins a wave: machines that are ready get slots, others are fixed first.</summary>
    private void Open(int w, DateTimeOffset at)
    {
        _waves[w].Opened = at;
        Result.Opened[w] = at;
        var wanting = new List<int>();
        foreach (var m in _case.Members[w])
        {
            if (_statuses[m] == Status.NotReady)
            {
                _since[m] = _now;
                if (_case.Machines[m].CanBeFixed && _outside.Fix(_case.Machines[m], _now - at) is { } after)
                    Push(at + after > _now ? at + after : _now, What.Fixed, m);
                else
                    Move(m, Status.Exempt);
            }
            else if (_statuses[m] == Status.Ready)
            {
                Result.Wait(m, Cause.Waves, _now - _case.From);
                wanting.Add(m);
            }
        }

        if (wanting.Count > 0)
            Give(wanting);
        Judge(w);
    }

    /// <summary>Gives slots to machines that are ready, as the engine does.</summary>
    private void Give(List<int> wanting)
    {
        var taken = new List<TakenSlot>(_case.Others);
        for (var m = 0; m < _slots.Length; m++)
        {
            if (_slots[m] is not { } slot)
                continue;
            if (_statuses[m] is Status.Scheduled or Status.Running && slot.End > _now)
                taken.Add(new(_case.Machines[m].Request, slot));
            else if (slot.Crew is not null && _statuses[m] is not (Status.Ready or Status.NotReady))
                taken.Add(new(_case.Machines[m].Request, slot with { End = slot.Start }));
        }

        var lead = wanting.Max(m => _case.Lead[m]);
        var requests = wanting
            .Select(m =>
                IsPending(_case.Before[m]) || _case.Before[m] < 0
                    ? _case.Machines[m].Request
                    : _case.Machines[m].Request with
                    {
                        After = [],
                    }
            )
            .Select(r => r with { NotBefore = _now + lead, Stands = r.Stands?.Start > _now + lead ? r.Stands : null })
            .ToArray();
        var schedule = SlotPlacer.Place(new(_case.Plan, _case.Calendars, requests, taken, _now) { Thorough = false, Known = _case.Times });
        foreach (var (m, placed) in wanting.Zip(schedule.All))
        {
            if (placed.Slot is { } slot)
            {
                Await(m, _now + lead, slot);
                Schedule(m, slot);
            }
            else if (!WaitsForSlot(m))
            {
                Move(m, Status.Exempt);
            }
        }
    }

    /// <summary>Whether a machine is still to be upgraded.</summary>
    private bool IsPending(int m) => m >= 0 && _statuses[m] is not (Status.Verified or Status.Done or Status.Exempt);

    /// <summary>Lets a machine wait for the slot of the one that it depends on, where that is what it lacks.</summary>
    private bool WaitsForSlot(int m)
    {
        if (_case.Before[m] is var before && (!IsPending(before) || _statuses[before] is Status.Scheduled or Status.Running))
            return false;
        (_waitForSlot[before] ??= []).Add(m);
        return true;
    }

    /// <summary>Processes the machines that have waited for one.</summary>
    private static void Let(List<int>?[] waiting, int m, Action<int> go)
    {
        if (waiting[m] is not { } those)
            return;
        waiting[m] = null;
        foreach (var other in those)
            go(other);
    }

    private void CountAppointment(Slot slot)
    {
        if (_case.DayOf(slot.Crew, slot.Start) is { } day)
            _appointments[(slot.Crew!, day.Day)] = _appointments.GetValueOrDefault((slot.Crew!, day.Day)) + 1;
    }

    private void Schedule(int m, Slot slot)
    {
        _slots[m] = slot;
        Move(m, Status.Scheduled);
        Book(m, slot);
        var stage = slot.StageFrom ?? (slot.Start - _case.Plan.StageAhead);
        Push(stage > _now ? stage : _now, What.Open, m);
        Let(_waitForSlot, m, Late);
    }

    /// <summary>
    /// Counts the time until a slot: up to when the machine could begin if it were alone for its windows, the rest for what takes longest
    /// at its site.
    /// </summary>
    private void Await(int m, DateTimeOffset ready, Slot slot)
    {
        var first = _case.FirstFit(m, ready) is { } fit && fit < slot.Start ? fit : slot.Start;
        Result.Wait(m, Cause.Windows, first - _now);
        Result.Wait(m, _case.Tightest[_case.Sites[m]], slot.Start - first);
    }

    private void Book(int m, Slot slot)
    {
        CountAppointment(slot);
        if (_case.WindowOf(m, slot.Start) is { } window)
            _booked[(_case.Sites[m], window)] = _booked.GetValueOrDefault((_case.Sites[m], window)) + _case.Machines[m].Request.Lasts;
    }

    /// <summary>Gives one machine its next window in which its site has time left; the limits do the rest when it begins.</summary>
    private Slot? Next(int m)
    {
        var request = _case.Machines[m].Request;
        var site = _case.Sites[m];
        var from = _now + _case.Lead[m];
        if (IsPending(_case.Before[m]) && _slots[_case.Before[m]] is { } before && before.End > from)
            from = before.End;
        foreach (var window in _case.OpenFrom(m, from))
        {
            var booked = _booked.GetValueOrDefault((site, window.From)) / Math.Min(_case.Plan.Limits.Site, _case.Plan.Limits.All);
            var start = window.From + booked > from ? window.From + booked : from;
            if (start + request.Lasts + request.RollbackLasts > window.To)
                continue;
            if (_case.DayOf(_case.CrewOf(m), start) is { } day && _appointments.GetValueOrDefault((_case.CrewOf(m)!, day.Day)) >= day.Most)
                continue;
            return new(start, start + request.Lasts, window.To - request.RollbackLasts - request.AfterPointOfNoReturn)
            {
                Crew = _case.CrewOf(m),
            };
        }

        return null;
    }

    private void Late(int m)
    {
        if (WaitsForSlot(m))
            return;
        if (Next(m) is not { } slot)
        {
            Move(m, Status.Exempt);
            return;
        }

        Await(m, _now + _case.Lead[m], slot);
        Schedule(m, slot);
    }

    private void OpenRun(int m)
    {
        _passages[m]++;
        Move(m, Status.Running);
        _runs[m] = _tree.Open(_case.Kinds[m], _case.Machines[m].Legs, _case.Plan.CatchUp);
        _orders[m]++;
        Follow(m);
    }

    /// <summary>Applies an event to a run, and follows its consequences.</summary>
    private void Take(int m, RunTree.HappeningKind kind, int how = 0)
    {
        var before = _runs[m]!;
        var node = _runs[m] = before.After(new(kind, how, _now > _slots[m]!.LatestTurn));
        // What was pushed for an order that is outstanding no more is over.
        if (node.Order?.Name != before.Order?.Name)
            _orders[m]++;
        foreach (var limit in _room.Release(m, node))
            Wake(limit);
        if (before.Run.Parked is null != node.Run.Parked is null)
        {
            if (node.Run.Parked is null)
                Result.Wait(m, Cause.People, _now - _since[m]);
            else
                _since[m] = _now;
            if (node.Run.Closed is null)
                Move(m, node.Run.Parked is null ? Status.Running : Status.Parked);
        }

        if (node.Run.Verified is not null)
            Verify(m, _now);
        else if (node.Run.Closed is not null)
            End(m);
        else
            Follow(m);
    }

    /// <summary>Processes the next order of a run.</summary>
    /// <param name="m">The machine.</param>
    /// <param name="notBefore">When it may be seen to, UTC; null for what follows from now.</param>
    private void Follow(int m, DateTimeOffset? notBefore = null)
    {
        var node = _runs[m]!;
        if (node.Order is not { } order)
            return;
        if (node.Run.NeedsSlot && order.Kind == OrderKind.Slot)
        {
            if (Next(m) is not { } slot)
            {
                Move(m, Status.Exempt);
                return;
            }

            Result.MissedSlots++;
            Await(m, _now + _case.Lead[m], slot);
            _slots[m] = slot;
            Book(m, slot);
            Take(m, RunTree.HappeningKind.SlotMoved);
            return;
        }

        if (order.Kind == OrderKind.Decide)
        {
            var (after, decision) = _outside.Decide(_case.Machines[m], node.Run, Named(m, order), node.Possible);
            Push(_now + after, What.Decide, m, decision);
        }
        else if (node.Run.Parked is null || _begun[m] != _orders[m])
        {
            var at = order.Kind == OrderKind.Slot ? _slots[m]!.Start : notBefore ?? (_now + node.Delay);
            Push(at > _now ? at : _now, What.Tend, m);
        }
    }

    /// <summary>The order's name in this machine's run.</summary>
    private OrderName Named(int m, Order order) => order.Name with { Run = _passages[m] };

    private void Tend(int m)
    {
        var node = _runs[m]!;
        var order = node.Order!;
        if (_begun[m] == _orders[m])
            return;
        if (order.Kind == OrderKind.Slot && IsPending(_case.Before[m]))
        {
            (_waitForVerification[_case.Before[m]] ??= []).Add(m);
            return;
        }

        var full =
            node.NeedsRoom || order.Kind == OrderKind.Slot ? _room.Take(m, _slots[m]!.Crew)
            : node.UsesUplink ? _room.TakeUplink(m)
            : -1;
        var before = _waitsFor[m];
        if (full >= 0)
        {
            if (before < 0)
                _since[m] = _now;
            _waitsFor[m] = full;
            _room.Waiting(full).Enqueue(m);
            // The next waiter takes what it was woken for.
            if (before >= 0 && before != full)
                Wake(before);
            return;
        }

        if (before >= 0)
        {
            Result.Wait(m, _case.CauseOf(before), _now - _since[m]);
            _waitsFor[m] = -1;
        }

        var machine = _case.Machines[m];
        switch (order.Kind)
        {
            case OrderKind.Slot:
                Take(m, RunTree.HappeningKind.SlotOpened);
                break;
            case OrderKind.Gate:
                Take(m, RunTree.HappeningKind.Gate, (int)_outside.Gate(machine, order.Moment!.Value, Named(m, order), _now));
                break;
            default:
                var step = node.Run.CurrentStep!;
                var course = _results[m] = _outside.Step(machine, node.Run.CurrentLeg, step, Named(m, order), _now);
                _begun[m] = _orders[m];
                // What was running already when the rehearsal began has only the rest of its time to go.
                var ends = _now == _case.From && machine.Run?.Outstanding == order ? order.At + course.Lasts : _now + course.Lasts;
                Push(ends > _now ? ends : _now, What.Ended, m);
                // Each script and restart of a step that patches has a limit of its own; what is drawn is the whole step.
                if (course.Lasts > step.Limit && node.Run.Parked is null && step.Kind != StepKind.Patch)
                    Push(_now + step.Limit, What.Overdue, m);
                break;
        }
    }

    /// <summary>Retries those that wait for room, one after another, as long as there is some.</summary>
    private void Wake(int limit)
    {
        var waiting = _room.Waiting(limit);
        for (var free = _room.Free(limit); free > 0 && waiting.TryDequeue(out var m); free--)
            Push(_now, What.Tend, m);
    }

    private void Verify(int m, DateTimeOffset at)
    {
        if (_statuses[m] == Status.Verified)
            return;
        Move(m, Status.Verified);
        _waves[_case.Machines[m].Wave].VerifiedAt.Add(at);
        Result.Verified[m] = at;
        Judge(_case.Machines[m].Wave);
    }

    private void End(int m)
    {
        Move(m, Status.Stopped);
        _since[m] = _now;
        if (_outside.Again(_case.Machines[m], _passages[m]) is { } after)
            Push(_now + after, What.Again, m);
        else
            Move(m, Status.Exempt);
    }

    private void Move(int m, Status to)
    {
        var wave = _waves[_case.Machines[m].Wave];
        wave[_statuses[m]]--;
        wave[_statuses[m] = to]++;
        if (to is Status.Stopped or Status.Parked or Status.Exempt)
            Judge(_case.Machines[m].Wave);
        if (to is not (Status.Verified or Status.Exempt))
            return;
        Let(_waitForSlot, m, Late);
        Let(_waitForVerification, m, w => Push(_now, What.Tend, w));
    }

    /// <summary>Opens the next wave where the advance rule holds for this one.</summary>
    private void Judge(int w)
    {
        var wave = _waves[w];
        if (wave.Opened is null || (wave.Passed && (w + 1 >= _waves.Length || _waves[w + 1].Opened is not null)))
            return;
        if (!wave.Passed)
        {
            var tally = new WaveCount(
                wave[Status.Parked] + wave[Status.Stopped],
                _case.Members[w].Length - wave[Status.NotReady] - wave[Status.Exempt],
                wave[Status.NotReady],
                wave[Status.Verified]
            );
            var advance = _case.Plan.Advance.Evaluate(tally, n => wave.VerifiedAt[n], _now);
            if (advance.Until is { } until && until > _now && wave.JudgedAt != until)
                Push(wave.JudgedAt = until, What.Advance, w);
            if (!advance.Holds)
                return;
            wave.Passed = true;
        }

        if (w + 1 < _waves.Length && _waves[w + 1].Opened is null)
            BeginWave(w + 1);
    }

    /// <summary>Lets a wave begin, at the earliest when the plan says.</summary>
    private void BeginWave(int w) => Push(_case.Plan.Waves[w].BeginsFrom(_now), What.Wave, w);

    private void Push(DateTimeOffset at, What what, int of, Decision decision = default) =>
        _due.Enqueue(
            new(what, of, what is What.Wave or What.Advance or What.OtherBegins or What.OtherEnds ? 0 : _orders[of], decision),
            new(at.UtcTicks, _pushed++)
        );

    /// <summary>Something that is due of a machine or a wave.</summary>
    /// <param name="What">What it is.</param>
    /// <param name="Of">The machine's or the wave's number.</param>
    /// <param name="Order">How many orders the machine's runs had by then, this one with them.</param>
    /// <param name="Decision">What is decided.</param>
    private readonly record struct Due(What What, int Of, int Order, Decision Decision);

    /// <summary>When something is due; of what is due at once the first that was pushed.</summary>
    private readonly record struct When(long Ticks, long Number) : IComparable<When>
    {
        public DateTimeOffset At => new(Ticks, TimeSpan.Zero);

        public int CompareTo(When other) => Ticks != other.Ticks ? Ticks.CompareTo(other.Ticks) : Number.CompareTo(other.Number);
    }

    private sealed class WaveTally(int members)
    {
        private readonly int[] _counts = Counts(members);

        public List<DateTimeOffset> VerifiedAt { get; } = [];

        public DateTimeOffset? Opened { get; set; }

        public DateTimeOffset JudgedAt { get; set; }

        public bool Passed { get; set; }

        public ref int this[Status status] => ref _counts[(int)status];

        private static int[] Counts(int members)
        {
            var counts = new int[Enum.GetValues<Status>().Length];
            counts[(int)Status.Ready] = members;
            return counts;
        }
    }
}
