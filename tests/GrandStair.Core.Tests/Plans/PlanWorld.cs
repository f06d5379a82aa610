using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Files.Plans;
using GrandStair.Testing.Schedules;

namespace GrandStair.Core.Tests.Plans;

/// <summary>
/// A plan that is kept going in memory, with machines that answer as a drawn number says. It stands in for the engine and the store: it
/// applies what a step decides, and lets time pass to the next moment at which something is due.
/// </summary>
internal sealed class PlanWorld
{
    public const string Text = """
        plan: small
        target: { product: Brae Desktop, release: "7" }
        scope: os.product = "Brae Desktop" and os.version < 7
        methods: [image]
        waves: [{ name: Pilot, count: 3 }, { name: Early, count: 6 }, { name: Rest }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Fri 18:00-06:00"] }]
        limits: { all: 4, site: 2 }
        advance: { verified: 80 %, failures: 2, soak: 2 d }
        """;

    /// <summary>How long people take to decide about a parked run.</summary>
    private static readonly TimeSpan Decides = TimeSpan.FromHours(1);
    private readonly Dictionary<long, RunState> _runs = [];
    private readonly Dictionary<MachineId, Machine> _machines;
    private readonly Dictionary<MachineId, Member> _members;
    private readonly Random _draw;
    private readonly Product _product = Fleets.Product(
        [Fleets.Check("patched", "patches.pending = 0", fresh: TimeSpan.FromDays(900))],
        Fleets.Method("image")
    );
    private readonly Plan _plan;
    private PlanRecord _record;
    private PlanMemory _memory = PlanMemory.None;

    public PlanWorld(int seed, int machines)
    {
        _draw = new(seed);
        _plan = PlanFile.Parse(Text, Fleets.Keys, _ => _product, "plan.yaml");
        _machines = Enumerable.Range(1, machines).Select(MachineOf).ToDictionary(m => m.Id);
        var draft = Draft.Of(
            new(_plan, Text, _product, Now)
            {
                Machines = _machines,
                Decided = ImmutableDictionary<MachineId, Decisions>.Empty,
                Calendars = ImmutableDictionary<string, ICalendar>.Empty,
                Elsewhere = HeldElsewhere.Nothing,
                Lengths = (_, method, _) => method.Typical,
            }
        );
        _record = draft.Record.To(PlanStatus.Started, null, Now);
        _members = draft.Members.ToDictionary(m => m.Machine);
    }

    public DateTimeOffset Now { get; private set; } = Fleets.Now;

    public IReadOnlyCollection<Member> Members => _members.Values;

    public IReadOnlyList<WaveProgress> Waves => _record.Waves;

    public PlanState State => new(_record, _plan, _product, [.. _members.Values]) { Memory = _memory };

    public PlanFacts Facts =>
        new()
        {
            Machines = _machines,
            Decided = ImmutableDictionary<MachineId, Decisions>.Empty,
            Approvals = [],
            Calendars = ImmutableDictionary<string, ICalendar>.Empty,
            ScheduledBy = "1",
            Elsewhere = HeldElsewhere.Nothing,
            Lengths = (_, method, _) => method.Typical,
            Runs = _runs,
        };

    /// <summary>How many runs were given another slot so far.</summary>
    public int Moves { get; private set; }

    /// <summary>When the last step was taken, UTC.</summary>
    public DateTimeOffset SteppedAt { get; private set; }

    /// <summary>Whether nothing is left to happen by itself: only machines that are not ready, which nobody here fixes.</summary>
    public bool IsOver { get; private set; }

    /// <summary>Takes the plan one step further and lets time pass to the next moment at which something is due.</summary>
    /// <param name="look">Is shown what the step decided, once that is applied and before time passes.</param>
    public void Step(Action<PlanWorld, PlanChanges> look)
    {
        SteppedAt = Now;
        var changes = PlanProgress.Step(State, Facts, Now);
        Apply(changes);
        look(this, changes);
        DateTimeOffset?[] due = [.. _runs.Values.Select(r => r.Parked is null ? r.DueAt : Now + Decides), changes.Next];
        IsOver = changes.Ends || _runs.Count == _members.Count - NotReady && _runs.Values.All(r => r.Closed is not null);
        if (IsOver || due.Where(d => d is not null).Min() is not { } next)
            return;
        if (next > Now)
            Now = next;
        foreach (var run in _runs.Values.Where(r => r.DueAt <= Now || r.Parked is not null).ToArray())
            Answer(run);
    }

