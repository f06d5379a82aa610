using System.Data.Common;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Audit;
using GrandStair.Core.Outcomes;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using Xunit;

namespace GrandStair.Storage.Tests;

/// <summary>What the store has to keep of who may and who did.</summary>
public abstract partial class StoreTests
{
    private static readonly Actor Admin = new("admin", "127.0.0.1 by token t1");

    private AccountTable Accounts => new(Database);

    private AccessTable Access => new(Database);

    private AuditTable Audit => new(Database);

    [Fact]
    public async Task An_account_is_made_changed_and_ended_and_ends_with_all_that_it_has()
    {
        await AddAsync("deck-it", Roles.Reader | Roles.Operator, "Eastness");
        Assert.Equal("account-exists", (await Assert.ThrowsAsync<StoreException>(() => AddAsync("deck-it", Roles.Reader, "*"))).Name);
        var token = await TokenAsync("deck-it", RoleNames.Every, SiteScope.All);
        await Accounts.PutAsync((await Accounts.FindAsync("deck-it", Stop))! with { Roles = Roles.Reader, Sites = SiteScope.Of(["Holm Pier"]) }, isNew: false, Admin, "moved", Now, Stop);
        var known = (await Access.OfTokenAsync(token, Now, Stop))!;
        Assert.Equal((Roles.Reader, "Holm Pier", AccountKind.Person), (known.Roles, known.Sites.ToString(), known.Kind));
        Assert.True(await Accounts.EndAsync("deck-it", Admin, "left", Now, Stop));
        Assert.False(await Accounts.EndAsync("deck-it", Admin, "left", Now, Stop));
        Assert.Null(await Access.OfTokenAsync(token, Now, Stop));
        var told = (await Audit.AfterAsync(0, 100, Stop)).Select(e => (e.Entry.Command, e.Entry.Before, e.Entry.After)).ToArray();
        Assert.Equal(("account change", "person, reader, operator; sites Eastness", "person, reader; sites Holm Pier"), told[2]);
        Assert.Equal(("account end", "ended"), (told[3].Command, told[3].After));
    }

    [Fact]
    public async Task A_token_may_no_more_than_it_was_given_and_ends_by_itself_or_by_command()
    {
        await AddAsync("planner", Roles.Planner | Roles.Reader, "*");
        var narrow = await TokenAsync("planner", Roles.Reader | Roles.Admin, SiteScope.Of(["Westhaven"]));
        var known = (await Access.OfTokenAsync(narrow, Now, Stop))!;
        Assert.Equal((Roles.Reader, "Westhaven"), (known.Roles, known.Sites.ToString()));
        Assert.Null(await Access.OfTokenAsync(narrow, Now.AddDays(1), Stop));
        Assert.Null(await Access.OfTokenAsync(narrow[1..], Now, Stop));
        await Access.TokenUsedAsync(known.Id, "127.0.0.1", Now, Stop);
        Assert.Equal((Now, "127.0.0.1"), ((await Access.TokensAsync("planner", Stop)).Single().LastUsed, (await Access.TokensAsync(null, Stop)).Single().LastFrom));
        Assert.False(await Access.EndTokenAsync(known.Id, "another", Admin, "x", Now, Stop));
        Assert.True(await Access.EndTokenAsync(known.Id, "planner", Admin, "lost", Now, Stop));
        Assert.Null(await Access.OfTokenAsync(narrow, Now, Stop));
    }

    [Fact]
    public async Task A_link_logs_in_once_and_a_new_session_takes_the_place_of_the_one_before()
    {
        await AddAsync("planner", Roles.Reader, "*");
        await Access.AddLoginLinkAsync("secret", "planner", Now.AddHours(1), Stop);
        Assert.Null(await Access.UseLoginLinkAsync("secret", Now.AddHours(2), Stop));
        Assert.Equal("planner", await Access.UseLoginLinkAsync("secret", Now, Stop));
        Assert.Null(await Access.UseLoginLinkAsync("secret", Now, Stop));
        var first = await SessionAsync(null);
        Assert.Equal("planner", (await Access.OfSessionAsync(first, Now, Stop))!.Account);
        Assert.Null(await Access.OfSessionAsync(first, Now.AddHours(1), Stop));
        var second = await SessionAsync(first);
        Assert.Null(await Access.OfSessionAsync(first, Now, Stop));
        var other = await SessionAsync(null);
        await Accounts.SetPasswordAsync("planner", "hash", (await Access.OfSessionAsync(second, Now, Stop))!.Id, Admin, Now, Stop);
        Assert.NotNull(await Access.OfSessionAsync(second, Now, Stop));
        Assert.Null(await Access.OfSessionAsync(other, Now, Stop));
        Assert.True(await Access.EndSessionAsync(Assert.Single(await Access.SessionsAsync("planner", Now, Stop)).Id, null, Admin, Now, Stop));
        Assert.Null(await Access.OfSessionAsync(second, Now, Stop));
    }

