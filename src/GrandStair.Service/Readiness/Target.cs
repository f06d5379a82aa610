using GrandStair.Core.Readiness;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Readiness;

/// <summary>What readiness is asked for: an aim, and the plan that it is of.</summary>
/// <param name="Aim">The aim.</param>
/// <param name="Plan">The plan; null for none.</param>
/// <param name="PlanScope">The plan's scope; null for none.</param>
internal sealed record Target(Aim Aim, string? Plan, string? PlanScope)
{
    public string Scope(string? filter) => string.IsNullOrWhiteSpace(filter) ? PlanScope ?? Aim.Product.Is.Text : filter;
}

/// <summary>
/// How a call names its target: by a plan, or by a product and one of its releases. What is null follows from the others, or from the
/// machine.
/// </summary>
internal record TargetQuery(
    [FromQuery(Name = "product")] string? Product,
    [FromQuery(Name = "release")] string? Release,
    [FromQuery(Name = "plan")] string? Plan
);

/// <summary>How a call names a check on a machine, and the target that it is for.</summary>
internal sealed record CheckQuery(
    [FromRoute(Name = "name")] string Machine,
    [FromRoute(Name = "check")] string Check,
    [FromQuery(Name = "product")] string? Product,
    [FromQuery(Name = "release")] string? Release,
    [FromQuery(Name = "plan")] string? Plan
) : TargetQuery(Product, Release, Plan);
