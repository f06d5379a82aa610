using System.Data.Common;
using Dapper;
using GrandStair.Core.Access;
using GrandStair.Core.Audit;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Audit;

/// <summary>A command as it is kept.</summary>
/// <param name="By">Who gave it.</param>
/// <param name="Words">What, such as <c>run cancel</c>.</param>
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
public sealed record AuditQuestion(
    string? Actor = null,
    string? Command = null,
    string? Subject = null,
    MachineId? Machine = null,
    DateTimeOffset? Since = null,
    DateTimeOffset? Until = null,
    IReadOnlyCollection<MachineId>? Machines = null
);

/// <summary>The audit in the database does not continue what was sealed before.</summary>
/// <param name="number">The entry where it shows.</param>
/// <param name="what">What is wrong with it.</param>
public sealed class AuditMismatchException(long number, string what) : Exception($"Entry {number} of the audit {what}.")
{
    /// <summary>The entry where it shows.</summary>
    public long Number { get; } = number;
}

/// <summary>Who commanded what: written in the transaction of the command, never changed, and chained by hashes afterwards.</summary>
public sealed class AuditTable(Database database)
{
    private const int SealedAtOnce = 500;

    /// <summary>Stores a command that changes nothing else in the database.</summary>
    public Task AddAsync(
        DateTimeOffset at,
        Actor actor,
        string command,
        string subject,
        MachineId? machine,
        string reason,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                await AddAsync(c, t, at, actor, command, subject, machine, null, null, reason);
                return 0;
            },
            stop
        );

    /// <summary>The entries that are asked for, newest first, from before a number.</summary>
    public Task<IReadOnlyList<SealedEntry>> NewestAsync(AuditQuestion question, long? before, int most, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(question);
        return database.ReadAsync<IReadOnlyList<SealedEntry>>(
            async c =>
            {
                // The database does not know which machines a caller sees; where that matters, all entries are read.
                var rows = await c.QueryAsync<AuditRow>(
                    $"SELECT * FROM audit WHERE {Asked} AND (@before IS NULL OR number < @before) ORDER BY number DESC "
                        + $"{(question.Machines is null ? "LIMIT @most" : "")}",
                    Values(question, before, most)
                );
                return [.. rows.Where(r => IsMeant(question, r.MachineId)).Take(most).Select(r => r.ToEntry())];
            },
            stop
        );
    }

    /// <summary>How many entries are asked for.</summary>
    public Task<int> CountAsync(AuditQuestion question, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(question);
        return database.ReadAsync(
            async c =>
                question.Machines is null
                    ? (int)await c.ExecuteScalarAsync<long>($"SELECT count(*) FROM audit WHERE {Asked}", Values(question, null, 0))
                    : (await c.QueryAsync<long?>($"SELECT machine_id FROM audit WHERE {Asked}", Values(question, null, 0))).Count(id =>
                        IsMeant(question, id)
                    ),
            stop
        );
    }

    /// <summary>The entries after a number, in their order.</summary>
    public Task<IReadOnlyList<SealedEntry>> AfterAsync(long number, int most, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<SealedEntry>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<AuditRow>(
                            "SELECT * FROM audit WHERE number > @number ORDER BY number LIMIT @most",
                            new { number, most }
                        )
                    ).Select(r => r.ToEntry()),
                ],
            stop
        );

    /// <summary>All seals.</summary>
    public Task<IReadOnlyList<AuditSeal>> SealsAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<AuditSeal>>(
            async c =>
                [
                    .. await c.QueryAsync<AuditSeal>(
                        "SELECT number AS Number, hash AS Hash, key_id AS Key, signature AS Signature FROM audit_seals ORDER BY number"
                    ),
                ],
            stop
        );

    /// <summary>The newest seal of which a condition holds; null where there is none.</summary>
    public async Task<AuditSeal?> NewestSealAsync(Func<AuditSeal, bool> holds, CancellationToken stop) =>
        (await SealsAsync(stop)).LastOrDefault(holds);

    /// <summary>Whether any entry has a hash, that is, was sealed once.</summary>
    public Task<bool> HasSealedAsync(CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                await c.ExecuteScalarAsync<long>("SELECT count(*) FROM (SELECT 1 FROM audit WHERE hash IS NOT NULL LIMIT 1) AS one") > 0,
            stop
        );

    /// <summary>
    /// Chains the entries after a head that is known from outside the database, and keeps a seal over the last of them. One sealer at a
    /// time does so, whichever process it is in. Nothing is sealed where the database does not continue the head: whoever can write there
    /// could otherwise have the service sign forged entries.
    /// </summary>
    /// <param name="head">The newest seal as it is kept outside the database; null before the first.</param>
    /// <param name="sign">Signs a number and a hash.</param>
    /// <param name="isSigned">Whether a seal was signed by this service's key.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>The new head; null where there was nothing to seal.</returns>
    /// <exception cref="AuditMismatchException">The database does not continue the head.</exception>
    public Task<AuditSeal?> SealAsync(
        AuditSeal? head,
        Func<long, string, AuditSeal> sign,
        Func<AuditSeal, bool> isSigned,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(sign);
        ArgumentNullException.ThrowIfNull(isSigned);
        return database.WriteAsync((c, t) => SealAsync(c, t, head, sign, isSigned), stop);
    }

    /// <summary>
    /// As <see cref="SealAsync(AuditSeal?, Func{long, string, AuditSeal}, Func{AuditSeal, bool}, CancellationToken)"/>, in the caller's
    /// transaction.
    /// </summary>
    internal static async Task<AuditSeal?> SealAsync(
        DbConnection c,
        DbTransaction t,
        AuditSeal? head,
        Func<long, string, AuditSeal> sign,
        Func<AuditSeal, bool> isSigned
    )
    {
        // The counter's row is the lock of the one sealer, in either database.
        await Database.NextAsync(c, t, "sealed", 0);
        var (number, hash) = head is null ? (0, AuditEntry.Beginning) : (head.Number, head.Hash);
        if (
            head is not null
            && await c.ExecuteScalarAsync<string?>("SELECT hash FROM audit WHERE number = @number", new { number }, t) is var found
            && found != hash
        )
            throw new AuditMismatchException(
                number,
                found is null ? "is missing or was made unsealed again" : "has another hash than the one that was sealed"
            );
        var rows = (
            await c.QueryAsync<AuditRow>(
                "SELECT * FROM audit WHERE number > @number ORDER BY number LIMIT @most",
                new { number, most = SealedAtOnce },
                t
            )
        )
            .Select(r => r.ToEntry())
            .ToArray();
        if (rows.Length == 0)
            return null;
        var chain = Chain(rows, number, hash);
        // What another process has sealed since, or this one before it was killed, is vouched for by a seal of the same key.
        var known = chain.TakeWhile(r => r.Stored is not null).ToArray();
        var seals = (
            await c.QueryAsync<AuditSeal>(
                "SELECT number AS Number, hash AS Hash, key_id AS Key, signature AS Signature FROM audit_seals WHERE number > @number "
                    + "AND number <= @last",
                new { number, last = rows[^1].Entry.Number },
                t
            )
        ).ToDictionary(s => s.Number);
        var vouched = known.LastOrDefault(k => seals.TryGetValue(k.Number, out var seal) && seal.Hash == k.Hash && isSigned(seal));
        if (known.Length > 0 && known[^1].Number != vouched.Number)
        {
            // The seal may lie beyond what was read at once; without one in it, nothing vouches for these entries.
            if (vouched.Number > 0)
                return seals[vouched.Number];
            throw new AuditMismatchException(known[0].Number, "carries a hash that no seal of this service vouches for");
        }

        if (known.Length == chain.Length)
            return seals[vouched.Number];
        foreach (var (entry, made, _) in chain.Skip(known.Length))
            await c.ExecuteAsync("UPDATE audit SET hash = @made WHERE number = @entry AND hash IS NULL", new { made, entry }, t);
        var next = sign(chain[^1].Number, chain[^1].Hash);
        await c.ExecuteAsync(
            "INSERT INTO audit_seals (number, hash, key_id, signature) VALUES (@Number, @Hash, @Key, @Signature) ON CONFLICT (number) "
                + "DO NOTHING",
            next,
            t
        );
        return next;
    }

    /// <summary>The hashes that entries have after a head, beside those that are stored.</summary>
    private static (long Number, string Hash, string? Stored)[] Chain(IReadOnlyList<SealedEntry> entries, long number, string hash)
    {
        var chain = new List<(long, string, string?)>();
        var unsealed = false;
        foreach (var next in entries)
        {
            if (next.Entry.Number != ++number)
                throw new AuditMismatchException(number, "is missing");
            hash = next.Entry.Seal(hash);
            if (next.Hash is not null && (unsealed || next.Hash != hash))
                throw new AuditMismatchException(number, unsealed ? "is sealed, and one before it is not" : "is not what was sealed");
            unsealed |= next.Hash is null;
            chain.Add((number, hash, next.Hash));
        }

        return [.. chain];
    }

    private const string Asked = """
        (@Actor IS NULL OR actor = @Actor) AND (@Command IS NULL OR command = @Command OR command LIKE @group)
          AND (@Subject IS NULL OR subject = @Subject) AND (@machine IS NULL OR machine_id = @machine)
          AND (@since IS NULL OR at >= @since) AND (@until IS NULL OR at < @until)
        """;

    private static object Values(AuditQuestion question, long? before, int most) =>
        new
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

    private static bool IsMeant(AuditQuestion question, long? machine) =>
        question.Machines is not { } machines || (machine is { } id && machines.Contains(new(id)));

    /// <summary>Writes who commanded what, in the caller's transaction.</summary>
    internal static async Task AddAsync(
        DbConnection c,
        DbTransaction t,
        DateTimeOffset at,
        Actor actor,
        string command,
        string subject,
        MachineId? machine,
        string? before,
        string? after,
        string reason
    )
    {
        var number = await Database.NextAsync(c, t, "audit");
        await c.ExecuteAsync(
            """
            INSERT INTO audit (number, at, actor, from_where, command, subject, machine_id, value_before, value_after, detail)
            VALUES (@number, @at, @Name, @From, @command, @subject, @machine, @before, @after, @reason)
            """,
            new
            {
                number,
                at = Micros.Of(at),
                actor.Name,
                actor.From,
                command,
                subject,
                machine = machine?.Value,
                before,
                after,
                reason,
            },
            t
        );
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

        public SealedEntry ToEntry() =>
            new(new(Number, Micros.Time(At), Actor, FromWhere, Command, Subject, MachineId, ValueBefore, ValueAfter, Detail), Hash);
    }
}
