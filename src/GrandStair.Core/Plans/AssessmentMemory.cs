using GrandStair.Core.Catalogue;
using GrandStair.Core.Methods;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Plans;

/// <summary>
/// What a plan's machines were last assessed as. A machine is assessed again when it or a decision about it has changed, when an answer
/// may have changed by age, and otherwise every <see cref="MostAge"/>.
/// </summary>
public sealed class AssessmentMemory
{
    /// <summary>How long an assessment is used at most, in the plan's time.</summary>
    public static readonly TimeSpan MostAge = TimeSpan.FromMinutes(5);

    private readonly Plan? _plan;
    private readonly Product? _product;
    private readonly Dictionary<MachineId, Remembered> _byMachine = [];

    private AssessmentMemory() { }

    private AssessmentMemory(Plan plan, Product product) => (_plan, _product) = (plan, product);

    /// <summary>Nothing was assessed yet.</summary>
    public static AssessmentMemory None { get; } = new();

    /// <summary>Assesses machines for a plan, each by what is remembered of it where that still holds.</summary>
    /// <param name="state">The plan.</param>
    /// <param name="aim">Where the plan takes its machines.</param>
    /// <param name="facts">What is known of its machines.</param>
    /// <param name="machines">The machines.</param>
    /// <param name="now">The moment, UTC.</param>
    /// <returns>The assessments in the machines' order, and what to remember.</returns>
    public (IReadOnlyList<Assessment> Assessments, AssessmentMemory Memory) Assess(
        PlanState state,
        Aim aim,
        PlanFacts facts,
        IEnumerable<Machine> machines,
        DateTimeOffset now
    )
    {
        ArgumentNullException.ThrowIfNull(state);
        ArgumentNullException.ThrowIfNull(facts);
        ArgumentNullException.ThrowIfNull(machines);
        var isSamePlan = ReferenceEquals(_plan, state.Plan) && ReferenceEquals(_product, state.Product);
        var next = new AssessmentMemory(state.Plan, state.Product);
        var assessments = new List<Assessment>();
        foreach (var machine in machines)
        {
            var decided = facts.Decided.GetValueOrDefault(machine.Id);
            var known = isSamePlan ? _byMachine.GetValueOrDefault(machine.Id) : null;
            if (known is null || !known.HoldsFor(machine, decided, now))
                known = new(machine, decided, now, Assessment.Of(aim, machine, Moment.Planning, now, decided));
            next._byMachine[machine.Id] = known;
            assessments.Add(known.Assessment);
        }

        return (assessments, next);
    }

    private sealed record Remembered(Machine Machine, Decisions? Decided, DateTimeOffset At, Assessment Assessment)
    {
        public bool HoldsFor(Machine machine, Decisions? decided, DateTimeOffset now) =>
            ReferenceEquals(Machine, machine) && Decided == decided && now >= At && now < At + MostAge && !(now >= Assessment.Until);
    }
}
