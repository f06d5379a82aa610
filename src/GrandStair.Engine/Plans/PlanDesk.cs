using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Plans;

/// <summary>A command that cannot be carried out as things are.</summary>
/// <param name="name">A stable name, such as <c>unknown-plan</c>.</param>
/// <param name="message">What is wrong, and what to do.</param>
public sealed class CommandException(string name, string message) : Exception(message)
{
    /// <summary>A stable name.</summary>
    public string Name { get; } = name;
}

/// <summary>Something that a person has to acknowledge before a plan starts.</summary>
/// <param name="Kind"><c>must-read</c>, <c>caution</c> or <c>carries</c>.</param>
/// <param name="Name">Its name.</param>
/// <param name="Title">What it is about.</param>
/// <param name="Words">The text to read, or what would mend it.</param>
/// <param name="Machines">How many machines it concerns.</param>
/// <param name="Given">The acknowledgement; null while it is open.</param>
public sealed record ToAcknowledge(string Kind, string Name, string Title, string Words, int Machines, Acknowledgement? Given);

/// <summary>Where people's commands about plans and runs are carried out.</summary>
public sealed class PlanDesk(Shelf shelf, FleetCache fleet, PlanTable plans, PlanApprovals approvals, RulingTable rulings, RunLog runs, TimeProvider clock)
{
    /// <summary>Starts a plan, or goes on with a held one.</summary>
    public async Task StartAsync(string name, Actor actor, CancellationToken stop)
    {
        var plan = await FindAsync(name, stop);
        if (plan.State == PlanState.Ended) throw new CommandException("plan-ended", $"Plan '{name}' has ended; there is nothing to start.");
        if (plan is { State: PlanState.Started, Held: null }) throw new CommandException("plan-started", $"Plan '{name}' is under way already.");
        if (plan.State == PlanState.Drafted && (await ToAcknowledgeAsync(name, SiteScope.All, stop)).Where(a => a.Given is null).ToArray() is { Length: > 0 } open)
            throw new CommandException("not-acknowledged", $"Before plan '{name}' starts somebody has to acknowledge: {string.Join("; ", open.Select(o => $"{o.Name} ({o.Title})"))}. See 'gstair plan acknowledge {name}'.");
        if ((await approvals.NeededAsync(plan, stop)).FirstOrDefault(n => n.Subject == PlanApprovals.WholePlan) is { Given: null } needed)
            throw new CommandException("not-approved", $"Plan '{name}' needs the yes of {(needed.By.IsEmpty ? $"an approver other than {plan.RevisedBy}" : string.Join(" or ", needed.By))} first{(needed.Before is { } earlier ? $"; what {earlier.By} approved on {earlier.At:yyyy-MM-dd} was revision {earlier.Revision}, and it was changed since" : "")}. See 'gstair plan approve {name}'.");
        await plans.PutStateAsync(name, PlanState.Started, null, plan.State == PlanState.Drafted ? "start" : "go-on", actor, clock.GetUtcNow(), stop);
    }

