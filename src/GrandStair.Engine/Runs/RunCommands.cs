using GrandStair.Core.Access;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Runs;

/// <summary>Carries out people's decisions about runs.</summary>
public sealed class RunCommands(RunLog runs, FleetCache fleet, NextWindow windows, TimeProvider clock)
{
    /// <summary>Decides about a run. A rollback begins in the machine's next window, unless it is to begin at once.</summary>
    /// <param name="run">The run's number.</param>
    /// <param name="decision">What is decided.</param>
    /// <param name="reason">Why.</param>
    /// <param name="atOnce">Whether a rollback begins at once, outside of the machine's windows too.</param>
    /// <param name="actor">Who decides.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">It cannot be decided so now.</exception>
    /// <exception cref="RefusedException">There is no such run, or no window is long enough for its rollback.</exception>
    public async Task<RunState> DecideAsync(long run, Decision decision, string reason, bool atOnce, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        var begins = decision == Decision.RollBack && !atOnce ? await RollbackBeginsAsync((await FindAsync(run, stop)).State, stop) : null;
        var when =
            decision != Decision.RollBack ? ""
            : begins is { } at ? $" (begins {at.UtcDateTime:yyyy-MM-dd HH:mm} UTC)"
            : " (at once)";
        return await AppendAsync(
            run,
            _ => new Decided(clock.GetUtcNow(), actor.Name, decision, reason) { NotBefore = begins },
            new(actor, $"run {RunMachine.Name(decision)}", $"{reason}{when}"),
            stop
        );
    }

    /// <summary>When the rollback of a run would begin in the machine's next window, UTC; null where it cannot be rolled back.</summary>
    /// <exception cref="RefusedException">No window is long enough for it.</exception>
    public async Task<DateTimeOffset?> RollbackBeginsAsync(RunState state, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(state);
        if (!RunMachine.Possible(state).Contains(Decision.RollBack))
            return null;
        var lasts = TimeSpan.FromSeconds(state.CurrentLeg.RollbackSteps.Sum(s => s.Typical.TotalSeconds));
        return await windows.FindAsync(state.Plan, (await fleet.AllAsync(stop))[new(state.Machine)], lasts, stop);
    }

    /// <summary>Answers what a step of a run asks of a person.</summary>
    /// <param name="run">The run's number.</param>
    /// <param name="step">The step that is answered, so that an answer never goes to a later question; null for the present one.</param>
    /// <param name="done">Whether it is done; false where it is not possible.</param>
    /// <param name="note">What was done or seen; needed where it is not possible.</param>
    /// <param name="actor">Who answers.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run, it asks nothing, or another step asks now.</exception>
    public Task<RunState> AnswerAsync(long run, string? step, bool done, string note, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        return AppendAsync(
            run,
            state =>
            {
                if (state.AskedOfPerson is null)
                    throw RefusedException.Conflict("nothing-asked", $"Run r{run} asks nothing of a person now.");
                if (step is not null && step != state.WaitingStep!.Name)
                    throw RefusedException.Conflict(
                        "another-question",
                        $"Run r{run} asks by its step '{state.WaitingStep!.Name}' now, and no more by '{step}'. Look at it again."
                    );
                return new OrderEnded(
                    clock.GetUtcNow(),
                    actor.Name,
                    state.Outstanding!.Name,
                    done ? OrderResult.Ok : OrderResult.NotPossible,
                    null,
                    note
                );
            },
            new(actor, $"run answer-{(done ? "done" : "not-possible")}", note),
            stop
        );
    }

    /// <summary>Keeps the rollback of a verified run for longer.</summary>
    /// <param name="run">The run's number.</param>
    /// <param name="until">Until when, UTC.</param>
    /// <param name="reason">Why.</param>
    /// <param name="actor">Who asks for it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run, it has no rollback, or its method does not keep it so long.</exception>
    public Task<RunState> KeepRollbackAsync(long run, DateTimeOffset until, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        return AppendAsync(
            run,
            _ => new RollbackExtended(clock.GetUtcNow(), actor.Name, until, reason),
            new(actor, "run keep-rollback", $"until {until.UtcDateTime:yyyy-MM-dd HH:mm} UTC: {reason}"),
            stop
        );
    }

    /// <summary>Says what kind of reason a run was rolled back for.</summary>
    /// <param name="run">The run's number.</param>
    /// <param name="category">The kind, in a word of the administrators'.</param>
    /// <param name="actor">Who says so.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run, or it was not rolled back.</exception>
    public Task<RunState> CategoriseRollbackAsync(long run, string category, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        return AppendAsync(
            run,
            _ => new RollbackCategorised(clock.GetUtcNow(), actor.Name, category),
            new(actor, "run categorise-rollback", category),
            stop
        );
    }

    /// <summary>Adds a follow-up. A run is not done before all of its follow-ups are closed.</summary>
    /// <param name="run">The run's number.</param>
    /// <param name="title">What is left to do, or what is wrong.</param>
    /// <param name="fix">How it is done; empty where that is not known.</param>
    /// <param name="owner">Who is to do it; null for nobody yet.</param>
    /// <param name="due">The last day on which it is in time, by UTC; null for none.</param>
    /// <param name="actor">Who adds it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run.</exception>
    public Task<RunState> AddFollowUpAsync(
        long run,
        string title,
        string fix,
        string? owner,
        DateOnly? due,
        Actor actor,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(actor);
        return AppendAsync(
            run,
            // No two events of a run have one number, so no two follow-ups get one name.
            state => new FollowUpAdded(clock.GetUtcNow(), actor.Name, $"added-{state.Events + 1}", title, fix, owner, due),
            new(actor, "follow-up add", title),
            stop
        );
    }

