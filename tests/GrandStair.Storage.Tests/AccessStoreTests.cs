using System.Data.Common;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Audit;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Refusals;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
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
        Assert.Equal("account-exists", (await Assert.ThrowsAsync<RefusedException>(() => AddAsync("deck-it", Roles.Reader, "*"))).Name);
        var token = await TokenAsync("deck-it", RoleNames.Every, SiteScope.All);
        await Accounts.PutAsync(
            (await Accounts.FindAsync("deck-it", Stop))! with
            {
                Roles = Roles.Reader,
                Sites = SiteScope.Of(["Holm Pier"]),
            },
            isNew: false,
            Admin,
            "moved",
            Now,
            Stop
        );
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
        Assert.Equal(
            (Now, "127.0.0.1"),
            ((await Access.TokensAsync("planner", Stop)).Single().LastUsed, (await Access.TokensAsync(null, Stop)).Single().LastFrom)
        );
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
        Assert.True(
            await Access.EndSessionAsync(
                Assert.Single(await Access.SessionsAsync("planner", Now, Stop)).Id,
                null,
                revokes: true,
                Admin,
                Now,
                Stop
            )
        );
        Assert.Null(await Access.OfSessionAsync(second, Now, Stop));
    }

    [Fact]
    public async Task Wrong_passwords_are_slowed_down_by_name_also_side_by_side_and_the_right_one_clears_them()
    {
        for (var i = 0; i < SignInDelay.Forgiven; i++)
            Assert.Null(await Accounts.TryAsync("nobody", Now, Stop));
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
            var rows = await Database.ReadAsync(
                async c =>
                    string.Join(
                        '\n',
                        (await c.QueryAsync($"SELECT * FROM {table}")).Select(r =>
                            string.Join('|', ((IDictionary<string, object>)r).Values)
                        )
                    ),
                Stop
            );
            Assert.DoesNotContain(token, rows, StringComparison.Ordinal);
            Assert.DoesNotContain(session, rows, StringComparison.Ordinal);
            Assert.DoesNotContain("the-link-itself", rows, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task An_untouched_audit_is_whole_and_any_tampering_is_found_and_located()
    {
        await PlanAsync("desk-1");
        for (var i = 0; i < 8; i++)
            await Plans.PutStatusAsync(
                Plan,
                PlanStatus.Started,
                i % 2 == 0 ? "storm" : null,
                "hold",
                new("planner"),
                Now.AddMinutes(i),
                Stop
            );
        Assert.Null((await Audit.AfterAsync(0, 1, Stop))[0].Hash);
        var head = await Audit.SealAsync(null, Sign, IsSigned, Stop);
        Assert.NotNull(head);
        Assert.Null(await Audit.SealAsync(head, Sign, IsSigned, Stop));
        await Plans.PutStatusAsync(Plan, PlanStatus.Started, null, "go-on", new("planner"), Now, Stop);
        Assert.NotNull(await Audit.SealAsync(head, Sign, IsSigned, Stop));
        Assert.Empty(await CheckAsync());

        // What the store itself does not do for anybody, even by mistake.
        await Assert.ThrowsAnyAsync<DbException>(() => WriteAsync("DELETE FROM audit WHERE number = 3"));
        await Assert.ThrowsAnyAsync<DbException>(() => WriteAsync("UPDATE audit SET detail = 'calm' WHERE number = 3"));
        await RemoveProtectionAsync();
        foreach (
            var field in new[]
            {
                "actor = 'somebody'",
                "at = at + 1",
                "from_where = 'home'",
                "command = 'plan look'",
                "subject = 'x'",
                "machine_id = 77",
                "value_before = 'y'",
                "value_after = NULL",
                "detail = 'calm'",
            }
        )
        {
            var faults = await TamperAsync($"UPDATE audit SET {field} WHERE number = 5");
            Assert.Contains(faults, f => f.Number == 5 && f.What.Contains("not what was sealed", StringComparison.Ordinal));
        }

        Assert.Contains(await TamperAsync("DELETE FROM audit WHERE number = 4"), f =>
            f.Number == 4 && f.What.Contains("missing", StringComparison.Ordinal)
        );
        Assert.Contains(await TamperAsync("DELETE FROM audit WHERE number = 11"), f =>
            f.Number == 11 && f.What.Contains("the end is missing", StringComparison.Ordinal)
        );
        Assert.Contains(
            await TamperAsync(
                "UPDATE audit SET number = 99 WHERE number = 6; UPDATE audit SET number = 6 WHERE number = 7; UPDATE audit SET number "
                    + "= 7 WHERE number = 99"
            ),
            f => f.Number is 6 or 7
        );
        // Somebody who knows how the chain is made makes it anew behind his change; the signed seals tell.
        Assert.Contains(
            await TamperAsync(
                async (c, t) =>
                {
                    await c.ExecuteAsync("UPDATE audit SET detail = 'calm' WHERE number = 3", transaction: t);
                    await c.ExecuteAsync("UPDATE audit SET hash = NULL WHERE number >= 3", transaction: t);
                    var before = await c.ExecuteScalarAsync<string>("SELECT hash FROM audit WHERE number = 2", transaction: t);
                    foreach (
                        var row in (await c.QueryAsync("SELECT * FROM audit WHERE number >= 3 ORDER BY number", transaction: t)).AsList()
                    )
                    {
                        AuditEntry entry = new(
                            (long)row.number,
                            Micros((long)row.at),
                            (string)row.actor,
                            (string)row.from_where,
                            (string)row.command,
                            (string)row.subject,
                            (long?)row.machine_id,
                            (string?)row.value_before,
                            (string?)row.value_after,
                            (string)row.detail
                        );
                        before = entry.Seal(before!);
                        await c.ExecuteAsync("UPDATE audit SET hash = @before WHERE number = @Number", new { before, entry.Number }, t);
                    }
                }
            ),
            f => f.Number == 10 && f.What.Contains("sealed with another hash", StringComparison.Ordinal)
        );
        Assert.Empty(await CheckAsync());
    }

    [Fact]
    public async Task The_audit_is_asked_by_who_what_and_which_machine_and_machines_elsewhere_are_left_out()
    {
        await PlanAsync("desk-1", "desk-2");
        var machines = (await Plans.MembersAsync(Plan, Stop)).Select(m => m.Machine).ToArray();
        foreach (var machine in machines)
            await Plans.ExemptAsync(Plan, machine, Exemption.Retired, "sold", null, new("terminal-it"), Now, Stop);
        Task<int> Count(AuditQuestion question) => Audit.CountAsync(question, Stop);
        Assert.Equal(
            (4, 2, 3, 1),
            (
                await Count(new()),
                await Count(new(Actor: "terminal-it")),
                await Count(new(Command: "plan")),
                await Count(new(Machine: machines[0]))
            )
        );
        Assert.Equal(
            (2, 0, 4),
            (
                await Count(new(Command: "plan exempt")),
                await Count(new(Since: Now.AddSeconds(1))),
                await Count(new(Until: Now.AddSeconds(1)))
            )
        );
        var his = new AuditQuestion(Machines: new HashSet<Core.Readings.MachineId> { machines[1] });
        Assert.Equal(1, await Count(his));
        Assert.Equal(machines[1].Value, Assert.Single(await Audit.NewestAsync(his, null, 10, Stop)).Entry.Machine);
        Assert.Equal([2L, 1L], (await Audit.NewestAsync(new(), 3, 10, Stop)).Select(e => e.Entry.Number));
    }

    [Fact]
    public async Task What_was_made_with_a_token_or_in_a_session_ends_together_with_it()
    {
        await AddAsync("planner", Roles.Reader, "*");
        async Task<(string Secret, long Id)> MakeAsync(long? token, long? session)
        {
            var secret = AccessTable.NewSecret();
            return (
                secret,
                await Access.AddTokenAsync(
                    secret,
                    new(0, "planner", "a test", Roles.Reader, SiteScope.All, Now, "planner", Now.AddDays(9), null, null, null)
                    {
                        ParentToken = token,
                        ParentSession = session,
                    },
                    new("planner"),
                    Stop
                )
            );
        }

        async Task<bool> StandsAsync(string secret) => await Access.OfTokenAsync(secret, Now, Stop) is not null;
        var root = await MakeAsync(null, null);
        var child = await MakeAsync(root.Id, null);
        var session = await Access.BeginSessionAsync(
            new(0, "planner", "token", Roles.Reader, SiteScope.All, Now, Now.AddHours(1), Now, "127.0.0.1", "a browser")
            {
                ParentToken = child.Id,
            },
            null,
            new("planner"),
            Now,
            Stop
        );
        var grandchild = await MakeAsync(child.Id, (await Access.OfSessionAsync(session, Now, Stop))!.Id);
        var other = await MakeAsync(null, null);
        Assert.True(await Access.EndTokenAsync(root.Id, null, Admin, "stolen", Now, Stop));
        Assert.Equal(
            (bool[])[false, false, false, true],
            new[]
            {
                await StandsAsync(root.Secret),
                await StandsAsync(child.Secret),
                await StandsAsync(grandchild.Secret),
                await StandsAsync(other.Secret),
            }
        );
        Assert.Null(await Access.OfSessionAsync(session, Now, Stop));
        Assert.Equal(3, await Audit.CountAsync(new(Command: "token end"), Stop));

        var signedIn = await SessionAsync(null);
        var id = (await Access.OfSessionAsync(signedIn, Now, Stop))!.Id;
        var (kept, revoked) = (await MakeAsync(null, id), await MakeAsync(null, id));
        Assert.True(await Access.EndSessionAsync(id, null, revokes: false, Admin, Now, Stop));
        Assert.True(await StandsAsync(kept.Secret));
        await Accounts.SetPasswordAsync("planner", "hash", null, Admin, Now, Stop);
        Assert.Equal(
            (bool[])[false, false, true],
            new[] { await StandsAsync(kept.Secret), await StandsAsync(revoked.Secret), await StandsAsync(other.Secret) }
        );
        var again = (await Access.OfSessionAsync(await SessionAsync(null), Now, Stop))!.Id;
        var last = await MakeAsync(null, again);
        Assert.True(await Access.EndSessionAsync(again, null, revokes: true, Admin, Now, Stop));
        Assert.False(await StandsAsync(last.Secret));
    }

    private static AuditSeal Sign(long number, string hash) => new(number, hash, "key", $"signed {number} {hash}");

    private static DateTimeOffset Micros(long micros) => DateTimeOffset.UnixEpoch.AddTicks(micros * TimeSpan.TicksPerMicrosecond);

    private Task AddAsync(string name, Roles roles, params string[] sites) =>
        Accounts.PutAsync(
            new(name, AccountKind.Person, roles, SiteScope.Of(sites), null, false, null, Now, "", null, null),
            isNew: true,
            Admin,
            "new here",
            Now,
            Stop
        );

    private async Task<string> TokenAsync(string account, Roles roles, SiteScope sites)
    {
        var secret = AccessTable.NewSecret();
        await Access.AddTokenAsync(secret, new(0, account, "a test", roles, sites, Now, "", Now.AddDays(1), null, null, null), Admin, Stop);
        return secret;
    }

    private Task<string> SessionAsync(string? before) =>
        Access.BeginSessionAsync(
            new(0, "planner", "password", RoleNames.Every, SiteScope.All, Now, Now.AddHours(1), Now, "127.0.0.1", "a browser"),
            before,
            new("planner"),
            Now,
            Stop
        );

    private Task<int> WriteAsync(string sql) => Database.WriteAsync((c, t) => c.ExecuteAsync(sql, transaction: t), Stop);

    [Fact]
    public async Task Nothing_is_sealed_where_the_database_does_not_continue_the_head_that_is_kept_elsewhere()
    {
        await PlanAsync("desk-1");
        for (var i = 0; i < 8; i++)
            await HoldAsync(i);
        var first = (await Audit.SealAsync(null, Sign, IsSigned, Stop))!;
        await HoldAsync(8);
        var head = (await Audit.SealAsync(first, Sign, IsSigned, Stop))!;
        // One that holds an older head finds the newer seal, and goes on from there.
        Assert.Equal(head, await Audit.SealAsync(first, Sign, IsSigned, Stop));
        await HoldAsync(9);
        await RemoveProtectionAsync();

        async Task<string> RefusedAsync(params string[] sql)
        {
            var error = await Assert.ThrowsAsync<AuditMismatchException>(() =>
                Database.WriteAsync<int>(
                    async (c, t) =>
                    {
                        foreach (var one in sql)
                            await c.ExecuteAsync(one, transaction: t);
                        await AuditTable.SealAsync(c, t, head, Sign, IsSigned);
                        return 0;
                    },
                    Stop
                )
            );
            return error.Message;
        }

        Assert.Contains(
            "made unsealed again",
            await RefusedAsync(
                "UPDATE audit SET detail = 'calm' WHERE number = 5",
                "UPDATE audit SET hash = NULL WHERE number >= 5",
                "DELETE FROM audit_seals WHERE number >= 5"
            ),
            StringComparison.Ordinal
        );
        Assert.Contains(
            $"Entry {head.Number}",
            await RefusedAsync(
                "DELETE FROM audit WHERE number = 5",
                "UPDATE audit SET number = -(number - 1) WHERE number > 5",
                "UPDATE audit SET number = -number, hash = NULL WHERE number < 0"
            ),
            StringComparison.Ordinal
        );
        Assert.Contains("is missing", await RefusedAsync($"DELETE FROM audit WHERE number >= {head.Number}"), StringComparison.Ordinal);
        Assert.Contains(
            "another hash",
            await RefusedAsync($"UPDATE audit SET hash = '{new string('0', 64)}' WHERE number = {head.Number}"),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "is missing",
            await RefusedAsync(
                $"DELETE FROM audit WHERE number = {head.Number + 1}",
                $"UPDATE audit SET number = {head.Number + 2} WHERE number > {head.Number}",
                "INSERT INTO audit (number, at, actor, command, subject, detail) VALUES (9999, 0, 'x', 'x', 'x', 'x')"
            ),
            StringComparison.Ordinal
        );
        // A hash that fits, but that no seal vouches for.
        var next = (await Audit.AfterAsync(head.Number, 1, Stop)).Single().Entry.Seal(head.Hash);
        Assert.Contains(
            "no seal of this service vouches",
            await RefusedAsync($"UPDATE audit SET hash = '{next}' WHERE number = {head.Number + 1}"),
            StringComparison.Ordinal
        );
        Assert.NotNull(await Audit.SealAsync(head, Sign, IsSigned, Stop));
    }

    private Task HoldAsync(int minute) =>
        Plans.PutStatusAsync(
            Plan,
            PlanStatus.Started,
            minute % 2 == 0 ? "storm" : null,
            "hold",
            new("planner"),
            Now.AddMinutes(minute),
            Stop
        );

    private static bool IsSigned(AuditSeal seal) => seal == Sign(seal.Number, seal.Hash);

    private async Task<IReadOnlyList<AuditFault>> CheckAsync()
    {
        var check = new AuditCheck(await Audit.SealsAsync(Stop), IsSigned);
        foreach (var entry in await Audit.AfterAsync(0, 1000, Stop))
            check.Look(entry);
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
            Stop
        );
        var faults = await CheckAsync();
        await WriteAsync("DELETE FROM audit");
        await WriteAsync("INSERT INTO audit SELECT * FROM kept");
        return faults;
    }

    private Task RemoveProtectionAsync() =>
        Database.WriteAsync(
            async (c, t) =>
            {
                foreach (var protect in new[] { "audit_not_deleted", "audit_not_changed" })
                    await c.ExecuteAsync($"DROP TRIGGER {protect}{DropOn}", transaction: t);
                return 0;
            },
            Stop
        );

    /// <summary>What this database wants to be told besides a trigger's name.</summary>
    protected abstract string DropOn { get; }
}
