using System.Data.Common;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Audit;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Audit;

/// <summary>A command as it is kept.</summary>
/// <param name="By">Who gave it.</param>
/// <param name="Words">What, such as <c>run call-off</c>.</param>
/// <param name="Reason">Why.</param>
public sealed record Command(Actor By, string Words, string Reason);

/// <summary>Which entries of the audit are asked for; null leaves a field open.</summary>
/// <param name="Actor">Who.</param>
/// <param name="Command">What; also the first word alone, such as <c>plan</c>.</param>
/// <param name="Subject">To what.</param>
/// <param name="Machine">The machine.</param>
/// <param name="Since">From this moment on.</param>
/// <param name="Until">Up to this moment, which is left out.</param>
/// <param name="Machines">Only entries about these machines; null for all entries.</param>
public sealed record AuditQuestion(string? Actor = null, string? Command = null, string? Subject = null, MachineId? Machine = null, DateTimeOffset? Since = null, DateTimeOffset? Until = null, IReadOnlyCollection<MachineId>? Machines = null);

/// <summary>Who commanded what: written in the transaction of the command, never changed, and chained by hashes afterwards.</summary>
public sealed class AuditTable(Database database)
{
    private const int SealedAtOnce = 500;

    /// <summary>Keeps a command that changes nothing else in the database.</summary>
    public Task AddAsync(DateTimeOffset at, Actor actor, string command, string subject, MachineId? machine, string reason, CancellationToken stop) => database.WriteAsync(
        async (c, t) =>
        {
            await AddAsync(c, t, at, actor, command, subject, machine, null, null, reason);
            return 0;
        },
        stop);

    /// <summary>The entries that are asked for, newest first, from before a number.</summary>
    public Task<IReadOnlyList<SealedEntry>> NewestAsync(AuditQuestion question, long? before, int most, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(question);
        return database.ReadAsync<IReadOnlyList<SealedEntry>>(
            async c =>
            {
                // Which machines somebody may see is not the database's to know; where that counts, all entries are looked over.
                var rows = await c.QueryAsync<AuditRow>($"SELECT * FROM audit WHERE {Asked} AND (@before IS NULL OR number < @before) ORDER BY number DESC {(question.Machines is null ? "LIMIT @most" : "")}", Values(question, before, most));
                return [.. rows.Where(r => IsMeant(question, r.MachineId)).Take(most).Select(r => r.ToEntry())];
            },
            stop);
    }

    /// <summary>How many entries are asked for.</summary>
    public Task<int> CountAsync(AuditQuestion question, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(question);
        return database.ReadAsync(
            async c => question.Machines is null
                ? (int)await c.ExecuteScalarAsync<long>($"SELECT count(*) FROM audit WHERE {Asked}", Values(question, null, 0))
                : (await c.QueryAsync<long?>($"SELECT machine_id FROM audit WHERE {Asked}", Values(question, null, 0))).Count(id => IsMeant(question, id)),
            stop);
    }

    /// <summary>The entries after a number, in their order.</summary>
    public Task<IReadOnlyList<SealedEntry>> AfterAsync(long number, int most, CancellationToken stop) => database.ReadAsync<IReadOnlyList<SealedEntry>>(
        async c => [.. (await c.QueryAsync<AuditRow>("SELECT * FROM audit WHERE number > @number ORDER BY number LIMIT @most", new { number, most })).Select(r => r.ToEntry())], stop);

    /// <summary>All seals.</summary>
    public Task<IReadOnlyList<AuditSeal>> SealsAsync(CancellationToken stop) => database.ReadAsync<IReadOnlyList<AuditSeal>>(
        async c => [.. await c.QueryAsync<AuditSeal>("SELECT number AS Number, hash AS Hash, key_id AS Key, signature AS Signature FROM audit_seals ORDER BY number")], stop);

