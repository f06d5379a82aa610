using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Plans;

/// <summary>A machine that is still to be upgraded by another plan.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Plan">The plan.</param>
public readonly record struct PendingElsewhere(MachineId Machine, string Plan);

/// <summary>Another plan that has started.</summary>
/// <param name="Record">The plan as it is kept.</param>
/// <param name="Plan">The plan.</param>
/// <param name="Product">Its product.</param>
/// <param name="Members">Its members.</param>
public sealed record OtherPlan(PlanRecord Record, Plan Plan, Product Product, IReadOnlyList<Member> Members);

/// <summary>What the other plans that have started hold, and the hours of crews that appointments for support cases take.</summary>
/// <param name="Slots">Their slots: this plan shares sites, uplinks, crews and clusters with them.</param>
/// <param name="Pending">By name their machines that are still to be upgraded.</param>
public sealed record HeldElsewhere(IReadOnlyList<TakenSlot> Slots, IReadOnlyDictionary<string, PendingElsewhere> Pending)
{
    private const int MostNamed = 5;

    /// <summary>What there is where no other plan has started.</summary>
    public static HeldElsewhere Nothing { get; } = new([], new Dictionary<string, PendingElsewhere>());

    /// <summary>What others hold. Of two plans whose waves are to come, the one that started first is scheduled first.</summary>
    /// <param name="others">The other plans that have started.</param>
    /// <param name="name">The plan's own name.</param>
    /// <param name="started">When it started, UTC; null where it has not, so that all others come first.</param>
    /// <param name="bookings">The hours of crews that appointments take; also those that ended within
    /// <see cref="PlanSlots.CrewsRemember"/>, which count for the crew's day.</param>
    /// <param name="machines">The fleet.</param>
    /// <param name="now">The moment, UTC.</param>
    public static HeldElsewhere Of(
        IEnumerable<OtherPlan> others,
        string name,
        DateTimeOffset? started,
        IEnumerable<CrewBooking> bookings,
        IReadOnlyDictionary<MachineId, Machine> machines,
        DateTimeOffset now
    )
    {
        ArgumentNullException.ThrowIfNull(others);
        ArgumentNullException.ThrowIfNull(machines);
        List<TakenSlot> slots = [.. bookings.Select(b => b.Taken())];
        var pending = new Dictionary<string, PendingElsewhere>(StringComparer.OrdinalIgnoreCase);
        foreach (var (record, plan, product, members) in others)
        {
            var aim = PlanSlots.AimOf(plan, product);
            foreach (var member in members.Where(m => m.IsPending))
            {
                var machine = machines[member.Machine];
                // Whether it runs the target already, and not by its plan, matters where others depend on it.
                if (
                    member.Status != Status.NotReady
                    || machine.Find(Dependents.Key) is null
                    || !aim.RouteOf(machine, product.IssuesTouching(machine, now)).Arrived
                )
                    pending[machine.Name] = new(member.Machine, record.Name);
            }

            var goesFirst = started is null || (record.Started!.Value, record.Name).CompareTo((started.Value, name)) < 0;
            var taken = PlanSlots.Taken(goesFirst ? members.Select(WithTentative) : members, product, machines, now);
            slots.AddRange(taken.Select(t => t with { OtherPlan = plan }));
        }

        return new(slots, pending);
    }

    private static Member WithTentative(Member member) =>
        member is { Slot: null, Run: null, Tentative: { } tentative, IsPending: true }
            ? member with
            {
                Slot = tentative,
                Status = Status.Scheduled,
            }
            : member;

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
