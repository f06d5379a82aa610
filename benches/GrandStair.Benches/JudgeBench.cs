using System.Diagnostics;
using GrandStair.Core.Gates;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using Microsoft.Data.Sqlite;

namespace GrandStair.Benches;

/// <summary>
/// Judges a fleet against forty checks, against one SQLite query that counts the same predicates over a wide table in memory.
/// </summary>
internal static class JudgeBench
{
    private const double Goal = 3;
    private const int Repeats = 5;
    private static readonly TimeSpan MostFor100K = TimeSpan.FromSeconds(0.3);

    public static bool Run()
    {
        var aim = SampleFleet.Aim();
        // csharpier-ignore
        Console.WriteLine(
            $"{"machines",10} {"judge, all counts",18} {"SQLite, counts",16} {"ratio",7} {"one reading",12} {"memory",14}"
        );
        var ratio = 0.0;
        var within = true;
        foreach (var count in new[] { 1_000, 10_000, 100_000 })
        {
            var before = GC.GetTotalMemory(forceFullCollection: true);
            var fleet = FleetColumns.Of(SampleFleet.Machines(count));
            var memory = (GC.GetTotalMemory(forceFullCollection: true) - before) / count;
            using var sql = new WideTable(fleet);
            // Each pass parses nothing again but keeps nothing either: a new judgement from the same snapshot.
            var ours = Least(() => FleetSummary.Of(FleetJudgement.Of(aim, fleet, SampleFleet.Now)));
            var theirs = Least(sql.Count);
            Compare(FleetJudgement.Of(aim, fleet, SampleFleet.Now), sql);
            var one = Rejudge(aim, fleet);
            ratio = theirs / ours;
            within = count < 100_000 || ours < MostFor100K;
            // csharpier-ignore
            Console.WriteLine(
                $"{count,10:N0} {ours.TotalMilliseconds,15:0.0} ms {theirs.TotalMilliseconds,13:0.0} ms {ratio,7:0.0} "
                    + $"{one.TotalMilliseconds,9:0.000} ms {memory,8:N0} B each"
            );
        }

        if (!within)
            Console.WriteLine($"100,000 machines took longer than {MostFor100K.TotalSeconds} s");
        return Result.Tell("judge", ratio, Goal) && within;
    }

    private static TimeSpan Least<T>(Func<T> work)
    {
        var least = TimeSpan.MaxValue;
        for (var i = 0; i < Repeats; i++)
        {
            var begun = Stopwatch.GetTimestamp();
            GC.KeepAlive(work());
            var took = Stopwatch.GetElapsedTime(begun);
            if (took < least)
                least = took;
        }

        return least;
    }

    private static TimeSpan Rejudge(Aim aim, FleetColumns fleet)
    {
        var judgement = FleetJudgement.Of(aim, fleet, SampleFleet.Now);
        const int times = 2000;
        var begun = Stopwatch.GetTimestamp();
        for (var i = 0; i < times; i++)
        {
            var row = i % fleet.Count;
            var machine = fleet[row];
            fleet.Put(machine with { Readings = machine.Readings.SetItem(3, machine.Readings[3] with { Seen = SampleFleet.Now }) });
            judgement.Rejudge(row, SampleFleet.Now);
        }

        return Stopwatch.GetElapsedTime(begun) / times;
    }

    /// <summary>Both sides must have counted the same, or the bench compares nothing.</summary>
    private static void Compare(FleetJudgement judgement, WideTable sql)
    {
        var counts = sql.Count();
        for (var i = 0; i < SampleFleet.Columns.Length; i++)
        {
            var column = judgement.Check($"check-{i}")!;
            var met = Enumerable.Range(0, judgement.Rows).Count(r => column[r] == CheckState.Met);
            if (met != counts[i])
                throw new InvalidOperationException(
                    $"check-{i} ({column.Check.Wants}) is met on {met} machines by us, and on {counts[i]} by SQLite."
                );
        }
    }

    /// <summary>
    /// The fleet as a user could lay it out by hand: one row a machine, one typed column a reading, and one for when it was seen.
    /// </summary>
    private sealed class WideTable : IDisposable
    {
        private readonly SqliteConnection _connection = new("Data Source=:memory:");
        private readonly string _query;

        public WideTable(FleetColumns fleet)
        {
            _connection.Open();
            string Name(SampleFleet.Column c) => c.Key.Name["sample.".Length..].Replace('-', '_');
            var columns = SampleFleet.Columns.Select(c =>
                $"{Name(c)} {(c.Key.Kind is ValueKind.Text ? "TEXT" : "INTEGER")}, {Name(c)}_seen INTEGER"
            );
            Execute($"CREATE TABLE fleet ({string.Join(", ", columns)})");
            using var transaction = _connection.BeginTransaction();
            using var insert = _connection.CreateCommand();
            insert.CommandText =
                $"INSERT INTO fleet VALUES "
                + $"({string.Join(", ", Enumerable.Range(0, SampleFleet.Columns.Length * 2).Select(i => $"@p{i}"))})";
            for (var i = 0; i < SampleFleet.Columns.Length * 2; i++)
                insert.Parameters.Add(new($"@p{i}", null));
            for (var row = 0; row < fleet.Count; row++)
            {
                for (var i = 0; i < SampleFleet.Columns.Length; i++)
                {
                    var reading = fleet[row].Find(SampleFleet.Columns[i].Key.Name)!;
                    insert.Parameters[i * 2].Value = Typed(reading) ?? DBNull.Value;
                    insert.Parameters[(i * 2) + 1].Value = reading.Seen.ToUnixTimeSeconds();
                }

                insert.ExecuteNonQuery();
            }

            transaction.Commit();
            var checks = SampleFleet.Aim().Product.Hops[0].Checks;
            _query =
                "SELECT "
                + string.Join(
                    ", ",
                    SampleFleet.Columns.Select(
                        (c, i) =>
                            $"count(*) FILTER (WHERE ({c.Sql})"
                            + (
                                checks[i].Fresh is { } fresh
                                    ? $" AND {Name(c)}_seen >= {(SampleFleet.Now - fresh).ToUnixTimeSeconds()}"
                                    : ""
                            )
                            + ")"
                    )
                )
                + " FROM fleet";
        }

        public long[] Count()
        {
            using var command = _connection.CreateCommand();
            command.CommandText = _query;
            using var reader = command.ExecuteReader();
            reader.Read();
            return [.. Enumerable.Range(0, SampleFleet.Columns.Length).Select(reader.GetInt64)];
        }

        public void Dispose() => _connection.Dispose();

        private static object? Typed(Reading reading) =>
            reading.Value switch
            {
                null => null,
                { Kind: ValueKind.Text } text => text.Text,
                { Kind: ValueKind.Version } version => version.Text.Split('.') is [var a, var b]
                    ? (int.Parse(a, null) * 1000) + int.Parse(b, null)
                    : null,
                var value => (long)value.Amount,
            };

        private void Execute(string sql)
        {
            using var command = _connection.CreateCommand();
            command.CommandText = sql;
            command.ExecuteNonQuery();
        }
    }
}
