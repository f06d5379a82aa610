using System.CommandLine;
using GrandStair.Core.Readings;

namespace GrandStair.Cli;

/// <summary>What is wrong with a command line, with the command or option that may be meant.</summary>
internal static class UsageErrors
{
    /// <summary>An option that the command does not have and that would be taken for a name; null where there is none.</summary>
    public static string? MisspeltOption(ParseResult parsed) =>
        parsed.CommandResult.Command.Hidden
            ? null
            : parsed
                .CommandResult.Children.OfType<System.CommandLine.Parsing.ArgumentResult>()
                .SelectMany(a => a.Tokens)
                .Select(t => t.Value)
                .FirstOrDefault(t => t.Length > 2 && t.StartsWith("--", StringComparison.Ordinal));

    /// <summary>The errors, in sentences.</summary>
    public static IEnumerable<string> Of(ParseResult parsed)
    {
        var command = parsed.CommandResult.Command;
        var path = string.Join(' ', Caller.Path(parsed).Prepend("gstair"));
        var commands = command.Subcommands.Where(c => !c.Hidden).Select(c => c.Name).ToArray();
        if ((MisspeltOption(parsed) ?? parsed.UnmatchedTokens.FirstOrDefault()) is { } odd)
        {
            if (odd.StartsWith('-'))
                return [$"Unknown option '{odd}' of '{path}'.{Meant(odd, OptionsOf(parsed))}"];
            if (commands.Length > 0)
                return [$"Unknown command '{odd}' of '{path}'.{Meant(odd, commands)}"];
        }
        else if (commands.Length > 0)
        {
            return [$"'{path}' needs a command: {string.Join(", ", commands)}."];
        }

        return parsed.Errors.Select(e => e.Message).Distinct();
    }

    private static string Meant(string odd, IEnumerable<string> known) =>
        Spelling.Nearest(odd, known) is { } near ? $" Did you mean '{near}'?" : "";

    private static IEnumerable<string> OptionsOf(ParseResult parsed)
    {
        for (var at = parsed.CommandResult; at is not null; at = at.Parent as System.CommandLine.Parsing.CommandResult)
            foreach (var option in at.Command.Options.Where(o => !o.Hidden && (at == parsed.CommandResult || o.Recursive)))
                yield return option.Name;
    }
}
