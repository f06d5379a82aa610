using System.CommandLine;
using System.Text;

namespace GrandStair.Cli;

/// <summary>Prints the reference of all commands as Markdown, for <c>docs/reference/cli.md</c>.</summary>
internal static class ReferenceCommand
{
    public static Command Make(RootCommand root)
    {
        var command = new Command("reference", "Print the reference of all commands as Markdown") { Hidden = true };
        command.SetAction(_ =>
        {
            var page = new StringBuilder("# gstair\n\nWritten by `build/reference` from the commands themselves.\n\n");
            page.Append("Every command takes:\n\n").Append(Options(root.Options.Where(o => o.Recursive))).Append('\n');
            foreach (var top in root.Subcommands.Where(c => !c.Hidden).OrderBy(c => c.Name, StringComparer.Ordinal))
                Append(page, top, "gstair");
            foreach (var line in page.ToString().TrimEnd().Split('\n'))
                Terminal.Line(line);
            return ExitStatus.Done;
        });
        return command;
    }

    private static void Append(StringBuilder page, Command command, string path)
    {
        var name = $"{path} {command.Name}";
        var arguments = string.Concat(
            command.Arguments.Select(a => a.Arity.MinimumNumberOfValues == 0 ? $" [{a.Name}]" : $" {a.Name.ToUpperInvariant()}")
        );
        page.Append(path == "gstair" ? $"## {name}\n\n" : $"### `{name}{arguments}`\n\n").Append($"{command.Description}.\n\n");
        foreach (var argument in command.Arguments)
            page.Append($"- `{argument.Name}`: {argument.Description}\n");
        var options = Options(command.Options.Where(o => !o.Hidden && o is not System.CommandLine.Help.HelpOption));
        page.Append(options);
        if (command.Arguments.Count > 0 || options.Length > 0)
            page.Append('\n');
        foreach (var sub in command.Subcommands.Where(c => !c.Hidden))
            Append(page, sub, name);
    }

    private static string Options(IEnumerable<Option> options) =>
        string.Concat(options.Select(o => $"- `{o.Name}`{(o.Required ? " (required)" : "")}: {o.Description}\n"));
}
