using GrandStair.Core.Conditions;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;

namespace GrandStair.Service.Readiness;

/// <summary>What readiness is asked for: an aim, and the plan that it is of.</summary>
/// <param name="Aim">The aim.</param>
/// <param name="Plan">The plan; null for none.</param>
/// <param name="PlanScope">The plan's scope; null for none.</param>
internal sealed record Target(Aim Aim, string? Plan, string? PlanScope)
{
    public string Scope(string? filter) => string.IsNullOrWhiteSpace(filter) ? PlanScope ?? Aim.Product.Is.Text : filter;

    /// <summary>The target of a plan; or a product's release, by default its recommended one, with all its methods.</summary>
    public static async Task<Target> OfAsync(
        string? product,
        string? release,
        string? plan,
        CatalogueCache catalogues,
        ScopedPlans plans,
        CancellationToken stop
    )
    {
        if (plan is null)
            return new(catalogues.AimAt(product, release), null, null);
        var (body, pinned) = await catalogues.ReadPlanAsync(await plans.FindAsync(plan, stop), stop);
        return new(PlanSlots.AimOf(body, pinned), plan, body.Scope.Text);
    }

    /// <summary>
    /// The target for one machine: where nothing is said, that of the plan that it is in, or else of the product that it runs.
    /// </summary>
    public static async Task<Target> OfMachineAsync(
        Machine machine,
        string? product,
        string? release,
        string? plan,
        CatalogueCache catalogues,
        ScopedPlans plans,
        DomainClock clock,
        CancellationToken stop
    )
    {
        if (product is null && plan is null)
            plan = (await plans.OfMachineAsync(machine, stop)).LastOrDefault()?.Plan;
        if (product is null && plan is null)
        {
            product = catalogues
                .Products.Values.FirstOrDefault(p => p.Is.Ask(machine, new EvaluationContext(clock.GetUtcNow())).Value == Kleene.Yes)
                ?.Name
                ?? throw RefusedException.Unknown(
                    "unknown-product",
                    $"It is not known which product {machine.Name} runs. Read it with 'gstair machine read {machine.Name}', or import "
                        + $"its os.product."
                );
        }

        return await OfAsync(product, release, plan, catalogues, plans, stop);
    }
}
