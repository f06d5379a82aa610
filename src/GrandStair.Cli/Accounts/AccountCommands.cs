using System.CommandLine;
using GrandStair.Contracts;

namespace GrandStair.Cli.Accounts;

internal static class AccountCommands
{
    private static readonly Argument<string> Name = new("account") { Description = "The account's name." };
    private static readonly Option<string[]> Roles = new("--role") { Description = "What it may do, once for each: reader, auditor, planner, approver, operator, admin.", Required = true };
    private static readonly Option<string[]> Sites = new("--site") { Description = "What it may see, once for each site; '*' for all of them.", Required = true };
    private static readonly Option<string> Reason = new("--reason") { Description = "Why; kept with your name.", Required = true };

    public static Command Make() => new("account", "Who may what, and where") { List(), Add(), Change(), Password(), End() };

    private static Command List()
    {
        var command = new Command("list", "Show all accounts with their roles and sites");
        command.Asks(
            (_, client, stop) => client.AccountsAsync(stop),
            (accounts, screen) => screen.Table(
                ["account", "kind", "roles", "sites", "signs in by", "last used", "state"],
                accounts.Select(a => new[] { a.Name, a.Kind, string.Join(", ", a.Roles), Where(a.Sites), a.Provider ?? (a.HasPassword ? "password" : "token"), Screen.Time(a.LastUsed), a.Ended is null ? "stands" : "ended" })));
        return command;
    }

    private static Command Add()
    {
        var program = new Option<bool>("--program") { Description = "It is a program's: it has tokens, and never signs in to the console." };
        var command = new Command("add", "Make an account; give it a password or a token then") { Name, Roles, Sites, program, Reason };
        command.Asks(
            (parsed, client, stop) => client.AddAccountAsync(
                new(parsed.GetValue(Name)!, parsed.GetValue(program) ? "program" : "person", parsed.GetValue(Roles)!, parsed.GetValue(Sites)!, parsed.GetValue(Reason)!), stop),
            Print);
        return command;
    }

    private static Command Change()
    {
        var command = new Command("change", "Say anew what an account may do and see; its sessions and tokens may no more than that at once") { Name, Roles, Sites, Reason };
        command.Asks((parsed, client, stop) => client.ChangeAccountAsync(parsed.GetValue(Name)!, new(parsed.GetValue(Roles)!, parsed.GetValue(Sites)!, parsed.GetValue(Reason)!), stop), Print);
        return command;
    }

    private static Command Password()
    {
        var command = new Command("password", "Set an account's password, read from the terminal or from standard input; its other sessions end") { Name };
        command.Calls(async (parsed, client, screen, stop) =>
        {
            var name = parsed.GetValue(Name)!;
            await client.SetPasswordAsync(name, Hidden.Read($"New password of {name}: "), stop);
            screen.Say($"The password of **{name}** is set; its other sessions have ended.");
            return ExitStatus.Done;
        });
        return command;
    }

    private static Command End()
    {
        var command = new Command("end", "End an account with all its sessions and tokens, at once") { Name, Reason };
        command.Calls(async (parsed, client, screen, stop) =>
        {
            await client.EndAccountAsync(parsed.GetValue(Name)!, parsed.GetValue(Reason)!, stop);
            screen.Say($"Account **{parsed.GetValue(Name)}** has ended.");
            return ExitStatus.Done;
        });
        return command;
    }

    /// <summary>Sites as people read them.</summary>
    public static string Where(IReadOnlyList<string> sites) => sites is ["*"] ? "all sites" : string.Join(", ", sites);

    private static void Print(AccountView account, Screen screen) =>
        screen.Say($"**{account.Name}** ({account.Kind}) has the roles **{string.Join(", ", account.Roles)}** for {Where(account.Sites)}");
}
