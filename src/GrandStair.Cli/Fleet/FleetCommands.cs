using System.CommandLine;

namespace GrandStair.Cli.Fleet;

internal static class FleetCommands
{
    public static Command Make() => new("fleet", "All machines that Grand Stair knows") { Import(), List() };

    private static Command Import()
    {
        var file = new Argument<string>("file") { Description = "A CSV file whose first line names the columns: name, site, group, owner, tags, link, address, port, user, host key, seen, and reading keys. - is standard input." };
        var source = new Option<string?>("--source") { Description = "The name of the source that the readings come from (default: import)." };
        var seen = new Option<string?>("--seen") { Description = "When the readings were seen, for a file without a column 'seen': a time such as 2027-01-11T08:00:00Z, or now." };
        var dry = new Option<bool>("--dry-run") { Description = "Only say what would be done, and what is wrong in the file." };
        var command = new Command("import", "Take machines and readings from a CSV file; lines that cannot be taken are told, the rest is taken") { file, source, seen, dry };
        command.Calls(async (parsed, client, screen, stop) =>
        {
            var path = parsed.GetValue(file)!;
            await using var stream = path == "-" ? Console.OpenStandardInput() : File.OpenRead(path);
            var report = await client.ImportAsync(stream, parsed.GetValue(source), parsed.GetValue(seen), parsed.GetValue(dry), stop);
            if (!Caller.PrintedAsJson(parsed, report))
            {
                screen.Say($"**{report.Added}** {(report.Dry ? "would be added" : "added")}, **{report.Updated}** {(report.Dry ? "would be updated" : "updated")}, **{report.Problems.Count}** {(report.Problems.Count == 1 ? "problem" : "problems")}");
                foreach (var problem in report.Problems) await Console.Error.WriteLineAsync($"{path}:{problem.Line}: {problem.Message}");
            }

            return report.Problems.Count > 0 ? ExitStatus.LinesLeftOut : ExitStatus.Done;
        });
        return command;
    }

    private static Command List()
    {
        var filter = new Argument<string?>("condition") { Arity = ArgumentArity.ZeroOrOne, Description = "Which machines, such as: name like \"desk-*\" and os.version < 7" };
        var limit = new Option<int>("--limit") { Description = "How many at most.", DefaultValueFactory = _ => 50 };
        var command = new Command("list", "Show machines") { filter, limit };
        command.Asks(
            (parsed, client, stop) => client.MachinesAsync(parsed.GetValue(filter), parsed.GetValue(limit), stop),
            (page, screen) =>
            {
                screen.Say($"**{page.Total}** machines");
                screen.Table(
                    ["name", "site", "group", "product", "version", "model", "last seen", "plan", "standing"],
                    page.Items.Select(m => new[] { m.Name, m.Site, m.Group, m.Product, m.Version, m.Model, Screen.Time(m.LastSeen), m.Plan, Screen.Word(m.Standing) }));
                if (page.Items.Count < page.Total) screen.Hint($"{page.Total - page.Items.Count} more; narrow the condition or raise --limit.");
            });
        return command;
    }
}
