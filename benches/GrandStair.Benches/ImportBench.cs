using System.Diagnostics;
using System.Globalization;
using System.Text;
using GrandStair.Files.Fleet;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using Microsoft.Data.Sqlite;

namespace GrandStair.Benches;

/// <summary>Imports a fleet from CSV, against raw batched inserts of the same rows into SQLite with the same settings.</summary>
internal static class ImportBench
{
    private const double Goal = 0.5;

    public static async Task<bool> RunAsync()
    {
        // csharpier-ignore
        Console.WriteLine($"{"machines",10} {"import",14} {"rows/s",10} {"raw inserts",14} {"rows/s",10} {"ratio",7}");
        var ratio = 0.0;
        foreach (var count in new[] { 1_000, 10_000, 100_000 })
        {
            var folder = Directory.CreateTempSubdirectory("grandstair-bench-").FullName;
            try
            {
                var csv = Path.Combine(folder, "fleet.csv");
                await WriteAsync(csv, count);
                var ours = await ImportAsync(csv, Path.Combine(folder, "ours.db"), count);
                var raw = Raw(Path.Combine(folder, "ours.db"), Path.Combine(folder, "raw.db"));
                ratio = raw / ours;
                // csharpier-ignore
                Console.WriteLine(
                    $"{count,10:N0} {ours.TotalSeconds,12:0.00} s {count / ours.TotalSeconds,10:N0} {raw.TotalSeconds,12:0.00} s "
                        + $"{count / raw.TotalSeconds,10:N0} {ratio,7:0.00}"
                );
            }
            finally
            {
                Directory.Delete(folder, recursive: true);
            }
        }

        return Result.Tell("import", ratio, Goal);
    }

    private static async Task WriteAsync(string file, int count)
    {
        await using var writer = new StreamWriter(file, append: false, Encoding.UTF8);
        await writer.WriteLineAsync("name,site,group,connection,seen," + string.Join(',', SampleFleet.Columns.Select(c => c.Key.Name)));
        var chance = new Random(20270111);
        for (var i = 1; i <= count; i++)
            await writer.WriteLineAsync(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"desk-{i:000000},Site {i % 400},group "
                        + $"{i % 7},simulated,2027-01-11T08:00:00Z,{string.Join(',', SampleFleet.Columns.Select(c => c.Draw(chance)))}"
                )
            );
    }

    private static async Task<TimeSpan> ImportAsync(string csv, string path, int count)
    {
        await using var database = await Database.OpenAsync(path, default);
        var table = new FleetTable(database);
        var begun = Stopwatch.GetTimestamp();
        using var reader = new StreamReader(csv, Encoding.UTF8);
        var file = new FleetFile(reader, "fleet.csv", new("inventory"), SampleFleet.Keys, SampleFleet.Now);
        var result = await table.ImportAsync(file.Lines(), "inventory", new("bench"), SampleFleet.Now, default);
        if (result.Added != count)
            throw new InvalidOperationException(
                $"{result.Added} of {count} machines were added: {string.Join("; ", file.Problems.Take(3))}"
            );
        return Stopwatch.GetElapsedTime(begun);
    }

    /// <summary>
    /// Writes every row that the import wrote into an empty copy of its tables, with prepared statements, a thousand machines a
    /// transaction.
    /// </summary>
    private static TimeSpan Raw(string from, string to)
    {
        using var source = Open(from);
        using var target = Open(to);
        var tables = new[] { "machines", "identifiers", "readings" };
        foreach (var table in tables)
            Execute(target, (string)Scalar(source, $"SELECT sql FROM sqlite_master WHERE name = '{table}'")!);
        var rows = tables.ToDictionary(t => t, t => Rows(source, t));
        var begun = Stopwatch.GetTimestamp();
        foreach (var table in tables)
        {
            var width = rows[table][0].Length;
            using var insert = target.CreateCommand();
            insert.CommandText = $"INSERT INTO {table} VALUES ({string.Join(", ", Enumerable.Range(0, width).Select(i => $"@p{i}"))})";
            for (var i = 0; i < width; i++)
                insert.Parameters.Add(new($"@p{i}", null));
            foreach (var batch in rows[table].Chunk(1000))
            {
                using var transaction = target.BeginTransaction();
                insert.Transaction = transaction;
                foreach (var row in batch)
                {
                    for (var i = 0; i < width; i++)
                        insert.Parameters[i].Value = row[i];
                    insert.ExecuteNonQuery();
                }

                transaction.Commit();
            }
        }

        return Stopwatch.GetElapsedTime(begun);
    }

    private static List<object[]> Rows(SqliteConnection connection, string table)
    {
        using var command = connection.CreateCommand();
        command.CommandText = $"SELECT * FROM {table}";
        using var reader = command.ExecuteReader();
        var rows = new List<object[]>();
        while (reader.Read())
        {
            var row = new object[reader.FieldCount];
            reader.GetValues(row);
            rows.Add(row);
        }

        return rows;
    }

    private static SqliteConnection Open(string path)
    {
        var connection = new SqliteConnection($"Data Source={path}");
        connection.Open();
        Execute(connection, "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = OFF;");
        return connection;
    }

    private static object? Scalar(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        return command.ExecuteScalar();
    }

    private static void Execute(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }
}