    private int NotReady => _members.Values.Count(m => m is { Status: Status.NotReady, Run: null });

    private void Apply(PlanChanges changes)
    {
        _record = _record with { Waves = [.. _record.Waves.Select(w => changes.Waves.FirstOrDefault(c => c.Number == w.Number, w))] };
        foreach (var member in changes.Members)
            _members[member.Machine] = _members[member.Machine].Take(member, Now).CountTimeChange(_members[member.Machine], Now);
        foreach (var (member, wave, legs) in changes.Openings)
            Happen(null, new RunOpened(Now, "w", _runs.Count + 1, member.Machine.Value, "small", 1, wave, "0", legs, member.Slot!, null));
        Moves += changes.Moves.Length;
        foreach (var move in changes.Moves.Where(m => m.Slot is not null))
            Happen(move.Run, new SlotMoved(Now, "w", move.Slot!, move.Why));
        _memory = changes.Memory;
    }

    /// <summary>What the slots that runs have now break together.</summary>
    public IEnumerable<string> BrokenSlots()
    {
        var method = _product.Methods[0];
        var given = _runs.Values.Select(r => new GivenSlot(
            PlanSlots.Request(_machines[new(r.Machine)], method, method.Typical, null),
            r.Slot with
            {
                StageFrom = null,
            }
        ));
        return ScheduleOracle.Broken([new GivenPlan(_plan, [.. given])], Fleets.Now);
    }

    /// <inheritdoc />
    public override string ToString() =>
        string.Join("; ", Waves.Select(w => $"{w.Name} {w.State}: {w.Why}"))
        + "\n"
        + string.Join("\n", _members.Values.Select(m => $"{m.Machine} {m.Status} {m.Why} {m.Slot?.Start:u}"))
        + "\n"
        + string.Join("\n", _runs.Values.Select(r => $"r{r.Run} {r.Phase} {r.Outstanding?.Name} due {r.DueAt:u} {r.Parked}"));

    private void Answer(RunState run)
    {
        if (run.Parked is not null)
        {
            Happen(run, new Decided(Now, "deck-it", RunMachine.Possible(run)[0], "again"));
            return;
        }

        var order = run.Outstanding!;
        RunEvent answer = order.Kind switch
        {
            OrderKind.Gate => new GateJudged(Now, "w", order.Name, GateState.Open, [], []),
            OrderKind.Slot => SlotOpened(run, order),
            OrderKind.Settle => new Settled(Now, "w", order.Name),
            _ => StepEnded(run, order),
        };
        Happen(run, answer);
    }

    /// <summary>The slot begins, and now and then so late that it is missed, with whatever else would begin by then.</summary>
    private SlotOpened SlotOpened(RunState run, Order order)
    {
        if (_draw.Next(12) == 0 && run.Slot.LatestTurn > Now)
            Now = run.Slot.LatestTurn + TimeSpan.FromMinutes(1);
        return new(Now, "w", order.Name);
    }

    /// <summary>A step takes its typical time, up to twice as long now and then, and fails seldom.</summary>
    private OrderEnded StepEnded(RunState run, Order order)
    {
        Now += run.CurrentStep!.Typical * (_draw.Next(8) == 0 ? 2 : 1);
        var fails = _draw.Next(25) == 0;
        return new(Now, "w", order.Name, fails ? OrderResult.Failed : OrderResult.Ok, fails ? 1 : 0, "");
    }

    private void Happen(RunState? before, RunEvent e)
    {
        var after = RunMachine.Step(before, e).State;
        _runs[after.Run] = after;
        var member = _members[new(after.Machine)];
        _members[member.Machine] = member.Follow(after, e.At).CountTimeChange(member, Now);
        if (after is { Outcome: Outcome.Failed or Outcome.Cancelled or Outcome.RolledBack })
            _members[member.Machine] = _members[member.Machine].Exempt(Exemption.Stays, null, "planner", "it failed");
    }

    private static Machine MachineOf(int number) =>
        Fleets.Machine(
            $"desk-{number}",
            [
                .. new[]
                {
                    ("os.product", "Brae Desktop"),
                    ("os.version", "6"),
                    ("os.edition", "Workplace"),
                    ("patches.pending", number % 9 == 0 ? "1" : "0"),
                }.Select(r => Fleets.Read(r.Item1, r.Item2, TimeSpan.FromHours(1))),
            ],
            $"Site {number % 3}"
        ) with
        {
            Id = new(number),
        };
}
