using System.CommandLine;

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
                if (view.Open.Count > 0)
                    screen.Table(
                        ["name", "status", "run", "why"],
                        view.Open.Take(50).Select(m => new[] { m.Name, Screen.Word(m.Status), m.Run, m.Why })
                    );
            }
        );
        return new("outcome", "Results by machine") { show };
    }

    private static string Counts(IReadOnlyDictionary<string, int> counts) =>
        string.Join(", ", counts.Select(c => $"{c.Value} {Screen.Word(c.Key)}").DefaultIfEmpty("none"));
}
