using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Runs;

namespace GrandStair.Core.Rehearsals;

/// <summary>How an order goes.</summary>
/// <param name="Lasts">How long it is running.</param>
/// <param name="Result">How it ends.</param>
public readonly record struct SimulatedResult(TimeSpan Lasts, OrderResult Result);

/// <summary>What machines and people do in simulated time. What was measured is one answer; a test's machines are another.</summary>
public interface IWorldModel
{
    /// <summary>How an order for a step goes.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="leg">The leg.</param>
    /// <param name="step">The step.</param>
    /// <param name="order">The order's name, with the number of the machine's progress for that of its run; the same one always goes the
    /// same way.</param>
    /// <param name="at">When it begins, UTC.</param>
    SimulatedResult Step(RehearsedMachine machine, LegSpec leg, StepSpec step, OrderName order, DateTimeOffset at);

    /// <summary>How a gate is judged.</summary>
    GateState Gate(RehearsedMachine machine, Moment moment, OrderName order, DateTimeOffset at);

    /// <summary>The decision about a parked run, and how long after it was parked.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="run">The run.</param>
    /// <param name="order">The name of the order to decide.</param>
    /// <param name="possible">The decisions that can be taken, at least one.</param>
    (TimeSpan After, Decision Decision) Decide(RehearsedMachine machine, RunState run, OrderName order, ImmutableArray<Decision> possible);

    /// <summary>How long after its wave begins a machine that is not ready is made ready; null where it never is.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="waited">How long its wave has been running while it was not made ready.</param>
    TimeSpan? Fix(RehearsedMachine machine, TimeSpan waited);

    /// <summary>How long after a run ended without success its machine goes again; null where it does not.</summary>
    TimeSpan? Again(RehearsedMachine machine, int attempts);
}
