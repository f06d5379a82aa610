using System.Globalization;
using System.Text;
using System.Text.Json;
using Dapper;
using GrandStair.Core.Runs;
using Microsoft.Data.Sqlite;

namespace GrandStair.Connections.Simulation;

/// <summary>
/// The simulated machines. They live in a file of their own and by domain time, so that they go on whether or not a service
/// is there to watch, as real ones do. What they are really like (speed, weaknesses, absences) is known here alone.
/// </summary>
public sealed class SimulatedMachines : IDisposable
{
    private readonly SqliteConnection _connection;

    // Waited for without a thread: hundreds of looks may ask at once.
    private readonly SemaphoreSlim _turn = new(1, 1);

    /// <summary>Opens or makes the world's file.</summary>
    public SimulatedMachines(string path)
    {
        _connection = new(new SqliteConnectionStringBuilder { DataSource = path, Pooling = false }.ToString());
        _connection.Open();
        // Safe against a kill; that simulated machines forget their last second when the power goes is not worth a wait for the disk each
        // time.
        _connection.Execute(
            """
            PRAGMA synchronous = NORMAL;
            PRAGMA journal_mode = WAL;
            CREATE TABLE IF NOT EXISTS machines (name TEXT PRIMARY KEY, truth TEXT NOT NULL);
            CREATE TABLE IF NOT EXISTS orders (name TEXT PRIMARY KEY, machine TEXT NOT NULL, kind TEXT NOT NULL, script TEXT NOT NULL,
              posted INTEGER NOT NULL, ends INTEGER NOT NULL, result TEXT NOT NULL, exit INTEGER, note TEXT NOT NULL, settled INTEGER
                NOT NULL DEFAULT 0, posts INTEGER NOT NULL DEFAULT 1);
            CREATE INDEX IF NOT EXISTS orders_machine ON orders (machine, settled);
            CREATE TABLE IF NOT EXISTS epochs (run INTEGER PRIMARY KEY, epoch INTEGER NOT NULL);
            """
        );
    }

    /// <summary>Puts machines into the world that are not there yet.</summary>
    public void Add(IEnumerable<(string Name, IReadOnlyDictionary<string, string> Truth)> machines) =>
        InTurn(() =>
        {
            using var t = _connection.BeginTransaction();
            foreach (var (name, truth) in machines)
                _connection.Execute(
                    "INSERT INTO machines (name, truth) VALUES (@name, @truth) ON CONFLICT DO NOTHING",
                    new { name, truth = JsonSerializer.Serialize(truth) },
                    t
                );
            t.Commit();
        });

    /// <summary>A person puts back by hand what a machine has lost in its upgrade.</summary>
    public void PutBack(string name) => Set(name, "truth.lost", "");

    /// <summary>A person changes something on a machine by hand.</summary>
    public void Set(string name, string key, string value) =>
        InTurn(() =>
        {
            if (Truth(_connection, name) is not { } truth)
                return;
            truth[key] = value;
            Keep(_connection, name, truth);
        });

    /// <summary>
    /// What is true of a machine at a moment, and whether it answers: it is not just restarting, and its owner has not taken it away. Null
    /// where there is no such machine.
    /// </summary>
    internal Task<(Dictionary<string, string> Truth, bool Answers)?> ReachAsync(string name, DateTimeOffset now, CancellationToken stop) =>
        InTurnAsync<(Dictionary<string, string>, bool)?>(
            () =>
                Settle(_connection, name, now) is { } truth
                    ? (truth, !IsAway(name, truth, now) && !SimulatedFault.IsSilent(truth, now) && !IsRestarting(_connection, name, now))
                    : null,
            stop
        );

    /// <summary>Whether its owner has taken a machine away; absences are drawn per machine for stretches of six hours.</summary>
    internal static bool IsAway(string name, Dictionary<string, string> truth, DateTimeOffset now) =>
        Chance.Of(name, "away", now.ToUnixTimeSeconds() / 21600)
        < double.Parse(truth.GetValueOrDefault("truth.away", "0"), CultureInfo.InvariantCulture);

