using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>A machine that is still to be upgraded by another plan.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Plan">The plan.</param>
public readonly record struct PendingElsewhere(MachineId Machine, string Plan);

/// <summary>What the other plans that have started hold.</summary>
/// <param name="Slots">Their slots: this plan shares sites, uplinks, crews and clusters with them.</param>
/// <param name="Pending">By name their machines that are still to be upgraded.</param>
public sealed record HeldElsewhere(IReadOnlyList<TakenSlot> Slots, IReadOnlyDictionary<string, PendingElsewhere> Pending)
{
    private const int MostNamed = 5;

    /// <summary>What there is where no other plan has started.</summary>
    public static HeldElsewhere Nothing { get; } = new([], new Dictionary<string, PendingElsewhere>());

    /// <summary>Which of some machines are still to be upgraded by another plan, in words; null where none is.</summary>
    public string? Shared(IEnumerable<Machine> machines)
    {
        var both = machines.Where(m => Pending.ContainsKey(m.Name)).OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase).ToArray();
        if (both.Length == 0)
            return null;
        var plans = both.Select(m => Pending[m.Name].Plan).Distinct().Order(StringComparer.Ordinal);
        return $"{both.Length} machine{(both.Length == 1 ? " is" : "s are")} still to be upgraded by plan "
            + $"{string.Join(" and ", plans.Select(p => $"'{p}'"))}, which has started: "
            + $"{string.Join(", ", both.Take(MostNamed).Select(m => m.Name))}{(both.Length > MostNamed ? ", ..." : "")}";
    }
}

/// <summary>
/// Finds out what a plan has to leave to others. Of two plans whose waves are to come, the one that started first is scheduled first.
/// </summary>
public sealed class OtherPlans(CatalogueCache catalogues, FleetCache fleet, PlanTable plans, TimeProvider clock)
{
    /// <summary>What others hold.</summary>
    /// <param name="name">The plan's name.</param>
    /// <param name="started">When it started, UTC; null where it has not, so that all others come first.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<HeldElsewhere> OfAsync(string name, DateTimeOffset? started, CancellationToken stop)
    {
        var others = (await plans.AllAsync(stop)).Where(p => p.State == PlanState.Started && p.Name != name).ToArray();
        if (others.Length == 0)
            return HeldElsewhere.Nothing;
        var now = clock.GetUtcNow();
        var machines = await fleet.AllAsync(stop);
        var slots = new List<TakenSlot>();
        var pending = new Dictionary<string, PendingElsewhere>(StringComparer.OrdinalIgnoreCase);
        foreach (var other in others)
        {
            var (plan, product) = await catalogues.ReadPlanAsync(other, stop);
            var aim = PlanCommands.AimOf(plan, product);
            IReadOnlyList<Member> members = await plans.MembersAsync(other.Name, stop);
            foreach (var member in members.Where(PlanWriter.IsPending))
            {
                var machine = machines[member.Machine];
                // Whether it runs the target already, and not by its plan, matters where others depend on it.
                if (
                    member.Status != Status.NotReady
                    || machine.Find(Dependents.Key) is null
                    || !aim.RouteOf(machine, product.IssuesTouching(machine, now)).Arrived
                )
                    pending[machine.Name] = new(member.Machine, other.Name);
            }

            var goesFirst = started is null || (other.Started!.Value, other.Name).CompareTo((started.Value, name)) < 0;
            if (goesFirst)
                members =
                [
                    .. members.Select(m =>
                        m is { Slot: null, Run: null, Tentative: { } tentative } && PlanWriter.IsPending(m)
                            ? m with
                            {
                                Slot = tentative,
                                Status = Status.Scheduled,
                            }
                            : m
                    ),
                ];
            slots.AddRange(PlanWriter.Taken(members, product, machines, now).Select(t => t with { OtherPlan = plan }));
        }

        return new(slots, pending);
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
        foreach (var member in (await plans.OfMachineAsync(before.Id, stop)).Where(PlanWriter.IsPending))
        {
            if (await plans.FindAsync(member.Plan, stop) is not { State: PlanState.Started } stored)
                continue;
            var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
            if (
                member.Run is not null
                || !PlanCommands.AimOf(plan, product).RouteOf(before, product.IssuesTouching(before, clock.GetUtcNow())).Arrived
            )
                return before.Name;
        }

        return null;
    }
}