    /// <summary>Chains the next entries that are not sealed yet, and keeps a seal over the last of them. One sealer at a time does so, whoever it is.</summary>
    /// <param name="sign">Signs a number and a hash.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>The seal; null where there was nothing to seal.</returns>
    public Task<AuditSeal?> SealAsync(Func<long, string, AuditSeal> sign, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(sign);
        return database.WriteAsync<AuditSeal?>(
            async (c, t) =>
            {
                // The counter's row is the lock of the one sealer, in either database.
                var last = await Database.NextAsync(c, t, "sealed", 0);
                var rows = (await c.QueryAsync<AuditRow>("SELECT * FROM audit WHERE number > @last ORDER BY number LIMIT @most", new { last, most = SealedAtOnce }, t)).AsList();
                if (rows.Count == 0) return null;
                var hash = last == 0 ? AuditEntry.Beginning : await c.ExecuteScalarAsync<string?>("SELECT hash FROM audit WHERE number = @last", new { last }, t) ?? AuditEntry.Beginning;
                foreach (var row in rows)
                {
                    hash = row.ToEntry().Entry.Seal(hash);
                    await c.ExecuteAsync("UPDATE audit SET hash = @hash WHERE number = @Number AND hash IS NULL", new { hash, row.Number }, t);
                }

                var seal = sign(rows[^1].Number, hash);
                await c.ExecuteAsync("INSERT INTO audit_seals (number, hash, key_id, signature) VALUES (@Number, @Hash, @Key, @Signature) ON CONFLICT (number) DO NOTHING", seal, t);
                await Database.NextAsync(c, t, "sealed", (int)(rows[^1].Number - last));
                return seal;
            },
            stop);
    }

    private const string Asked = """
        (@Actor IS NULL OR actor = @Actor) AND (@Command IS NULL OR command = @Command OR command LIKE @group)
          AND (@Subject IS NULL OR subject = @Subject) AND (@machine IS NULL OR machine_id = @machine)
          AND (@since IS NULL OR at >= @since) AND (@until IS NULL OR at < @until)
        """;

    private static object Values(AuditQuestion question, long? before, int most) => new
    {
        before,
        question.Actor,
        question.Command,
        // The first word alone means all commands that begin with it.
        group = question.Command is { } command && command.All(char.IsAsciiLetter) ? command + " %" : null,
        question.Subject,
        machine = question.Machine?.Value,
        since = Micros.Of(question.Since),
        until = Micros.Of(question.Until),
        most,
    };

    private static bool IsMeant(AuditQuestion question, long? machine) => question.Machines is not { } machines || (machine is { } id && machines.Contains(new(id)));

    /// <summary>Writes who commanded what, in the caller's transaction.</summary>
    internal static async Task AddAsync(
        DbConnection c, DbTransaction t, DateTimeOffset at, Actor actor, string command, string subject, MachineId? machine, string? before, string? after, string reason)
    {
        var number = await Database.NextAsync(c, t, "audit");
        await c.ExecuteAsync(
            """
            INSERT INTO audit (number, at, actor, from_where, command, subject, machine_id, value_before, value_after, detail)
            VALUES (@number, @at, @Name, @From, @command, @subject, @machine, @before, @after, @reason)
            """,
            new { number, at = Micros.Of(at), actor.Name, actor.From, command, subject, machine = machine?.Value, before, after, reason },
            t);
    }

    private sealed record AuditRow
    {
        public long Number { get; init; }

        public long At { get; init; }

        public string Actor { get; init; } = "";

        public string FromWhere { get; init; } = "";

        public string Command { get; init; } = "";

        public string Subject { get; init; } = "";

        public long? MachineId { get; init; }

        public string? ValueBefore { get; init; }

        public string? ValueAfter { get; init; }

        public string Detail { get; init; } = "";

        public string? Hash { get; init; }

        public SealedEntry ToEntry() => new(new(Number, Micros.Time(At), Actor, FromWhere, Command, Subject, MachineId, ValueBefore, ValueAfter, Detail), Hash);
    }
}