    /// <summary>Says who is to do a follow-up, and by when.</summary>
    /// <param name="run">The run's number.</param>
    /// <param name="followUp">The follow-up's name.</param>
    /// <param name="assign">Makes of the follow-up as it is one that somebody has.</param>
    /// <param name="actor">Who says so.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run, or it has no such follow-up that is open.</exception>
    public Task<RunState> AssignFollowUpAsync(
        long run,
        string followUp,
        Func<FollowUp, FollowUp> assign,
        Actor actor,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(actor);
        ArgumentNullException.ThrowIfNull(assign);
        return AppendFromAsync(
            run,
            state =>
            {
                var after = assign(OpenOne(state, followUp));
                return new FollowUpAssigned(clock.GetUtcNow(), actor.Name, followUp, after.Owner, after.Due);
            },
            e => new(actor, "follow-up assign", $"{followUp}: {e.Owner ?? "nobody"}{(e.Due is { } day ? $", due {day:yyyy-MM-dd}" : "")}"),
            stop
        );
    }

    /// <summary>Closes a follow-up.</summary>
    /// <exception cref="RefusedException">There is no such run, or it has no such follow-up that is open.</exception>
    public Task<RunState> CloseFollowUpAsync(long run, string followUp, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        return AppendAsync(
            run,
            state => new FollowUpClosed(clock.GetUtcNow(), actor.Name, OpenOne(state, followUp).Name, reason),
            new(actor, "follow-up close", $"{followUp}: {reason}"),
            stop
        );
    }

    /// <summary>A run, and a follow-up of it that is open.</summary>
    /// <exception cref="RefusedException">There is no such run, or it has no such follow-up that is open.</exception>
    internal async Task<(RunState Run, FollowUp FollowUp)> OpenFollowUpAsync(long run, string followUp, CancellationToken stop)
    {
        var state = (await FindAsync(run, stop)).State;
        return (state, OpenOne(state, followUp));
    }

    /// <summary>Notes that the script of a follow-up was sent.</summary>
    internal Task BeginFollowUpScriptAsync(
        long run,
        string followUp,
        string fix,
        DateTimeOffset? notBefore,
        Command command,
        CancellationToken stop
    ) => AppendAsync(run, _ => new FollowUpScriptBegun(clock.GetUtcNow(), command.By.Name, followUp, fix, notBefore), command, stop);

    /// <summary>Notes how the script of a follow-up went, and closes the follow-up where its check is met now.</summary>
    /// <param name="run">The run's number.</param>
    /// <param name="followUp">The follow-up's name.</param>
    /// <param name="fix">The fix as which the script ran, such as f12.</param>
    /// <param name="isMet">Whether the check is met now.</param>
    /// <param name="said">How it went, in words.</param>
    /// <param name="stop">Ends the wait.</param>
    internal async Task EndFollowUpScriptAsync(long run, string followUp, string fix, bool isMet, string said, CancellationToken stop)
    {
        // Where somebody has closed it meanwhile, or this was noted before a crash, there is nothing left to note.
        var open = (await FindAsync(run, stop)).State.FollowUps.FirstOrDefault(f => f.Name == followUp && f.Closed is null);
        if (open is null || (open.Tried?.Fix == fix && open.Tried.Ended is not null))
            return;
        await AppendAsync(
            run,
            _ => new FollowUpScriptEnded(clock.GetUtcNow(), Actor.Worker.Name, followUp, fix, isMet, said),
            new(Actor.Worker, isMet ? "follow-up close" : "follow-up fix", $"{followUp}: {fix}, {said}"),
            stop
        );
    }

    private static FollowUp OpenOne(RunState state, string followUp) =>
        state.FollowUps.FirstOrDefault(f => f.Name == followUp && f.Closed is null)
        ?? throw RefusedException.Unknown("unknown-follow-up", $"Run r{state.Run} has no open follow-up '{followUp}'.");

    private async Task<StoredRun> FindAsync(long run, CancellationToken stop) =>
        await runs.FindAsync(run, stop)
        ?? throw RefusedException.Unknown("unknown-run", $"There is no run r{run}. 'gstair run list' shows those that exist.");

    private Task<RunState> AppendAsync(long run, Func<RunState, RunEvent> make, Command command, CancellationToken stop) =>
        AppendFromAsync(run, make, _ => command, stop);

    /// <summary>Adds an event, with a command for the audit log that follows from it.</summary>
    private async Task<RunState> AppendFromAsync<T>(long run, Func<RunState, T> make, Func<T, Command> command, CancellationToken stop)
        where T : RunEvent
    {
        while (true)
        {
            var stored = await FindAsync(run, stop);
            var e = make(stored.State);
            var after = RunMachine.Step(stored.State, e).State;
            // It was changed meanwhile: read it again and decide on its present state.
            if (await runs.DecideAsync(stored.State, e, after, command(e), stop))
                return after;
        }
    }
}
