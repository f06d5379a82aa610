using GrandStair.Core.Access;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Plans;
using GrandStair.Storage.Plans;

namespace GrandStair.Service.Access;

/// <summary>
/// The plans as the caller sees them: those with a machine at the caller's sites, and of these only such machines. Endpoints know no
/// others.
/// </summary>
internal sealed class ScopedPlans(PlanTable plans, PlanTroubles troubles, ScopedFleet fleet)
{
    /// <summary>The sites that the caller sees.</summary>
    public SiteScope Sites => fleet.Sites;

    /// <summary>The caller's plans, oldest first.</summary>
    public async Task<IReadOnlyList<PlanRecord>> AllAsync(CancellationToken stop)
    {
        var seen = new List<PlanRecord>();
        foreach (var plan in await plans.AllAsync(stop))
            if (await SeenAsync(plan, stop) is { } his)
                seen.Add(his);
        return seen;
    }

    /// <summary>The plan of that name.</summary>
    /// <exception cref="RefusedException">There is none that the caller sees.</exception>
    public async Task<PlanRecord> FindAsync(string name, CancellationToken stop) =>
        await plans.FindAsync(name, stop) is { } plan && await SeenAsync(plan, stop) is { } his
            ? his
            : throw PlanCommands.Unknown(name, (await AllAsync(stop)).Select(p => p.Name));

    /// <summary>The plan of that name, to command the whole of it.</summary>
    /// <exception cref="RefusedException">There is none that the caller sees.</exception>
    /// <exception cref="NotAllowedException">It is also for other sites than the caller's.</exception>
    public async Task<PlanRecord> WholeAsync(string name, CancellationToken stop)
    {
        var plan = await FindAsync(name, stop);
        return SeesAllOf(plan)
            ? plan
            : throw new NotAllowedException(
                $"Plan '{name}' was made for other sites too. Ask someone whose account is for all of its sites."
            );
    }

    /// <summary>
    /// The plan of that name, to rewrite it; null where there is none yet. Asked before anything is worked out, so that no answer depends
    /// on what the caller does not see.
    /// </summary>
    /// <exception cref="RefusedException">The name belongs to a plan that the caller does not see.</exception>
    /// <exception cref="NotAllowedException">It is also for other sites than the caller's.</exception>
    public async Task<PlanRecord?> ToWriteAsync(string name, CancellationToken stop)
    {
        if (await plans.FindAsync(name, stop) is not { } plan)
            return null;
        return await SeenAsync(plan, stop) is null
            ? throw RefusedException.Conflict("plan-exists", $"The name '{name}' is taken. Give the plan another one.")
            : await WholeAsync(name, stop);
    }

    /// <summary>Whether the caller sees all sites of a plan.</summary>
    public bool SeesAllOf(PlanRecord plan) => fleet.Sites.Covers(plan.Sites);

    /// <summary>What keeps a plan from going on; null where nothing does, and where it is held or not started.</summary>
    public string? TroubleOf(PlanRecord plan) => plan is { State: PlanStatus.Started, Held: null } ? troubles.Of(plan.Name) : null;

    /// <summary>The members of a plan at the caller's sites, by wave and machine.</summary>
    public async Task<IReadOnlyList<Member>> MembersAsync(string plan, CancellationToken stop)
    {
        var members = await plans.MembersAsync(plan, stop);
        if (fleet.Sites.IsAll)
            return members;
        var machines = await fleet.AllAsync(stop);
        return [.. members.Where(m => machines.ContainsKey(m.Machine))];
    }

    /// <summary>The places of a machine in all plans that the caller sees.</summary>
    public Task<IReadOnlyList<Member>> OfMachineAsync(Machine machine, CancellationToken stop) => plans.OfMachineAsync(machine.Id, stop);

    /// <summary>A plan as the caller sees it; null where none of its machines is at the caller's sites.</summary>
    private async Task<PlanRecord?> SeenAsync(PlanRecord plan, CancellationToken stop)
    {
        if (fleet.Sites.IsAll)
            return plan;
        if ((await MembersAsync(plan.Name, stop)).Count == 0)
            return null;
        var machines = await fleet.AllAsync(stop);
        return plan with { Undecided = [.. plan.Undecided.Where(u => machines.ContainsKey(new(u.Machine)))] };
    }
}
