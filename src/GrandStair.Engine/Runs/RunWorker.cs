using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Secrets;
using GrandStair.Links;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using GrandStair.Storage.Scripts;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Runs;

/// <summary>
/// Sees to runs that are due: claims them, hands their orders to the machines, asks after them, and writes what comes of it.
/// A restart finds everything in the database and on the machines again.
/// </summary>
public sealed class RunWorker(
    RunLog runs, PlanTable plans, RulingTable rulings, Shelf shelf, FleetCache fleet, MachineReader reader, LinkSet links, ScriptTable sent, ISecrets secrets, ClockTable clockTable, DomainClock clock, ILogger<RunWorker> log)
{
    /// <summary>How long a worker that says nothing keeps its runs.</summary>
    public static readonly TimeSpan Lease = TimeSpan.FromSeconds(10);

    private const int MostRuns = 128;

    // What is shorter than this is no secret, and would be found in many words.
    private const int ShortestMasked = 4;
    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(50);
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(2);

    // Waits up to this long are sat out with the run in hand; for longer ones it is given back.
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(3);

    // How long, in real time, until a line that another machine uses is asked for again, at the least.
    private static readonly TimeSpan LineAgain = TimeSpan.FromMilliseconds(50);
    private readonly Dictionary<long, Task> _hands = [];

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
            catch (OperationCanceledException) when (stop.IsCancellationRequested)
            {
            }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException)
            {
                log.LogError("Worker {Worker} cannot write and begins anew: {Why}", worker, error.Message);
                await Task.Delay(Beat, CancellationToken.None);
            }
            catch (Exception error) when (error is not OperationCanceledException)
            {
                log.LogError(error, "Worker {Worker} begins anew", worker);
                await Task.Delay(Beat, CancellationToken.None);
            }

            // Nothing of a lapsed incarnation may go on, or two would hold the same run.
            await lapsed.CancelAsync();
            await Task.WhenAll(_hands.Values);
            _hands.Clear();
            if (stop.IsCancellationRequested && worker is { } ended) await runs.EndWorkersAsync(ended, CancellationToken.None);
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
            using (over) KeepLease(worker, at => Volatile.Write(ref renewed, at), over.Token);
        })
        { IsBackground = true, Name = $"lease of worker {worker}", Priority = ThreadPriority.AboveNormal };
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
        var began = TimeProvider.System.GetTimestamp();
        while (!stop.IsCancellationRequested)
        {
            if (held() > Lease * 0.8) return;
            if (TimeProvider.System.GetElapsedTime(began) > clockKept)
            {
                await clockTable.PutAsync(clock.Here, stop);
                clockKept = TimeProvider.System.GetElapsedTime(began) + Beat;
            }

            foreach (var done in _hands.Where(h => h.Value.IsCompleted).Select(h => h.Key).ToArray()) _hands.Remove(done);
            if (_hands.Count < MostRuns)
            {
                foreach (var claim in await runs.ClaimAsync(worker, clock.GetUtcNow() + clock.ToDomain(Tick * 2), MostRuns - _hands.Count, stop))
                {
                    // The hand that had this run before has lost it by the claim, and ends at its next write.
                    var before = _hands.GetValueOrDefault(claim.State.Run, Task.CompletedTask);
                    _hands[claim.State.Run] = HandAsync(claim, before, stop);
                }
            }

            await Task.Delay(Tick, stop);
        }
    }

    private async Task HandAsync(ClaimedRun claim, Task before, CancellationToken stop)
    {
        await before;
        try
        {
            await SeeToAsync(claim, stop);
        }
        catch (OperationCanceledException) when (stop.IsCancellationRequested)
        {
        }
        catch (RunLostException)
        {
            // Somebody decided about it meanwhile; the hand that claimed it then waits for this one to end.
        }
        catch (Exception error)
        {
            log.LogError(error, "Run r{Run} could not be seen to", claim.State.Run);
            await GiveBackAsync(claim, stop);
        }
    }

    /// <summary>Gives a run back after a fault. Where even that cannot be written it stays claimed until the lease ends; nothing of it is lost.</summary>
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

    private async Task SeeToAsync(ClaimedRun claim, CancellationToken stop)
    {
        string? posted = null;
        var begun = DateTimeOffset.MinValue;
        while (claim.State is { Outstanding: { } order, DueAt: { } due })
        {
            if (!await WaitAsync(claim, due, stop)) return;
            var machine = (await fleet.AllAsync(stop))[new(claim.State.Machine)];
            var known = posted == order.Name.ToString();
            if (!known && claim.State.Phase == Phase.Stage && order.Kind == OrderKind.Step && await LacksLineAsync(claim, machine, stop))
            {
                // The time in which it waits for the line is none in which it stages.
                if (!await WaitAsync(claim, clock.GetUtcNow() + Max(TimeSpan.FromMinutes(1), clock.ToDomain(LineAgain)), stop)) return;
                continue;
            }

            if (!known) begun = clock.GetUtcNow();
            var (e, askAgain) = await TendAsync(claim, order, machine, new(known, begun), stop);
            posted = order.Name.ToString();
            if (e is null)
            {
                if (!await WaitAsync(claim, askAgain, stop)) return;
                continue;
            }

            var after = RunMachine.Step(claim.State, e).State;
            if (!await runs.AppendAsync(claim, [e], after, stop)) return;
            if (e is OrderEnded { Result: not OrderResult.Ok } or OrderOverdue || after.Parked is not null)
                log.LogInformation("Run r{Run} on {Machine}: {Event}{Parked}", after.Run, machine.Name, e.Type, after.Parked is null ? "" : $", parked: {after.Parked}");
            claim = claim with { State = after };
            if (after.Outcome == Outcome.Reverted) await ReadBackAsync(machine, stop);
        }

        await runs.ReleaseAsync(claim, claim.State.DueAt, stop);
    }

    /// <summary>Reads a machine that has gone back: what was read of it for the proof is no longer so.</summary>
    private async Task ReadBackAsync(Machine machine, CancellationToken stop)
    {
        try
        {
            await reader.ReadAsync(machine, Actor.Worker, stop);
        }
        catch (LinkException error)
        {
            // Whoever asks next finds it still as it was proved, and reads it again.
            log.LogInformation("{Machine} has gone back and was not read: {Why}", machine.Name, error.Message);
        }
    }

    /// <summary>Waits until a moment of domain time; where that is far away, gives the run back and says false.</summary>
    private async Task<bool> WaitAsync(ClaimedRun claim, DateTimeOffset until, CancellationToken stop)
    {
        var real = clock.ToReal(until - clock.GetUtcNow());
        if (real > Patience)
        {
            await runs.ReleaseAsync(claim, until, stop);
            return false;
        }

        if (real > TimeSpan.Zero) await Task.Delay(real, stop);
        return true;
    }

    private async Task<(RunEvent? Event, DateTimeOffset AskAgain)> TendAsync(ClaimedRun claim, Order order, Machine machine, InHand hand, CancellationToken stop)
    {
        var soon = clock.GetUtcNow() + TimeSpan.FromMinutes(1);
        if (claim.State.NeedsRoom && await LacksRoomAsync(claim, machine, stop)) return (null, soon);
        return order.Kind switch
        {
            OrderKind.Gate => (await JudgeAsync(claim, order, machine, stop), soon),
            OrderKind.Slot => (await OpenSlotAsync(claim, order, machine, stop), soon),
            OrderKind.Settle => (new Settled(clock.GetUtcNow(), "worker", order.Name), soon),
            OrderKind.Step => await StepAsync(claim, order, machine, hand, stop),
            _ => throw new InvalidOperationException($"Order {order.Name} is for a person."),
        };
    }

    private async Task<bool> LacksRoomAsync(ClaimedRun claim, Machine machine, CancellationToken stop)
    {
        var (plan, _) = await PlanOfAsync(claim, stop);
        var limits = new List<(string, int)> { ($"plan:{plan.Name}", plan.Limits.All), ($"site:{machine.Site}", plan.Limits.Site) };
        if (machine.TextOf("unit") is { } unit) limits.Add(($"unit:{unit}", 1));
        if (claim.State.Slot.Crew is { } crew && plan.Crews.FirstOrDefault(c => c.Name == crew) is { } hands) limits.Add(($"crew:{plan.Name}/{crew}", hands.Hands));
        return await LacksAsync(claim, limits, stop);
    }

    /// <summary>Whether the line of its site is at another machine's staging: one after the other is as quick as all at once, and the first are through sooner.</summary>
    private async Task<bool> LacksLineAsync(ClaimedRun claim, Machine machine, CancellationToken stop)
    {
        var (plan, _) = await PlanOfAsync(claim, stop);
        if (plan.LineOf(machine.Site) is null) return false;
        return await LacksAsync(claim, [($"line:{machine.Site}", 1)], stop);
    }

    /// <summary>Whether a run has to wait for room.</summary>
    /// <exception cref="RunLostException">It was claimed anew, and this hand has nothing more to wait for.</exception>
    private async Task<bool> LacksAsync(ClaimedRun claim, IReadOnlyList<(string Name, int Most)> limits, CancellationToken stop) => await runs.TakeRoomAsync(claim, limits, stop) switch
    {
        null => false,
        RunLog.Lost => throw new RunLostException(),
        _ => true,
    };

    private async Task<(Plan Plan, StoredPlan Stored)> PlanOfAsync(ClaimedRun claim, CancellationToken stop)
    {
        var stored = (await plans.FindAsync(claim.State.Plan, stop))!;
        return ((await shelf.ReadPlanAsync(stored, stop)).Plan, stored);
    }

    private async Task<RunEvent?> OpenSlotAsync(ClaimedRun claim, Order order, Machine machine, CancellationToken stop)
    {
        var (_, stored) = await PlanOfAsync(claim, stop);
        if (stored.Held is not null) return null;
        return await LacksRoomAsync(claim, machine, stop) ? null : new SlotOpened(clock.GetUtcNow(), "worker", order.Name);
    }

    private async Task<RunEvent> JudgeAsync(ClaimedRun claim, Order order, Machine machine, CancellationToken stop)
    {
        var product = await shelf.ByHashAsync(claim.State.CatalogueHash, stop);
        var leg = claim.State.CurrentLeg;
        var hop = product.Hops.Single(h => h.Name == leg.Hop);
        var moment = order.Moment!.Value;
        var decided = await rulings.OfAsync(product.Name, claim.State.Plan, clock.GetUtcNow(), stop);
        Gate Judge(Machine now) => Gate.Judge(product.ChecksOf(hop, product.Method(leg.Method)!, now, clock.GetUtcNow()), now, moment, clock.GetUtcNow(), decided.GetValueOrDefault(now.Id)?.Waivers);
        var gate = Judge(machine);
        if (moment != Moment.Planning || gate.State != GateState.Open)
        {
            try
            {
                machine = await reader.ReadAsync(machine, Actor.Worker, stop);
            }
            catch (LinkException error)
            {
                return new GateJudged(clock.GetUtcNow(), "worker", order.Name, GateState.Undecided, [new("reach", "The machine answers", error.Message, "Switch it on and connect it; then try again.")], []);
            }

            gate = Judge(machine);
        }

        return new GateJudged(clock.GetUtcNow(), "worker", order.Name, gate.State, [.. gate.InTheWay.Select(Note)], [.. gate.Cautions.Select(Note)]);
    }

    private static Noted Note(CheckResult result) => new(
        result.Check.Name, result.Check.Title, string.Join(", ", result.Seen.Select(l => l.Tell())), result.Check.Fix.Words);

    private async Task<(RunEvent? Event, DateTimeOffset AskAgain)> StepAsync(ClaimedRun claim, Order order, Machine machine, InHand hand, CancellationToken stop)
    {
        var step = claim.State.CurrentStep!;
        string trouble;
        try
        {
            var link = links.Of(machine);
            if (!hand.Posted) await link.PostAsync(machine, await PostedAsync(claim, order, step, machine, stop), stop);
            var standing = await MaskedAsync(await link.AskAsync(machine, order.Name, stop), step, stop);
            var now = clock.GetUtcNow();
            switch (standing.State)
            {
                case OrderState.Ended:
                    return (new OrderEnded(now, "worker", order.Name, standing.Exit == 0 ? OrderResult.Ok : OrderResult.Failed, standing.Exit, standing.Note) { Lasted = standing.Lasted }, now);
                case OrderState.Gone:
                    return (new OrderEnded(now, "worker", order.Name, OrderResult.Gone, null, standing.Note) { Lasted = standing.Lasted }, now);
                case OrderState.Unseen:
                    // It was posted and is not there: the machine was set back. Nothing was done, so it may be posted again.
                    await link.PostAsync(machine, await PostedAsync(claim, order, step, machine, stop), stop);
                    break;
                default:
                    break;
            }

            await runs.ProgressAsync(claim, new(order.Name.ToString(), standing.Share, standing.Note, now), now, stop);
            var often = now + clock.ToDomain(clock.Pace > 1 ? TimeSpan.FromSeconds(1) : TimeSpan.FromSeconds(2));
            trouble = standing.Note;
            if (!IsOverdue(claim, hand, order, step)) return (null, standing.AskAgain is { } hint && hint < often ? hint : often);
        }
        catch (LinkException error) when (error.Name != "epoch")
        {
            trouble = error.Message;
            if (!IsOverdue(claim, hand, order, step)) return (null, clock.GetUtcNow() + Max(TimeSpan.FromSeconds(2), clock.ToDomain(TimeSpan.FromMilliseconds(100))));
        }

        var at = clock.GetUtcNow();
        return claim.State.Parked is null
            ? (new OrderOverdue(at, "worker", order.Name, $"{step.Title}: under way for longer than {Units.Show(step.Limit.TotalSeconds, ValueKind.Duration)}; last heard: {trouble}"), at)
            : (null, at + TimeSpan.FromMinutes(1));
    }

    /// <summary>What a script says, without the secrets that it was given: it may have printed them.</summary>
    private async Task<OrderStanding> MaskedAsync(OrderStanding standing, StepSpec step, CancellationToken stop)
    {
        foreach (var name in step.Secrets)
        {
            var secret = await secrets.OfAsync(name, stop);
            foreach (var line in secret.Split('\n').Select(l => l.Trim()).Where(l => l.Length >= ShortestMasked)) standing = standing with { Note = standing.Note.Replace(line, $"({name})", StringComparison.Ordinal) };
        }

        return standing;
    }

    private bool IsOverdue(ClaimedRun claim, InHand hand, Order order, StepSpec step) =>
        claim.State.Parked is not null || clock.GetUtcNow() > (order.At > hand.Since ? order.At : hand.Since) + step.Limit;

    private static TimeSpan Max(TimeSpan a, TimeSpan b) => a > b ? a : b;

    private async Task<PostedOrder> PostedAsync(ClaimedRun claim, Order order, StepSpec step, Machine machine, CancellationToken stop)
    {
        var product = await shelf.ByHashAsync(claim.State.CatalogueHash, stop);
        var hop = product.Hops.Single(h => h.Name == claim.State.CurrentLeg.Hop);
        var values = ImmutableSortedDictionary.CreateRange(StringComparer.Ordinal, new Dictionary<string, string>
        {
            ["order"] = order.Name.ToString(),
            ["run"] = $"r{claim.State.Run}",
            ["machine"] = machine.Name,
            ["hop"] = hop.Name,
            ["to"] = hop.To,
            ["build"] = product.BuildOf(hop, product.IssuesTouching(machine, clock.GetUtcNow())) ?? "",
        });
        var content = step.Script is { } script ? product.Scripts[script] : "";
        if (step.Script is not null) await sent.SentAsync(machine.Id, [new(product.Name, step.Script, FileChange.Hash(content))], "step", $"plan {claim.State.Plan}", order.Name.ToString(), clock.GetUtcNow(), stop);
        var handed = new SortedDictionary<string, string>(StringComparer.Ordinal);
        foreach (var name in step.Secrets) handed[name] = await secrets.OfAsync(name, stop);
        return new(order.Name, claim.Epoch, step.Kind, content, values) { Secrets = handed };
    }

    /// <summary>What this worker has done about an order since it has the run.</summary>
    /// <param name="Posted">Whether it has posted it.</param>
    /// <param name="Since">When it first saw to it; the time limit counts from here, since before nobody may have been there to post it.</param>
    private sealed record InHand(bool Posted, DateTimeOffset Since);

    /// <summary>Somebody else has the run by now.</summary>
    private sealed class RunLostException : Exception;
}
