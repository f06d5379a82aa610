using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.Accounts;

internal static class AccountCommands
{
    private static readonly Argument<string> Name = new("account") { Description = "The account's name." };
    private static readonly Option<string[]> Roles = new("--role")
    {
        Description = "Role: reader, auditor, planner, approver, operator or admin; repeat for several.",
        Required = true,
    };
    private static readonly Option<string[]> Sites = new("--site")
    {
        Description = "Site that the account may see; repeat for several, '*' for all sites.",
        Required = true,
    };
    private static readonly Option<string> Reason = new("--reason")
    {
        Description = "Reason, recorded in the audit log with your name.",
        Required = true,
    };

    public static Command Make() => new("account", "Accounts, roles and sites") { List(), Add(), Change(), Password(), End() };

    private static Command List()
    {
        var command = new Command("list", "List all accounts with their roles and sites");
        command.Asks(
            (_, client, stop) => client.AccountsAsync(stop),
            (accounts, screen) =>
                screen.Table(
                    ["account", "kind", "roles", "sites", "signs in by?", "last used?", "state"],
                    accounts.Select(a =>
                        new[]
                        {
                            a.Name,
                            a.Kind,
                            string.Join(", ", a.Roles),
                            Where(a.Sites),
                            a.Provider ?? (a.HasPassword ? "password" : "token"),
                            Screen.Time(a.LastUsed),
                            a.Ended is null ? "active" : "ended",
                        }
                    )
                )
        );
        return command;
    }

    private static Command Add()
    {
        var program = new Option<bool>("--program") { Description = "A service account: it has tokens and cannot sign in to the console." };
        var command = new Command("add", "Create an account; then give it a password or a token") { Name, Roles, Sites, program, Reason };
        command.Asks(
            (parsed, client, stop) =>
                client.AddAccountAsync(
                    new(
                        parsed.GetValue(Name)!,
                        parsed.GetValue(program) ? "program" : "person",
                        parsed.GetValue(Roles)!,
                        parsed.GetValue(Sites)!,
                        parsed.GetValue(Reason)!
                    ),
                    stop
                ),
            Print
        );
        return command;
    }

    private static Command Change()
    {
        var command = new Command("change", "Change an account's roles and sites; its sessions and tokens are limited to them at once")
        {
            Name,
            Roles,
            Sites,
            Reason,
        };
        command.Asks(
            (parsed, client, stop) =>
                client.ChangeAccountAsync(
                    parsed.GetValue(Name)!,
                    new(parsed.GetValue(Roles)!, parsed.GetValue(Sites)!, parsed.GetValue(Reason)!),
                    stop
                ),
            Print
        );
        return command;
    }

    private static Command Password()
    {
        var command = new Command("password", "Set an account's password, prompted for or read from standard input; its other sessions end")
        {
            Name,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var name = parsed.GetValue(Name)!;
                await client.SetPasswordAsync(name, Hidden.Read($"New password of {name}: "), stop);
                screen.Say($"The password of **{name}** is set; its other sessions have ended.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command End()
    {
        var command = new Command("end", "Disable an account and end all its sessions and tokens") { Name, Reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.EndAccountAsync(parsed.GetValue(Name)!, parsed.GetValue(Reason)!, stop);
                screen.Say($"Account **{parsed.GetValue(Name)}** has ended.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    /// <summary>Sites as people read them.</summary>
    public static string Where(IReadOnlyList<string> sites) => sites is ["*"] ? "all sites" : string.Join(", ", sites);

    private static void Print(AccountView account, Screen screen) =>
        screen.Say($"**{account.Name}** ({account.Kind}) has the roles **{string.Join(", ", account.Roles)}** for {Where(account.Sites)}");
}
