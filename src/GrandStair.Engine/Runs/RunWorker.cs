using GrandStair.Connections;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Runs;

/// <summary>
/// Drives runs that are due. A worker claims a run, takes one look (posts its order, or asks the machine about it), writes the result
/// and gives the claim back with the time of the next look. Between two looks a run is a row with a due time and takes nothing of the
/// worker, so neither long steps nor machines without contact keep other runs waiting. After a restart everything is found again in the
/// database and on the machines.
/// </summary>
public sealed class RunWorker(
    RunLog runs,
    PlanTable plans,
    OtherPlans otherPlans,
    DecisionTable decisions,
    CatalogueCache catalogues,
    FleetCache fleet,
    MachineReader reader,
    ConnectionSet connections,
    RecordSteps recordSteps,
    StepOrders stepOrders,
    StepOutputs stepOutputs,
    ClockTable clockTable,
    ChangeSignal changes,
    DomainClock clock,
    ILogger<RunWorker> log
)
{
    /// <summary>How long a worker that says nothing keeps its runs.</summary>
    public static readonly TimeSpan Lease = TimeSpan.FromSeconds(10);

    // How many looks are begun at once. A look that has waited for its machine for longer than SlowLook no longer counts here.
    private const int MostLooks = 128;

    // How many looks may be open at once at machines that did not answer last time. They count apart and keep no others waiting.
    private const int MostSilentLooks = 512;

    // How many looks may be open in all, those that wait for a slow machine among them.
    private const int MostOpenLooks = 2000;
    private const int ManyLooks = MostLooks / 4;
    private static readonly TimeSpan BetweenClaims = TimeSpan.FromMilliseconds(250);

    // Where simulated time runs fast, a quarter of a second is hours in which a machine would have answered.
    private static readonly TimeSpan DomainBetweenClaims = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan SlowLook = TimeSpan.FromSeconds(1);

    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(50);

    // What other services write shows only by looking.
    private static readonly TimeSpan LongestWait = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(2);

    // What is due within this time, real time, is waited for within the look; it is how much earlier than due a run is claimed.
    private static readonly TimeSpan Early = Tick * 2;

    // By how much the clock has to go back before that is more than a small correction.
    private static readonly TimeSpan SetBack = TimeSpan.FromMinutes(1);

    private readonly Dictionary<long, Look> _looks = [];

    /// <summary>Works until it is stopped.</summary>
    public async Task WorkAsync(CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
        {
            using var lapsed = CancellationTokenSource.CreateLinkedTokenSource(stop);
            long? worker = null;
            try
            {
                worker = await runs.BeginWorkerAsync(Lease, stop);
                log.LogInformation("Worker {Worker} begins", worker);
                await WorkAsync(worker.Value, lapsed.Token);
            }
            catch (OperationCanceledException) when (stop.IsCancellationRequested) { }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException)
            {
                log.LogError("Worker {Worker} cannot write and starts over: {Why}", worker, error.Message);
                await Task.Delay(Beat, CancellationToken.None);
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                log.LogError(error, "Worker {Worker} starts over", worker);
                await Task.Delay(Beat, CancellationToken.None);
            }

            // Nothing of a lapsed incarnation may go on, or two would hold the same run.
            await lapsed.CancelAsync();
            await Task.WhenAll(_looks.Values.Select(l => l.Work));
            _looks.Clear();
            if (stop.IsCancellationRequested && worker is { } ended)
                await runs.EndWorkersAsync(ended, CancellationToken.None);
        }
    }

    private async Task WorkAsync(long worker, CancellationToken stop)
    {
        // The worker stops itself by the monotonic clock before the database takes its lease for lapsed.
        var renewed = TimeProvider.System.GetTimestamp();
        // The thread ends on its own time, and what it waits on with it.
        var over = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var keeping = new Thread(() =>
        {
            using (over)
                KeepLease(worker, at => Volatile.Write(ref renewed, at), over.Token);
        })
        {
            IsBackground = true,
            Name = $"lease of worker {worker}",
            Priority = ThreadPriority.AboveNormal,
        };
        keeping.Start();
        try
        {
            await ClaimAsync(worker, () => TimeProvider.System.GetElapsedTime(Volatile.Read(ref renewed)), stop);
        }
        finally
        {
            await EndAsync(over);
        }
    }

    /// <summary>Stops the thread that keeps the lease, unless it has ended by itself.</summary>
    private static async Task EndAsync(CancellationTokenSource over)
    {
        try
        {
            await over.CancelAsync();
        }
        catch (ObjectDisposedException)
        {
            // It has ended.
        }
    }

    /// <summary>Renews the lease on a thread of its own; where that fails, the worker stops itself before the lease lapses.</summary>
    private void KeepLease(long worker, Action<long> renewed, CancellationToken stop)
    {
        while (!stop.IsCancellationRequested)
        {
            try
            {
                runs.KeepLease(worker, Lease, Beat, renewed, stop);
                return;
            }
            catch (OperationCanceledException)
            {
                return;
            }
            catch (Exception error)
            {
                // An exception that leaves a thread would end the process.
                log.LogError("The lease of worker {Worker} cannot be renewed, and that is tried again: {Why}", worker, error.Message);
                stop.WaitHandle.WaitOne(TimeSpan.FromMilliseconds(500));
            }
        }
    }

    private async Task ClaimAsync(long worker, Func<TimeSpan> held, CancellationToken stop)
    {
        var clockKept = TimeSpan.Zero;
        var latest = (await clockTable.FindAsync(stop))?.Domain;
        var began = TimeProvider.System.GetTimestamp();
        var claimed = 0L;
        using var turn = clock.Stepped?.Join();
        while (!stop.IsCancellationRequested)
        {
            turn?.Begin();
            var seen = changes.Count;
            if (held() > Lease * 0.8)
                return;
            if (TimeProvider.System.GetElapsedTime(began) > clockKept)
            {
                latest = await KeepClockAsync(latest, stop);
                clockKept = TimeProvider.System.GetElapsedTime(began) + Beat;
            }

            foreach (var ended in _looks.Where(l => l.Value.Work.IsCompleted).Select(l => l.Key).ToArray())
                _looks.Remove(ended);
            var free = Math.Min(
                MostLooks - _looks.Values.Count(l => !l.Silent && TimeProvider.System.GetElapsedTime(l.Began) < SlowLook),
                MostOpenLooks - _looks.Count
            );
            var freeSilent = Math.Min(MostSilentLooks - _looks.Values.Count(l => l.Silent), MostOpenLooks - _looks.Count);
            // To choose what comes next takes as long for one run as for a hundred. Machines that do not answer can wait a moment.
            var since = TimeProvider.System.GetElapsedTime(claimed);
            var pause = turn is not null || since >= BetweenClaims || clock.ToDomain(since) >= DomainBetweenClaims;
            if (free >= ManyLooks || (pause && (free > 0 || freeSilent > 0)))
            {
                if (pause)
                    claimed = TimeProvider.System.GetTimestamp();
                foreach (
                    var claim in await runs.ClaimAsync(
                        worker,
                        clock.GetUtcNow() + clock.ToDomain(Early),
                        free,
                        pause ? freeSilent : 0,
                        stop
                    )
                )
                {
                    // A look that had this run before has lost it by the claim, and ends at its next write.
                    var before = _looks.TryGetValue(claim.State.Run, out var earlier) ? earlier.Work : Task.CompletedTask;
                    _looks[claim.State.Run] = new(
                        DriveRunAsync(claim, before, stop),
                        TimeProvider.System.GetTimestamp(),
                        claim.Progress?.LostContact is not null
                    );
                }
            }

            await (turn is null ? WaitAsync(seen, stop) : WaitAsync(turn, stop));
        }
    }

    /// <summary>Waits a moment; without an open look until something was written, or nearly until the next run is due.</summary>
    private async Task WaitAsync(long seen, CancellationToken stop)
    {
        await Task.Delay(Tick, stop);
        if (_looks.Count > 0 || changes.Count != seen)
            return;
        var next = await runs.NextDueAsync(stop);
        var wait = next is { } due ? clock.ToReal(due - clock.GetUtcNow()) - Early : LongestWait;
        await changes.WaitAsync(seen, wait < LongestWait ? wait : LongestWait, stop);
    }

    /// <summary>Waits, where time moves in steps, for an open look to end; without one for the next run that is due.</summary>
    private async Task WaitAsync(SteppedTime.Turn turn, CancellationToken stop)
    {
        if (_looks.Count > 0)
            await Task.WhenAny(_looks.Values.Select(l => l.Work));
        else
            await turn.WaitAsync(await runs.NextDueAsync(stop), stop);
    }

    /// <summary>
    /// Keeps what the time is. Where the clock was set back, all runs are looked at once more: what they wait for may be due by the time
    /// that is right now.
    /// </summary>
    /// <param name="latest">What the time was when it was last kept, UTC; null where it never was.</param>
    /// <param name="stop">Cancels it.</param>
    /// <returns>What the time is, UTC.</returns>
    private async Task<DateTimeOffset> KeepClockAsync(DateTimeOffset? latest, CancellationToken stop)
    {
        var here = clock.Here;
        if (latest is { } kept && kept - here.Domain > SetBack)
        {
            var count = await runs.MakeDueAsync(here.Domain, stop);
            log.LogWarning(
                "The clock was set back by {Length}; {Count} runs that waited are looked at once more",
                Units.Show((kept - here.Domain).TotalSeconds, ValueKind.Duration),
                count
            );
        }

        await clockTable.PutAsync(here, stop);
        return here.Domain;
    }

    private async Task DriveRunAsync(ClaimedRun claim, Task before, CancellationToken stop)
    {
        await before;
        try
        {
            await ProcessAsync(claim, stop);
        }
        catch (OperationCanceledException) when (stop.IsCancellationRequested) { }
        catch (RunLostException)
        {
            // A person decided about it meanwhile; the look that claimed it then waits for this one to end.
        }
        catch (Exception error)
        {
            log.LogError(error, "Run r{Run} could not be processed", claim.State.Run);
            await GiveBackAsync(claim, stop);
        }
    }

    /// <summary>
    /// Gives a run back after a fault. Where even that cannot be written it stays claimed until the lease ends; nothing of it is lost.
    /// </summary>
    private async Task GiveBackAsync(ClaimedRun claim, CancellationToken stop)
    {
        try
        {
            await runs.ReleaseAsync(claim, clock.GetUtcNow() + clock.ToDomain(TimeSpan.FromSeconds(10)), stop);
        }
        catch (Exception error) when (error is StoreException or System.Data.Common.DbException or OperationCanceledException)
        {
            log.LogError("Run r{Run} could not be given back: {Why}", claim.State.Run, error.Message);
        }
    }

    /// <summary>Goes on with a run as long as something of it is due, and gives it back with the time at which it is due next.</summary>
    private async Task ProcessAsync(ClaimedRun claim, CancellationToken stop)
    {
        while (claim.State is { Outstanding: { } order, DueAt: not null })
        {
            var now = clock.GetUtcNow();
            var wait = clock.ToReal(order.DueAt(now) - now);
            if (wait > Early)
                break;
            if (wait > TimeSpan.Zero)
                await Task.Delay(wait, stop);
            var machine = (await fleet.AllAsync(stop))[new(claim.State.Machine)];
            var look = await ExecuteOrderAsync(claim, order, machine, stop);
            if (look.Event is not { } e)
            {
                await runs.ReleaseAsync(claim, look.NextLook, look.Progress, look.WaitsFor, clock.GetUtcNow(), stop);
                return;
            }

            if (e is OrderEnded part)
                e = part with { Patch = claim.State.Patch };
            var after = RunMachine.Step(claim.State, e).State;
            if (!await runs.AppendAsync(claim, [e], after, stop))
                return;
            if (e is OrderEnded { Result: not (OrderResult.Ok or OrderResult.NotYet) } or OrderOverdue || after.Parked is not null)
                log.LogInformation(
                    "Run r{Run} on {Machine}: {Event}{Parked}",
                    after.Run,
                    machine.Name,
                    e.Type,
                    after.Parked is null ? "" : $", parked: {after.Parked}"
                );
            claim = claim with { State = after, Progress = null, Due = clock.GetUtcNow() };
            if (after.Outcome == Outcome.Done)
                await stepOrders.ForgetAsync(after, stop);
            if (after.Outcome == Outcome.RolledBack)
                await ReadBackAsync(machine, stop);
        }

        await runs.ReleaseAsync(claim, claim.State.DueAt, stop);
    }

    /// <summary>The second machine of a run that goes side by side; null for any other run.</summary>
    private async Task<Machine?> SuccessorAsync(RunState run, CancellationToken stop) =>
        run.Successor is { } id ? (await fleet.AllAsync(stop))[new(id)] : null;

    /// <summary>Reads a machine that was rolled back: its readings from the verification no longer hold.</summary>
    private async Task ReadBackAsync(Machine machine, CancellationToken stop)
    {
        try
        {
            await reader.ReadAsync(machine, Actor.Worker, stop);
        }
        catch (ConnectionException error)
        {
            // The next reader finds it as it was verified, and reads it again.
            log.LogInformation("{Machine} has gone back and was not read: {Why}", machine.Name, error.Message);
        }
    }

    private async Task<Looked> ExecuteOrderAsync(ClaimedRun claim, Order order, Machine machine, CancellationToken stop)
    {
        if (claim.State.NeedsRoom && await TryAcquireLimitsAsync(claim, machine, stop) is { } full)
            return WaitFor(full, claim);
        switch (order.Kind)
        {
            case OrderKind.Gate:
                return new(await JudgeAsync(claim, order, machine, stop));
            case OrderKind.Slot:
                return await OpenSlotAsync(claim, order, machine, stop);
            case OrderKind.Settle:
                return new(new Settled(clock.GetUtcNow(), "worker", order.Name));
            case OrderKind.Step:
                return await StepAsync(claim, order, machine, stop);
            default:
                throw new InvalidOperationException($"Order {order.Name} is for a person.");
        }
    }

    /// <summary>Looks at a step on the machine where it is done.</summary>
    private async Task<Looked> StepAsync(ClaimedRun claim, Order order, Machine machine, CancellationToken stop)
    {
        var run = claim.State;
        var other = await SuccessorAsync(run, stop);
        if (run.CurrentStep is { OnSuccessor: true } onSuccessor)
        {
            if (other is null)
                return new(
                    new OrderEnded(clock.GetUtcNow(), "worker", order.Name, OrderResult.Failed, null, NoSuccessor(onSuccessor, machine))
                );
            (machine, other) = (other, machine);
        }

        if (run.WaitingStep is { } step)
            return step.Until is { } until
                ? await ReadUntilAsync(claim, order, step, until, machine, stop)
                : WaitOn(claim, order, step, $"no answer from {step.Task!.Who}");
        // The time in which it waits for the uplink does not count as staging.
        return run.UsesUplink && await TryAcquireUplinkAsync(claim, machine, stop) is { } busy
            ? WaitFor(busy, claim)
            : await ActAsync(claim, order, machine, other, stop);
    }

    private static string NoSuccessor(StepSpec step, Machine machine) =>
        $"{step.Title} is done on a second machine, and {machine.Name} had none when this run was opened. Import the second machine with "
        + $"'{Successors.Replaces}' set to {machine.Name}, and cancel this run; the plan then opens another one.";

    /// <summary>A limit is full: the run is due when a place in it becomes free, and after two minutes at the latest.</summary>
    private Looked WaitFor(string limit, ClaimedRun claim) =>
        Looked.Later(clock.GetUtcNow() + Max(TimeSpan.FromMinutes(2), clock.ToDomain(TimeSpan.FromSeconds(1))), claim.Progress, limit);

    /// <summary>Takes room within the limits of its plan, site, cluster and crew for a run that has none yet.</summary>
    /// <returns>The limit that is full; null where the run has room in all of them now.</returns>
    private async Task<string?> TryAcquireLimitsAsync(ClaimedRun claim, Machine machine, CancellationToken stop)
    {
        if (await runs.HasRoomAsync(claim.State.Run, stop))
            return null;
        // From the narrowest to the widest, so that a run that waits for a wide one has found room in the others.
        var (plan, _) = await PlanOfAsync(claim, stop);
        var limits = new List<(string, int)>();
        if (machine.TextOf("cluster") is { } cluster)
            limits.Add(($"cluster:{cluster}", 1));
        if (claim.State.Slot.Crew is { } crew && plan.CrewOf(crew) is { } hands)
            limits.Add(($"crew:{crew}", hands.Hands));
        limits.Add(($"site:{machine.Site}", plan.Limits.Site));
        limits.Add(($"plan:{plan.Name}", plan.Limits.All));
        return await TryAcquireAsync(claim, limits, stop);
    }

    /// <summary>
    /// Takes its site's uplink for staging. One machine after the other is as quick as all at once, and the first are through sooner.
    /// </summary>
    /// <returns>The uplink, where another machine stages over it; else null.</returns>
    private async Task<string?> TryAcquireUplinkAsync(ClaimedRun claim, Machine machine, CancellationToken stop)
    {
        var (plan, _) = await PlanOfAsync(claim, stop);
        return plan.UplinkOf(machine.Site) is null ? null : await TryAcquireAsync(claim, [($"uplink:{machine.Site}", 1)], stop);
    }

    /// <exception cref="RunLostException">It was claimed again since, and this look has nothing more to do.</exception>
    private async Task<string?> TryAcquireAsync(ClaimedRun claim, IReadOnlyList<(string Name, int Most)> limits, CancellationToken stop)
    {
        var full = await runs.TakeRoomAsync(claim, limits, stop);
        return full == RunLog.Lost ? throw new RunLostException() : full;
    }

    private async Task<(Plan Plan, PlanRecord Stored)> PlanOfAsync(ClaimedRun claim, CancellationToken stop)
    {
        var stored = (await plans.FindAsync(claim.State.Plan, stop))!;
        return ((await catalogues.ReadPlanAsync(stored, stop)).Plan, stored);
    }

    private async Task<Looked> OpenSlotAsync(ClaimedRun claim, Order order, Machine machine, CancellationToken stop)
    {
        var (_, stored) = await PlanOfAsync(claim, stop);
        if (stored.Held is not null)
            return Looked.Later(clock.GetUtcNow() + Max(TimeSpan.FromMinutes(1), clock.ToDomain(Tick)), claim.Progress);
        if (await otherPlans.PredecessorAsync(machine, stop) is { } before)
            return WaitFor($"machine:{before}", claim);
        return await TryAcquireLimitsAsync(claim, machine, stop) is { } full
            ? WaitFor(full, claim)
            : new(new SlotOpened(clock.GetUtcNow(), "worker", order.Name));
    }

    private async Task<RunEvent> JudgeAsync(ClaimedRun claim, Order order, Machine machine, CancellationToken stop)
    {
        var product = await catalogues.ByHashAsync(claim.State.CatalogueHash, stop);
        var leg = claim.State.CurrentLeg;
        var hop = product.Hops.Single(h => h.Name == leg.Hop);
        var moment = order.Moment!.Value;
        var decided = await decisions.OfAsync(product.Name, claim.State.Plan, clock.GetUtcNow(), stop);
        var run = claim.State;
        var successor = run.CurrentLeg.GoesSideBySide ? await SuccessorAsync(run, stop) : null;
        // Once it is done on the second machine, that one is to be verified, and the later hops of the route begin there.
        if (successor is not null && (moment == Moment.Verification || run.Leg > 0))
            (machine, successor) = (successor, null);
        var isSecond = machine.Id.Value != run.Machine;
        Gate Judge(Machine now) =>
            Gate.Judge(
                product
                    .ChecksOf(hop, product.Method(leg.Method)!, now, clock.GetUtcNow(), leg.LeastBuild)
                    .Where(c => !isSecond || c.Name != Successors.Check),
                now,
                moment,
                clock.GetUtcNow(),
                decided.GetValueOrDefault(new(claim.State.Machine))?.Waivers
            );
        var gate = Judge(machine);
        if (moment != Moment.Planning || gate.State != GateState.Open)
        {
            try
            {
                machine = await reader.ReadAsync(machine, Actor.Worker, stop);
                // It has to answer before anything is suspended for it.
                if (successor is not null)
                    await reader.ReadAsync(successor, Actor.Worker, stop);
            }
            catch (ConnectionException error)
            {
                return new GateJudged(
                    clock.GetUtcNow(),
                    "worker",
                    order.Name,
                    GateState.Undecided,
                    [new("reach", "The machine answers", error.Message, "Switch it on and connect it; then try again.")],
                    []
                );
            }

            gate = Judge(machine);
        }

        return new GateJudged(
            clock.GetUtcNow(),
            "worker",
            order.Name,
            gate.State,
            [.. gate.InTheWay.Select(Note)],
            [.. gate.Cautions.Select(Note)]
        );
    }

    private static Noted Note(CheckResult result) =>
        new(result.Check.Name, result.Check.Title, string.Join(", ", result.Seen.Select(l => l.Tell())), result.Check.Fix.Words)
        {
            Script = result.Check.Fix.Script,
            Restarts = result.Check.Fix.Restarts,
        };

    /// <summary>Reads what a step waits for. Asked again after a crash, it simply reads once more.</summary>
    private async Task<Looked> ReadUntilAsync(
        ClaimedRun claim,
        Order order,
        StepSpec step,
        string until,
        Machine machine,
        CancellationToken stop
    )
    {
        string seen;
        try
        {
            (var answer, seen) = await AskNowAsync(until, machine, stop);
            if (answer == Kleene.Yes)
                return new(new OrderEnded(clock.GetUtcNow(), "worker", order.Name, OrderResult.Ok, null, seen));
        }
        catch (ConnectionException error)
        {
            seen = error.Message;
        }

        return WaitOn(claim, order, step, seen);
    }

    /// <summary>Reads what a condition is about, and asks it.</summary>
    /// <exception cref="ConnectionException">The machine could not be read.</exception>
    private async Task<(Kleene Answer, string Seen)> AskNowAsync(string text, Machine machine, CancellationToken stop)
    {
        var condition = ConditionParser.Parse(text, catalogues.Keys);
        machine = await reader.ReadAsync(machine, [.. condition.Keys], Actor.Worker, stop);
        var answer = condition.Ask(machine, new EvaluationContext(clock.GetUtcNow()));
        return (answer.Value, string.Join(", ", answer.Leaves.Select(l => l.Tell())));
    }

    /// <summary>Reads whether anything is left to patch. Asked again after a crash, it simply reads once more.</summary>
    /// <exception cref="ConnectionException">The machine could not be read.</exception>
    private async Task<OrderEnded> LookForMoreAsync(Order order, StepSpec step, Machine machine, CancellationToken stop)
    {
        var (answer, seen) = await AskNowAsync(step.Until!, machine, stop);
        var (result, note) = answer switch
        {
            Kleene.Yes => (OrderResult.Ok, seen),
            Kleene.No => (OrderResult.NotYet, seen),
            _ => (OrderResult.Failed, $"whether anything is left is unknown: {seen}"),
        };
        return new(clock.GetUtcNow(), "worker", order.Name, result, null, note);
    }

    /// <summary>Waits on in a step, until it has lasted too long.</summary>
    /// <param name="claim">The run.</param>
    /// <param name="order">Its order.</param>
    /// <param name="step">The step that waits.</param>
    /// <param name="seen">What was found in place of what it waits for.</param>
    private Looked WaitOn(ClaimedRun claim, Order order, StepSpec step, string seen)
    {
        var now = clock.GetUtcNow();
        var until = claim.State.WaitsUntil!.Value;
        var every = step.Every ?? step.Limit;
        var progress = new RunProgress(order.Name.ToString(), null, seen, now) { Since = order.At, Answered = true };
        if (claim.State.Parked is not null)
            return Looked.Later(now + every, progress);
        if (now <= until)
            return Looked.Later(now + every < until ? now + every : until + TimeSpan.FromSeconds(1), progress);
        return claim.State.CanMissSlot && now > claim.State.Slot.LatestTurn
            ? new(new OrderEnded(now, "worker", order.Name, OrderResult.TooLate, null, seen))
            : new(
                new OrderOverdue(
                    now,
                    "worker",
                    order.Name,
                    $"{step.Title}: waited for {Units.Show(step.Limit.TotalSeconds, ValueKind.Duration)} in vain; found: {seen}"
                )
            );
    }

    /// <summary>Posts a step's order to its machine, or asks the machine about it.</summary>
    private async Task<Looked> ActAsync(ClaimedRun claim, Order order, Machine machine, Machine? other, CancellationToken stop)
    {
        var step = claim.State.CurrentStep!;
        var name = order.Name.ToString();
        var known = claim.Progress is { } before && before.Order == name ? before : null;
        // Only what passes until the machine is asked counts for the step, not how long the answer takes.
        var asked = clock.GetUtcNow();
        OrderStatus status;
        long printed;
        try
        {
            if (step.IsReading)
                return new(await recordSteps.DoAsync(claim.State, order, machine, asked, stop));
            if (claim.State.Patch is { Part: PatchPart.Look })
                return new(await LookForMoreAsync(order, step, machine, stop));
            var connection = connections.Of(machine);
            // An order that was never looked for is posted; one that is there already stays as it is.
            if (known is not { Answered: true })
            {
                if (await stepOrders.WhyNotAsync(claim.State, step, machine, stop) is { } why)
                    return new(new OrderEnded(asked, "worker", order.Name, OrderResult.Failed, null, why));
                await connection.PostAsync(machine, await stepOrders.MakeAsync(claim, order, step, machine, other, stop), stop);
            }

            asked = clock.GetUtcNow();
            status = await stepOutputs.MaskAsync(await connection.AskAsync(machine, order.Name, stop), step, stop);
            // It was posted and is not there: the machine was set back. Nothing was done, so it may be posted again.
            if (status.State == OrderState.Unseen && await stepOrders.WhyNotAsync(claim.State, step, machine, stop) is null)
                await connection.PostAsync(machine, await stepOrders.MakeAsync(claim, order, step, machine, other, stop), stop);
            // A result counts once all that led to it is here: by then the machine may be gone for good.
            printed = await stepOutputs.KeepAsync(connection, machine, order.Name, step, status, known?.Printed, stop);
        }
        catch (ConnectionException error) when (error.Name != "epoch")
        {
            return Unanswered(claim, order, step, machine, Resumed(known, name, claim.Due, asked), asked, error);
        }

        var now = clock.GetUtcNow();
        if (EndOf(order, status, now) is { } end)
        {
            if (end.Result == OrderResult.Ok)
                await stepOrders.EndedAsync(claim.State, step, machine, stop);
            return new(end);
        }

        if (known?.LostContact is { Looks: >= LostContact.ShownFrom } lost)
            log.LogInformation(
                "{Machine}, run r{Run}: it answers again after {Silence}",
                machine.Name,
                claim.State.Run,
                Units.Show((now - lost.Since).TotalSeconds, ValueKind.Duration)
            );
        var progress = new RunProgress(name, status.Share, status.Note, now)
        {
            Since = Resumed(known, name, claim.Due, asked).Since,
            Answered = true,
            Printed = printed,
        };
        return LookAgain(claim, order, step, status, progress, asked);
    }

    /// <summary>How an order ended; null while it is running.</summary>
    private static OrderEnded? EndOf(Order order, OrderStatus status, DateTimeOffset now)
    {
        OrderResult? result = status.State switch
        {
            OrderState.Ended => status.Exit == 0 ? OrderResult.Ok : OrderResult.Failed,
            OrderState.Gone => OrderResult.Gone,
            _ => null,
        };
        return result is { } how
            ? new OrderEnded(now, "worker", order.Name, how, status.Exit, status.Note) { Lasted = status.Lasted }
            : null;
    }

    /// <summary>When to look again at an order that is running; one that is running for too long parks its run.</summary>
    private Looked LookAgain(ClaimedRun claim, Order order, StepSpec step, OrderStatus status, RunProgress progress, DateTimeOffset asked)
    {
        var (now, since) = (progress.At, progress.Since);
        if (IsOverdue(claim, since, asked, order, step))
            return Overdue(claim, order, step, progress, status.Note);
        var often = now + Max(LookInterval.Running(now - since, step.Typical), clock.ToDomain(Early));
        // Where time moves in steps nobody watches what happens between them.
        var next = status.AskNext is { } hint && (hint < often || clock.Stepped is not null) ? hint : often;
        var overdue = OverdueAfter(since, order, step) + TimeSpan.FromSeconds(1);
        return Looked.Later(claim.State.Parked is null && overdue < next ? overdue : next, progress);
    }

    /// <summary>
    /// A look that heard nothing. From the second one on people see since when and why. A changed host key asks for a person at once, and
    /// so does a machine that lets nobody in any more.
    /// </summary>
    private Looked Unanswered(
        ClaimedRun claim,
        Order order,
        StepSpec step,
        Machine machine,
        RunProgress progress,
        DateTimeOffset asked,
        ConnectionException error
    )
    {
        var now = clock.GetUtcNow();
        var lost = progress.LostContact is { } before
            ? before with
            {
                Looks = before.Looks + 1,
                Why = error.Message,
            }
            : new LostContact(progress.At, 1, error.Message);
        if (lost.Looks == LostContact.ShownFrom)
            log.LogWarning(
                "{Machine}, run r{Run}: no contact since {Since:u}: {Why}",
                machine.Name,
                claim.State.Run,
                lost.Since,
                error.Message
            );
        progress = progress with { LostContact = lost };
        // A host whose packages are being exchanged may refuse a login for a moment.
        var needsPerson =
            error.Name is "host-key-changed" || (error.Name is "rights" or "login-refused" && lost.Looks >= LostContact.ShownFrom);
        if (claim.State.Parked is null && needsPerson)
            return new(new OrderOverdue(now, "worker", order.Name, $"{step.Title}: {error.Message}"));
        if (IsOverdue(claim, progress.Since, asked, order, step))
            return Overdue(claim, order, step, progress, error.Message);
        return Looked.Later(
            now
                + Max(
                    LookInterval.Silent(now - lost.Since, claim.State.CurrentAction == StepKind.Restart ? step.Typical : TimeSpan.Zero),
                    clock.ToDomain(Early)
                ),
            progress
        );
    }

    /// <summary>Parks the run at a step that takes too long; one that is parked already is still watched.</summary>
    private Looked Overdue(ClaimedRun claim, Order order, StepSpec step, RunProgress progress, string heard)
    {
        var now = clock.GetUtcNow();
        if (claim.State.Parked is not null)
            return Looked.Later(now + TimeSpan.FromMinutes(1), progress);
        var limit = Units.Show(step.Limit.TotalSeconds, ValueKind.Duration);
        var why =
            claim.State.CurrentAction == StepKind.Restart
                ? $"{step.Title}: not back after {limit}. Look at its screen: it may be off, start again and again, or ask for the key of "
                    + $"its disk encryption; last heard: {heard}"
                : $"{step.Title}: running for longer than {limit}; last heard: {heard}";
        return new(new OrderOverdue(now, "worker", order.Name, why));
    }

    /// <summary>
    /// What was known of an order at the last look, or that it is asked for the first time. Time in which no worker was there to look, for
    /// which a look is late, counts neither as running nor as silence.
    /// </summary>
    private static RunProgress Resumed(RunProgress? known, string order, DateTimeOffset due, DateTimeOffset asked)
    {
        if (known is null)
            return new(order, null, "", asked) { Since = asked };
        if (known.Since > asked)
            return known with { Since = asked };
        var missed = asked - due;
        if (missed <= TimeSpan.Zero)
            return known;
        return known with
        {
            Since = known.Since + missed,
            LostContact = known.LostContact is { } lost ? lost with { Since = lost.Since + missed } : null,
        };
    }

    private static bool IsOverdue(ClaimedRun claim, DateTimeOffset since, DateTimeOffset asked, Order order, StepSpec step) =>
        claim.State.Parked is not null || asked > OverdueAfter(since, order, step);

    private static DateTimeOffset OverdueAfter(DateTimeOffset since, Order order, StepSpec step) =>
        (order.At > since ? order.At : since) + step.Limit;

    private static TimeSpan Max(TimeSpan a, TimeSpan b) => a > b ? a : b;

    /// <summary>What a look came to: an event, or when to look again.</summary>
    private sealed record Looked(RunEvent? Event)
    {
        /// <summary>When to look again, UTC; null where there is an event.</summary>
        public DateTimeOffset? NextLook { get; private init; }

        /// <summary>What is known of the order now.</summary>
        public RunProgress? Progress { get; private init; }

        /// <summary>The limit that is full; null where it waits for none.</summary>
        public string? WaitsFor { get; private init; }

        public static Looked Later(DateTimeOffset at, RunProgress? progress, string? waitsFor = null) =>
            new((RunEvent?)null)
            {
                NextLook = at,
                Progress = progress,
                WaitsFor = waitsFor,
            };
    }

    /// <summary>A look that is open.</summary>
    /// <param name="Work">Ends with it.</param>
    /// <param name="Began">When it began, as a monotonic timestamp.</param>
    /// <param name="Silent">Whether the machine did not answer last time.</param>
    private sealed record Look(Task Work, long Began, bool Silent);

    /// <summary>Another worker or a person has the run by now.</summary>
    private sealed class RunLostException : Exception;
}
