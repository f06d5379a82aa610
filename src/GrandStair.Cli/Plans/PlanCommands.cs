using System.CommandLine;
using GrandStair.Contracts;
using GrandStair.Core.Readings;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Plans;

namespace GrandStair.Cli.Plans;

internal static partial class PlanCommands
{
    private static readonly Argument<string> Name = new("plan") { Description = "The plan's name." };
    private static readonly Option<string> Reason = new("--reason")
    {
        Description = "Reason, recorded in the audit log with your name.",
        Required = true,
    };
    private static readonly Argument<string> Machine = new("machine") { Description = "The machine's name or id." };

    public static Command Make() =>
        new("plan", "Plans: which machines go where, when, and how")
        {
            Check(),
            Create(),
            Compare(),
            Load(),
            Text(),
            List(),
            Show(),
            Members(),
            Schedule(),
            Rehearse(),
            Rehearsals(),
            Forecast(),
            Board(),
            Slots(),
            Times(),
            Reschedule(),
            Move(),
            Proposals(),
            Revisions(),
            Acknowledge(),
            Approve(),
            Start(),
            Hold(),
            Discard(),
            ChooseMethod(),
            Exemption(),
            Again(),
        };

    private static Command Check()
    {
        var file = new Argument<string>("file") { Description = "The plan's YAML file." };
        var catalogue = new Option<string?>("--catalogue")
        {
            Description = "Catalogue folder, to check keys, release, methods and crews too (default: catalogue, if it exists).",
        };
        var command = new Command("check", "Validate a plan's file without a service") { file, catalogue };
        command.SetAction((parsed, _) => Caller.ProtectAsync(parsed, async () =>
                {
                    var path = parsed.GetValue(file)!;
                    var folder = parsed.GetValue(catalogue) ?? (Directory.Exists("catalogue") ? "catalogue" : null);
                    var products = folder is null
                        ? []
                        : Directory
                            .EnumerateDirectories(folder)
                            .Order(StringComparer.Ordinal)
                            .Select(f =>
                                CatalogueFolder.Parse(CatalogueFolder.Load(f), KeyRegistry.BuiltIn, Path.Combine(f, "product.yaml"))
                            )
                            .ToDictionary(p => p.Name);
                    var keys = products.Values.Aggregate(KeyRegistry.BuiltIn, (known, p) => known.With(p.Keys));
                    var plan = PlanFile.Parse(
                        await File.ReadAllTextAsync(path),
                        keys,
                        folder is null ? null : products.GetValueOrDefault,
                        path
                    );
                    var screen = new Screen();
                    var checkedBy = folder is null
                        ? ". Keys and methods are checked with --catalogue, or by 'plan compare'."
                        : $", and fits the catalogue in {folder}.";
                    screen.Say(
                        $"**{plan.Name}** is well formed: {Screen.Many(plan.Waves.Length, "wave")} "
                            + $"to {plan.Product} {plan.Release}{checkedBy}"
                    );
                    var calendars = plan.Calendars.ToArray();
                    if (calendars.Length > 0)
                        screen.Hint(
                            $"It refers to the calendars {string.Join(", ", calendars)}, which the service has to have: 'gstair "
                                + $"calendar list'."
                        );
                    return ExitStatus.Done;
                }));
        return command;
    }

    private static Command Create()
    {
        var file = new Argument<string>("file") { Description = "The plan's YAML file." };
        var command = new Command("create", "Create a plan from a YAML file: find its machines, check them and schedule them") { file };
        command.Asks(
            async (parsed, client, stop) =>
            {
                await using var stream = File.OpenRead(parsed.GetValue(file)!);
                return await client.CreatePlanAsync(stream, stop);
            },
            (view, screen) =>
            {
                Print(view, screen);
                screen.Hint($"It has not begun; 'gstair plan start {view.Plan.Name}' starts it.");
            }
        );
        return command;
    }

