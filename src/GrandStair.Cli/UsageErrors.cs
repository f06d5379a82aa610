using System.CommandLine;
using GrandStair.Core.Readings;

namespace GrandStair.Cli;

/// <summary>What is wrong with a command line, with the command or option that may be meant.</summary>
internal static class UsageErrors
{
    /// <summary>The errors, in sentences.</summary>
    public static IEnumerable<string> Of(ParseResult parsed)
    {
        var command = parsed.CommandResult.Command;
        var path = string.Join(' ', Caller.Path(parsed).Prepend("gstair"));
        var commands = command.Subcommands.Where(c => !c.Hidden).Select(c => c.Name).ToArray();
        if (parsed.UnmatchedTokens.FirstOrDefault() is { } odd)
        {
            if (odd.StartsWith('-')) return [$"Unknown option '{odd}' of '{path}'.{Meant(odd, OptionsOf(parsed))}"];
            if (commands.Length > 0) return [$"Unknown command '{odd}' of '{path}'.{Meant(odd, commands)}"];
        }
        else if (commands.Length > 0)
        {
            return [$"'{path}' needs a command: {string.Join(", ", commands)}."];
        }

        return parsed.Errors.Select(e => e.Message).Distinct();
    }

    private static string Meant(string odd, IEnumerable<string> known) => Spelling.Nearest(odd, known) is { } near ? $" Did you mean '{near}'?" : "";

    private static IEnumerable<string> OptionsOf(ParseResult parsed)
    {
        for (var at = parsed.CommandResult; at is not null; at = at.Parent as System.CommandLine.Parsing.CommandResult)
            foreach (var option in at.Command.Options.Where(o => !o.Hidden && (at == parsed.CommandResult || o.Recursive))) yield return option.Name;
    }
}
