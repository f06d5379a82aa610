using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Fleet;
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

/// <summary>Where people's commands about plans and runs are carried out.</summary>
public sealed class PlanDesk(Shelf shelf, FleetCache fleet, PlanTable plans, RunLog runs, TimeProvider clock)
{
    /// <summary>Makes a plan: finds the members of its waves, judges them, and lays out when each would go.</summary>
    /// <exception cref="CommandException">Nothing is in its scope.</exception>
    public async Task<StoredPlan> CreateAsync(string body, string actor, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var plan = shelf.ReadPlan(body);
        var product = shelf.Products[plan.Product];
        var target = product.Releases.Single(r => r.Version == plan.Release);
        var membership = Membership.Of(plan, (await fleet.AllAsync(stop)).Values, now);
        if (membership.Waves.All(w => w.IsEmpty))
            throw new CommandException("empty-scope", $"No machine is in the scope of plan '{plan.Name}' ({plan.Scope}){(membership.Undecided.IsEmpty ? "" : $"; of {membership.Undecided.Length} it cannot be told")}. See 'gstair fleet list' with the same condition.");

        var members = new List<Member>();
        var from = now;
        for (var i = 0; i < plan.Waves.Length; i++)
        {
            ImmutableArray<(Machine Machine, Assessment Assessment)> judged = [.. membership.Waves[i].Select(m => (m, Assessment.Of(product, target, plan.Methods, plan.Carries, m, Moment.Planning, now)))];
            var placed = SlotPlacer.Place(plan, judged.Where(j => j.Assessment is { State: GateState.Open, Choice: not null }).Select(j => Request(j.Machine, j.Assessment.Choice!.Method!)), [], from)
                .ToDictionary(p => p.Machine);
            members.AddRange(judged.Select(j => Judged(new Member { Plan = plan.Name, Machine = j.Machine.Id, Wave = i + 1, PlannedEnd = placed.GetValueOrDefault(j.Machine.Id)?.Slot?.End }, j.Assessment, null)));
            if (placed.Values.Max(p => p.Slot?.End) is { } end) from = end + plan.Advance.Soak;
        }

        var stored = new StoredPlan(
            plan.Name, 1, body, product.Hash, PlanState.Drafted, null, now, actor, null, null,
            [.. membership.Undecided.Select(u => $"{u.Machine.Name}: {u.Why}")],
            [.. plan.Waves.Select((w, i) => new StoredWave(i + 1, w.Name, WaveState.Waiting, null, null))]);
        await plans.CreateAsync(stored, members, stop);
        return stored;
    }

