using System.CommandLine;
using GrandStair.Cli.Accounts;

namespace GrandStair.Cli.Tokens;

internal static class TokenCommands
{
    public static Command Make() => new("token", "API tokens") { List(), Create(), End() };

    private static Command List()
    {
        var account = new Option<string?>("--account") { Description = "Only those of this account." };
        var command = new Command("list", "List your tokens (admins: all), newest first") { account };
        command.Asks(
            (parsed, client, stop) => client.TokensAsync(parsed.GetValue(account), stop),
            (tokens, screen) =>
                screen.Table(
                    ["token", "account", "for", "state", "roles", "sites", "ends", "made with?", "last used?", "from?"],
                    tokens.Select(t =>
                        new[]
                        {
                            t.Id,
                            t.Account,
                            t.Label,
                            Screen.Word(t.State),
                            string.Join(", ", t.Roles),
                            AccountCommands.Where(t.Sites),
                            t.Expires is null ? "never" : Screen.Time(t.Expires),
                            t.MadeWith ?? "-",
                            t.LastUsed is null ? "never" : Screen.Time(t.LastUsed),
                            t.LastFrom,
                        }
                    )
                )
        );
        return command;
    }

    private static Command Create()
    {
        var label = new Argument<string>("for") { Description = "What the token is for." };
        var days = new Option<int>("--days") { Description = "Days until it expires, 1 to 366.", DefaultValueFactory = _ => 90 };
        var account = new Option<string?>("--account") { Description = "Account that the token belongs to (default: yours)." };
        var roles = new Option<string[]>("--role")
        {
            Description = "Role of the token; repeat for several (default: all roles of the account).",
        };
        var sites = new Option<string[]>("--site")
        {
            Description = "Site that the token may see; repeat for several (default: all sites of the account).",
        };
        var command = new Command("create", "Create a token; it is shown only once") { label, days, account, roles, sites };
        command.Asks(
            (parsed, client, stop) =>
                client.CreateTokenAsync(
                    new(
                        parsed.GetValue(label)!,
                        parsed.GetValue(days),
                        parsed.GetValue(account),
                        parsed.GetValue(roles) is { Length: > 0 } r ? r : null,
                        parsed.GetValue(sites) is { Length: > 0 } s ? s : null
                    ),
                    stop
                ),
            (made, screen) =>
            {
                screen.Say(made.Secret);
                screen.Hint(
                    $"{made.Token.Id} of {made.Token.Account}: {string.Join(", ", made.Token.Roles)} for "
                        + $"{AccountCommands.Where(made.Token.Sites)}, until {Screen.Time(made.Token.Expires)} UTC. It is kept nowhere; "
                        + $"keep it where only its program can read it."
                );
            }
        );
        return command;
    }

    private static Command End()
    {
        var id = new Argument<string>("token") { Description = "Id of the token, such as t3." };
        var reason = new Option<string>("--reason") { Description = "Reason, recorded in the audit log with your name.", Required = true };
        var command = new Command("end", "Revoke a token, with all tokens and sessions created with it") { id, reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.EndTokenAsync(parsed.GetValue(id)!, parsed.GetValue(reason)!, stop);
                screen.Say($"Token **{parsed.GetValue(id)}** has ended.");
                return ExitStatus.Done;
            }
        );
        return command;
    }
}