    /// <summary>What somebody has to acknowledge before a plan starts: what must be read, the shoulds that do not hold or could not be told, and methods that do not carry everything.</summary>
    /// <param name="name">The plan.</param>
    /// <param name="sites">The sites whose machines are counted.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<IReadOnlyList<ToAcknowledge>> ToAcknowledgeAsync(string name, SiteScope sites, CancellationToken stop)
    {
        var (plan, product) = await shelf.ReadPlanAsync(await FindAsync(name, stop), stop);
        var aim = AimOf(plan, product);
        var machines = await fleet.AllAsync(stop);
        var members = (await plans.MembersAsync(name, stop)).Where(m => m.Excuse is null && sites.Holds(machines[m.Machine].Site)).Select(m => m.Machine).ToHashSet();
        var given = (await rulings.AcknowledgedAsync(name, stop)).ToDictionary(a => (a.Kind, a.Name));
        var goingTo = members.CountBy(m => aim.ReleaseFor(machines[m])).ToDictionary();
        var reads = aim.Releases.SelectMany(to => to.MustReads.Select(r => new ToAcknowledge("must-read", r.Name, r.Title, r.Words, goingTo.GetValueOrDefault(to), null))).DistinctBy(r => r.Name);
        var judged = await fleet.JudgedAsync(
            aim,
            name,
            clock.GetUtcNow(),
            (judgement, order) =>
            {
                var rows = order.Where(r => r < judgement.Rows && members.Contains(judgement.Fleet[r].Id)).ToArray();
                var cautions = judgement.Checks.Where(c => c.Check.Need == Need.Should)
                    .Select(c => new ToAcknowledge("caution", c.Check.Name, c.Check.Title, c.Check.Fix.Words, rows.Count(r => c[r] is CheckState.Unmet or CheckState.Untold), null)).Where(c => c.Machines > 0);
                var less = rows.Select(judgement.MethodOf).OfType<Method>().Where(m => m is { Way: Way.Upgrade, Carries: not Carries.Whole }).CountBy(m => m)
                    .Select(m => new ToAcknowledge("carries", m.Key.Name, $"{m.Key.Title} carries {(m.Key.Carries == Carries.Data ? "people's data only: programs and settings are lost" : "nothing: programs, settings and data are lost")}", "Save elsewhere what is needed, or choose another method.", m.Value, null));
                return cautions.Concat(less).ToArray();
            },
            stop);
        return [.. reads.Concat(judged).Select(a => a with { Given = given.GetValueOrDefault((a.Kind, a.Name)) })];
    }

    /// <summary>Acknowledges some of what has to be, or all of it.</summary>
    /// <exception cref="CommandException">One of the names is none of what has to be acknowledged.</exception>
    public async Task AcknowledgeAsync(string name, IReadOnlyList<string>? names, string reason, Actor actor, CancellationToken stop)
    {
        var open = await ToAcknowledgeAsync(name, SiteScope.All, stop);
        foreach (var unknown in (names ?? []).Where(n => open.All(o => o.Name != n)))
            throw new CommandException("unknown-acknowledgement", $"Plan '{name}' has nothing named '{unknown}' to acknowledge; it has {string.Join(", ", open.Select(o => o.Name).DefaultIfEmpty("nothing"))}.");
        var now = clock.GetUtcNow();
        await rulings.AcknowledgeAsync(name, [.. open.Where(o => o.Given is null && (names is null || names.Contains(o.Name))).Select(o => new Acknowledgement(o.Kind, o.Name, reason, actor.Name, now))], actor, stop);
    }

    /// <summary>Chooses the method of one machine in spite of the plan's order; null goes back to that.</summary>
    /// <exception cref="CommandException">The product has no such method, or the machine is under way.</exception>
    public async Task ChooseMethodAsync(string name, Machine machine, string? method, string reason, Actor actor, CancellationToken stop)
    {
        var member = await MemberAsync(name, machine, stop);
        var (_, product) = await shelf.ReadPlanAsync(await FindAsync(name, stop), stop);
        if (method is not null && product.Method(method) is not { Way: Way.Upgrade })
            throw new CommandException("unknown-method", $"{product.Name} has no method '{method}' that upgrades; expected one of {string.Join(", ", product.Methods.Where(m => m.Way == Way.Upgrade).Select(m => m.Name))}.");
        if (member.Run is not null && member.Standing != Standing.Ended) throw new CommandException("machine-under-way", $"{machine.Name} has a run that is not over (r{member.Run}), pinned to its method; call it off first.");
        await rulings.ChooseMethodAsync(name, machine.Id, method, reason, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Holds a plan: no further slot opens and no wave begins. What is under way goes on to its end.</summary>
    public async Task HoldAsync(string name, string reason, Actor actor, CancellationToken stop)
    {
        var plan = await FindAsync(name, stop);
        if (plan.State != PlanState.Started) throw new CommandException("plan-not-started", $"Plan '{name}' is not under way; there is nothing to hold.");
        await plans.PutStateAsync(name, PlanState.Started, reason, "hold", actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Excuses a machine from a plan.</summary>
    public async Task ExcuseAsync(string name, Machine machine, Excuse excuse, string reason, DateOnly? until, Actor actor, CancellationToken stop)
    {
        var member = await MemberAsync(name, machine, stop);
        if (member.Standing is Standing.UnderWay or Standing.Parked or Standing.Proved or Standing.Done || (member.Run is not null && member.Standing != Standing.Ended))
            throw new CommandException("machine-under-way", $"{machine.Name} has a run that is not over (r{member.Run}); call it off first.");
        if (excuse == Excuse.Stays && until is null) throw new CommandException("no-end", $"A machine that stays does so until a date; give it with --until.");
        await plans.ExcuseAsync(name, machine.Id, excuse, reason, until, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Lets a machine whose run ended without success go again.</summary>
    public async Task AgainAsync(string name, Machine machine, string reason, Actor actor, CancellationToken stop)
    {
        var member = await MemberAsync(name, machine, stop);
        if (member.Standing != Standing.Ended) throw new CommandException("run-not-ended", $"{machine.Name} stands at '{RunMachine.Name(member.Standing)}'; only one whose run has ended without success can go again.");
        await plans.AgainAsync(name, machine.Id, reason, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Decides about a run.</summary>
    /// <exception cref="DecisionRefusedException">It cannot be decided so now.</exception>
    public Task<RunState> DecideAsync(long run, Decision decision, string reason, Actor actor, CancellationToken stop) =>
        AppendAsync(run, _ => new Decided(clock.GetUtcNow(), actor.Name, decision, reason), new(actor, $"run {RunMachine.Name(decision)}", reason), stop);

    /// <summary>Closes a loose end.</summary>
    public Task<RunState> CloseLooseEndAsync(long run, string looseEnd, string reason, Actor actor, CancellationToken stop) =>
        AppendAsync(
            run,
            state => state.LooseEnds.Any(l => l.Name == looseEnd && l.Closed is null)
                ? new LooseEndClosed(clock.GetUtcNow(), actor.Name, looseEnd, reason)
                : throw new CommandException("unknown-loose-end", $"Run r{run} has no open loose end '{looseEnd}'."),
            new(actor, "run close-loose-end", $"{looseEnd}: {reason}"),
            stop);

    /// <summary>The plan of that name.</summary>
    /// <exception cref="CommandException">There is none.</exception>
    public async Task<StoredPlan> FindAsync(string name, CancellationToken stop)
    {
        return await plans.FindAsync(name, stop) ?? throw Unknown(name, (await plans.AllAsync(stop)).Select(p => p.Name));
    }

    /// <summary>That there is no plan of a name, with the one that may be meant.</summary>
    public static CommandException Unknown(string name, IEnumerable<string> names)
    {
        var near = Spelling.Nearest(name, names);
        return new("unknown-plan", $"There is no plan '{name}'{(near is null ? ". 'gstair plan list' shows those that exist." : $"; did you mean '{near}'?")}");
    }

    /// <summary>What a plan's machines are judged for.</summary>
    public static Aim AimOf(Plan plan, Product product)
    {
        ArgumentNullException.ThrowIfNull(plan);
        ArgumentNullException.ThrowIfNull(product);
        return new(product, product.Release(plan.Release), plan.Methods, plan.Carries) { But = [.. plan.But.Select(b => (b.For, product.Release(b.Release)))] };
    }

    /// <summary>A machine's place in a plan.</summary>
    /// <exception cref="CommandException">It has none.</exception>
    internal static async Task<Member> MemberAsync(PlanTable plans, string name, Machine machine, CancellationToken stop) =>
        (await plans.OfMachineAsync(machine.Id, stop)).FirstOrDefault(m => m.Plan == name) ?? throw new CommandException("not-in-plan", $"{machine.Name} is not in plan '{name}'.");

    /// <summary>A member with its assessment and slot put in.</summary>
    internal static Member Judged(Member member, Assessment assessment, Placed? placed)
    {
        var slot = placed?.Slot ?? (placed is null ? member.Slot : null);
        var canGo = assessment.CanBePlanned;
        if (assessment.Route.Arrived)
        {
            return member with
            {
                Gate = assessment.State,
                Method = null,
                CannotBeMended = false,
                Why = "it runs the target already, and not by this plan; excuse it",
                Change = null,
                Slot = null,
                Standing = Standing.NotReady,
            };
        }

        return member with
        {
            Gate = assessment.State,
            Method = assessment.Choice?.Method?.Name,
            CannotBeMended = assessment.CannotBeMended,
            // Who has no place and is not asked about now keeps what was said of it.
            Why = assessment.Why ?? (placed is null && canGo && slot is null ? member.Why : placed?.Why),
            Change = !canGo ? null : placed is null && slot is null ? member.Change : placed?.Change,
            Slot = canGo ? slot : null,
            Standing = Standings.Of(member.Excuse is not null, assessment.State, canGo && slot is not null, null),
        };
    }

    private async Task<Member> MemberAsync(string name, Machine machine, CancellationToken stop)
    {
        await FindAsync(name, stop);
        return await MemberAsync(plans, name, machine, stop);
    }

    private async Task<RunState> AppendAsync(long run, Func<RunState, RunEvent> make, Command command, CancellationToken stop)
    {
        while (true)
        {
            var stored = await runs.FindAsync(run, stop) ?? throw new CommandException("unknown-run", $"There is no run r{run}. 'gstair run list' shows those that exist.");
            var e = make(stored.State);
            var after = RunMachine.Step(stored.State, e).State;
            // Somebody else wrote meanwhile: look again and decide on what is true now.
            if (await runs.DecideAsync(stored.State, e, after, command, stop)) return after;
        }
    }
}