    /// <summary>Takes an order once. False: the machine knows a higher epoch.</summary>
    internal Task<bool> PostAsync(string machine, PostedOrder order, DateTimeOffset now, CancellationToken stop) =>
        InTurnAsync(
            () =>
            {
                using var t = _connection.BeginTransaction();
                var known = _connection.ExecuteScalar<long?>("SELECT epoch FROM epochs WHERE run = @run", new { run = order.Name.Run }, t)
                    ?? 0;
                if (order.Epoch < known)
                    return false;
                _connection.Execute(
                    "INSERT INTO epochs (run, epoch) VALUES (@run, @epoch) ON CONFLICT (run) DO UPDATE SET epoch = excluded.epoch",
                    new { run = order.Name.Run, epoch = order.Epoch },
                    t
                );
                var name = order.Name.ToString();
                if (_connection.Execute("UPDATE orders SET posts = posts + 1 WHERE name = @name", new { name }, t) == 0)
                {
                    var truth = Truth(_connection, machine, t)!;
                    order = order with
                    {
                        Script = order
                            .Script.Replace("$to", order.Values.GetValueOrDefault("to", ""), StringComparison.Ordinal)
                            .Replace("$patches", order.Values.GetValueOrDefault("patches", ""), StringComparison.Ordinal),
                    };
                    var fault = SimulatedFault.Of(truth, order.Name);
                    if (fault is not null)
                    {
                        SimulatedFault.Begin(fault, truth, now);
                        Keep(_connection, machine, truth, t);
                    }

                    var result = SimulatedScript.Run(machine, truth, order, now, fault);
                    _connection.Execute(
                        "INSERT INTO orders (name, machine, kind, script, posted, ends, result, exit, note) VALUES (@name, @machine, "
                            + "@kind, @Script, @posted, @ends, @result, @Exit, @Note)",
                        new
                        {
                            name,
                            machine,
                            kind = RunMachine.Name(order.Kind),
                            order.Script,
                            posted = now.ToUnixTimeSeconds(),
                            ends = (now + result.Lasts).ToUnixTimeSeconds(),
                            result = result.Result.ToString(),
                            result.Exit,
                            result.Note,
                        },
                        t
                    );
                }

                t.Commit();
                return true;
            },
            stop
        );

    /// <summary>How an order stands at a moment.</summary>
    internal Task<OrderStatus> AskAsync(string machine, OrderName order, DateTimeOffset now, CancellationToken stop) =>
        InTurnAsync(
            () =>
            {
                var truth = Settle(_connection, machine, now);
                var row = _connection.QuerySingleOrDefault<OrderRow>(
                    "SELECT * FROM orders WHERE name = @name",
                    new { name = order.ToString() }
                );
                if (row is null)
                    return new(OrderState.Unseen, null, null, "");
                var ends = DateTimeOffset.FromUnixTimeSeconds(row.Ends);
                if (now < ends)
                {
                    var share = (now.ToUnixTimeSeconds() - row.Posted) / Math.Max(1.0, row.Ends - row.Posted);
                    var fault = SimulatedFault.Of(truth!, order);
                    var (shown, note) = SimulatedFault.Progress(fault, share, SimulatedScript.Doing(row.Kind, row.Script, share));
                    // Whoever is to see something on the way has to look more often than at the end.
                    return new OrderStatus(OrderState.Running, null, shown, note, fault is null ? ends : null)
                    {
                        Printed = OutputOf(row, now).Length,
                    };
                }

                var lasted = TimeSpan.FromSeconds(row.Ends - row.Posted);
                return (
                    row.Result == nameof(OrderState.Gone)
                        ? new OrderStatus(OrderState.Gone, null, null, row.Note, Lasted: lasted)
                        : new OrderStatus(OrderState.Ended, (int)row.Exit!, 1, row.Note, Lasted: lasted)
                ) with
                {
                    Printed = OutputOf(row, now).Length,
                };
            },
            stop
        );

    /// <summary>What an order has printed by a moment.</summary>
    internal Task<byte[]> OutputAsync(OrderName order, DateTimeOffset now, CancellationToken stop) =>
        InTurnAsync(
            () =>
                _connection.QuerySingleOrDefault<OrderRow>("SELECT * FROM orders WHERE name = @name", new { name = order.ToString() })
                    is { } row
                    ? OutputOf(row, now)
                    : [],
            stop
        );

    private static byte[] OutputOf(OrderRow row, DateTimeOffset now) =>
        Encoding.UTF8.GetBytes(
            SimulatedScript.Output(
                row.Kind,
                row.Script,
                DateTimeOffset.FromUnixTimeSeconds(row.Posted),
                DateTimeOffset.FromUnixTimeSeconds(row.Ends),
                row.Note,
                now
            )
        );

    private void InTurn(Action work)
    {
        _turn.Wait();
        try
        {
            work();
        }
        finally
        {
            _turn.Release();
        }
    }