    private static Command Acknowledge()
    {
        var names = new Argument<string[]>("what")
        {
            Arity = ArgumentArity.ZeroOrMore,
            Description = "Name of the item to acknowledge; without one, the items are listed.",
        };
        var all = new Option<bool>("--all") { Description = "Acknowledge all items." };
        var reason = new Option<string?>("--reason") { Description = "Reason for the waiver, recorded in the audit log with your name." };
        var command = new Command("acknowledge", "Show what must be acknowledged before a plan starts, and acknowledge it")
        {
            Name,
            names,
            all,
            reason,
        };
        command.Asks(
            async (parsed, client, stop) =>
            {
                var plan = parsed.GetValue(Name)!;
                var given = parsed.GetValue(names)!;
                if (given.Length == 0 && !parsed.GetValue(all))
                    return await client.AcknowledgementsAsync(plan, stop);
                return await client.AcknowledgeAsync(plan, new(parsed.GetValue(reason) ?? "", parsed.GetValue(all) ? null : given), stop);
            },
            (list, screen) =>
            {
                screen.Say(
                    list.Count == 0
                        ? "There is nothing to acknowledge."
                        : $"**{list.Count(a => a.By is null)} of {list.Count}** are still open"
                );
                foreach (var one in list)
                {
                    screen.Say($"**{one.Name}** ({Screen.Word(one.Kind)}, {Screen.Many(one.Machines, "machine")}): {one.Title}");
                    foreach (var line in one.Words.TrimEnd().Split('\n'))
                        screen.Say($"  {line}");
                    if (one.By is not null)
                        screen.Hint($"  acknowledged by {one.By}, {Screen.Time(one.At)} UTC: {one.Reason}");
                }
            }
        );
        return command;
    }

