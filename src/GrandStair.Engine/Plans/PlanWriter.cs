using GrandStair.Core.Access;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Waves;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>Creates and changes plans: what a text would make of a plan, and storing it.</summary>
public sealed class PlanWriter(
    PlanFactsReader facts,
    FleetCache fleet,
    PlanTable plans,
    PlanApprovals approvals,
    PlanAcknowledgements acknowledgements,
    TimeProvider clock
)
{
    /// <summary>
    /// Finds out what a text would make: the members of its waves, judged, and when each would go. Nothing is kept.
    /// </summary>
    /// <param name="body">The plan, as YAML. Where there is a plan of its name, it is that plan changed: what has begun stays.</param>
    /// <param name="sites">The sites that a new plan is for: machines elsewhere are not in it, whatever its scope says.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">Nothing is in its scope, a calendar is missing, or it takes away what has begun.</exception>
    public async Task<Draft> DraftAsync(string body, SiteScope sites, CancellationToken stop) =>
        Draft.Of(await facts.OfTextAsync(body, sites, clock.GetUtcNow(), stop));

    /// <summary>As <see cref="DraftAsync"/>, without the schedule, which takes longest for large plans.</summary>
    /// <exception cref="RefusedException">As <see cref="DraftAsync"/>.</exception>
    public async Task<Draft> DraftMembersAsync(string body, SiteScope sites, CancellationToken stop) =>
        Draft.Of(await facts.OfTextAsync(body, sites, clock.GetUtcNow(), stop) with { MakeSchedule = false });

    /// <summary>Schedules waves to come as things are now, and keeps what is otherwise than before.</summary>
    public async Task ScheduleAsync(PlanRecord stored, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var draft = await DraftAsync(stored.Body, stored.Sites, stop);
        var changed = draft.NewTentative(stored, await plans.MembersAsync(stored.Name, stop));
        if (changed.Count > 0)
            await plans.PutTentativeAsync(stored.Name, changed, clock.GetUtcNow(), stop);
    }

    /// <summary>Makes a plan.</summary>
    /// <exception cref="RefusedException">As <see cref="DraftAsync"/>, or there is a plan of that name.</exception>
    public async Task<Draft> CreateAsync(string body, Actor actor, SiteScope sites, CancellationToken stop)
    {
        var draft = await DraftAsync(body, sites, stop);
        var record = draft.Record with { Revision = 1, CreatedBy = actor.Name, RevisedBy = actor.Name };
        record = record with { FirstIntent = PlanApprovals.FirstIntent(record, draft.Members) };
        await plans.CreateAsync(record, draft.Members, actor, stop);
        return draft with { Record = record };
    }

    /// <summary>Stores a plan's next revision: what has begun stays, and slots that are not in the way of anything do not move.</summary>
    /// <param name="body">The plan, as YAML.</param>
    /// <param name="after">The revision that it was made from; null for whichever there is.</param>
    /// <param name="reason">Why it is changed.</param>
    /// <param name="actor">Who changes it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">As <see cref="DraftAsync"/>, or there is no plan of that name, or it has another revision by
    /// now.</exception>
    public async Task<Draft> ReviseAsync(string body, int? after, string reason, Actor actor, CancellationToken stop)
    {
        var draft = await DraftAsync(body, SiteScope.All, stop);
        var name = draft.Plan.Name;
        if (draft.Record.Revision == 1)
            throw PlanCommands.Unknown(name, (await plans.AllAsync(stop)).Select(p => p.Name));
        if (after is { } from && draft.Record.Revision - 1 is var now && from != now)
            throw RefusedException.Conflict(
                "plan-changed",
                $"Plan '{name}' has revision {now} by now, and what is to be loaded was made from {from}. Look at what was "
                    + $"changed ('gstair plan revisions {name}'), and compare again."
            );
        var record = draft.Record with { RevisedBy = actor.Name, Held = draft.Record.Held ?? await WaitsForAsync(draft, stop) };
        await plans.ReviseAsync(record, draft.Members, reason, actor, clock.GetUtcNow(), stop);
        return draft with { Record = record };
    }

    /// <summary>
    /// What a plan that is running has to wait for when it is changed: what was approved or acknowledged is another thing now, and nothing
    /// further begins until that is asked for again. Null where it waits for nothing.
    /// </summary>
    private async Task<string?> WaitsForAsync(Draft draft, CancellationToken stop)
    {
        if (draft.Record.State != PlanStatus.Started)
            return null;
        var before = (await plans.FindAsync(draft.Plan.Name, stop))!;
        if (draft.Record.Consent.IsNeeded || !(await approvals.NeededAsync(before, stop)).IsEmpty)
            return $"revision {draft.Record.Revision} waits for approval";
        return (await acknowledgements.OpenAsync(draft, stop)).Count > 0
            ? $"revision {draft.Record.Revision} waits for acknowledgement"
            : null;
    }

    /// <summary>
    /// Moves a machine that has not begun to another wave. A running plan that was approved is held until somebody approves that too.
    /// </summary>
    /// <exception cref="RefusedException">There is no such wave, or the machine has begun.</exception>
    public async Task MoveAsync(PlanRecord plan, Machine machine, string wave, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(machine);
        var member = await PlanCommands.MemberAsync(plans, plan.Name, machine, stop);
        var to = plan.Waves.FirstOrDefault(w => w.Name.Equals(wave, StringComparison.OrdinalIgnoreCase))
            ?? throw RefusedException.Unknown(
                "unknown-wave",
                $"Plan '{plan.Name}' has no wave '{wave}'; expected one of {string.Join(", ", plan.Waves.Select(w => w.Name))}."
            );
        if (member.Run is not null)
            throw RefusedException.Conflict("machine-running", $"{machine.Name} has begun (r{member.Run}) and stays in its wave.");
        if (member.Exemption is not null)
            throw RefusedException.Conflict("machine-exempted", $"{machine.Name} is exempt and in no wave's way.");
        if (member.Wave == to.Number)
            return;
        await CheckOrderAsync(plan, machine, to.Number, stop);
        await plans.MoveAsync(plan.Name, machine.Id, to, reason, actor, clock.GetUtcNow(), stop);
        await approvals.HoldUnlessApprovedAsync(plan.Name, $"{machine.Name} was moved to wave {to.Name}", actor, stop);
    }

    /// <summary>Checks that a machine in another wave goes neither before what it depends on nor after what depends on it.</summary>
    private async Task CheckOrderAsync(PlanRecord plan, Machine machine, int wave, CancellationToken stop)
    {
        var members = await plans.MembersAsync(plan.Name, stop);
        var machines = await fleet.AllAsync(stop);
        var pending = PlanSlots.Pending(HeldElsewhere.Nothing, members, machines);
        var inWave = members.ToDictionary(m => m.Machine, m => m.Machine == machine.Id ? wave : m.Wave);
        var late = WaveOrder
            .Defer(inWave, m => PlanSlots.Before(machines[m], pending), _ => false)
            .FirstOrDefault(d => d.Machine == machine.Id || d.On.Machine == machine.Id);
        if (late is not null)
            throw RefusedException.Conflict(
                "wave-order",
                $"{machines[late.Machine].Name} depends on {late.On.Name} and cannot go in an earlier wave; move "
                    + $"{(late.Machine == machine.Id ? late.On.Name : machines[late.Machine].Name)} first."
            );
    }
}
