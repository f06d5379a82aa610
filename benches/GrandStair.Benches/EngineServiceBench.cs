using System.Diagnostics;
using Dapper;
using GrandStair.Connections.Simulation;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using GrandStair.Testing;
using Microsoft.Data.Sqlite;

namespace GrandStair.Benches;

/// <summary>
/// The service with ten thousand open runs on simulated machines, half of them in a step that lasts for hours, half without contact, while
/// two thousand more go through as quickly as they can: events a second, against inserts of the same events in batches and nothing else,
/// and how long the list of runs takes meanwhile.
/// </summary>
internal static class EngineServiceBench
{
    private const double Goal = 0.5;
    private const int Long = EngineBench.Long;
    private const int Silent = EngineBench.Silent;
    private const int Quick = 2_000;
    private const int Batch = 500;
    private static readonly TimeSpan MostForList = TimeSpan.FromMilliseconds(100);
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(8);

    public static async Task<bool> RunAsync()
    {
        using var stop = new CancellationTokenSource(Limit * 2);
        var data = Directory.CreateTempSubdirectory("grandstair-bench-").FullName;
        var file = Path.Combine(data, "grandstair.db");
        var begin = await PrepareAsync(data, file, stop.Token);
        // It deletes the folder when it ends.
        await using var service = await ServiceProcess.StartAsync(data, ["--rate", "1000000"]);
        await using var database = new SqliteConnection($"Data Source={file};Mode=ReadOnly");
        await Eventually.TrueAsync(
            async () => await database.ExecuteScalarAsync<long>("SELECT count(*) FROM runs WHERE progress IS NOT NULL") >= Long + Silent,
            Limit,
            () =>
                $"all are running or silent; {database.ExecuteScalar<long>("SELECT count(*) FROM runs WHERE progress IS NOT NULL")} of "
                + $"{Long + Silent} are, and the quick ones begin at {begin:HH:mm:ss}"
        );
        if (DateTimeOffset.UtcNow > begin)
            throw new InvalidOperationException("The quick runs had begun before all others were looked at.");
        await Task.Delay(begin - DateTimeOffset.UtcNow, stop.Token);

        using var listed = CancellationTokenSource.CreateLinkedTokenSource(stop.Token);
        var lists = ListAsync(service, listed.Token);
        const string Verified = "SELECT count(*) FROM plan_members WHERE plan = 'quick' AND (verified IS NOT NULL OR status = 'Parked')";
        // A few fail a step on the way and pause for minutes before they try again.
        await Eventually.TrueAsync(
            async () => await database.ExecuteScalarAsync<long>(Verified) >= Quick * 9 / 10,
            Limit,
            () => $"nine in ten quick runs are verified; {database.ExecuteScalar<long>(Verified)} are"
        );
        var took = DateTimeOffset.UtcNow - begin;
        await listed.CancelAsync();
        var waits = await lists;
        var memory = Process.GetProcessById(service.Id).WorkingSet64 >> 20;
        var events = await database.ExecuteScalarAsync<long>(
            "SELECT count(*) FROM run_events e JOIN runs r ON r.id = e.run_id WHERE r.plan = 'quick' AND e.at >= @from",
            new { from = begin.ToUnixTimeMilliseconds() * 1000 }
        );
        await service.KillAsync();
        var raw = await InsertAsync(database, Path.Combine(data, "raw.db"));

        var (rate, p95) = (events / took.TotalSeconds, waits[(int)(waits.Count * 0.95)]);
        EngineBench.Row("open runs in the service", Long + Silent);
        EngineBench.Row("quick runs beside them", Quick);
        EngineBench.Row("their events", events);
        EngineBench.Row("nine in ten verified after, s", took.TotalSeconds);
        EngineBench.Row("events a second", rate);
        EngineBench.Row("inserts a second of the same events alone", raw);
        EngineBench.Row("lists of runs meanwhile", waits.Count);
        EngineBench.Row("p95 of a list, ms", p95.TotalMilliseconds);
        EngineBench.Row("memory of the service, MiB", memory);
        return Result.Tell("engine", rate / raw, Goal) && p95 < MostForList && memory < EngineBench.MostMemory;
    }

