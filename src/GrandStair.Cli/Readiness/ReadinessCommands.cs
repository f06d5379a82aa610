using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.Readiness;

internal static class ReadinessCommands
{
    private static readonly Option<string?> Product = new("--product") { Description = "The product, such as \"Brae Desktop\"." };
    private static readonly Option<string?> Release = new("--release") { Description = "Target release (default: the recommended one)." };
    private static readonly Option<string?> Plan = new("--plan") { Description = "Use this plan's machines and methods." };
    private static readonly Option<string?> Scope = new("--where") { Description = "Only machines that match this condition." };

    public static Command Make() =>
        new("readiness", "Which machines are ready, and what blocks the others") { Show(), Machines(), Report() };

    private static Command Show()
    {
        var command = new Command("show", "Count the results of every check, and show which fixes would unblock the most machines")
        {
            Product,
            Release,
            Plan,
            Scope,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.ReadinessAsync(
                    parsed.GetValue(Product),
                    parsed.GetValue(Release),
                    parsed.GetValue(Plan),
                    parsed.GetValue(Scope),
                    stop
                ),
            Print
        );
        return command;
    }

    private static Command Machines()
    {
        var check = new Option<string?>("--check") { Description = "Only machines that have this check." };
        var state = new Option<string?>("--state")
        {
            Description = "With --check: met, unmet, unknown, waived, deferred or not-applicable; separate several with commas.",
        };
        var gate = new Option<string?>("--gate")
        {
            Description =
                "Gate state: open, undecided or blocked; or not-fixable (cannot be fixed), not-offered, without (no gate), arrived "
                + "(already on the target).",
        };
        var command = new Command("machines", "List the machines behind a number") { Product, Release, Plan, Scope, check, state, gate };
        command.Asks(
            (parsed, client, stop) =>
                client.ReadinessMachinesAsync(
                    parsed.GetValue(Product),
                    parsed.GetValue(Release),
                    parsed.GetValue(Plan),
                    parsed.GetValue(Scope),
                    parsed.GetValue(check),
                    parsed.GetValue(state),
                    parsed.GetValue(gate),
                    stop
                ),
            (page, screen) =>
            {
                screen.Say(Screen.Many(page.Total, "machine"));
                screen.Table(
                    ["name", "site", "gate", "check", "found", "blocked by"],
                    page.Items.Select(r =>
                        new[]
                        {
                            r.Name,
                            r.Site,
                            r.Gate,
                            Screen.Word(r.CheckState),
                            string.Join(", ", r.Seen.Select(s => $"{s.Key} = {s.Note ?? s.Shown}")),
                            r.Why,
                        }
                    )
                );
            }
        );
        return command;
    }

    private static Command Report()
    {
        var format = new Option<string>("--format")
        {
            Description = "html (a self-contained page), csv or json.",
            DefaultValueFactory = _ => "html",
        };
        var file = new Option<string?>("--out") { Description = "The file to write (default: standard output)." };
        var command = new Command("report", "Write the readiness report to a file") { Product, Release, Plan, Scope, format, file };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await using var report = await client.ReadinessReportAsync(
                    parsed.GetValue(Product),
                    parsed.GetValue(Release),
                    parsed.GetValue(Plan),
                    parsed.GetValue(Scope),
                    parsed.GetValue(format)!,
                    stop
                );
                await Caller.WriteAsync(report, parsed.GetValue(file), screen, stop);
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static void Print(ReadinessView view, Screen screen)
    {
        screen.Say(
            $"To {view.Target}: **{view.Open} of {view.Machines - view.Arrived}** gates open, **{view.Blocked}** blocked, "
                + $"**{view.Undecided}** undecided{(view.Arrived > 0 ? $"; {view.Arrived} run it already" : "")}"
        );
        screen.Hint(
            $"{view.NobodyCanFix} cannot be fixed · {view.WaitingForOffer} wait for the vendor's rollout · {view.Conflicts} on which "
                + $"two sources conflict · {view.Silent} without contact for 7 days · {view.Scope}"
        );
        if (view.UndecidedScope > 0)
            screen.Say($"For **{view.UndecidedScope}** more it is unknown whether they are in the scope.");
        if (view.Checks.Count > 0)
            screen.Table(
                ["check", "need?", "#met", "#not met", "#unknown", "#waived?", "#later?", "fix by?", "#unblocks"],
                view.Checks.Select(c =>
                    new[]
                    {
                        c.Title,
                        c.Need,
                        Number(c.Met),
                        Number(c.Unmet),
                        Number(c.Unknown),
                        Number(c.Waived),
                        Number(c.Deferred),
                        Fixes(c),
                        c.Opens > 0 ? $"+{c.Opens}" : "",
                    }
                )
            );
        if (view.ToFix.Count > 0)
        {
            screen.Say("What to fix, in the order that opens the most gates:");
            screen.Table(
                ["", "check", "who", "#machines", "#opens", "#open then"],
                view.ToFix.Select((m, i) => new[] { $"{i + 1}", m.Title, m.By, $"{m.Machines}", $"+{m.Opens}", $"{m.OpenThen}" })
            );
        }

        foreach (var reason in view.Reasons)
            screen.Say($"**{reason.Machines}** {(reason.Machines == 1 ? "has" : "have")} no gate: {reason.Reason}");
    }

    private static string Number(int number) => number == 0 ? "" : $"{number}";

    private static string Fixes(CheckCount check) =>
        check.Unmet + check.Unknown == 0 ? "" : check.Fix.By + (check.Fix.Minutes is { } minutes ? $", {minutes:0} min each" : "");
}