    [Fact]
    public async Task Wrong_passwords_are_slowed_down_by_name_also_side_by_side_and_the_right_one_clears_them()
    {
        for (var i = 0; i < SignInDelay.Forgiven; i++) Assert.Null(await Accounts.TryAsync("nobody", Now, Stop));
        Assert.Null(await Accounts.TryAsync("nobody", Now, Stop));
        Assert.Equal(Now.AddSeconds(2), await Accounts.TryAsync("nobody", Now, Stop));
        Assert.Null(await Accounts.TryAsync("nobody", Now.AddSeconds(2), Stop));
        Assert.Equal(Now.AddSeconds(6), await Accounts.TryAsync("nobody", Now.AddSeconds(3), Stop));
        await AddAsync("planner", Roles.Reader, "*");
        var together = await Task.WhenAll(Enumerable.Range(0, 20).Select(_ => Accounts.TryAsync("planner", Now, Stop)));
        Assert.True(together.Count(t => t is null) <= SignInDelay.Forgiven + 1, $"{together.Count(t => t is null)} tries at once");
        await Accounts.SignedInAsync("planner", Now, Stop);
        Assert.Null(await Accounts.TryAsync("planner", Now, Stop));
    }

    [Fact]
    public async Task No_secret_is_kept_as_it_is()
    {
        await AddAsync("planner", Roles.Reader, "*");
        var token = await TokenAsync("planner", Roles.Reader, SiteScope.All);
        var session = await SessionAsync(null);
        await Access.AddLoginLinkAsync("the-link-itself", "planner", Now.AddHours(1), Stop);
        foreach (var table in new[] { "tokens", "sessions", "login_links", "accounts", "audit" })
        {
            var rows = await Database.ReadAsync(async c => string.Join('\n', (await c.QueryAsync($"SELECT * FROM {table}")).Select(r => string.Join('|', ((IDictionary<string, object>)r).Values))), Stop);
            Assert.DoesNotContain(token, rows, StringComparison.Ordinal);
            Assert.DoesNotContain(session, rows, StringComparison.Ordinal);
            Assert.DoesNotContain("the-link-itself", rows, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task An_untouched_audit_is_whole_and_any_tampering_is_found_and_located()
    {
        await PlanAsync("desk-1");
        for (var i = 0; i < 8; i++) await Plans.PutStateAsync(Plan, PlanState.Started, i % 2 == 0 ? "storm" : null, "hold", new("planner"), Now.AddMinutes(i), Stop);
        Assert.Null((await Audit.AfterAsync(0, 1, Stop))[0].Hash);
        Assert.NotNull(await Audit.SealAsync(Sign, Stop));
        Assert.Null(await Audit.SealAsync(Sign, Stop));
        await Plans.PutStateAsync(Plan, PlanState.Started, null, "go-on", new("planner"), Now, Stop);
        Assert.NotNull(await Audit.SealAsync(Sign, Stop));
        Assert.Empty(await CheckAsync());

        // What the store itself does not do for anybody, even by mistake.
        await Assert.ThrowsAnyAsync<DbException>(() => WriteAsync("DELETE FROM audit WHERE number = 3"));
        await Assert.ThrowsAnyAsync<DbException>(() => WriteAsync("UPDATE audit SET detail = 'calm' WHERE number = 3"));
        await TakeGuardsAwayAsync();
        foreach (var field in new[] { "actor = 'somebody'", "at = at + 1", "from_where = 'home'", "command = 'plan look'", "subject = 'x'", "machine_id = 77", "value_before = 'y'", "value_after = NULL", "detail = 'calm'" })
        {
            var faults = await TamperAsync($"UPDATE audit SET {field} WHERE number = 5");
            Assert.Contains(faults, f => f.Number == 5 && f.What.Contains("not what was sealed", StringComparison.Ordinal));
        }

        Assert.Contains(await TamperAsync("DELETE FROM audit WHERE number = 4"), f => f.Number == 4 && f.What.Contains("missing", StringComparison.Ordinal));
        Assert.Contains(await TamperAsync("DELETE FROM audit WHERE number = 11"), f => f.Number == 11 && f.What.Contains("the end is missing", StringComparison.Ordinal));
        Assert.Contains(await TamperAsync("UPDATE audit SET number = 99 WHERE number = 6; UPDATE audit SET number = 6 WHERE number = 7; UPDATE audit SET number = 7 WHERE number = 99"), f => f.Number is 6 or 7);
        // Somebody who knows how the chain is made makes it anew behind his change; the signed seals tell.
        Assert.Contains(await TamperAsync(async (c, t) =>
        {
            await c.ExecuteAsync("UPDATE audit SET detail = 'calm' WHERE number = 3", transaction: t);
            await c.ExecuteAsync("UPDATE audit SET hash = NULL WHERE number >= 3", transaction: t);
            var before = await c.ExecuteScalarAsync<string>("SELECT hash FROM audit WHERE number = 2", transaction: t);
            foreach (var row in (await c.QueryAsync("SELECT * FROM audit WHERE number >= 3 ORDER BY number", transaction: t)).AsList())
            {
                AuditEntry entry = new((long)row.number, Micros((long)row.at), (string)row.actor, (string)row.from_where, (string)row.command, (string)row.subject, (long?)row.machine_id, (string?)row.value_before, (string?)row.value_after, (string)row.detail);
                before = entry.Seal(before!);
                await c.ExecuteAsync("UPDATE audit SET hash = @before WHERE number = @Number", new { before, entry.Number }, t);
            }
        }), f => f.Number == 10 && f.What.Contains("sealed with another hash", StringComparison.Ordinal));
        Assert.Empty(await CheckAsync());
    }

    [Fact]
    public async Task The_audit_is_asked_by_who_what_and_which_machine_and_machines_elsewhere_are_left_out()
    {
        await PlanAsync("desk-1", "desk-2");
        var machines = (await Plans.MembersAsync(Plan, Stop)).Select(m => m.Machine).ToArray();
        foreach (var machine in machines) await Plans.ExcuseAsync(Plan, machine, Excuse.Retired, "sold", null, new("terminal-it"), Now, Stop);
        Task<int> Count(AuditQuestion question) => Audit.CountAsync(question, Stop);
        Assert.Equal((4, 2, 3, 1), (await Count(new()), await Count(new(Actor: "terminal-it")), await Count(new(Command: "plan")), await Count(new(Machine: machines[0]))));
        Assert.Equal((2, 0, 4), (await Count(new(Command: "plan excuse")), await Count(new(Since: Now.AddSeconds(1))), await Count(new(Until: Now.AddSeconds(1)))));
        var his = new AuditQuestion(Machines: new HashSet<Core.Readings.MachineId> { machines[1] });
        Assert.Equal(1, await Count(his));
        Assert.Equal(machines[1].Value, Assert.Single(await Audit.NewestAsync(his, null, 10, Stop)).Entry.Machine);
        Assert.Equal([2L, 1L], (await Audit.NewestAsync(new(), 3, 10, Stop)).Select(e => e.Entry.Number));
    }

    private static AuditSeal Sign(long number, string hash) => new(number, hash, "key", $"signed {number} {hash}");

    private static DateTimeOffset Micros(long micros) => DateTimeOffset.UnixEpoch.AddTicks(micros * TimeSpan.TicksPerMicrosecond);

    private Task AddAsync(string name, Roles roles, params string[] sites) =>
        Accounts.PutAsync(new(name, AccountKind.Person, roles, SiteScope.Of(sites), null, false, null, Now, "", null, null), isNew: true, Admin, "new here", Now, Stop);

    private async Task<string> TokenAsync(string account, Roles roles, SiteScope sites)
    {
        var secret = AccessTable.NewSecret();
        await Access.AddTokenAsync(secret, new(0, account, "a test", roles, sites, Now, "", Now.AddDays(1), null, null, null), Admin, Stop);
        return secret;
    }

    private Task<string> SessionAsync(string? before) =>
        Access.BeginSessionAsync(new(0, "planner", "password", RoleNames.Every, SiteScope.All, Now, Now.AddHours(1), Now, "127.0.0.1", "a browser"), before, new("planner"), Now, Stop);

    private Task<int> WriteAsync(string sql) => Database.WriteAsync((c, t) => c.ExecuteAsync(sql, transaction: t), Stop);

    private async Task<IReadOnlyList<AuditFault>> CheckAsync()
    {
        var check = new AuditCheck(await Audit.SealsAsync(Stop), s => s == Sign(s.Number, s.Hash));
        foreach (var entry in await Audit.AfterAsync(0, 1000, Stop)) check.Look(entry);
        return check.End();
    }

    private Task<IReadOnlyList<AuditFault>> TamperAsync(string sql) => TamperAsync((c, t) => c.ExecuteAsync(sql, transaction: t));

    /// <summary>Tampers, checks, and puts everything back as it was.</summary>
    private async Task<IReadOnlyList<AuditFault>> TamperAsync(Func<DbConnection, DbTransaction, Task> tamper)
    {
        await WriteAsync("DROP TABLE IF EXISTS kept");
        await WriteAsync("CREATE TABLE kept AS SELECT * FROM audit");
        await Database.WriteAsync(
            async (c, t) =>
            {
                await tamper(c, t);
                return 0;
            },
            Stop);
        var faults = await CheckAsync();
        await WriteAsync("DELETE FROM audit");
        await WriteAsync("INSERT INTO audit SELECT * FROM kept");
        return faults;
    }

    private Task TakeGuardsAwayAsync() => Database.WriteAsync(
        async (c, t) =>
        {
            foreach (var guard in new[] { "audit_not_deleted", "audit_not_changed" }) await c.ExecuteAsync($"DROP TRIGGER {guard}{DropOn}", transaction: t);
            return 0;
        },
        Stop);

    /// <summary>What this database wants to be told besides a trigger's name.</summary>
    protected abstract string DropOn { get; }
}