    /// <summary>Starts a plan, or goes on with a held one.</summary>
    public async Task StartAsync(string name, string actor, CancellationToken stop)
    {
        var plan = await FindAsync(name, stop);
        if (plan.State == PlanState.Ended) throw new CommandException("plan-ended", $"Plan '{name}' has ended; there is nothing to start.");
        if (plan is { State: PlanState.Started, Held: null }) throw new CommandException("plan-started", $"Plan '{name}' is under way already.");
        await plans.PutStateAsync(name, PlanState.Started, null, plan.State == PlanState.Drafted ? "start" : "go-on", actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Holds a plan: no further slot opens and no wave begins. What is under way goes on to its end.</summary>
    public async Task HoldAsync(string name, string reason, string actor, CancellationToken stop)
    {
        var plan = await FindAsync(name, stop);
        if (plan.State != PlanState.Started) throw new CommandException("plan-not-started", $"Plan '{name}' is not under way; there is nothing to hold.");
        await plans.PutStateAsync(name, PlanState.Started, reason, "hold", actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Excuses a machine from a plan.</summary>
    public async Task ExcuseAsync(string name, Machine machine, Excuse excuse, string reason, DateOnly? until, string actor, CancellationToken stop)
    {
        var member = await MemberAsync(name, machine, stop);
        if (member.Standing is Standing.UnderWay or Standing.Parked or Standing.Proved or Standing.Done || (member.Run is not null && member.Standing != Standing.Ended))
            throw new CommandException("machine-under-way", $"{machine.Name} has a run that is not over (r{member.Run}); call it off first.");
        if (excuse == Excuse.Stays && until is null) throw new CommandException("no-end", $"A machine that stays does so until a date; give it with --until.");
        await plans.ExcuseAsync(name, machine.Id, excuse, reason, until, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Lets a machine whose run ended without success go again.</summary>
    public async Task AgainAsync(string name, Machine machine, string reason, string actor, CancellationToken stop)
    {
        var member = await MemberAsync(name, machine, stop);
        if (member.Standing != Standing.Ended) throw new CommandException("run-not-ended", $"{machine.Name} stands at '{RunMachine.Name(member.Standing)}'; only one whose run has ended without success can go again.");
        await plans.AgainAsync(name, machine.Id, reason, actor, clock.GetUtcNow(), stop);
    }

    /// <summary>Decides about a run.</summary>
    /// <exception cref="DecisionRefusedException">It cannot be decided so now.</exception>
    public Task<RunState> DecideAsync(long run, Decision decision, string reason, string actor, CancellationToken stop) =>
        AppendAsync(run, _ => new Decided(clock.GetUtcNow(), actor, decision, reason), $"run {RunMachine.Name(decision)}", stop);

    /// <summary>Closes a loose end.</summary>
    public Task<RunState> CloseLooseEndAsync(long run, string looseEnd, string reason, string actor, CancellationToken stop) =>
        AppendAsync(
            run,
            state => state.LooseEnds.Any(l => l.Name == looseEnd && l.Closed is null)
                ? new LooseEndClosed(clock.GetUtcNow(), actor, looseEnd, reason)
                : throw new CommandException("unknown-loose-end", $"Run r{run} has no open loose end '{looseEnd}'."),
            "run close-loose-end",
            stop);

    /// <summary>The plan of that name.</summary>
    /// <exception cref="CommandException">There is none.</exception>
    public async Task<StoredPlan> FindAsync(string name, CancellationToken stop)
    {
        if (await plans.FindAsync(name, stop) is { } plan) return plan;
        var near = Spelling.Nearest(name, (await plans.AllAsync(stop)).Select(p => p.Name));
        throw new CommandException("unknown-plan", $"There is no plan '{name}'{(near is null ? ". 'gstair plan list' shows those that exist." : $"; did you mean '{near}'?")}");
    }

    /// <summary>How a slot for a machine by a method is asked for.</summary>
    internal static SlotRequest Request(Machine machine, Method method) => new(machine.Id, machine.Site, method.SlotLasts, method.AfterTurningPoint);

    /// <summary>A member with its assessment and slot put in.</summary>
    internal static Member Judged(Member member, Assessment assessment, Placed? placed)
    {
        var slot = placed?.Slot ?? (placed is null ? member.Slot : null);
        if (assessment.Route.Arrived)
        {
            return member with
            {
                Gate = assessment.State,
                Method = null,
                CannotBeMended = false,
                Why = "it runs the target already, and not by this plan; excuse it",
                Slot = null,
                Standing = Standing.NotReady,
            };
        }

        return member with
        {
            Gate = assessment.State,
            Method = assessment.Choice?.Method?.Name,
            CannotBeMended = assessment.CannotBeMended,
            Why = assessment.Why ?? placed?.Why,
            Slot = assessment.State == GateState.Open ? slot : null,
            Standing = Standings.Of(member.Excuse is not null, assessment.State, assessment.State == GateState.Open && slot is not null, null),
        };
    }

    private async Task<Member> MemberAsync(string name, Machine machine, CancellationToken stop)
    {
        await FindAsync(name, stop);
        return (await plans.OfMachineAsync(machine.Id, stop)).FirstOrDefault(m => m.Plan == name)
            ?? throw new CommandException("not-in-plan", $"{machine.Name} is not in plan '{name}'.");
    }

    private async Task<RunState> AppendAsync(long run, Func<RunState, RunEvent> make, string command, CancellationToken stop)
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
