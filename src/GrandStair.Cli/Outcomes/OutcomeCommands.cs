using System.CommandLine;
using GrandStair.Core.Readings;

namespace GrandStair.Cli.Outcomes;

internal static class OutcomeCommands
{
    public static Command Make()
    {
        var plan = new Argument<string>("plan") { Description = "The plan's name." };
        var show = new Command("show", "Show the outcome of each machine of a plan, and why open ones are open") { plan };
        show.Asks(
            (parsed, client, stop) => client.OutcomesAsync(parsed.GetValue(plan)!, stop),
            (view, screen) =>
            {
                var over = view.Tally["done"] + view.Tally["exempt"];
                screen.Say(
                    $"Plan **{view.Plan}**: **{over} of {view.Machines}** have an outcome or an exemption, **{view.Open.Count}** are open"
                );
                screen.Table(
                    ["status", "#machines"],
                    view.Tally.Select(t => new[] { Screen.Word(t.Key), $"{t.Value}" }).Append(["all", $"{view.Machines}"])
                );
                screen.Say($"runs ended: {Counts(view.Outcomes)}; exempt: {Counts(view.Exemptions)}");
                if (view.ReclaimedBytes is { } freed)
                    screen.Say($"space reclaimed after rollback periods: {Units.Show(freed, ValueKind.Size)}");
                if (view.Rollbacks.Count > 0)
                    screen.Table(
                        ["rolled back", "machine", "category", "reason"],
                        view.Rollbacks.Select(r => new[] { r.Run, r.Machine, r.Category ?? "none yet", r.Reason })
                    );
                if (view.Open.Count > 0)
                    screen.Table(
                        ["name", "status", "run", "why"],
                        view.Open.Take(50).Select(m => new[] { m.Name, Screen.Word(m.Status), m.Run, m.Why })
                    );
            }
        );
        return new("outcome", "Results by machine") { show, Categorise() };
    }

    private static Command Categorise()
    {
        var category = new Argument<string>("category")
        {
            Description = "What kind of reason it is, in a few words of your own, such as printing; the same words are counted together.",
        };
        var runs = new Argument<string[]>("runs")
        {
            Arity = ArgumentArity.OneOrMore,
            Description = "The runs that were rolled back, such as r118 r119; 'outcome show' lists them.",
        };
        var command = new Command("categorise", "Say what kind of reason runs were rolled back for, so that it can be counted")
        {
            category,
            runs,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
                await BulkAnswer.TellAsync(
                    parsed,
                    await client.CategoriseRollbacksAsync(new(parsed.GetValue(runs)!, parsed.GetValue(category)!), stop),
                    "rollback",
                    "categorised",
                    screen
                )
        );
        return command;
    }

    private static string Counts(IReadOnlyDictionary<string, int> counts) =>
        string.Join(", ", counts.Select(c => $"{c.Value} {Screen.Word(c.Key)}").DefaultIfEmpty("none"));
}
