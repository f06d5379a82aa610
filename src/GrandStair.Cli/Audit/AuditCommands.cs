using System.CommandLine;
using System.Globalization;
using GrandStair.Contracts;
using GrandStair.Core.Audit;
using GrandStair.Core.Readings;
using GrandStair.Files.Audit;

namespace GrandStair.Cli.Audit;

internal static class AuditCommands
{
    private const int ShownOfText = 60;

    public static Command Make() => new("audit", "Audit log: list, export, verify") { List(), Export(), Verify() };

    private static Command List()
    {
        var actor = new Option<string?>("--actor") { Description = "Only commands of this account." };
        var what = new Option<string?>("--command")
        {
            Description = "Only this command, such as 'plan start'; a single word matches all commands that begin with it.",
        };
        var subject = new Option<string?>("--subject") { Description = "Only commands on this object, such as a plan's name or r118." };
        var machine = new Option<string?>("--machine") { Description = "Only commands about this machine." };
        var since = new Option<string?>("--since") { Description = "From this time on, such as 2027-01-11T08:00:00Z." };
        var until = new Option<string?>("--until") { Description = "Up to this time." };
        var limit = new Option<int>("--limit") { Description = "Maximum number of entries.", DefaultValueFactory = _ => 50 };
        var command = new Command("list", "List audit entries, newest first") { actor, what, subject, machine, since, until, limit };
        command.Asks(
            (parsed, client, stop) =>
                client.AuditAsync(
                    parsed.GetValue(actor),
                    parsed.GetValue(what),
                    parsed.GetValue(subject),
                    parsed.GetValue(machine),
                    parsed.GetValue(since),
                    parsed.GetValue(until),
                    parsed.GetValue(limit),
                    stop
                ),
            (page, screen) =>
            {
                screen.Table(
                    ["#entry", "at", "who", "from?", "command", "to", "before?", "after?", "why"],
                    page.Items.Select(e =>
                        new[]
                        {
                            $"{e.Number}",
                            Screen.Time(e.At),
                            e.Actor,
                            e.From,
                            e.Command,
                            Subject(e),
                            Short(e.Before),
                            Short(e.After),
                            Short(e.Reason),
                        }
                    )
                );
                screen.Hint($"{page.Items.Count} of {page.Total}; --json shows all of each");
            }
        );
        return command;
    }

    private static Command Export()
    {
        var file = new Option<string?>("--out") { Description = "The file to write (default: standard output)." };
        var command = new Command("export", "Write the sealed audit log as JSON Lines, for 'gstair audit verify FILE' on any computer")
        {
            file,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await using var export = await client.ExportAuditAsync(stop);
                await Caller.WriteAsync(export, parsed.GetValue(file), screen, stop);
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Verify()
    {
        var file = new Argument<string?>("file")
        {
            Arity = ArgumentArity.ZeroOrOne,
            Description = "An exported audit log, verified without the service. Without a file, the service verifies its own.",
        };
        var entry = new Option<string?>("--entry")
        {
            Description = "An entry known from elsewhere, as NUMBER:HASH; it must be present and unchanged.",
        };
        var key = new Option<string?>("--key")
        {
            Description = "SHA-256 of the public key that must have signed the seals, as an earlier verification showed it.",
        };
        var anchors = new Option<string?>("--anchors")
        {
            Description =
                "A file of heads that --audit-anchor wrote outside the service, as JSON or syslog lines; each must match the export.",
        };
        var command = new Command("verify", "Verify that no entry was changed, removed, added or reordered") { file, entry, key, anchors };
        command.SetAction(
            async (parsed, stop) =>
            {
                var screen = new Screen();
                return await Caller.ProtectAsync(parsed, async () =>
                {
                    var known = Known(parsed.GetValue(entry));
                    AuditExportVerdict verdict;
                    if (parsed.GetValue(file) is { } name)
                    {
                        using var reader = new StreamReader(name);
                        var heads = Anchored(parsed.GetValue(anchors));
                        verdict = AuditExport.Verify(
                            reader,
                            name,
                            [.. heads.Select(h => (h.Number, h.Hash)), .. known is { } one ? [one] : Array.Empty<(long, string)>()]
                        );
                        if (heads.FirstOrDefault(h => h.Key != verdict.Key) is { } foreign)
                            verdict = verdict with
                            {
                                Faults =
                                [
                                    new(foreign.Number, $"the anchored head is of another key ({foreign.Key}) than the export"),
                                    .. verdict.Faults,
                                ],
                            };
                    }
                    else
                    {
                        if (known is not null || parsed.GetValue(anchors) is not null)
                            throw new IOException("--entry and --anchors are for an export; give its FILE too.");
                        using var client = await Caller.ConnectAsync(parsed, stop);
                        var told = await client.VerifyAuditAsync(stop);
                        verdict = new(
                            told.Entries,
                            told.Seals,
                            told.Head,
                            told.Key,
                            [.. told.Faults.Select(f => new AuditFault(f.Number, f.What))]
                        );
                    }

                    return Tell(parsed, verdict, parsed.GetValue(key), screen);
                });
            }
        );
        return command;
    }

    private static IReadOnlyList<AuditSeal> Anchored(string? file)
    {
        if (file is null)
            return [];
        using var reader = new StreamReader(file);
        return AuditAnchorLines.Read(reader, file);
    }

    private static int Tell(ParseResult parsed, AuditExportVerdict verdict, string? wanted, Screen screen)
    {
        var (entries, _, head, key, faults) = verdict;
        AuditFault[] all =
            wanted is null || wanted == key
                ? [.. faults]
                : [new(0, $"the seals are checked by another key ({key}) than the one that was expected"), .. faults];
        if (
            !Caller.PrintedAsJson(
                parsed,
                new
                {
                    entries,
                    head,
                    key,
                    faults = all,
                }
            )
        )
        {
            foreach (var (number, what) in all)
                screen.Say($"  **#{number}** {what}");
            screen.Say(
                all.Length == 0
                    ? $"**{entries}** entries, every one as it was sealed."
                    : $"**{all.Length}** {(all.Length == 1 ? "place is" : "places are")} not as sealed, of {entries} entries."
            );
            screen.Hint($"head {entries}:{head}");
            screen.Hint($"key {key}");
        }

        return all.Length == 0 ? ExitStatus.Done : ExitStatus.NotPossible;
    }

    private static (long, string)? Known(string? text)
    {
        if (text is null)
            return null;
        return
            text.Split(':') is [var number, { Length: 64 } hash]
            && long.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var parsed)
            ? (parsed, hash)
            : throw new IOException($"'{text}' is no entry; expected NUMBER:HASH as 'audit verify' shows its head.");
    }

    /// <summary>What a command was given to: a machine by its name, and what of it.</summary>
    private static string Subject(AuditView e) =>
        e.Machine is not { } machine ? e.Subject
        : e.Subject.StartsWith('m') && e.Subject.Skip(1).All(char.IsAsciiDigit) ? machine
        : $"{e.Subject} on {machine}";

    private static string Short(string? text) => PlainText.Shorten(text?.ReplaceLineEndings(" ") ?? "", ShownOfText);
}
