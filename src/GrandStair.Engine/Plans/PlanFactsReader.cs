using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Plans;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Durations;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Plans;

/// <summary>Reads what the core decides about plans by: the fleet, decisions, calendars, other plans, and how long things take.</summary>
public sealed class PlanFactsReader(
    CatalogueCache catalogues,
    FleetCache fleet,
    PlanTable plans,
    DecisionTable decisions,
    RunLog runs,
    MeasuredRuns measured,
    CalendarCache calendars,
    OtherPlans otherPlans
)
{
    /// <summary>What a text of a plan is drafted by.</summary>
    /// <param name="body">The plan, as YAML.</param>
    /// <param name="sites">The sites that a new plan is for; a plan that exists keeps its own.</param>
    /// <param name="now">The moment, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="Core.Refusals.RefusedException">A calendar is missing.</exception>
    public async Task<DraftFacts> OfTextAsync(string body, SiteScope sites, DateTimeOffset now, CancellationToken stop)
    {
        var plan = catalogues.ReadPlan(body);
        var product = catalogues.Products[plan.Product];
        var (known, _) = await calendars.AllAsync(stop);
        CalendarCache.Check(plan, known);
        var before = await plans.FindAsync(plan.Name, stop);
        return new(plan, body, product, now)
        {
            Before = before,
            Members = before is null ? [] : await plans.MembersAsync(plan.Name, stop),
            Sites = before?.Sites ?? sites,
            Machines = await fleet.AllAsync(stop),
            Decided = await decisions.OfAsync(product.Name, plan.Name, now, stop),
            Calendars = known,
            Elsewhere = await otherPlans.OfAsync(plan.Name, before?.Started, stop),
            Lengths = (await measured.ExperienceAsync(product, stop)).Lengths,
        };
    }

    /// <summary>How long the methods of a product take, by what was measured.</summary>
    public async Task<LengthsOf> LengthsAsync(Product product, CancellationToken stop) =>
        (await measured.ExperienceAsync(product, stop)).Lengths;

    /// <summary>A plan that has started, as its next step finds it.</summary>
    public async Task<PlanState> StateAsync(PlanRecord record, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(record);
        var (plan, product) = await catalogues.ReadPlanAsync(record, stop);
        return new(record, plan, product, await plans.MembersAsync(plan.Name, stop));
    }

    /// <summary>What the next step of a plan follows from, but for its approvals and its runs.</summary>
    /// <param name="state">The plan.</param>
    /// <param name="now">The moment, UTC.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<PlanFacts> OfStateAsync(PlanState state, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(state);
        var (record, plan, product, _) = state;
        var (known, calendarState) = await calendars.AllAsync(stop);
        return new()
        {
            Machines = await fleet.AllAsync(stop),
            Decided = await decisions.OfAsync(product.Name, plan.Name, now, stop),
            Calendars = known,
            ScheduledBy = $"{record.Revision} {calendarState}",
            Elsewhere = await otherPlans.OfAsync(plan.Name, record.Started, stop),
            Lengths = await LengthsAsync(product, stop),
        };
    }

    /// <summary>By number the runs of some members.</summary>
    public async Task<IReadOnlyDictionary<long, RunState>> RunsAsync(IEnumerable<Member> members, CancellationToken stop) =>
        (await runs.SomeAsync([.. members.Select(m => m.Run).OfType<long>()], stop)).ToDictionary(r => r.State.Run, r => r.State);
}
