using System.Security.Claims;
using GrandStair.Contracts;
using GrandStair.Core.Access;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Access;

namespace GrandStair.Service.Accounts;

/// <summary>Accounts: who may what, and where.</summary>
internal static class AccountEndpoints
{
    public static void MapAccounts(this RouteGroupBuilder api)
    {
        api.MapGet("/accounts", async (AccountTable accounts, CancellationToken stop) =>
                (await accounts.AllAsync(stop)).Select(Show).ToArray()
            )
            .WithName("ListAccounts");
        api.MapPost("/accounts", AddAsync).WithName("AddAccount").ProducesProblem(409);
        api.MapPut("/accounts/{name}", ChangeAsync).WithName("ChangeAccount").ProducesProblem(404).ProducesProblem(409);
        api.MapPut("/accounts/{name}/password", SetPasswordAsync)
            .WithName("SetPassword")
            .Produces(204)
            .ProducesProblem(404)
            .ProducesProblem(409);
        api.MapPost("/accounts/{name}/end", EndAsync).WithName("EndAccount").Produces(204).ProducesProblem(404).ProducesProblem(409);
    }

    /// <summary>Roles and sites as the API takes them.</summary>
    /// <exception cref="RefusedException">One is none.</exception>
    public static (Roles Roles, SiteScope Sites) Scope(IEnumerable<string> roles, IEnumerable<string> sites)
    {
        try
        {
            return (RoleNames.Parse(roles), SiteScope.Of(sites));
        }
        catch (FormatException error)
        {
            throw RefusedException.Invalid("scope", error.Message);
        }
    }

    private static AccountView Show(StoredAccount a) =>
        new(
            a.Name,
            a.Kind.ToString().ToLowerInvariant(),
            a.Roles.Names(),
            a.Sites.Names,
            a.Provider,
            a.HasPassword,
            a.PasswordChanged,
            a.Created,
            a.CreatedBy,
            a.LastUsed,
            a.Ended
        );

    private static async Task<AccountView> AddAsync(
        AccountCommand command,
        AccountTable accounts,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var name = Account.Name(command.Name);
        var (roles, sites) = Scope(command.Roles, command.Sites);
        await accounts.PutAsync(
            new(name, RequestFields.Word<AccountKind>("kind", command.Kind), roles, sites, null, false, null, default, "", null, null),
            isNew: true,
            caller.Actor(),
            RequestFields.Reason(command.Reason),
            clock.GetUtcNow(),
            stop
        );
        return Show((await accounts.FindAsync(name, stop))!);
    }

    private static async Task<AccountView> ChangeAsync(
        string name,
        AccountChange change,
        AccountTable accounts,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var account = await FindAsync(name, accounts, stop);
        if (account.Provider is { } provider)
            throw RefusedException.Conflict(
                "of-provider",
                $"What '{account.Name}' may is said by {provider} at each sign-in, and by the mapping of its claims."
            );
        var (roles, sites) = Scope(change.Roles, change.Sites);
        if (!(roles.HasFlag(Roles.Admin) && sites.IsAll))
            await KeepAnAdminAsync(account.Name, accounts, stop);
        await accounts.PutAsync(
            account with
            {
                Roles = roles,
                Sites = sites,
            },
            isNew: false,
            caller.Actor(),
            RequestFields.Reason(change.Reason),
            clock.GetUtcNow(),
            stop
        );
        return Show((await accounts.FindAsync(account.Name, stop))!);
    }

    private static async Task<IResult> SetPasswordAsync(
        string name,
        PasswordCommand command,
        AccountTable accounts,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var account = await FindAsync(name, accounts, stop);
        if (account.Kind != AccountKind.Person)
            throw RefusedException.Invalid("program", $"'{account.Name}' is a program's account; programs have tokens and no password.");
        if (account.Provider is { } provider)
            throw RefusedException.Conflict("of-provider", $"'{account.Name}' signs in by {provider} and has no password here.");
        await accounts.SetPasswordAsync(
            account.Name,
            Passwords.Hash(account.Name, command.Password),
            account.Name == caller.Actor().Name ? caller.Session() : null,
            caller.Actor(),
            clock.GetUtcNow(),
            stop
        );
        return Results.NoContent();
    }

    private static async Task<IResult> EndAsync(
        string name,
        Because because,
        AccountTable accounts,
        DomainClock clock,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var account = await FindAsync(name, accounts, stop);
        await KeepAnAdminAsync(account.Name, accounts, stop);
        await accounts.EndAsync(account.Name, caller.Actor(), RequestFields.Reason(because.Reason), clock.GetUtcNow(), stop);
        return Results.NoContent();
    }

    private static async Task<StoredAccount> FindAsync(string name, AccountTable accounts, CancellationToken stop)
    {
        // The name of an account that a provider vouches for has a slash in it.
        if (await accounts.FindAsync(Uri.UnescapeDataString(name).ToLowerInvariant(), stop) is { Ended: null } account)
            return account;
        var names = (await accounts.AllAsync(stop)).Where(a => a.Ended is null).Select(a => a.Name);
        var end = Core.Readings.Spelling.DidYouMean(name, names, ". 'gstair account list' shows those that there are.");
        throw RefusedException.Unknown("unknown-account", $"There is no account '{name}'{end}");
    }

    /// <summary>Ensures that an account remains that can manage accounts.</summary>
    private static async Task KeepAnAdminAsync(string but, AccountTable accounts, CancellationToken stop)
    {
        if (!(await accounts.AllAsync(stop)).Any(a => a.Name != but && a.Ended is null && a.Roles.HasFlag(Roles.Admin) && a.Sites.IsAll))
            throw RefusedException.Conflict(
                "last-admin",
                $"'{but}' is the last admin for all sites; without one, accounts could not be managed. Create another one first."
            );
    }
}
