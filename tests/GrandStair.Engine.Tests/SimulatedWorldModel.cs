using System.Collections.Immutable;
using GrandStair.Connections;
using GrandStair.Connections.Simulation;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Rehearsals;
using GrandStair.Core.Runs;

namespace GrandStair.Engine.Tests;

/// <summary>
/// The demo's machines and people as they really are, in simulated time: the simulated machines' own courses and absences with the luck of
/// a seed, and people who fix and decide as those of the demo do. What happens is kept, as a service would have measured it.
/// </summary>
internal sealed class SimulatedWorldModel(Product product, IReadOnlyDictionary<string, Dictionary<string, string>> truths, int seed)
    : IWorldModel
{
    private readonly Dictionary<string, Dictionary<string, string>> _now = Shuffled(truths, seed);
    private readonly Dictionary<string, int> _decided = [];
    private readonly List<MeasuredStep> _steps = [];
    private readonly List<MeasuredGate> _gates = [];
    private readonly List<MeasuredDecision> _decisions = [];
    private readonly List<TimeSpan> _fixings = [];

    /// <summary>What was measured so far.</summary>
    public Measurements Measured => new([.. _steps], [.. _gates], [.. _decisions]) { Fixings = [.. _fixings] };

    public SimulatedResult Step(RehearsedMachine machine, LegSpec leg, StepSpec step, OrderName order, DateTimeOffset at)
    {
        var truth = _now[machine.Request.Name];
        var posted = new PostedOrder(order, 1, step.Kind, step.Script is { } script ? product.Scripts[script] : "", ValuesOf(step));
        var course = SimulatedScript.Run(Luck(machine, order), truth, posted, at);
        if (step.Kind == StepKind.Patch)
            course = course with { Lasts = Patched(machine, order, posted, at, course.Lasts) };
        var result =
            course.Result == OrderState.Gone ? OrderResult.Gone
            : course.Exit == 0 ? OrderResult.Ok
            : OrderResult.Failed;
        _steps.Add(new(new(leg.Hop, leg.Method, step.Name), machine.Model, machine.Request.Site, order.Attempt > 1, result, course.Lasts));
        return new(course.Lasts, result);
    }

    /// <summary>How long all rounds of a step that patches take, with the restart after each.</summary>
    private TimeSpan Patched(RehearsedMachine machine, OrderName order, PostedOrder posted, DateTimeOffset at, TimeSpan script)
    {
        var truth = _now[machine.Request.Name];
        var restart = SimulatedScript.Run(Luck(machine, order), truth, posted with { Kind = StepKind.Restart, Script = "" }, at).Lasts;
        var lasts = TimeSpan.Zero;
        for (var pending = (int)(10 * Chance.Of(Luck(machine, order), "patches")); pending > 0; pending /= 4)
            lasts += script + restart;
        return lasts;
    }

    private Dictionary<string, string> ValuesOf(StepSpec step)
    {
        var values = new Dictionary<string, string> { ["files"] = string.Join(':', step.Files) };
        if (product.Media.FirstOrDefault(m => m.Name == step.Media)?.Variants[^1] is { } variant)
            (values["media_file"], values["media_sha256"], values["media_size"]) = (variant.File, variant.Sha256, $"{variant.Size}");
        return values;
    }

    public GateState Gate(RehearsedMachine machine, Moment moment, OrderName order, DateTimeOffset at)
    {
        var truth = _now[machine.Request.Name];
        var state =
            moment == Moment.Planning ? GateState.Open
            : SimulatedMachines.IsAway($"{machine.Request.Name}#{seed}", truth, at) ? GateState.Undecided
            : moment == Moment.Start && truth.GetValueOrDefault("power.mains") == "no" ? GateState.Blocked
            : GateState.Open;
        _gates.Add(new(moment, order.Attempt > 1, state));
        return state;
    }

    public (TimeSpan After, Decision Decision) Decide(
        RehearsedMachine machine,
        RunState run,
        OrderName order,
        ImmutableArray<Decision> possible
    )
    {
        var truth = _now[machine.Request.Name];
        var tries = _decided[machine.Request.Name] = _decided.GetValueOrDefault(machine.Request.Name) + 1;
        truth["driver.printer"] = "4.2";
        truth["power.mains"] = "yes";
        var decision =
            tries <= 3 && possible.Contains(Decision.Retry) ? Decision.Retry
            : possible.Contains(Decision.RollBack) ? Decision.RollBack
            : run.Turned ? Decision.GiveUp
            : Decision.Cancel;
        var after = TimeSpan.FromHours(5 + (2 * Chance.Of(Luck(machine, order), "decides")));
        _decisions.Add(new(decision, after));
        return (after, decision);
    }

    // People come to it at set hours after it was found, and the machine is read again within eight more.
    public TimeSpan? Fix(RehearsedMachine machine, TimeSpan waited)
    {
        var after = TimeSpan.FromHours(
            30 + (40 * Chance.Of($"{machine.Request.Name}#{seed}", "fixed")) + (8 * Chance.Of($"{machine.Request.Name}#{seed}", "read"))
        );
        _fixings.Add(after);
        return after;
    }

    public TimeSpan? Again(RehearsedMachine machine, int attempts) =>
        attempts > 3 ? null : TimeSpan.FromHours(30 + (machine.Request.Machine.Value % 40));

    /// <summary>
    /// What the plan asks before it begins is each machine's own; what shows on the way only is in each world that of another one.
    /// </summary>
    private static Dictionary<string, Dictionary<string, string>> Shuffled(
        IReadOnlyDictionary<string, Dictionary<string, string>> truths,
        int seed
    )
    {
        var hidden = truths.Values.OrderBy(t => Chance.Of($"{t["boot.id"]}", "shuffled", seed)).ToArray();
        string[] onTheWay = ["truth.slowness", "truth.away", "driver.printer", "power.mains"];
        return truths
            .Zip(hidden)
            .ToDictionary(
                t => t.First.Key,
                t => t.First.Value.ToDictionary(v => v.Key, v => onTheWay.Contains(v.Key) ? t.Second[v.Key] : v.Value)
            );
    }

    private string Luck(RehearsedMachine machine, OrderName order) => $"{machine.Request.Name}#{seed}/{order.Run}";
}