    private async Task<T> InTurnAsync<T>(Func<T> work, CancellationToken stop)
    {
        await _turn.WaitAsync(stop);
        try
        {
            return work();
        }
        finally
        {
            _turn.Release();
        }
    }

    /// <summary>Lets what has ended by now take its effect, once.</summary>
    private static Dictionary<string, string>? Settle(SqliteConnection c, string name, DateTimeOffset now)
    {
        if (Truth(c, name) is not { } truth)
            return null;
        var ended = c.Query<OrderRow>(
                "SELECT * FROM orders WHERE machine = @name AND settled = 0 AND ends <= @now ORDER BY ends",
                new { name, now = now.ToUnixTimeSeconds() }
            )
            .AsList();
        if (ended.Count == 0)
            return truth;
        using var t = c.BeginTransaction();
        foreach (var order in ended)
        {
            if (order is { Result: nameof(OrderState.Ended), Exit: 0 } && !HadNoEffect(truth, order.Name))
            {
                SimulatedScript.Take(order.Kind, order.Script, order.Name, truth);
                TellCluster(c, t, name, truth, [.. SimulatedScript.InCluster(order.Script)]);
            }

            c.Execute("UPDATE orders SET settled = 1 WHERE name = @Name", new { order.Name }, t);
        }

        Keep(c, name, truth, t);
        t.Commit();
        return truth;
    }

    /// <summary>Changes what the other machines of a cluster show.</summary>
    private static void TellCluster(
        SqliteConnection c,
        SqliteTransaction t,
        string name,
        Dictionary<string, string> truth,
        IReadOnlyList<(string Key, string Value)> changes
    )
    {
        if (changes.Count == 0 || !truth.TryGetValue("cluster", out var cluster))
            return;
        var others = c.Query<string>(
            "SELECT name FROM machines WHERE name <> @name AND json_extract(truth, '$.cluster') = @cluster",
            new { name, cluster },
            t
        );
        foreach (var other in others.AsList())
        {
            var its = Truth(c, other, t)!;
            foreach (var (key, value) in changes)
                its[key] = value;
            Keep(c, other, its, t);
        }
    }

    private static bool HadNoEffect(Dictionary<string, string> truth, string order) =>
        SimulatedFault.Of(truth, OrderName.Parse(order)) == "without-effect";

    private static bool IsRestarting(SqliteConnection c, string name, DateTimeOffset now) =>
        c.ExecuteScalar<long>(
            "SELECT count(*) FROM orders WHERE machine = @name AND settled = 0 AND kind = 'restart' AND ends > @now",
            new { name, now = now.ToUnixTimeSeconds() }
        ) > 0;

    private static Dictionary<string, string>? Truth(SqliteConnection c, string name, SqliteTransaction? t = null) =>
        c.ExecuteScalar<string?>("SELECT truth FROM machines WHERE name = @name", new { name }, t) is { } json
            ? JsonSerializer.Deserialize<Dictionary<string, string>>(json)
            : null;

    private static void Keep(SqliteConnection c, string name, Dictionary<string, string> truth, SqliteTransaction? t = null) =>
        c.Execute("UPDATE machines SET truth = @truth WHERE name = @name", new { name, truth = JsonSerializer.Serialize(truth) }, t);

    /// <inheritdoc />
    public void Dispose()
    {
        InTurn(_connection.Dispose);
        _turn.Dispose();
    }

    private sealed record OrderRow
    {
        public string Name { get; init; } = "";

        public string Kind { get; init; } = "";

        public string Script { get; init; } = "";

        public long Posted { get; init; }

        public long Ends { get; init; }

        public string Result { get; init; } = "";

        public long? Exit { get; init; }

        public string Note { get; init; } = "";
    }
}

/// <summary>Draws that are the same for the same machine and occasion, in every run of the world.</summary>
internal static class Chance
{
    /// <summary>A number from 0 to 1.</summary>
    public static double Of(string machine, string occasion, long number = 0)
    {
        // FNV-1a, then a finishing mix, so that names that differ in one sign are drawn apart.
        var hash = 14695981039346656037UL;
        foreach (var c in $"{machine}|{occasion}|{number}")
            hash = (hash ^ c) * 1099511628211UL;
        hash ^= hash >> 33;
        hash *= 0xff51afd7ed558ccdUL;
        hash ^= hash >> 33;
        return (hash >> 11) / (double)(1UL << 53);
    }
}
