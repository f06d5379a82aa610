using System.CommandLine;
using GrandStair.Contracts;
using GrandStair.Core.Readings;

namespace GrandStair.Cli.Plans;

/// <summary>When a plan's machines go: comparing and loading its file, its schedule and board, approvals, and its slots as files.</summary>
internal static partial class PlanCommands
{
    private const int ShortestIntent = 12;

    private static Command Compare()
    {
        var file = new Argument<string>("file") { Description = "The plan's YAML file." };
        var command = new Command("compare", "Show what loading a plan's file would change, without loading it") { file };
        command.Asks(
            async (parsed, client, stop) =>
            {
                await using var stream = File.OpenRead(parsed.GetValue(file)!);
                return await client.ComparePlanAsync(stream, stop);
            },
            Print
        );
        return command;
    }

    private static Command Text()
    {
        var file = new Option<string?>("--out") { Description = "The file to write (default: standard output)." };
        var command = new Command("text", "Print a plan's text as last loaded: edit it, then 'plan load' it") { Name, file };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await using var text = new MemoryStream(
                    System.Text.Encoding.UTF8.GetBytes((await client.PlanAsync(parsed.GetValue(Name)!, stop)).Body)
                );
                await Caller.WriteAsync(text, parsed.GetValue(file), screen, stop);
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Load()
    {
        var file = new Argument<string>("file") { Description = "The plan's YAML file." };
        var reason = new Option<string?>("--reason")
        {
            Description = "Reason for the change, recorded in the audit log with your name. Not needed for a new plan.",
        };
        var yes = new Option<bool>("--yes") { Description = "Load without asking for confirmation." };
        var command = new Command(
            "load",
            "Load a plan's file after showing what it changes and asking: a new plan, or the next revision of one"
        )
        {
            file,
            reason,
            yes,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var path = parsed.GetValue(file)!;
                ComparisonView comparison;
                await using (var stream = File.OpenRead(path))
                    comparison = await client.ComparePlanAsync(stream, stop);
                if (!parsed.GetValue(Caller.JsonOption))
                    Print(comparison, screen);
                if (!parsed.GetValue(yes))
                {
                    if (!Terminal.Streams.IsInputTerminal)
                    {
                        screen.Say("Not loaded: it has to be confirmed. Run it again with --yes.");
                        return ExitStatus.NotPossible;
                    }

                    await Terminal.Streams.Output.WriteAsync("Load it? [y/N] ");
                    if ((await Terminal.Streams.Input.ReadLineAsync(stop))?.Trim() is not ("y" or "yes"))
                        return ExitStatus.Done;
                }

                await using var again = File.OpenRead(path);
                var view =
                    comparison.Revision == 1
                        ? await client.CreatePlanAsync(again, stop)
                        : await client.LoadPlanAsync(comparison.Plan, again, parsed.GetValue(reason) ?? "", comparison.Revision - 1, stop);
                if (!Caller.PrintedAsJson(parsed, view))
                    screen.Say($"Loaded **{view.Plan.Name}**, revision {view.Planning.Revision}.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Schedule()
    {
        var command = new Command(
            "schedule",
            "Calculate a plan's schedule from now on: when each wave ends, which machines get no slot and why, and what would meet the "
                + "deadline"
        )
        {
            Name,
        };
        command.Asks((parsed, client, stop) => client.ScheduleAsync(parsed.GetValue(Name)!, stop), Print);
        return command;
    }

    private static Command Board()
    {
        var days = new Option<int>("--days") { Description = "Number of days to show (default: 14).", DefaultValueFactory = _ => 14 };
        var from = new Option<DateTimeOffset?>("--from") { Description = "First day (default: the day of the next slots)." };
        var command = new Command("board", "Show the number of slots per site and day") { Name, from, days };
        command.Asks(
            async (parsed, client, stop) =>
            {
                var begin = parsed.GetValue(from) ?? (await client.BoardAsync(parsed.GetValue(Name)!, null, null, stop)).From;
                return await client.BoardAsync(parsed.GetValue(Name)!, begin, begin.AddDays(parsed.GetValue(days)), stop);
            },
            (board, screen) =>
            {
                var shown = Enumerable
                    .Range(0, (int)Math.Ceiling((board.To - board.From).TotalDays))
                    .Select(d => DateOnly.FromDateTime(board.From.UtcDateTime).AddDays(d))
                    .ToArray();
                screen.Table(
                    ["site", .. shown.Select(d => $"#{d:d MMM}"), "#no slot"],
                    board.Sites.Select(s =>
                        new[] { s.Site }.Concat(shown.Select(d => Day(s, d))).Append(s.Unplaced > 0 ? $"{s.Unplaced}" : "").ToArray()
                    )
                );
                screen.Hint("a number: slots that begin on that day (UTC) · a dot: a window without a slot · x: a freeze");
            }
        );
        return command;
    }

    /// <summary>
    /// When a machine goes: its slot, or in brackets the time that is scheduled for it; with a star where it was chosen manually.
    /// </summary>
    private static string Slot(MemberRow m)
    {
        var at = m.SlotStart ?? m.Chosen ?? m.PlannedStart;
        return at is null ? "" : $"{(m.SlotStart is null ? $"({Screen.Time(at)})" : Screen.Time(at))}{(at == m.Chosen ? " *" : "")}";
    }

    private static string Day(BoardSite site, DateOnly day)
    {
        bool On(DateTimeOffset from, DateTimeOffset to) =>
            DateOnly.FromDateTime(from.UtcDateTime) <= day && DateOnly.FromDateTime(to.AddTicks(-1).UtcDateTime) >= day;
        var slots = site.Slots.Count(s => DateOnly.FromDateTime(s.Start.UtcDateTime) == day);
        return slots > 0 ? $"{slots}"
            : site.Closed.Any(c => On(c.From, c.To)) ? "x"
            : site.Open.Any(o => On(o.From, o.To)) ? "·"
            : "";
    }

    private static Command Slots()
    {
        var format = new Option<string>("--format")
        {
            Description = "ics (calendar), csv, or html (a self-contained page, such as for a change board).",
            DefaultValueFactory = _ => "ics",
        };
        var wave = new Option<int?>("--wave") { Description = "Only this wave, by its number." };
        var site = new Option<string?>("--site") { Description = "Only this site." };
        var crew = new Option<string?>("--crew") { Description = "Only slots of this crew." };
        var owner = new Option<string?>("--owner") { Description = "Only the machines of this owner." };
        var file = new Option<string?>("--out") { Description = "The file to write (default: standard output)." };
        var command = new Command("slots", "Write a plan's slots to a file") { Name, format, wave, site, crew, owner, file };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await using var slots = await client.SlotsAsync(
                    parsed.GetValue(Name)!,
                    parsed.GetValue(format)!,
                    parsed.GetValue(wave),
                    parsed.GetValue(site),
                    parsed.GetValue(crew),
                    parsed.GetValue(owner),
                    stop
                );
                await Caller.WriteAsync(slots, parsed.GetValue(file), screen, stop);
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Times()
    {
        var from = new Option<DateTimeOffset?>("--from") { Description = "Earliest time (default: now)." };
        var to = new Option<DateTimeOffset?>("--to") { Description = "Latest time (default: 14 days after the current slot)." };
        var command = new Command("free-slots", "Show the free slots of a machine; confirmed slots of other machines do not move")
        {
            Name,
            Machine,
            from,
            to,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.TimesAsync(parsed.GetValue(Name)!, parsed.GetValue(Machine)!, parsed.GetValue(from), parsed.GetValue(to), stop),
            (view, screen) =>
            {
                var now = view.Slot is null
                    ? "has no time yet"
                    : $"{(view.Confirmed ? "begins" : "is scheduled to begin")} **{Screen.Time(view.Slot.From)}**";
                screen.Say(
                    $"**{view.Machine}** at {view.Site} {now}{(view.ChosenBy is null ? "" : $", chosen by {view.ChosenBy}")}. "
                        + $"{view.Times.Count} other times are free (UTC):"
                );
                foreach (var day in view.Times.GroupBy(t => DateOnly.FromDateTime(t.From.UtcDateTime)))
                    screen.Say($"  {day.Key:ddd d MMM}  {string.Join("  ", day.Select(t => $"{t.From.UtcDateTime:HH:mm}"))}");
            }
        );
        return command;
    }

    private static Command Reschedule()
    {
        var start = new Argument<DateTimeOffset?>("time")
        {
            Description = "Start time, such as 2027-02-01T20:30Z.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var giveUp = new Option<bool>("--give-up")
        {
            Description = "Discard the manually chosen time, so that the machine is scheduled automatically again.",
        };
        var command = new Command("reschedule", "Reschedule a machine to a chosen time; reports what prevents it")
        {
            Name,
            Machine,
            start,
            giveUp,
            Reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var (plan, machine, time) = (parsed.GetValue(Name)!, parsed.GetValue(Machine)!, parsed.GetValue(start));
                if (time is null != parsed.GetValue(giveUp))
                {
                    screen.Say("Say either when it is to begin, or --give-up. 'gstair plan free-slots' shows which times are free.");
                    return ExitStatus.NotACommand;
                }

                var trial = time is { } at ? await client.TryTimeAsync(plan, machine, at, stop) : null;
                await client.RescheduleAsync(plan, machine, new(parsed.GetValue(Reason)!, time), stop);
                if (trial is null)
                    screen.Say($"**{machine}** is back on the plan's own schedule.");
                else
                    screen.Say(
                        $"**{machine}** begins **{Screen.Time(trial.Slot!.From)}** and ends "
                            + $"{Screen.Time(trial.Slot.To)}{(trial.Crew is null ? "" : $", with {trial.Crew}")}"
                            + $"{(trial.StageFrom is { } staged ? $", staged from {Screen.Time(staged)}" : "")}."
                    );
                foreach (var moved in trial?.Moved ?? [])
                    screen.Say(
                        $"  {moved.Machine} makes room: it was scheduled for {Screen.Time(moved.Before)} and is now for "
                            + $"{(moved.After is { } then ? Screen.Time(then) : "no time")}"
                    );
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Move()
    {
        var wave = new Argument<string>("wave") { Description = "The wave's name." };
        var command = new Command("move", "Move a machine that has not started to another wave") { Name, Machine, wave, Reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.MoveAsync(
                    parsed.GetValue(Name)!,
                    parsed.GetValue(Machine)!,
                    new(parsed.GetValue(wave)!, parsed.GetValue(Reason)!),
                    stop
                );
                screen.Say($"**{parsed.GetValue(Machine)}** is in wave {parsed.GetValue(wave)}");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Proposals()
    {
        var accept = new Option<bool>("--accept") { Description = "Accept all proposals; needs --reason." };
        var reason = new Option<string?>("--reason") { Description = "Reason, recorded in the audit log with your name." };
        var command = new Command(
            "scope-changes",
            "Show which machines the current fleet would add to a plan's waves or move between them, and accept that"
        )
        {
            Name,
            accept,
            reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var plan = parsed.GetValue(Name)!;
                if (parsed.GetValue(accept))
                {
                    var view = await client.AcceptProposalsAsync(plan, parsed.GetValue(reason) ?? "", stop);
                    if (!Caller.PrintedAsJson(parsed, view))
                        screen.Say($"Accepted: **{view.Plan.Machines}** machines, revision {view.Planning.Revision}.");
                    return ExitStatus.Done;
                }

                var changes = await client.ProposalsAsync(plan, stop);
                if (Caller.PrintedAsJson(parsed, changes))
                    return ExitStatus.Done;
                screen.Say(
                    changes.Count == 0
                        ? "The waves are as the fleet is."
                        : $"{Screen.Many(changes.Count, "machine")} would change; 'gstair plan scope-changes {plan} --accept --reason "
                            + $"…' takes them over."
                );
                Print(changes, screen);
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Revisions()
    {
        var command = new Command("revisions", "Show who changed a plan, when and why") { Name };
        command.Asks(
            (parsed, client, stop) => client.RevisionsAsync(parsed.GetValue(Name)!, stop),
            (list, screen) =>
                screen.Table(
                    ["#revision", "loaded (UTC)", "by", "why"],
                    list.Select(r => new[] { $"{r.Number}", Screen.Time(r.At), r.By, r.Reason })
                )
        );
        return command;
    }

    private static Command Approve()
    {
        var wave = new Option<string?>("--wave") { Description = "Name of a wave (default: the whole plan)." };
        var intent = new Option<string?>("--intent")
        {
            Description = "Hash of what you reviewed, or its first 12 characters; the approval is refused if the plan has changed since.",
        };
        var reason = new Option<string?>("--reason") { Description = "Comment, recorded in the audit log with your name." };
        var command = new Command("approve", "Show which approvals a plan needs; with --intent and --reason, approve it")
        {
            Name,
            wave,
            intent,
            reason,
        };
        command.Validators.Add(result =>
        {
            if (result.GetValue(intent) is null != result.GetValue(reason) is null)
                result.AddError("To approve, give both --intent and --reason; without them the approvals that the plan needs are shown.");
            else if (result.GetValue(intent) is { Length: < ShortestIntent })
                result.AddError($"--intent needs at least the first {ShortestIntent} characters of the hash.");
        });
        command.Asks(
            async (parsed, client, stop) =>
            {
                var needed = (await client.PlanAsync(parsed.GetValue(Name)!, stop)).Planning.Approvals;
                if (parsed.GetValue(intent) is not { } seen)
                    return needed;
                // What was looked at is named by the beginning of its hash; where the plan has changed since, the service refuses it.
                var subject = parsed.GetValue(wave) is { } only ? $"wave {only}" : "plan";
                var whole =
                    needed.FirstOrDefault(n => n.Subject.Equals(subject, StringComparison.OrdinalIgnoreCase))?.Intent is { } now
                    && now.StartsWith(seen, StringComparison.OrdinalIgnoreCase)
                        ? now
                        : seen;
                return await client.ApproveAsync(parsed.GetValue(Name)!, new(whole, parsed.GetValue(reason)!, parsed.GetValue(wave)), stop);
            },
            (all, screen) =>
            {
                if (all.Count == 0)
                    screen.Say("It needs no approval.");
                Print(all, screen);
            }
        );
        return command;
    }

    private static void Print(PlanningView planning, Screen screen)
    {
        screen.Hint(
            $"revision {planning.Revision} by "
                + $"{planning.RevisedBy}{(planning.ChangeRecord is { } record ? $" · change record {record}" : "")}"
        );
        Print(planning.Approvals, screen);
        Print(planning.Coverages, screen);
        foreach (var crew in planning.Crews)
            screen.Hint(
                $"crew {crew.Name} ({crew.Kind}): {crew.Hands} at a time{(crew.PerDay is { } most ? $", {most} a day" : "")}, "
                    + $"{(crew.Sites.Count == 0 ? "all sites" : string.Join(", ", crew.Sites))}, {crew.When}"
            );
        foreach (var line in planning.Uplinks)
            screen.Hint(
                $"uplink of {string.Join(", ", line.Sites)}: {Units.Show(line.Rate, ValueKind.Rate)}, {line.Share:P0} of it for "
                    + $"staging, {line.When}"
            );
    }

    private static void Print(IReadOnlyList<ApprovalView> approvals, Screen screen)
    {
        foreach (var a in approvals)
        {
            screen.Say(
                a.By is not null
                    ? $"{a.Subject}: approved by **{a.By}**, {Screen.Time(a.At)} UTC: {a.Reason}"
                    : $"{a.Subject}: **needs approval** by "
                        + $"{(a.Asked.Count == 0 ? "an approver" : string.Join(" or ", a.Asked))}"
                        + $"{(Barred(a) is { Length: > 0 } barred ? $", but not by {string.Join(", ", barred)}, who changed it" : "")}"
                        + $"{(a.Before is null ? "" : $"; {a.Before}, and it was changed since")}. {a.Why}"
            );
            if (a.By is null)
                screen.Hint($"  intent {a.Intent[..ShortestIntent]}");
            foreach (var c in a.LoadedSince)
                screen.Hint($"  since then calendar {c.Calendar} was loaded again by {c.By}, {Screen.Time(c.At)} UTC");
        }
    }

    /// <summary>Who might approve but may not, since what is to be approved has a change of theirs.</summary>
    private static string[] Barred(ApprovalView a) => [.. a.Contributors.Where(c => a.Asked.Count == 0 || a.Asked.Contains(c))];

    private static void Print(IReadOnlyList<CoverageView> coverages, Screen screen)
    {
        foreach (var coverage in coverages)
        {
            var unknown = coverage.Unknown.Where(u => u.Value > 0).Select(u => $"{u.Key} of {u.Value} machines").ToArray();
            screen.Say(
                $"Wave {coverage.Wave} covers **{coverage.Covered} of {coverage.Values}** values that occur"
                    + (unknown.Length > 0 ? $"; unknown: {string.Join(", ", unknown)}" : "")
            );
            if (coverage.Uncovered.Count > 0)
                screen.Table(
                    ["not covered", "value", "#machines", "why"],
                    coverage.Uncovered.Select(u => new[] { u.Key, u.Value, $"{u.Machines}", u.Why })
                );
        }
    }

    private static void Print(IReadOnlyList<WaveChangeRow> changes, Screen screen)
    {
        if (changes.Count > 0)
            screen.Table(
                ["machine", "site", "from wave", "to wave"],
                changes.Select(c => new[] { c.Machine, c.Site, c.From ?? "(new)", c.To ?? "(leaves)" })
            );
    }

    private static void Print(ComparisonView view, Screen screen)
    {
        screen.Say(
            view.Revision == 1
                ? $"**{view.Plan}** would be new, with {Screen.Many(view.Machines, "machine")}."
                : $"**{view.Plan}** would become revision **{view.Revision}**, with {Screen.Many(view.Machines, "machine")}."
        );
        foreach (var line in view.Lines)
            screen.Say($"  {line}");
        Print(view.Waves, screen);
        if (view.Moved.Count > 0)
        {
            screen.Say($"{Screen.Many(view.Moved.Count, "slot")} would move:");
            screen.Table(
                ["machine", "site", "now (UTC)", "then (UTC)"],
                view.Moved.Select(m => new[] { m.Machine, m.Site, Screen.Time(m.Before), m.After is null ? "none" : Screen.Time(m.After) })
            );
        }

        foreach (var late in view.NoEffect)
            screen.Say(late);
        foreach (var missing in view.Missing)
            screen.Say($"{missing} is listed and not in the scope.");
        screen.First("undecided: ", view.Undecided);
        Print(view.Coverages, screen);
        Print(view.Schedule, screen);
    }

    private static void Print(ScheduleView view, Screen screen)
    {
        screen.Table(
            ["wave", "#with a slot", "#without", "begins (UTC)", "ends (UTC)", "not before (UTC)?", "because of?"],
            view.Waves.Select(w =>
                new[]
                {
                    w.Wave,
                    $"{w.Placed}",
                    w.Left > 0 ? $"{w.Left}" : "",
                    Screen.Time(w.From),
                    Screen.Time(w.End),
                    Screen.Time(w.Bound),
                    w.BoundWhy,
                }
            )
        );
        if (view.Deadline is not null)
        {
            if (view.End is null)
                screen.Say("No machine is ready to be scheduled.");
            else
                screen.Say(
                    $"The last slot of the **{view.Ready}** ready machines ends **{Screen.Time(view.End)} UTC**, "
                        + (view.MeetsDeadline ? $"in time for {view.Deadline}, if nothing fails." : $"after the deadline {view.Deadline}.")
                );
            if (view.NotReady > 0)
                screen.Say(
                    $"**{view.NotReady}** more are not ready and will miss the deadline until fixed: gstair readiness show --plan "
                        + $"{view.Plan}"
                );
        }

        if (view.Changes.Count > 0)
        {
            screen.Say(
                view.Changes.All(c => c.Meets) ? "One of these alone would do:"
                : view.Changes[^1].Meets ? "These together would do:"
                : "No change of limits, windows, soak, uplinks or crews alone is enough; these together help most:"
            );
            screen.Table(["change", "then it ends (UTC)"], view.Changes.Select(c => new[] { c.What, Screen.Time(c.End) }));
        }

        if (view.Left.Count == 0)
            return;
        screen.Say($"{Screen.Many(view.Left.Count, "machine")} cannot be scheduled:");
        screen.Table(
            ["machine", "site", "wave", "why", "what would have to change"],
            view.Left.Select(l => new[] { l.Machine, l.Site, l.Wave, l.Why, l.Change })
        );
    }
}
