using System.CommandLine;
using GrandStair.Client;
using GrandStair.Contracts;

namespace GrandStair.Cli.HostKeys;

internal static class HostKeyCommands
{
    private static readonly Argument<string> File = new("file") { Description = "A known_hosts file; - is standard input." };
    private static readonly Option<string> Reason = new("--reason")
    {
        Description = "Reason, recorded in the audit log with your name.",
        Required = true,
    };

    public static Command Make() =>
        new("host-key", "SSH host keys ('machine pin' replaces one)") { List(), Compare(), Import(), FirstUse() };

    private static Command List()
    {
        var filter = new Argument<string?>("condition")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "Only machines that match this condition.",
        };
        var from = new Option<string?>("--from")
        {
            Description = "Only keys from this source: import, known-hosts, person, first-use; or none.",
        };
        var command = new Command("list", "List the pinned SSH host keys, and where each came from") { filter, from };
        command.Asks(
            (parsed, client, stop) => client.HostKeysAsync(parsed.GetValue(filter), parsed.GetValue(from), int.MaxValue, stop),
            (page, screen) =>
            {
                screen.Table(
                    ["machine", "site", "at", "host key", "pinned by"],
                    page.Items.Select(k =>
                        new[]
                        {
                            k.Machine,
                            k.Site,
                            $"{k.Address}:{k.Port}",
                            k.HostKey ?? "none: nothing is sent",
                            k.From == "first-use" ? "first use, not compared" : k.From,
                        }
                    )
                );
                screen.Hint($"{page.Total} machines");
            }
        );
        return command;
    }

    private static Command Compare()
    {
        var command = new Command("compare", "Compare a known_hosts file with the pinned keys, without changing them") { File };
        command.Calls((parsed, client, screen, stop) => SendAsync(parsed, client, screen, dry: true, null, stop));
        return command;
    }

    private static Command Import()
    {
        var command = new Command("import", "Pin the keys of a known_hosts file for machines that have none; a pinned key is not changed")
        {
            File,
            Reason,
        };
        command.Calls((parsed, client, screen, stop) => SendAsync(parsed, client, screen, dry: false, parsed.GetValue(Reason), stop));
        return command;
    }

    private static Command FirstUse()
    {
        var site = new Argument<string?>("site")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "The site; without one, the sites that trust a first key are listed.",
        };
        var end = new Option<bool>("--end") { Description = "No longer trust the first key at this site." };
        var reason = new Option<string?>("--reason") { Description = "Reason, recorded in the audit log with your name." };
        var command = new Command(
            "first-use",
            "Trust the first host key that a machine at this site presents; elsewhere nothing is sent to a machine without a pinned key"
        )
        {
            site,
            end,
            reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                if (parsed.GetValue(site) is { } name)
                {
                    await client.TrustFirstUseAsync(name, !parsed.GetValue(end), parsed.GetValue(reason) ?? "", stop);
                    screen.Say($"First use is {(parsed.GetValue(end) ? "**no longer** trusted" : "**trusted**")} at {name}.");
                    return ExitStatus.Done;
                }

                var sites = await client.FirstUseAsync(stop);
                if (!Caller.PrintedAsJson(parsed, sites))
                    screen.Table(["site", "since", "by", "why"], sites.Select(s => new[] { s.Site, Screen.Time(s.Since), s.By, s.Reason }));
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static async Task<int> SendAsync(
        ParseResult parsed,
        GrandStairClient client,
        Screen screen,
        bool dry,
        string? reason,
        CancellationToken stop
    )
    {
        var file = parsed.GetValue(File)!;
        await using var content = file == "-" ? Console.OpenStandardInput() : System.IO.File.OpenRead(file);
        var lines = await client.KnownHostsAsync(content, dry, reason, stop);
        if (!Caller.PrintedAsJson(parsed, lines))
        {
            screen.Table(
                ["#line", "machine", "outcome", "the file says", "pinned"],
                lines.Select(l => new[] { $"{l.Line}", l.Machine, Told(l, dry), l.Said, l.Pinned })
            );
            if (lines.Count(l => l.Outcome == "differs") is > 0 and var differing)
                screen.Say(
                    $"**{differing}** differ. If a machine was reinstalled on purpose: gstair machine pin MACHINE --key … --reason …"
                );
        }

        return lines.Any(l => l.Outcome is "differs" or "not-understood") ? ExitStatus.LinesLeftOut : ExitStatus.Done;
    }

    private static string Told(KnownHostView line, bool dry) =>
        line.Outcome == "pinned" && dry ? "would be pinned" : Screen.Word(line.Outcome);
}
