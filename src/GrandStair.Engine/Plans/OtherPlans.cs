using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;
using GrandStair.Storage.SupportCases;

namespace GrandStair.Engine.Plans;

/// <summary>Finds out what a plan has to leave to others: to other plans, and to appointments for support cases.</summary>
public sealed class OtherPlans(CatalogueCache catalogues, FleetCache fleet, PlanTable plans, SupportCaseTable cases, TimeProvider clock)
{
    /// <summary>What others hold.</summary>
    /// <param name="name">The plan's name.</param>
    /// <param name="started">When it started, UTC; null where it has not, so that all others come first.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<HeldElsewhere> OfAsync(string name, DateTimeOffset? started, CancellationToken stop)
    {
        var others = new List<OtherPlan>();
        foreach (var other in (await plans.AllAsync(stop)).Where(p => p.State == PlanStatus.Started && p.Name != name))
        {
            var (plan, product) = await catalogues.ReadPlanAsync(other, stop);
            others.Add(new(other, plan, product, await plans.MembersAsync(other.Name, stop)));
        }

        var now = clock.GetUtcNow();
        var bookings = await cases.BookingsAsync(now - PlanSlots.CrewsRemember, stop);
        return others.Count == 0 && bookings.Count == 0
            ? HeldElsewhere.Nothing
            : HeldElsewhere.Of(others, name, started, bookings, await fleet.AllAsync(stop), now);
    }

    /// <summary>
    /// The machine that a machine depends on and that is still to be upgraded by a plan that has started; null where there is none.
    /// </summary>
    public async Task<string?> PredecessorAsync(Machine machine, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(machine);
        if (
            machine.TextOf(Dependents.HangsOn) is not { } on
            || await fleet.FindAsync(on, stop) is not { } before
            || before.Id == machine.Id
        )
            return null;
        foreach (var member in (await plans.OfMachineAsync(before.Id, stop)).Where(m => m.IsPending))
        {
            if (await plans.FindAsync(member.Plan, stop) is not { State: PlanStatus.Started } stored)
                continue;
            var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
            if (
                member.Run is not null
                || !PlanSlots.AimOf(plan, product).RouteOf(before, product.IssuesTouching(before, clock.GetUtcNow())).Arrived
            )
                return before.Name;
        }

        return null;
    }
}
