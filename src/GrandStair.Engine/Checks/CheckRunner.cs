using System.Collections.Immutable;
using GrandStair.Connections;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Runs;
using GrandStair.Storage.Checks;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Scripts;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Checks;

/// <summary>Carries out people's commands about one check on one machine: recheck, waive, fix.</summary>
public sealed class CheckRunner(
    CatalogueCache catalogues,
    MachineReader reader,
    FleetCache fleet,
    ConnectionSet connections,
    DecisionTable decisions,
    FixTable fixes,
    ScriptTable sent,
    NextWindow windows,
    RunCommands runs,
    TimeProvider clock,
    ILogger<CheckRunner> log
)
{
    /// <summary>How long a waiver may last at most.</summary>
    public static readonly TimeSpan LongestWaiver = TimeSpan.FromDays(366);

    // Fixes are orders like any other on a machine; their names begin beyond those of runs.
    private const long FirstFixRun = 1_000_000_000_000;
    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan ShortestLimit = TimeSpan.FromHours(1);
    private static readonly TimeSpan RestartTakes = TimeSpan.FromMinutes(15);

    /// <summary>Asks one check of a machine again, from readings of now: exactly those that it looks at.</summary>
    /// <exception cref="RefusedException">The machine's gate has no such check.</exception>
    /// <exception cref="ConnectionException">The machine could not be read.</exception>
    public async Task<Machine> RecheckAsync(Aim aim, Machine machine, string check, Actor actor, CancellationToken stop)
    {
        var result = await FindAsync(aim, machine, check, null, stop);
        return await ReadForAsync(result.Check, machine, actor, stop);
    }

    /// <summary>Waives a must on a machine until a moment.</summary>
    /// <exception cref="RefusedException">It cannot be waived, or need not.</exception>
    public async Task<long> WaiveAsync(
        Aim aim,
        Machine machine,
        string check,
        string reason,
        DateTimeOffset until,
        Actor actor,
        CancellationToken stop
    )
    {
        var now = clock.GetUtcNow();
        if (until <= now || until > now + LongestWaiver)
            throw RefusedException.Invalid(
                "until",
                $"A waiver ends within a year from now; expected a day after {now:yyyy-MM-dd} and not after "
                    + $"{now + LongestWaiver:yyyy-MM-dd}."
            );
        var result = await FindAsync(aim, machine, check, null, stop);
        if (result.Check.Need == Need.Should)
            throw RefusedException.Conflict(
                "not-waivable",
                $"'{check}' is a should: it blocks no gate. It is acknowledged before the plan starts."
            );
        if (!result.Check.Waivable)
            throw RefusedException.Conflict(
                "not-waivable",
                $"'{check}' cannot be waived: the catalogue does not allow it. {result.Check.Fix.Words}"
            );
        if (result.State is not (CheckState.Unmet or CheckState.Unknown))
            throw RefusedException.Conflict(
                "nothing-to-waive",
                $"'{check}' is {RunMachine.Name(result.State)} on {machine.Name}; there is nothing to waive."
            );
        return await decisions.WaiveAsync(
            aim.Product.Name,
            machine.Id,
            new(check, result.Check.Version, Waiver.SeenIn(result), reason, actor.Name, now, until),
            actor,
            stop
        );
    }

    /// <summary>
    /// Sends the script that fixes a check to a machine. The check is asked again when it has ended. A script that restarts the machine is
    /// sent in its next window, unless it is to run at once.
    /// </summary>
    /// <param name="aim">What the machine is judged for.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="check">The check's name.</param>
    /// <param name="plan">The plan whose decisions and windows count; null for none.</param>
    /// <param name="reason">Why, for the audit.</param>
    /// <param name="atOnce">Whether a script that restarts the machine runs at once, outside of its windows too.</param>
    /// <param name="actor">Who sends it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">The check has no script, or need not be fixed, or the machine has no window for it.</exception>
    public async Task<StoredFix> FixAsync(
        Aim aim,
        Machine machine,
        string check,
        string? plan,
        string reason,
        bool atOnce,
        Actor actor,
        CancellationToken stop
    )
    {
        var result = await FindAsync(aim, machine, check, plan, stop);
        if (result.Check.Fix.Script is not { } script)
            throw RefusedException.Conflict("no-script", $"No script fixes '{check}'. {result.Check.Fix.Words}");
        if (result.State is not (CheckState.Unmet or CheckState.Unknown or CheckState.Waived))
            throw RefusedException.Conflict(
                "nothing-to-fix",
                $"'{check}' is {RunMachine.Name(result.State)} on {machine.Name}; there is nothing to fix."
            );
        var fix = result.Check.Fix;
        DateTimeOffset? begins = fix.Restarts && !atOnce ? await WindowAsync(machine, check, plan, fix.Takes, stop) : null;
        return await fixes.BeginAsync(NewFix(aim.Product, machine, check, script, begins, actor), reason, actor, stop);
    }

    private StoredFix NewFix(Product product, Machine machine, string check, string script, DateTimeOffset? begins, Actor actor) =>
        new(
            0,
            machine.Id,
            product.Name,
            check,
            script,
            FileChange.Hash(product.Scripts[script]),
            actor.Name,
            clock.GetUtcNow(),
            begins,
            null,
            null,
            "",
            null
        );

    /// <summary>
    /// Sends a follow-up's script to its machine. When it has ended, the check is asked again; where it is met, the follow-up is closed. A
    /// script that restarts the machine is sent in its next window, unless it is to run at once.
    /// </summary>
    /// <param name="run">The run's number.</param>
    /// <param name="followUp">The follow-up's name.</param>
    /// <param name="reason">Why, for the audit.</param>
    /// <param name="atOnce">Whether a script that restarts the machine runs at once, outside of its windows too.</param>
    /// <param name="actor">Who sends it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">The run has no such open follow-up, it has no script, or the machine has no window.</exception>
    public async Task<StoredFix> FixFollowUpAsync(
        long run,
        string followUp,
        string reason,
        bool atOnce,
        Actor actor,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(actor);
        var (state, open) = await runs.OpenFollowUpAsync(run, followUp, stop);
        var product = await catalogues.ByHashAsync(state.CatalogueHash, stop);
        if (
            open.Script is not { } script
            || catalogues.Products.GetValueOrDefault(product.Name) is not { } newest
            || !newest.Scripts.ContainsKey(script)
        )
            throw RefusedException.Conflict("no-script", $"Follow-up '{followUp}' of run r{run} has no script. {open.Fix}");
        var machine = (await fleet.AllAsync(stop))[new(state.Machine)];
        var takes = CheckOf(newest, followUp)?.Fix.Takes;
        DateTimeOffset? begins = open.Restarts && !atOnce ? await WindowAsync(machine, followUp, state.Plan, takes, stop) : null;
        var begun = await fixes.BeginAsync(
            NewFix(newest, machine, followUp, script, begins, actor) with
            {
                Run = run,
            },
            reason,
            actor,
            stop
        );
        await runs.BeginFollowUpScriptAsync(
            run,
            followUp,
            $"f{begun.Id}",
            begins,
            new(actor, "follow-up fix", $"{followUp}: {reason}"),
            stop
        );
        return begun;
    }

    private static Check? CheckOf(Product product, string name) =>
        product.Hops.SelectMany(h => h.Checks).Concat(product.Methods.SelectMany(m => m.Checks)).FirstOrDefault(c => c.Name == name);

    /// <summary>When a fix that restarts its machine can run, UTC.</summary>
    private async Task<DateTimeOffset> WindowAsync(Machine machine, string check, string? plan, TimeSpan? takes, CancellationToken stop) =>
        plan is null
            ? throw RefusedException.Conflict(
                "restarts",
                $"The script for '{check}' restarts {machine.Name}, and without a plan it has no window. Name the plan whose windows "
                    + $"count, or say that it is to run at once."
            )
            : await windows.FindAsync(plan, machine, takes ?? RestartTakes, stop);

    /// <summary>Drives fixes: posts them, polls them, and rechecks.</summary>
    public Duty Duty => new("fixes", Tick, DriveAsync) { IsSingle = true };

    private async Task DriveAsync(CancellationToken stop)
    {
        foreach (var fix in await fixes.ListAsync(null, openOnly: true, 1000, stop))
            await ProcessAsync(fix, stop);
    }

    /// <summary>Takes a fix one step further. A fault in one fix ends that fix and no other.</summary>
    private async Task ProcessAsync(StoredFix fix, CancellationToken stop)
    {
        try
        {
            await AdvanceAsync(fix, stop);
        }
        catch (Exception error) when (error is not (OperationCanceledException or StoreException or System.Data.Common.DbException))
        {
            log.LogError(error, "Fix f{Fix} failed", fix.Id);
            await PutEndedAsync(fix with { Note = "something went wrong that should not; the service's log says what" }, stop);
        }
    }

    private async Task AdvanceAsync(StoredFix fix, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        if (fix.NotBefore > now)
            return;
        var machine = (await fleet.AllAsync(stop))[fix.Machine];
        if (
            catalogues.Products.GetValueOrDefault(fix.Product) is not { } product
            || !product.Scripts.TryGetValue(fix.Script, out var content)
        )
        {
            await PutEndedAsync(fix with { Note = "the catalogue has no such script any more" }, stop);
            return;
        }

        var order = new OrderName(FirstFixRun + fix.Id, 1, $"fix-{fix.Check}", 1);
        var values = new SortedDictionary<string, string>(StringComparer.Ordinal)
        {
            ["order"] = order.ToString(),
            ["machine"] = machine.Name,
            ["check"] = fix.Check,
        };
        try
        {
            var connection = connections.Of(machine);
            var status = await connection.AskAsync(machine, order, stop);
            if (status.State == OrderState.Unseen)
            {
                await sent.SentAsync(
                    machine.Id,
                    [new(product.Name, fix.Script, FileChange.Hash(content))],
                    "fix",
                    fix.Actor,
                    order.ToString(),
                    now,
                    stop
                );
                await connection.PostAsync(machine, new(order, 1, StepKind.Script, content, values), stop);
            }
            else if (status.State is OrderState.Ended or OrderState.Gone)
                await EndAsync(
                    fix with
                    {
                        Exit = status.Exit,
                        Note = status.State == OrderState.Gone ? $"it is gone without a result. {status.Note}" : status.Note,
                    },
                    product,
                    machine,
                    stop
                );
            else if (status.Note != fix.Note)
                await fixes.PutAsync(fix with { Note = status.Note }, now, stop);
        }
        catch (ConnectionException error)
        {
            if (now > (fix.NotBefore ?? fix.Begun) + ShortestLimit)
                await PutEndedAsync(fix with { Note = error.Message }, stop);
            else if (error.Message != fix.Note)
                await fixes.PutAsync(fix with { Note = error.Message }, now, stop);
        }
    }

    private async Task EndAsync(StoredFix fix, Product product, Machine machine, CancellationToken stop)
    {
        string? state = null;
        try
        {
            // A catalogue that was approved meanwhile may have renamed the check; then there is nothing to evaluate again.
            if (CheckOf(product, fix.Check) is { } check && await ReadForAsync(check, machine, Actor.Worker, stop) is var read)
                state = RunMachine.Name(
                    Gate.Judge([check with { AskedAt = [Moment.Planning] }], read, Moment.Planning, clock.GetUtcNow()).Checks[0].State
                );
        }
        catch (ConnectionException error)
        {
            log.LogInformation("After fix f{Fix} {Machine} was not read: {Why}", fix.Id, machine.Name, error.Message);
        }

        await PutEndedAsync(fix with { CheckState = state }, stop);
    }

    /// <summary>Stores that a fix has ended. Its follow-up is told first: after a crash in between both are done again.</summary>
    private async Task PutEndedAsync(StoredFix fix, CancellationToken stop)
    {
        if (fix.Run is { } run)
            await runs.EndFollowUpScriptAsync(
                run,
                fix.Check,
                $"f{fix.Id}",
                fix.CheckState == RunMachine.Name(CheckState.Met),
                HowItWent(fix),
                stop
            );
        var now = clock.GetUtcNow();
        await fixes.PutAsync(fix with { Ended = now }, now, stop);
    }

    private static string HowItWent(StoredFix fix)
    {
        var last = fix.Note.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).LastOrDefault() ?? "";
        var ended = fix.Exit switch
        {
            null => "it ended without a result",
            0 => "it ended well",
            { } exit => $"it failed with status {exit}",
        };
        var check = fix.CheckState is null ? "the check could not be asked again" : $"the check is {fix.CheckState}";
        return $"{ended}, {check}{(last.Length > 0 ? $" ({last})" : "")}";
    }

    /// <summary>Reads exactly what a check looks at.</summary>
    private Task<Machine> ReadForAsync(Check check, Machine machine, Actor actor, CancellationToken stop) =>
        reader.ReadAsync(machine, [.. check.Keys.Except(Machine.OwnKeys)], actor, stop);

    private async Task<CheckResult> FindAsync(Aim aim, Machine machine, string check, string? plan, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var decided = (await decisions.OfAsync(aim.Product.Name, plan, now, stop)).GetValueOrDefault(machine.Id, Decisions.None);
        var results = Assessment.Of(aim, machine, Moment.Planning, now, decided).Checks.ToImmutableArray();
        if (results.FirstOrDefault(c => c.Check.Name == check) is { } found)
            return found;
        var names = results.Select(c => c.Check.Name).DefaultIfEmpty("none").ToArray();
        throw RefusedException.Unknown(
            "unknown-check",
            $"The gate of {machine.Name} has no check '{check}'{Spelling.DidYouMean(check, names, $"; it has {string.Join(", ", names)}.")}"
        );
    }
}