    /// <summary>Fills a data folder with machines, both plans and their open runs.</summary>
    /// <returns>When the quick runs begin, UTC.</returns>
    private static async Task<DateTimeOffset> PrepareAsync(string data, string file, CancellationToken stop)
    {
        await using var database = await Database.OpenAsync(file, stop);
        var now = DateTimeOffset.UtcNow;
        var catalogues = await EngineBench.LoadCatalogueAsync(database, now, stop);
        await EngineBench.ImportAsync(database, catalogues, Long + Silent + Quick, "simulated", now, stop);
        using (var world = new SimulatedMachines(Path.Combine(data, "simulated.db")))
            world.Add(Enumerable.Range(1, Long + Silent + Quick).Select(i => ($"desk-{i:00000}", Truth(i))));
        IReadOnlyList<Core.Readings.Machine> machines;
        using (var fleet = new Engine.Fleet.FleetCache(new(database), new(database)))
            machines = [.. (await fleet.AllAsync(stop)).Values.OrderBy(m => m.Id.Value)];
        var (plans, runs) = (new PlanTable(database), new RunLog(database));
        var product = catalogues.Products["Brae Desktop"];
        await EngineBench.OpenAsync(plans, runs, product, "long", [.. machines.Take(Long + Silent)], now.AddDays(1), now, stop);
        var begin = DateTimeOffset.UtcNow.AddSeconds(240);
        await EngineBench.OpenAsync(plans, runs, product, "quick", [.. machines.Skip(Long + Silent)], begin, now, stop);
        return begin;
    }

    private static IReadOnlyDictionary<string, string> Truth(int machine)
    {
        var truth = EngineBench.Readings.ToDictionary(r => r.Key, r => r.Value);
        truth["truth.backup"] = "nightly";
        truth["truth.away"] = machine is > Long and <= Long + Silent ? "1" : "0";
        truth["truth.slowness"] = machine <= Long ? "1000" : "0.0001";
        return truth;
    }

    /// <summary>Asks for the first page of open runs again and again.</summary>
    /// <returns>How long each took, the shortest first.</returns>
    private static async Task<IReadOnlyList<TimeSpan>> ListAsync(ServiceProcess service, CancellationToken stop)
    {
        using var client = service.Client;
        var waits = new List<TimeSpan>();
        try
        {
            while (!stop.IsCancellationRequested)
            {
                var began = Stopwatch.GetTimestamp();
                await client.RunsAsync(null, null, 100, stop);
                waits.Add(Stopwatch.GetElapsedTime(began));
                await Task.Delay(100, stop);
            }
        }
        catch (OperationCanceledException)
        {
            // Enough were asked.
        }

        waits.Sort();
        return waits;
    }

    /// <summary>Inserts all events anew into an empty database, in batches, and nothing else.</summary>
    /// <returns>Events a second.</returns>
    private static async Task<double> InsertAsync(SqliteConnection from, string path)
    {
        var events = (
            await from.QueryAsync<Event>("SELECT run_id AS Run, number, position, at, type, version, actor, epoch, body FROM run_events")
        ).AsList();
        await using var raw = new SqliteConnection($"Data Source={path};Foreign Keys=False");
        await raw.OpenAsync();
        await raw.ExecuteAsync(
            $"PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; "
                + $"{await from.ExecuteScalarAsync<string>("SELECT sql FROM sqlite_master WHERE name = 'run_events'")}"
        );
        var began = Stopwatch.GetTimestamp();
        foreach (var batch in events.Chunk(Batch))
        {
            await using var transaction = await raw.BeginTransactionAsync();
            foreach (var e in batch)
                await raw.ExecuteAsync(
                    "INSERT INTO run_events (run_id, number, position, at, type, version, actor, epoch, body) VALUES (@Run, @Number, "
                        + "@Position, @At, @Type, @Version, @Actor, @Epoch, @Body)",
                    e,
                    transaction
                );
            await transaction.CommitAsync();
        }

        return events.Count / Stopwatch.GetElapsedTime(began).TotalSeconds;
    }

    private sealed record Event(
        long Run,
        long Number,
        long Position,
        long At,
        string Type,
        long Version,
        string Actor,
        long Epoch,
        string Body
    );
}
