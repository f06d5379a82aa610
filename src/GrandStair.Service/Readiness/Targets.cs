using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Methods;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Storage.Plans;

namespace GrandStair.Service.Readiness;

/// <summary>Judges the caller's machines for a target.</summary>
internal sealed class Targets(CatalogueCache catalogues, ScopedFleet fleet, ScopedPlans plans, DecisionTable decisions, DomainClock clock)
{
    /// <summary>The target of a plan; or a product's release, by default its recommended one, with all its methods.</summary>
    public async Task<Target> OfAsync(TargetQuery query, CancellationToken stop)
    {
        if (query.Plan is not { } plan)
            return new(catalogues.AimAt(query.Product, query.Release), null, null);
        var (body, pinned) = await catalogues.ReadPlanAsync(await plans.FindAsync(plan, stop), stop);
        return new(PlanSlots.AimOf(body, pinned), plan, body.Scope.Text);
    }

    /// <summary>
    /// A machine and the target for it: where nothing is said, that of the plan that it is in, or else of the product that it runs.
    /// </summary>
    public async Task<(Machine Machine, Target Target)> OfMachineAsync(string name, TargetQuery query, CancellationToken stop)
    {
        var machine = await fleet.MachineAsync(name, stop);
        if (query is { Product: null, Plan: null })
            query = query with { Plan = (await plans.OfMachineAsync(machine, stop)).LastOrDefault()?.Plan };
        if (query is { Product: null, Plan: null })
            query = query with { Product = ProductOf(machine) };
        return (machine, await OfAsync(query, stop));
    }

    /// <summary>What was decided about machines on their way to a target, by the machine.</summary>
    public Task<IReadOnlyDictionary<MachineId, Decisions>> DecidedAsync(Target target, CancellationToken stop) =>
        decisions.OfAsync(target.Aim.Product.Name, target.Plan, clock.GetUtcNow(), stop);

    /// <summary>A machine's readiness at planning.</summary>
    public async Task<Assessment> AssessAsync(Target target, Machine machine, CancellationToken stop) =>
        Assessment.Of(
            target.Aim,
            machine,
            Moment.Planning,
            clock.GetUtcNow(),
            (await DecidedAsync(target, stop)).GetValueOrDefault(machine.Id, Decisions.None)
        );

    /// <summary>The rows of a judgement that are asked about, in the order of the machines' names.</summary>
    public async Task<T> RowsAsync<T>(
        Target target,
        string? scope,
        Func<FleetJudgement, bool[], IReadOnlyList<int>, int, T> read,
        CancellationToken stop
    )
    {
        var now = clock.GetUtcNow();
        var condition = string.IsNullOrWhiteSpace(scope) ? null : ConditionParser.Parse(scope, catalogues.Keys);
        var members = target.Plan is null
            ? null
            : (await plans.MembersAsync(target.Plan, stop)).Where(m => m.Exemption is null).Select(m => m.Machine).ToHashSet();
        return await fleet.JudgedAsync(
            target.Aim,
            target.Plan,
            now,
            (judgement, order, isHis) =>
            {
                var answers = condition is null ? null : FleetQuestion.Ask(condition, judgement.Fleet, new(now)).Values;
                var inScope = new bool[judgement.Rows];
                var undecided = 0;
                for (var row = 0; row < inScope.Length; row++)
                {
                    var meant =
                        isHis(row) && members?.Contains(judgement.Fleet[row].Id) != false && judgement.PlaceOf(row) != Place.Elsewhere;
                    inScope[row] = meant && (answers is null || answers[row] == Kleene.Yes);
                    if (meant && answers?[row] == Kleene.Unknown)
                        undecided++;
                }

                return read(judgement, inScope, order, undecided);
            },
            stop
        );
    }

    private string ProductOf(Machine machine) =>
        catalogues
            .Products.Values.FirstOrDefault(p => p.Is.Ask(machine, new EvaluationContext(clock.GetUtcNow())).Value == Kleene.Yes)
            ?.Name
        ?? throw RefusedException.Unknown(
            "unknown-product",
            $"It is not known which product {machine.Name} runs. Read it with 'gstair machine read {machine.Name}', or import its "
                + "os.product."
        );
}
