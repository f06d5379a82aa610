using Dapper;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Scripts;

/// <summary>A script as it goes to a machine.</summary>
/// <param name="Product">The product that it belongs to.</param>
/// <param name="Script">Its file's name.</param>
/// <param name="Hash">The SHA-256 of its content, in hexadecimal.</param>
public sealed record SentScript(string Product, string Script, string Hash);

/// <summary>What was run on a machine, as often as it was.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Sent">The script.</param>
/// <param name="Purpose"><c>read</c>, <c>step</c> or <c>fix</c>.</param>
/// <param name="For">The plan or the account that it was run for.</param>
/// <param name="First">When it was first sent, UTC.</param>
/// <param name="Last">When it was last sent, UTC.</param>
/// <param name="LastOrder">The order by which it was last sent; empty for a reading.</param>
/// <param name="Times">How often.</param>
public sealed record ScriptUse(
    MachineId Machine,
    SentScript Sent,
    string Purpose,
    string For,
    DateTimeOffset First,
    DateTimeOffset Last,
    string LastOrder,
    long Times
);

/// <summary>The history of scripts run on machines, written before a script is sent.</summary>
public sealed class ScriptTable(Database database)
{
    /// <summary>Notes that scripts go out to a machine.</summary>
    public Task SentAsync(
        MachineId machine,
        IReadOnlyCollection<SentScript> scripts,
        string purpose,
        string forWhom,
        string order,
        DateTimeOffset now,
        CancellationToken stop
    ) =>
        database.WriteAsync(
            async (c, t) =>
            {
                foreach (var s in scripts)
                {
                    await c.ExecuteAsync(
                        """
                        INSERT INTO script_uses (machine_id, script_hash, product, script, purpose, for_whom, first_at, last_at,
                          last_order, times)
                        VALUES (@machine, @Hash, @Product, @Script, @purpose, @forWhom, @now, @now, @order, 1)
                        ON CONFLICT (machine_id, script_hash, product, script, purpose, for_whom) DO UPDATE SET last_at =
                          excluded.last_at, last_order = excluded.last_order, times = script_uses.times + 1
                        """,
                        new
                        {
                            machine = machine.Value,
                            s.Hash,
                            s.Product,
                            s.Script,
                            purpose,
                            forWhom,
                            now = Micros.Of(now),
                            order,
                        },
                        t
                    );
                }

                return 0;
            },
            stop
        );

    /// <summary>What was run, newest first: on a machine, or of a script's hash that begins so, or at all.</summary>
    public Task<IReadOnlyList<ScriptUse>> ListAsync(MachineId? machine, string? hash, string? script, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<ScriptUse>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<Row>(
                            "SELECT * FROM script_uses WHERE (@machine IS NULL OR machine_id = @machine) AND (@hash IS NULL OR "
                                + "script_hash LIKE @hash) AND (@script IS NULL OR script = @script) ORDER BY last_at DESC, machine_id, "
                                + "script",
                            new
                            {
                                machine = machine?.Value,
                                hash = hash is null ? null : hash + "%",
                                script,
                            }
                        )
                    ).Select(r => r.ToUse()),
                ],
            stop
        );

    private sealed record Row
    {
        public long MachineId { get; init; }

        public string ScriptHash { get; init; } = "";

        public string Product { get; init; } = "";

        public string Script { get; init; } = "";

        public string Purpose { get; init; } = "";

        public string ForWhom { get; init; } = "";

        public long FirstAt { get; init; }

        public long LastAt { get; init; }

        public string LastOrder { get; init; } = "";

        public long Times { get; init; }

        public ScriptUse ToUse() =>
            new(
                new(MachineId),
                new(Product, Script, ScriptHash),
                Purpose,
                ForWhom,
                Micros.Time(FirstAt),
                Micros.Time(LastAt),
                LastOrder,
                Times
            );
    }
}
