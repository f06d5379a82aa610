using System.CommandLine;

namespace GrandStair.Cli.ShareLinks;

/// <summary>Share links at which people without an account find a plan's slots.</summary>
internal static class ShareLinkCommands
{
    private static readonly Argument<string> Plan = new("plan") { Description = "The plan's name." };

    public static Command Make() =>
        new("share", "Share links: a plan's slots for those who have no account, as a calendar that stays up to date and as a page")
        {
            List(),
            New(),
            End(),
        };

    private static Command List()
    {
        var command = new Command("list", "List a plan's share links; the secret part of a link is not stored") { Plan };
        command.Asks(
            (parsed, client, stop) => client.ShareLinksAsync(parsed.GetValue(Plan)!, stop),
            (rows, screen) =>
                screen.Table(
                    ["id", "of", "state", "made", "by", "last opened"],
                    rows.Select(r =>
                        new[]
                        {
                            r.Id,
                            $"{Screen.Word(r.Kind)} {r.Of}".TrimEnd(),
                            r.State,
                            Screen.Time(r.Made),
                            r.MadeBy,
                            r.LastUsed is { } used ? Screen.Time(used) : "never",
                        }
                    )
                )
        );
        return command;
    }

    private static Command New()
    {
        var kind = new Argument<string>("kind") { Description = "plan, wave, site, crew or owner." };
        kind.AcceptOnlyFromAmong("plan", "wave", "site", "crew", "owner");
        var of = new Argument<string?>("of")
        {
            Description = "Name of the wave, site, crew or owner; not needed for a whole plan.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var command = new Command(
            "create",
            "Create a share link. Whoever has it sees those slots, and an owner can choose times if the plan allows it"
        )
        {
            Plan,
            kind,
            of,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var made = await client.MakeShareLinkAsync(parsed.GetValue(Plan)!, new(parsed.GetValue(kind)!, parsed.GetValue(of)), stop);
                if (Caller.PrintedAsJson(parsed, made))
                    return ExitStatus.Done;
                screen.Say(
                    $"Share link **{made.Link.Id}** is ready. Keep it secret: it is shown only once, and anyone who has it can see "
                        + $"these slots."
                );
                screen.Say($"  calendar  {new Uri(client.Service, made.Calendar)}");
                screen.Say($"  page      {new Uri(client.Service, made.Page)}");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command End()
    {
        var id = new Argument<string>("id") { Description = "Id of the share link, such as a3." };
        var reason = new Option<string>("--reason") { Description = "Reason, recorded in the audit log with your name.", Required = true };
        var command = new Command("revoke", "Revoke a share link") { Plan, id, reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.EndShareLinkAsync(parsed.GetValue(Plan)!, parsed.GetValue(id)!, parsed.GetValue(reason)!, stop);
                screen.Say($"Share link **{parsed.GetValue(id)}** no longer works.");
                return ExitStatus.Done;
            }
        );
        return command;
    }
}
