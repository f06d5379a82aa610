using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Plans;

/// <summary>How long a method usually takes for a hop on a machine of a model.</summary>
/// <param name="hop">The hop's name.</param>
/// <param name="method">The method.</param>
/// <param name="model">The model; empty where it is not known.</param>
public delegate MethodLengths LengthsOf(string hop, Method method, string model);

/// <summary>Makes a plan's members into requests for slots, and into slots that are taken.</summary>
public static class PlanSlots
{
    /// <summary>How much longer a run is thought to take, at each look, that has not ended with its slot.</summary>
    private static readonly TimeSpan OverdueTakes = TimeSpan.FromMinutes(15);

    /// <summary>How long the appointments of a crew are looked back at: longer than any day in any zone.</summary>
    public static readonly TimeSpan CrewsRemember = TimeSpan.FromHours(36);

    /// <summary>The model of a machine; empty where it is not known.</summary>
    public static string ModelOf(Machine machine)
    {
        ArgumentNullException.ThrowIfNull(machine);
        return machine.TextOf("hardware.model") ?? "";
    }

    /// <summary>How slots for machines are asked for, each with the slot that it has.</summary>
    /// <param name="wanting">The machines.</param>
    /// <param name="lengths">How long methods take.</param>
    /// <param name="pending">By name the machines still to be upgraded: whoever depends on one of them goes after it.</param>
    public static IReadOnlyList<SlotRequest> Requests(
        IEnumerable<(Machine Machine, Assessment Assessment, Slot? Stands)> wanting,
        LengthsOf lengths,
        IReadOnlyDictionary<string, MachineId> pending
    )
    {
        ArgumentNullException.ThrowIfNull(lengths);
        return
        [
            .. wanting.Select(w =>
            {
                var method = w.Assessment.Choice!.Method!;
                var takes = lengths(w.Assessment.Legs[0].Hop.Name, method, ModelOf(w.Machine));
                return Request(w.Machine, method, takes, w.Stands) with { After = After(w.Machine, pending) };
            }),
        ];
    }

    /// <summary>
    /// How a slot for a machine by a method is asked for. One that was given keeps its length, whatever was measured since: nobody is told
    /// another time for that.
    /// </summary>
    public static SlotRequest Request(Machine machine, Method method, MethodLengths lengths, Slot? stands)
    {
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(method);
        var lasts = stands?.End > stands?.Start ? stands.End - stands.Start : lengths.Slot;
        return new(machine.Id, machine.Site, lasts, lengths.AfterPointOfNoReturn)
        {
            Name = machine.Name,
            Group = machine.Group,
            RollbackLasts = lengths.Rollback,
            Stages = method.Needs.Stages,
            Cluster = machine.TextOf("cluster"),
            Crew = method.Needs.Crew,
            Stands = stands,
        };
    }

    /// <summary>How the next slot of a run is asked for.</summary>
    public static SlotRequest Request(
        Machine machine,
        RunState run,
        Product product,
        LengthsOf lengths,
        IReadOnlyDictionary<string, MachineId> pending
    )
    {
        ArgumentNullException.ThrowIfNull(run);
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(lengths);
        var method = product.Method(run.CurrentLeg.Method)!;
        var takes = lengths(run.CurrentLeg.Hop, method, ModelOf(machine));
        var request = Request(machine, method, takes, run.NeedsSlot ? null : run.Slot) with { After = After(machine, pending) };
        return run.Phase == Phase.Stage ? request : request with { Stages = 0 };
    }

    /// <summary>The machine that a machine depends on, where it is among some; null where it is not.</summary>
    public static Predecessor? Before(Machine machine, IReadOnlyDictionary<string, MachineId> among)
    {
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(among);
        return machine.TextOf(Dependents.HangsOn) is { } on && among.TryGetValue(on, out var before) && before != machine.Id
            ? new(before, on)
            : null;
    }

    /// <summary>The machines after which a machine goes, as far as they are among some machines.</summary>
    public static ImmutableArray<Predecessor> After(Machine machine, IReadOnlyDictionary<string, MachineId> among) =>
        Before(machine, among) is { } before ? [before] : [];

    /// <summary>By name the machines that are still to be upgraded, by this plan or another.</summary>
    public static IReadOnlyDictionary<string, MachineId> Pending(
        HeldElsewhere elsewhere,
        IEnumerable<Member> own,
        IReadOnlyDictionary<MachineId, Machine> machines
    )
    {
        ArgumentNullException.ThrowIfNull(elsewhere);
        ArgumentNullException.ThrowIfNull(machines);
        var pending = elsewhere.Pending.ToDictionary(p => p.Key, p => p.Value.Machine, StringComparer.OrdinalIgnoreCase);
        foreach (var member in own.Where(m => m.IsPending))
            pending[machines[member.Machine].Name] = member.Machine;
        return pending;
    }

    /// <summary>A leg by a method, as runs pin it.</summary>
    public static LegSpec Leg(Hop hop, Method method, string? leastBuild, PatchTime? patches)
    {
        ArgumentNullException.ThrowIfNull(hop);
        ArgumentNullException.ThrowIfNull(method);
        var rollback = method.Rollback;
        return new(hop.Name, method.Name, method.Steps, rollback.Steps, rollback.Lasts, method.Typical.AfterPointOfNoReturn)
        {
            To = hop.Component is null ? hop.To : "",
            LeastBuild = leastBuild,
            Patches = patches,
            RollbackAtMost = rollback.AtMost,
            ReclaimSteps = rollback.Reclaim,
        };
    }

    /// <summary>
    /// The slots that machines have and that are not over. A run that has overrun its slot takes room a while longer; earlier appointments
    /// of a crew count for its day.
    /// </summary>
    public static TakenSlot[] Taken(
        IEnumerable<Member> members,
        Product product,
        IReadOnlyDictionary<MachineId, Machine> machines,
        DateTimeOffset now
    )
    {
        ArgumentNullException.ThrowIfNull(product);
        ArgumentNullException.ThrowIfNull(machines);
        return
        [
            .. members
                .Where(m => m.Slot is not null && product.Method(m.Method ?? "") is not null)
                .Select(m => (Member: m, Slot: Left(m.Status, m.Slot!), Method: product.Method(m.Method!)!))
                .Where(m => m.Slot is not null)
                .Select(m => new TakenSlot(Request(machines[m.Member.Machine], m.Method, m.Method.Typical, null), m.Slot!)),
        ];

        Slot? Left(Status status, Slot slot)
        {
            if (status is Status.Scheduled or Status.Running && slot.End > now)
                return slot;
            if (status == Status.Running)
                return slot with { End = now + OverdueTakes };
            return slot.Crew is not null && slot.Start <= now && slot.Start > now - CrewsRemember ? slot with { End = slot.Start } : null;
        }
    }

    /// <summary>What a plan's machines are judged for.</summary>
    public static Aim AimOf(Plan plan, Product product)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(product);
        return new(product, product.Release(plan.Release), plan.Methods, plan.Preserves)
        {
            LeastBuild = plan.LeastBuild,
            But = [.. plan.But.Select(b => (b.For, product.Release(b.Release), b.LeastBuild))],
        };
    }
}
