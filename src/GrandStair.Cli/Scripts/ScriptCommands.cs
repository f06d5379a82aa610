using System.CommandLine;

namespace GrandStair.Cli.Scripts;

internal static class ScriptCommands
{
    private const int ShownOfHash = 12;

    public static Command Make() => new("script", "History of scripts run on machines") { Uses() };

    private static Command Uses()
    {
        var machine = new Option<string?>("--machine") { Description = "Only on this machine." };
        var hash = new Option<string?>("--hash") { Description = "Only scripts whose SHA-256 begins with this." };
        var script = new Option<string?>("--script") { Description = "Only scripts with this file name." };
        var limit = new Option<int>("--limit") { Description = "Maximum number of entries.", DefaultValueFactory = _ => 100 };
        var command = new Command("uses", "List the scripts that were sent to machines, newest first") { machine, hash, script, limit };
        command.Asks(
            (parsed, client, stop) =>
                client.ScriptUsesAsync(
                    parsed.GetValue(machine),
                    parsed.GetValue(hash),
                    parsed.GetValue(script),
                    parsed.GetValue(limit),
                    stop
                ),
            (page, screen) =>
            {
                screen.Table(
                    ["machine", "script", "SHA-256?", "as", "for", "last?", "#times", "order?"],
                    page.Items.Select(u =>
                        new[]
                        {
                            u.Machine,
                            $"{u.Product}/{u.Script}",
                            u.Hash[..ShownOfHash],
                            u.Purpose,
                            u.For,
                            Screen.Time(u.Last),
                            $"{u.Times}",
                            u.LastOrder,
                        }
                    )
                );
                screen.Hint($"{page.Items.Count} of {page.Total}");
            }
        );
        return command;
    }
}
