using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Methods;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>Carries out people's commands about plans.</summary>
public sealed class PlanCommands(
    CatalogueCache catalogues,
    FleetCache fleet,
    PlanTable plans,
    PlanApprovals approvals,
    PlanAcknowledgements acknowledgements,
    DecisionTable decisions,
    OtherPlans otherPlans,
    TimeProvider clock
)
{
    /// <summary>Starts a plan, or goes on with a held one.</summary>
    public async Task StartAsync(string name, Actor actor, CancellationToken stop)
    {
        var plan = await FindAsync(name, stop);
        if (plan.State == PlanStatus.Ended)
            throw RefusedException.Conflict("plan-ended", $"Plan '{name}' has ended; there is nothing to start.");
        if (plan is { State: PlanStatus.Started, Held: null })
            throw RefusedException.Conflict("plan-started", $"Plan '{name}' is running already.");
        var machines = await fleet.AllAsync(stop);
        if (
            (await otherPlans.OfAsync(name, plan.Started, stop)).Shared(
                (await plans.MembersAsync(name, stop)).Where(m => m.IsPending).Select(m => machines[m.Machine])
            ) is
            { } shared
        )
            throw RefusedException.Conflict(
                "machines-shared",
                $"{shared}. A machine is upgraded by one plan at a time: exempt it from one of them, or leave it out of this plan's scope."
            );
        // Asked again when a held plan goes on, since what is to be acknowledged may have changed since it started.
        if ((await acknowledgements.OpenAsync(plan, stop)) is { Count: > 0 } open)
            throw RefusedException.Conflict(
                "not-acknowledged",
                $"Before plan '{name}' can start, these must be acknowledged: "
                    + $"{string.Join("; ", open.Select(o => $"{o.Name} ({o.Title})"))}. See 'gstair plan acknowledge {name}'."
            );
        if ((await approvals.NeededAsync(plan, stop)).FirstOrDefault(n => n.Subject == Consent.WholePlan) is { Given: null } needed)
        {
            var by = needed.By.IsEmpty ? "an approver who did not change it" : string.Join(" or ", needed.By);
            var before = needed.Before is { } earlier
                ? $"; what {earlier.By} approved on {earlier.At:yyyy-MM-dd} was revision {earlier.Revision}, and it was changed since"
                : "";
            throw RefusedException.Conflict(
                "not-approved",
                $"Plan '{name}' needs the approval of {by} first{before}. {needed.Why} See 'gstair plan approve {name}'."
            );
        }

        await plans.PutStatusAsync(
            name,
            PlanStatus.Started,
            null,
            plan.State == PlanStatus.Drafted ? "start" : "go-on",
            actor,
            clock.GetUtcNow(),
            stop
        );
    }

    /// <summary>Chooses the method of one machine in spite of the plan's order; null goes back to that.</summary>
    /// <exception cref="RefusedException">The product has no such method, it does not suit the machine, or the machine is
    /// running.</exception>
    public async Task ChooseMethodAsync(string name, Machine machine, string? method, string reason, Actor actor, CancellationToken stop)
    {
        var member = await MemberAsync(name, machine, stop);
        var stored = await FindAsync(name, stop);
        var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
        if (method is not null && product.Method(method) is not { Way: Way.Upgrade })
            throw RefusedException.Unknown(
                "unknown-method",
                $"{product.Name} has no method '{method}' that upgrades; expected one of "
                    + $"{string.Join(", ", product.Methods.Where(m => m.Way == Way.Upgrade).Select(m => m.Name))}."
            );
        if (method is not null && Misfit(PlanSlots.AimOf(plan, product), machine, method) is { } why)
            throw RefusedException.Conflict(
                "method-does-not-suit",
                $"Method '{method}' is not possible for {machine.Name}: {why}. 'gstair machine gate {machine.Name} --plan {name}' "
                    + $"shows what was found."
            );
        if (member.Run is not null && member.Status != Status.Stopped)
            throw RefusedException.Conflict(
                "machine-running",
                $"{machine.Name} has a run that is not over (r{member.Run}), pinned to its method; cancel it first."
            );
        // Held before it is written, so that no run is opened by a method that nobody has acknowledged or approved.
        if (
            method is not null
            && product.Method(method) is { Preserves: not Preserves.Full } less
            && stored is { State: PlanStatus.Started, Held: null }
        )
            await plans.PutStatusAsync(
                name,
                PlanStatus.Started,
                $"{machine.Name} was given the method {less.Name}, which does not preserve everything and waits for acknowledgement",
                "hold",
                actor,
                clock.GetUtcNow(),
                stop
            );
        await decisions.ChooseMethodAsync(name, machine.Id, method, reason, actor, clock.GetUtcNow(), stop);
        await approvals.HoldUnlessApprovedAsync(name, $"{machine.Name} was given another method", actor, stop);
    }

    /// <summary>Holds a plan: no further slot opens and no wave begins. What is running goes on to its end.</summary>
    public async Task HoldAsync(string name, string reason, Actor actor, CancellationToken stop)
    {
        var plan = await FindAsync(name, stop);
        if (plan.State != PlanStatus.Started)
            throw RefusedException.Conflict("plan-not-started", $"Plan '{name}' is not running; there is nothing to hold.");
        await plans.PutStatusAsync(name, PlanStatus.Started, reason, "hold", actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Deletes a plan that was never started, with all that belongs to it; the audit keeps its text.</summary>
    /// <exception cref="RefusedException">It was started.</exception>
    public async Task DiscardAsync(string name, string reason, Actor actor, CancellationToken stop)
    {
        await FindAsync(name, stop);
        if (!await plans.DiscardAsync(name, reason, actor, clock.GetUtcNow(), stop))
            throw RefusedException.Conflict(
                "plan-started",
                $"Plan '{name}' was started, so its runs and their history stay. Put it on hold, or exempt its machines."
            );
    }

    /// <summary>Exempts a machine from a plan.</summary>
    public async Task ExemptAsync(
        string name,
        Machine machine,
        Exemption exemption,
        string reason,
        DateOnly? until,
        Actor actor,
        CancellationToken stop
    )
    {
        var member = await MemberAsync(name, machine, stop);
        if (
            member.Status is Status.Running or Status.Parked or Status.Verified or Status.Done
            || (member.Run is not null && member.Status != Status.Stopped)
        )
            throw RefusedException.Conflict(
                "machine-running",
                $"{machine.Name} has a run that is not over (r{member.Run}); cancel it first."
            );
        if (exemption == Exemption.Stays && until is null)
            throw RefusedException.Invalid("no-end", $"A machine that stays does so until a date; give it with --until.");
        await plans.ExemptAsync(name, machine.Id, exemption, reason, until, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Lets a machine whose run ended without success go again.</summary>
    public async Task AgainAsync(string name, Machine machine, string reason, Actor actor, CancellationToken stop)
    {
        var member = await MemberAsync(name, machine, stop);
        if (member.Status != Status.Stopped)
            throw RefusedException.Conflict(
                "run-not-ended",
                $"{machine.Name} is {RunMachine.Name(member.Status)}; only a machine whose run ended without success can be retried."
            );
        await plans.AgainAsync(name, machine.Id, reason, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>The plan of that name.</summary>
    /// <exception cref="RefusedException">There is none.</exception>
    public async Task<PlanRecord> FindAsync(string name, CancellationToken stop)
    {
        return await plans.FindAsync(name, stop) ?? throw Unknown(name, (await plans.AllAsync(stop)).Select(p => p.Name));
    }

    /// <summary>That there is no plan of a name, with the one that may be meant.</summary>
    public static RefusedException Unknown(string name, IEnumerable<string> names) =>
        RefusedException.Unknown(
            "unknown-plan",
            $"There is no plan '{name}'{Spelling.DidYouMean(name, names, ". 'gstair plan list' shows those that exist.")}"
        );

    /// <summary>Why a machine cannot go by a method, whatever its checks say; null where it can.</summary>
    private string? Misfit(Aim aim, Machine machine, string method)
    {
        var now = clock.GetUtcNow();
        var judged = Assessment.Of(aim, machine, Moment.Planning, now, Decisions.None with { Method = new(method, "", "", now) });
        return judged.Choice switch
        {
            null => judged.Why ?? "it is on the target release already",
            { Overridden: null } choice => $"it does not do hop {choice.Hop.Name}",
            { Method: null } choice => choice.Why,
            _ => null,
        };
    }

    /// <summary>A machine's place in a plan.</summary>
    /// <exception cref="RefusedException">It has none.</exception>
    internal static async Task<Member> MemberAsync(PlanTable plans, string name, Machine machine, CancellationToken stop) =>
        (await plans.OfMachineAsync(machine.Id, stop)).FirstOrDefault(m => m.Plan == name)
        ?? throw RefusedException.Conflict("not-in-plan", $"{machine.Name} is not in plan '{name}'.");

    private async Task<Member> MemberAsync(string name, Machine machine, CancellationToken stop)
    {
        await FindAsync(name, stop);
        return await MemberAsync(plans, name, machine, stop);
    }
}
