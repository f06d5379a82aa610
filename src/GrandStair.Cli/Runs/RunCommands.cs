using System.CommandLine;
using GrandStair.Client;
using GrandStair.Contracts;
using GrandStair.Core.Readings;

namespace GrandStair.Cli.Runs;

internal static class RunCommands
{
    private const int PhasesUntilVerified = 6;
    private static readonly Argument<string> Run = new("run") { Description = "The run, such as r118." };
    private static readonly Option<string?> Plan = new("--plan") { Description = "Only the runs of this plan." };
    private static readonly Option<string?> Status = new("--status")
    {
        Description = "running, parked, scheduled, verified, done or stopped; separate several with commas.",
    };

    public static Command Make() =>
        new("run", "Runs: each machine's progress, its phases, steps and log")
        {
            List(),
            Show(),
            Watch(),
            Decide(),
            Answer(),
            KeepRollback(),
            Evidence(),
            SavedFiles(),
            RunOutputCommand.Make(),
        };

    private static Command List()
    {
        var limit = new Option<int>("--limit") { Description = "Maximum number of entries.", DefaultValueFactory = _ => 50 };
        var asked = new Option<bool>("--asked") { Description = "Only the runs that ask something of a person." };
        var suspended = new Option<bool>("--suspended")
        {
            Description = "Only the runs of which something on their machine is suspended, such as disk encryption.",
        };
        var command = new Command("list", "List runs; those that wait for a decision come first") { Plan, Status, asked, suspended, limit };
        command.Asks(
            (parsed, client, stop) =>
                parsed.GetValue(asked) ? client.AskedRunsAsync(parsed.GetValue(Plan), parsed.GetValue(limit), stop)
                : parsed.GetValue(suspended) ? client.SuspendedRunsAsync(parsed.GetValue(Plan), parsed.GetValue(limit), stop)
                : client.RunsAsync(parsed.GetValue(Plan), parsed.GetValue(Status), parsed.GetValue(limit), stop),
            Print
        );
        return command;
    }

    private static Command Show()
    {
        var command = new Command("show", "Show a run's phases, steps and log") { Run };
        command.Asks((parsed, client, stop) => client.RunAsync(parsed.GetValue(Run)!, stop), Print);
        return command;
    }

