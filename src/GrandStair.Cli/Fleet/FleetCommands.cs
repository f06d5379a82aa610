using System.CommandLine;
using GrandStair.Client;

namespace GrandStair.Cli.Fleet;

internal static class FleetCommands
{
    /// <summary>How many problems of a file are listed one by one; of more than these each kind is, with its number.</summary>
    private const int MostListed = 20;

    public static Command Make() => new("fleet", "The fleet: import, list, conflicts") { Import(), Imports(), Undo(), List(), Conflicts() };

    private static Command Import()
    {
        var file = new Argument<string>("file")
        {
            Description =
                "A CSV file, or JSON Lines with the same fields, whose first line names the columns: name, site, group, owner, tags, "
                + "connection, address, port, user, host key, ssh key, seen, and reading keys. - is standard input.",
        };
        var source = new Option<string?>("--source")
        {
            Description = "The name of the source that the readings come from (default: import).",
        };
        var seen = new Option<string?>("--seen")
        {
            Description = "When the readings were taken, for a file without a column 'seen': a time such as 2027-01-11T08:00:00Z, or now.",
        };
        var mapping = new Option<string?>("--mapping")
        {
            Description = "A YAML mapping file: which column is which key, in which unit, and what is the same for all lines.",
        };
        var format = new Option<string?>("--format") { Description = "csv or jsonl (default: by the file's name, otherwise csv)." };
        var encoding = new Option<string?>("--encoding") { Description = "utf-8 (default) or windows-1252." };
        var dry = new Option<bool>("--dry-run")
        {
            Description = "Show what would be imported and what is wrong in the file; change nothing.",
        };
        var command = new Command(
            "import",
            "Import machines and readings from a CSV file; lines with errors are reported and skipped; an interrupted import resumes "
                + "where it stopped"
        )
        {
            file,
            source,
            seen,
            mapping,
            format,
            encoding,
            dry,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var path = parsed.GetValue(file)!;
                await using var stream = path == "-" ? Console.OpenStandardInput() : File.OpenRead(path);
                var mapped = parsed.GetValue(mapping);
                var how = new ImportOptions(
                    parsed.GetValue(source),
                    parsed.GetValue(seen),
                    parsed.GetValue(format) ?? (path.EndsWith(".jsonl", StringComparison.OrdinalIgnoreCase) ? "jsonl" : null),
                    parsed.GetValue(encoding),
                    mapped is null ? null : await File.ReadAllTextAsync(mapped, stop),
                    mapped
                );
                var report = await client.ImportAsync(
                    stream,
                    how,
                    parsed.GetValue(dry),
                    stop,
                    Terminal.Streams.IsErrorTerminal ? view => Terminal.Progress($"line {view.Line:N0} of {view.Lines:N0}") : null
                );
                Terminal.Progress("");
                if (!Caller.PrintedAsJson(parsed, report))
                {
                    var problems = report.Groups.Sum(g => g.Count);
                    screen.Say(
                        $"**{report.Added}** {(report.Dry ? "would be added" : "added")}, **{report.Updated}** "
                            + $"{(report.Dry ? "would be updated" : "updated")}, **{problems:N0}** "
                            + $"{(problems == 1 ? "problem" : "problems")}"
                    );
                    if (report.ResumedAfter is { } line)
                        screen.Hint($"This file had been taken up to line {line} before; it went on from there.");
                    if (problems <= MostListed)
                        foreach (var problem in report.Problems)
                            await Terminal.ErrorAsync($"{path}:{problem.Line}: {problem.Message}");
                    else
                        foreach (var group in report.Groups)
                            await Terminal.ErrorAsync(
                                $"{path}:{group.FirstLine}: {group.Count:N0} × {group.What}, first in this line: {group.Example}"
                            );
                }

                return report.Problems.Count > 0 ? ExitStatus.LinesLeftOut : ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Imports()
    {
        var command = new Command("imports", "List the newest imports and their progress");
        command.Asks(
            (_, client, stop) => client.ImportsAsync(stop),
            (imports, screen) =>
            {
                screen.Table(
                    ["#import", "source", "by?", "begun?", "ended?", "#line", "#of", "#added", "#updated", "state"],
                    imports.Select(i =>
                        new[]
                        {
                            $"{i.Import}",
                            i.Source,
                            i.Actor,
                            Screen.Time(i.Begun),
                            Screen.Time(i.Ended),
                            $"{i.Line:N0}",
                            $"{i.Lines:N0}",
                            $"{i.Added:N0}",
                            $"{i.Updated:N0}",
                            i.Undone is not null ? "undone"
                            : i.Ended is null ? "unfinished"
                            : i.CanBeUndone ? "can be undone"
                            : "done",
                        }
                    )
                );
                if (imports.Any(i => i.Ended is null))
                    screen.Hint(
                        "One without an end is running, or was cut short: import the same file again, and it goes on where it stopped."
                    );
            }
        );
        return command;
    }

    private static Command Undo()
    {
        var import = new Argument<long>("import") { Description = "The import's number, as in 'gstair fleet imports'." };
        var reason = new Option<string>("--reason") { Description = "Why, recorded in the audit log with your name.", Required = true };
        var command = new Command("undo", "Undo an import: remove what it added, and restore what it changed") { import, reason };
        command.Asks(
            (parsed, client, stop) => client.UndoImportAsync(parsed.GetValue(import), parsed.GetValue(reason)!, stop),
            (undone, screen) => screen.Say($"**{undone.Removed:N0}** removed, **{undone.Restored:N0}** restored to what they were before")
        );
        return command;
    }

    private static Command Conflicts()
    {
        var filter = new Argument<string?>("condition")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "Only machines that match this condition.",
        };
        var limit = new Option<int>("--limit") { Description = "Maximum number of entries.", DefaultValueFactory = _ => 50 };
        var command = new Command("conflicts", "List conflicts between sources; the newer value counts") { filter, limit };
        command.Asks(
            (parsed, client, stop) => client.ConflictsAsync(parsed.GetValue(filter), parsed.GetValue(limit), stop),
            (page, screen) =>
            {
                screen.Say(Screen.Many(page.Total, "conflict"));
                screen.Table(
                    ["machine", "site?", "key", "counts", "by", "#ago?", "differs", "by", "#ago?"],
                    page.Items.Select(d =>
                        new[]
                        {
                            d.Machine,
                            d.Site,
                            d.Key,
                            d.Counts,
                            d.CountsSource,
                            Screen.Age(d.CountsAgeSeconds),
                            d.Other,
                            d.OtherSource,
                            Screen.Age(d.OtherAgeSeconds),
                        }
                    )
                );
            }
        );
        return command;
    }

    public static Command List()
    {
        var filter = new Argument<string?>("search")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description =
                "Part of a name, site, owner or serial number, such as desk-w, or a condition: name like \"desk-*\" and os.version < 7",
        };
        var limit = new Option<int>("--limit") { Description = "Maximum number of entries.", DefaultValueFactory = _ => 50 };
        var command = new Command("list", "List machines") { filter, limit };
        command.Asks(
            (parsed, client, stop) => client.MachinesAsync(parsed.GetValue(filter), parsed.GetValue(limit), stop),
            (page, screen) =>
            {
                screen.Say(Screen.Many(page.Total, "machine"));
                screen.Table(
                    ["name", "site", "group?", "product?", "version", "model?", "last seen?", "plan?", "status"],
                    page.Items.Select(m =>
                        new[]
                        {
                            m.Name,
                            m.Site,
                            m.Group,
                            m.Product,
                            m.Version,
                            m.Model,
                            Screen.Time(m.LastSeen),
                            m.Plan,
                            Screen.Word(m.Status),
                        }
                    )
                );
                if (page.Undecided > 0)
                    screen.Hint($"For {page.Undecided} more it is unknown whether they match.");
                if (page.Items.Count < page.Total)
                    screen.Hint($"{page.Total - page.Items.Count} more; narrow the search or raise --limit.");
            }
        );
        return command;
    }
}