    private static Command ChooseMethod()
    {
        var method = new Argument<string?>("method")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "The method; without one, the plan's order of methods applies again.",
        };
        var command = new Command("choose-method", "Choose the method of one machine, overriding the plan's order")
        {
            Name,
            Machine,
            method,
            Reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.ChooseMethodAsync(
                    parsed.GetValue(Name)!,
                    parsed.GetValue(Machine)!,
                    new(parsed.GetValue(Reason)!, parsed.GetValue(method)),
                    stop
                );
                screen.Say($"Method of **{parsed.GetValue(Machine)}**: {parsed.GetValue(method) ?? "by the plan's order"}.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command List()
    {
        var command = new Command("list", "List all plans");
        command.Asks(
            (_, client, stop) => client.PlansAsync(stop),
            (plans, screen) =>
                screen.Table(
                    ["plan", "target", "state", "#machines", "#done?", "#verified", "#running?", "#parked", "deadline"],
                    plans.Select(p =>
                        new[]
                        {
                            p.Name,
                            p.Target,
                            p.Held is null ? Screen.Word(p.State) : $"held: {p.Held}",
                            $"{p.Machines}",
                            Count(p, "done"),
                            Count(p, "verified"),
                            Count(p, "running"),
                            Count(p, "parked"),
                            p.Deadline,
                        }
                    )
                )
        );
        return command;
    }

    private static string Count(PlanRow plan, string status) => $"{plan.Tally[status]}";

    private static Command Show()
    {
        var command = new Command("show", "Show a plan and its waves") { Name };
        command.Asks((parsed, client, stop) => client.PlanAsync(parsed.GetValue(Name)!, stop), Print);
        return command;
    }

    private static Command Members()
    {
        var status = new Option<string?>("--status")
        {
            Description = "not-ready, ready, scheduled, running, parked, verified, done, exempt or stopped; separate several with commas.",
        };
        var wave = new Option<int?>("--wave") { Description = "The wave's number." };
        var filter = new Option<string?>("--where") { Description = "Only machines that match this condition." };
        var command = new Command("machines", "Show a plan's machines with the status of each and why") { Name, status, wave, filter };
        command.Asks(
            (parsed, client, stop) =>
                client.MembersAsync(
                    parsed.GetValue(Name)!,
                    parsed.GetValue(status),
                    parsed.GetValue(wave),
                    parsed.GetValue(filter),
                    int.MaxValue,
                    stop
                ),
            (page, screen) =>
            {
                screen.Say(Screen.Many(page.Total, "machine"));
                screen.Table(
                    ["name", "site", "wave", "status", "method?", "slot (UTC)", "crew?", "run?", "why"],
                    page.Items.Select(m =>
                        new[]
                        {
                            m.Name,
                            m.Site,
                            m.WaveName,
                            Screen.Word(m.Status),
                            m.Method,
                            Slot(m),
                            m.Crew,
                            m.Run,
                            m.Exemption is null ? m.Why : $"{m.Exemption}: {m.ExemptionReason} ({m.ExemptedBy})",
                        }
                    )
                );
            }
        );
        return command;
    }

    private static Command Start()
    {
        var command = new Command("start", "Start a plan, or resume one that is on hold") { Name };
        command.Asks((parsed, client, stop) => client.StartAsync(parsed.GetValue(Name)!, stop), Print);
        return command;
    }

    private static Command Hold()
    {
        var command = new Command(
            "hold",
            "Put a plan on hold: no slot starts and no wave opens until it is resumed; running upgrades continue"
        )
        {
            Name,
            Reason,
        };
        command.Asks((parsed, client, stop) => client.HoldAsync(parsed.GetValue(Name)!, parsed.GetValue(Reason)!, stop), Print);
        return command;
    }

    private static Command Discard()
    {
        var command = new Command("discard", "Delete a plan that was never started; the audit log keeps its text") { Name, Reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.DiscardAsync(parsed.GetValue(Name)!, parsed.GetValue(Reason)!, stop);
                screen.Say($"Plan **{parsed.GetValue(Name)}** is deleted.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Exemption()
    {
        var kind = new Option<string>("--as") { Description = "Why it is exempt: replaced, retired or stays.", Required = true };
        var until = new Option<string?>("--until") { Description = "Last day that it stays on its release, such as 2027-09-30." };
        var command = new Command("exempt", "Exempt a machine that will not be upgraded") { Name, Machine, kind, Reason, until };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.ExemptAsync(
                    parsed.GetValue(Name)!,
                    parsed.GetValue(Machine)!,
                    new(parsed.GetValue(kind)!, parsed.GetValue(Reason)!, parsed.GetValue(until)),
                    stop
                );
                screen.Say($"**{parsed.GetValue(Machine)}** is exempt");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Again()
    {
        var command = new Command("retry", "Retry a machine whose run ended without success") { Name, Machine, Reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.AgainAsync(parsed.GetValue(Name)!, parsed.GetValue(Machine)!, parsed.GetValue(Reason)!, stop);
                screen.Say($"**{parsed.GetValue(Machine)}** goes again as soon as its gate is open");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static void Print(PlanView view, Screen screen)
    {
        var p = view.Plan;
        screen.Say(
            $"Plan **{p.Name}** to {p.Target}: **{Screen.Word(p.State)}**{(p.Held is null ? "" : $", held: {p.Held}")}, "
                + $"{Screen.Many(p.Machines, "machine")}{(p.Deadline is null ? "" : $", deadline {p.Deadline}")}"
        );
        if (view.Trouble is { } trouble)
            screen.Say($"**It does not go on:** {trouble}");
        screen.Hint(
            $"{view.Scope} · preserves {view.Preserves} · methods {string.Join(", then ", view.Methods)} · "
                + $"{(view.Limits.All is { } all ? $"at most {all} at once" : "any number at once")}, "
                + $"{(view.Limits.Site is { } site ? $"at most {site}" : "any number")} at one site"
        );
        screen.Hint(
            $"a wave ends with {view.Advance.Verified:P0} verified, at most {view.Advance.Failures} failed, "
                + $"{view.Advance.SoakHours / 24:0.#} d soak"
        );
        screen.Table(
            [
                "wave",
                "state",
                "#machines",
                "#not ready",
                "#ready?",
                "#scheduled?",
                "#running?",
                "#parked",
                "#verified",
                "#done?",
                "#exempt?",
                "#stopped?",
                "planned?",
                "why",
            ],
            view.Waves.Select(w =>
                new string?[]
                {
                    w.Name,
                    Screen.Word(w.State),
                    $"{w.Machines}",
                    Of(w, "not-ready"),
                    Of(w, "ready"),
                    Of(w, "scheduled"),
                    Of(w, "running"),
                    Of(w, "parked"),
                    Of(w, "verified"),
                    Of(w, "done"),
                    Of(w, "exempt"),
                    Of(w, "stopped"),
                    w.PlannedFrom is null ? "" : $"{w.PlannedFrom:d MMM} – {w.PlannedTo:d MMM}",
                    w.Why,
                }
            )
        );
        screen.First("undecided: ", view.Undecided);
        Print(view.Planning, screen);
    }

    private static string Of(WaveView wave, string status) => wave.Tally[status] is > 0 and var count ? $"{count}" : "";
}