    private static Command Evidence()
    {
        var file = new Option<string?>("--out") { Description = "The file to write (default: RUN-evidence.zip)." };
        var command = new Command("evidence", "Write a run's signed evidence: events, readings before and after, scripts, who decided what")
        {
            Run,
            file,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var run = parsed.GetValue(Run)!;
                await using var pack = await client.EvidenceAsync(run, stop);
                await Caller.WriteAsync(
                    pack,
                    parsed.GetValue(file) ?? $"{string.Concat(run.Where(char.IsAsciiLetterOrDigit))}-evidence.zip",
                    screen,
                    stop
                );
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command SavedFiles()
    {
        var step = new Option<string?>("--step") { Description = "Write the archive of this step to a file instead of listing all." };
        var leg = new Option<int>("--leg") { Description = "The leg of the step, from 1.", DefaultValueFactory = _ => 1 };
        var file = new Option<string?>("--out") { Description = "The file to write (default: RUN-LEG-STEP.tar.gz)." };
        var command = new Command("saved-files", "List the archives of files that a run saved of its machine, or write one to a file")
        {
            Run,
            step,
            leg,
            file,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var run = parsed.GetValue(Run)!;
                if (parsed.GetValue(step) is { } name)
                {
                    var number = parsed.GetValue(leg);
                    await using var archive = await client.SavedArchiveAsync(run, number, name, stop);
                    await Caller.WriteAsync(archive, parsed.GetValue(file) ?? $"{run}-{number}-{name}.tar.gz", screen, stop);
                    return ExitStatus.Done;
                }

                var all = await client.SavedFilesAsync(run, stop);
                if (Caller.PrintedAsJson(parsed, all))
                    return ExitStatus.Done;
                if (all.Count == 0)
                    screen.Say($"Run **{run}** has no saved files.");
                else
                    screen.Table(
                        ["#leg", "step", "saved (UTC)", "#bytes", "sha-256"],
                        all.Select(a => new[] { $"{a.Leg}", a.Step, Screen.Time(a.At), $"{a.Size:N0}", a.Sha256[..12] })
                    );
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Watch()
    {
        var run = new Argument<string?>("run")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "The run; without one, all runs that are running or waiting for a decision.",
        };
        var command = new Command("watch", "Show runs live, until a single run has finished or Ctrl+C is pressed") { run, Plan };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                if (parsed.GetValue(run) is { } one)
                    return await WatchOneAsync(client, one, screen, stop);
                await foreach (var _ in ChangesAsync(client, null, stop))
                {
                    if (Screen.IsTerminal)
                        screen.Clear();
                    Print(await client.RunsAsync(parsed.GetValue(Plan), "running,parked", 30, stop), screen);
                }

                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static async Task<int> WatchOneAsync(GrandStairClient client, string run, Screen screen, CancellationToken stop)
    {
        var shown = 0;
        await foreach (var _ in ChangesAsync(client, run, stop))
        {
            var view = await client.RunAsync(run, stop);
            foreach (var line in view.Log.Skip(shown))
                screen.Say($"{Screen.Time(line.At)}  {line.Text}");
            shown = view.Log.Count;
            if (view.Run.Closed is not null)
            {
                screen.Say(
                    $"**{view.Run.Run}** on {view.Run.Machine}: "
                        + $"**{Screen.Word(view.Run.Outcome)}**{(view.Run.Reason is null ? "" : $", {view.Run.Reason}")}"
                );
                return view.Run.Outcome == "done" ? ExitStatus.Done : ExitStatus.NotPossible;
            }
        }

        return ExitStatus.Done;
    }

    /// <summary>One at once, then one for every change of the run, or of any.</summary>
    private static async IAsyncEnumerable<bool> ChangesAsync(
        GrandStairClient client,
        string? run,
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken stop
    )
    {
        yield return true;
        await foreach (var change in client.ChangesAsync(null, stop))
        {
            if (change.Kind == "run" && (run is null || change.Subject == run))
                yield return true;
        }
    }

    private static Command Decide()
    {
        var decision = new Argument<string>("decision")
        {
            Description =
                "retry (repeat the failed step), wait (keep waiting), cancel (cancel this upgrade), roll-back (roll back to the "
                + "previous release), give-up (mark as failed) or accept (go on in spite of what differs); "
                + "'run show' lists those that are possible.",
        };
        decision.CompletionSources.Add("retry", "wait", "cancel", "roll-back", "give-up", "accept");
        var reason = new Option<string>("--reason") { Description = "Reason, recorded in the audit log with your name.", Required = true };
        var now = new Option<bool>("--now") { Description = "Begin a rollback at once, instead of in the machine's next window." };
        var command = new Command("decide", "Decide how a run that waits continues; a rollback begins in the machine's next window")
        {
            Run,
            decision,
            now,
            reason,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.DecideAsync(
                    parsed.GetValue(Run)!,
                    new(parsed.GetValue(decision)!, parsed.GetValue(reason)!, parsed.GetValue(now)),
                    stop
                ),
            Print
        );
        return command;
    }

    private static Command KeepRollback()
    {
        var until = new Option<DateOnly>("--until")
        {
            Description = "The last day of the rollback period, such as 2027-02-08.",
            Required = true,
        };
        var reason = new Option<string>("--reason") { Description = "Why, recorded in the audit log with your name.", Required = true };
        var command = new Command("keep-rollback", "Keep the rollback of a verified run for longer, as long as its method allows")
        {
            Run,
            until,
            reason,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.KeepRollbackAsync(parsed.GetValue(Run)!, new(parsed.GetValue(until), parsed.GetValue(reason)!), stop),
            Print
        );
        return command;
    }

    private static Command Answer()
    {
        var answer = new Argument<string>("answer") { Description = "done, or not-possible, which parks the run for a decision." };
        answer.CompletionSources.Add("done", "not-possible");
        var several = new Argument<string[]>("runs")
        {
            Arity = ArgumentArity.OneOrMore,
            Description = "The runs, such as r118 r119; 'run list --asked' lists those that ask something.",
        };
        var note = new Option<string?>("--note")
        {
            Description = "What was done or seen, recorded with your name; needed for not-possible.",
        };
        var command = new Command("answer", "Answer what runs ask of a person") { answer, several, note };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var answered = new List<RunView>();
                ServiceException? refused = null;
                foreach (var run in parsed.GetValue(several)!.Distinct())
                {
                    try
                    {
                        answered.Add(await client.AnswerAsync(run, new(parsed.GetValue(answer)!, parsed.GetValue(note)), stop));
                    }
                    catch (ServiceException error) when (error.Status is 404 or 409)
                    {
                        // The others are answered all the same; the first refusal decides how the command ends.
                        refused ??= error;
                    }
                }

                if (!Caller.PrintedAsJson(parsed, answered))
                {
                    foreach (var view in answered)
                        screen.Say(
                            $"**{view.Run.Run}** on {view.Run.Machine}: {Screen.Word(view.Run.Status)}, {view.Run.Parked ?? view.Run.Step}"
                        );
                }

                return refused is null ? ExitStatus.Done : throw refused;
            }
        );
        return command;
    }

    private static void Print(Page<RunRow> page, Screen screen)
    {
        var parked = page.Items.Count(r => r.Status == "parked");
        var asked = page.Items.Count(r => r.Asked is not null);
        screen.Say(
            $"{Screen.Many(page.Total, "run")}{(parked > 0 ? $", **{parked}** parked: waiting for a decision" : "")}"
                + $"{(asked > 0 ? $", **{asked}** waiting for an answer" : "")}"
        );
        screen.Table(
            ["run", "machine", "site?", "status", "progress?", "what", "#for?", "#to go?", "note"],
            page.Items.Select(r =>
                new[]
                {
                    r.Run,
                    r.Machine,
                    r.Site,
                    Screen.Word(r.Status),
                    ProgressOf(r),
                    r.Step ?? Screen.Word(r.Outcome),
                    Screen.Age(r.ElapsedSeconds),
                    r.OverSeconds is { } over ? $"+{Screen.Age(over)}" : Screen.Age(r.LeftSeconds),
                    string.Join(
                        "; ",
                        new[] { r.Parked ?? r.Reason ?? AskedOf(r) ?? NoContact(r) ?? Begins(r) ?? r.Note, SuspendedOf(r) }.OfType<string>()
                    ),
                }
            )
        );
        if (page.Items.Count < page.Total)
            screen.Hint($"{page.Total - page.Items.Count} more; narrow it with --status, or raise --limit.");
    }

    private static string? AskedOf(RunRow r) => r.Asked is { } asked ? $"asks {asked.Who}, needed by {Screen.Time(asked.Due)} UTC" : null;

    private static string? SuspendedOf(RunRow r) => r.Suspended.Count > 0 ? $"suspended: {string.Join(", ", r.Suspended)}" : null;

    private static string? Begins(RunRow r) => r.Begins is { } begins ? $"begins {Screen.Time(begins)} UTC" : null;

    private static string? NoContact(RunRow r) => r.NoContact is { } lost ? $"no contact for {Screen.Age(lost.Seconds)}: {lost.Why}" : null;

    /// <summary>The phases up to the verification, filled as far as the run has come.</summary>
    private static string ProgressOf(RunRow r) =>
        string.Concat(
            Enumerable
                .Range(1, PhasesUntilVerified)
                .Select(i =>
                    i < r.PhaseNumber ? '■'
                    : i == r.PhaseNumber ? (r.Status == "parked" ? '‖' : '▶')
                    : '·'
                )
        ) + $" {Screen.Word(r.Phase)}";

    private static void Print(DifferencesView compared, Screen screen)
    {
        screen.Say(
            $"**{compared.Title}**, {Screen.Time(compared.At)} UTC: {compared.Failing} to decide about, {compared.FollowUps} to follow up, "
                + $"{compared.Ignored} expected"
        );
        if (compared.Differences.Count > 0)
            screen.Table(
                ["kind", "name", "change", "before", "after", "leads to"],
                compared.Differences.Select(d =>
                    new[] { d.Kind, d.Name, d.Change, d.Before, d.After, d.Result == "fail" ? "a decision" : "a follow-up" }
                )
            );
    }

    /// <summary>What is suspended on the machine, and until when it can be rolled back.</summary>
    private static void PrintSuspendedAndRollback(RunView view, Screen screen)
    {
        if (view.Run.Suspended.Count > 0)
            screen.Say(
                $"**Suspended** on the machine: {string.Join(", ", view.Run.Suspended)}"
                    + (view.Run.Closed is null ? "; the run resumes it, however it ends" : "; resume it by hand, then close the follow-up")
            );
        if (view.RollbackUntil is { } until)
            screen.Say(
                $"Can be rolled back until **{Screen.Time(until)} UTC**"
                    + (
                        view.RollbackUntilAtMost is { } most
                            ? $"; can be extended until {Screen.Time(most)} UTC: gstair run keep-rollback"
                            : ""
                    )
            );
    }

    private static void Print(string run, FollowUpView one, Screen screen)
    {
        var found = one.Seen.Length > 0 ? $" (found: {one.Seen})" : "";
        var by = one.AddedBy is { } added ? $" [{added}]" : "";
        var due = one.Due is { } day ? $", due {day:yyyy-MM-dd}" : "";
        screen.Say(
            $"follow-up **{run}/{one.Name}**: {one.Title}{found}{by}. "
                + (
                    one.Closed is null
                        ? $"{one.Fix} For {one.Owner ?? "nobody yet"}{due}{(one.Overdue ? ", **overdue**" : "")}"
                        : $"Closed by {one.By}, {Screen.Time(one.Closed)}: {one.Because}"
                )
        );
    }

    private static void Print(RunView view, Screen screen)
    {
        var r = view.Run;
        screen.Say(
            $"Run **{r.Run}** on **{r.Machine}** ({r.Site}): **{Screen.Word(r.Status)}**, "
                + $"{ProgressOf(r)}{(r.Parked is null ? "" : $"; parked: {r.Parked}")}"
        );
        if (r.NoContact is { } lost)
            screen.Say($"**No contact** since {Screen.Time(lost.Since)} UTC ({Screen.Age(lost.Seconds)}): {lost.Why}");
        screen.Hint(
            $"{view.Hop} by {r.Method} · plan {r.Plan}, wave {r.Wave} · slot {Screen.Time(r.SlotStart)} "
                + $"UTC{(view.MissedSlots > 0 ? $" · {view.MissedSlots} missed slot{(view.MissedSlots == 1 ? "" : "s")}" : "")} · "
                + $"{(r.Closed is not null ? "closed" : view.Turned ? "past the point of no return" : "can be cancelled")}"
        );
        if (view.Successor is { } successor)
            screen.Say($"Side by side: **{successor}** takes the place of {r.Machine}");
        if (r.Usual is { } usual)
            screen.Hint(
                $"{r.Step}: {Screen.Age(r.ElapsedSeconds)} so far; usually {Screen.Age(usual.Seconds)}, 95 of 100 within "
                    + $"{Screen.Age(usual.LongestSeconds)}{(usual.Measured > 0 ? $" (learnt from {usual.Measured})" : "")}"
            );
        if (r.Outcome is not (null or "done") && r.Reason is { } reason)
            screen.Say(
                $"**{Screen.Word(r.Outcome)}** {Screen.Time(r.Closed)} UTC: {reason}"
                    + (view.RollbackCategory is { } category ? $" [{category}]" : "")
            );
        if (view.ReclaimedBytes is { } freed)
            screen.Say($"{Units.Show(freed, ValueKind.Size)} reclaimed after the rollback period");
        if (Begins(r) is { } begins)
            screen.Say($"{r.Step}: **{begins}**, in the machine's next window");
        if (r.Asked is { } asked)
        {
            screen.Say(
                $"**Waiting for {asked.Who}** since {Screen.Time(asked.Since)} UTC, needed by {Screen.Time(asked.Due)} UTC: {asked.Words}"
            );
            screen.Say($"Answer: gstair run answer done {r.Run}, or gstair run answer not-possible {r.Run} --note …");
        }

        PrintSuspendedAndRollback(view, screen);
        if (view.Possible.Count > 0)
            screen.Say($"Possible: {string.Join(", ", view.Possible)}  (gstair run decide {r.Run} … --reason …)");
        screen.Table(
            ["phase", "step", "state", "#attempts", ""],
            view.Steps.Select(s =>
                new[]
                {
                    Screen.Word(s.Phase),
                    s.Machine is null ? s.Title : $"{s.Title} (on {s.Machine})",
                    Screen.Word(s.State),
                    s.Attempts > 0 ? $"{s.Attempts}" : "",
                    s.PointOfNoReturn ? "point of no return" : "",
                }
            )
        );
        foreach (var compared in view.Comparisons)
            Print(compared, screen);
        foreach (var one in view.FollowUps)
            Print(r.Run, one, screen);
        foreach (var line in view.Log)
            screen.Say($"{Screen.Time(line.At)}  {line.Text}{(line.Actor == "worker" ? "" : $"  [{line.Actor}]")}");
    }
}
