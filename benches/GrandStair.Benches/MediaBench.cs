using System.Diagnostics;
using GrandStair.Connections.Simulation;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Media;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using GrandStair.Testing;
using Microsoft.AspNetCore.DataProtection;

namespace GrandStair.Benches;

/// <summary>
/// The service hands a file of 4 GiB to 32 clients at once, each of which asks for ranges of it, against nginx with the same file, the same
/// ranges and the same clients.
/// </summary>
internal static class MediaBench
{
    private const double Goal = 0.9;
    private const int Clients = 32;
    private const int Passes = 3;
    private const long Size = 4L << 30;
    private const long Part = 64L << 20;
    private const long MostMemory = 300;

    // That of so many zeros; nobody compares it here.
    private const string Sha256 = "8479e43911dc45e89f934fe48d01297e16f51d17aa561d4d1c216b1ae0fcddca";
    private const string Order = "r1/1/clean/1";
    private static readonly TimeSpan Pass = TimeSpan.FromSeconds(8);

    public static async Task<bool> RunAsync()
    {
        using var stop = new CancellationTokenSource(TimeSpan.FromMinutes(5));
        var data = Directory.CreateTempSubdirectory("grandstair-bench-").FullName;
        await PrepareAsync(data, stop.Token);
        // It deletes the folder when it ends.
        await using var service = await ServiceProcess.StartAsync(data, []);
        var path = $"/media/{Sha256}";
        using var ours = new HttpClient { BaseAddress = service.Url };
        var protection = DataProtectionProvider.Create(new DirectoryInfo(Path.Combine(data, "keys")), p =>
            p.SetApplicationName("grandstair")
        );
        var token = protection.CreateProtector("orders").Protect($"{Order} {path}");
        ours.DefaultRequestHeaders.Authorization = new("Order", token);
        await Eventually.TrueAsync(
            async () => (await AskAsync(ours, path, 0, 1, stop.Token)) == 1,
            TimeSpan.FromMinutes(1),
            () => $"order {Order} is outstanding"
        );
        using var nginx = await StartNginxAsync(data);
        using var theirs = new HttpClient { BaseAddress = nginx.Url };

        var (best, baseline) = (0.0, 0.0);
        for (var pass = 1; pass <= Passes; pass++)
        {
            var (a, b) = (await ReadAsync(ours, path, stop.Token), await ReadAsync(theirs, $"/{Sha256}", stop.Token));
            EngineBench.Row($"pass {pass}: the service, MiB/s", a);
            EngineBench.Row($"pass {pass}: nginx, MiB/s", b);
            EngineBench.Row($"pass {pass}: nginx without sendfile, MiB/s", await ReadAsync(theirs, $"/copied/{Sha256}", stop.Token));
            (best, baseline) = (Math.Max(best, a), Math.Max(baseline, b));
        }

        var memory = Process.GetProcessById(service.Id).PeakWorkingSet64 >> 20;
        EngineBench.Row("peak memory of the service, MiB", memory);
        return Result.Tell("media", best / baseline, Goal) && memory < MostMemory;
    }

    /// <summary>Fills a data folder with the file, and a machine that does not answer, so that its first step stays outstanding.</summary>
    private static async Task PrepareAsync(string data, CancellationToken stop)
    {
        await using var database = await Database.OpenAsync(Path.Combine(data, "grandstair.db"), stop);
        var now = DateTimeOffset.UtcNow;
        var catalogues = await EngineBench.LoadCatalogueAsync(database, now, stop);
        await EngineBench.ImportAsync(database, catalogues, 1, "simulated", now, stop);
        using (var world = new SimulatedMachines(Path.Combine(data, "simulated.db")))
            world.Add([("desk-00001", new Dictionary<string, string> { ["truth.away"] = "1" })]);
        using var fleet = new Engine.Fleet.FleetCache(new(database), new(database));
        var product = catalogues.Products["Brae Desktop"];
        Core.Readings.Machine[] machines = [.. (await fleet.AllAsync(stop)).Values];
        await EngineBench.OpenAsync(new PlanTable(database), new RunLog(database), product, "one", machines, now.AddDays(1), now, stop);
        var folder = new MediaFolder(Path.Combine(data, "media"));
        await using (var file = new FileStream(folder.PathOf(Sha256), FileMode.Create))
            file.SetLength(Size);
        await new MediaTable(database).AddAsync(new(Sha256, "large.img", Size, now, "bench", null), new("bench"), stop);
    }

    /// <summary>Reads ranges of the file with all clients for some time.</summary>
    /// <returns>MiB a second, of all clients together.</returns>
    private static async Task<double> ReadAsync(HttpClient http, string path, CancellationToken stop)
    {
        var began = Stopwatch.GetTimestamp();
        var read = await Task.WhenAll(
            Enumerable
                .Range(0, Clients)
                .Select(async client =>
                {
                    var bytes = 0L;
                    for (var part = client; Stopwatch.GetElapsedTime(began) < Pass; part += Clients)
                        bytes += await AskAsync(http, path, part * Part % Size, Part, stop);
                    return bytes;
                })
        );
        return read.Sum() / (double)(1 << 20) / Stopwatch.GetElapsedTime(began).TotalSeconds;
    }

    /// <summary>Asks for a range, and reads it.</summary>
    /// <returns>How many bytes came; 0 where the range was refused.</returns>
    private static async Task<long> AskAsync(HttpClient http, string path, long from, long length, CancellationToken stop)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, path) { Headers = { Range = new(from, from + length - 1) } };
        using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, stop);
        if (response.StatusCode != System.Net.HttpStatusCode.PartialContent)
            return 0;
        await using var content = await response.Content.ReadAsStreamAsync(stop);
        var (buffer, bytes, read) = (new byte[1 << 17], 0L, 0);
        while ((read = await content.ReadAsync(buffer, stop)) > 0)
            bytes += read;
        return bytes;
    }

    private static async Task<Nginx> StartNginxAsync(string data)
    {
        var port = ServiceProcess.FreePort();
        var configuration = Path.Combine(data, "nginx.conf");
        await File.WriteAllTextAsync(
            configuration,
            $$"""
            daemon off;
            user root;
            worker_processes auto;
            pid {{data}}/nginx.pid;
            error_log {{data}}/nginx.log;
            events { worker_connections 256; }
            http {
                access_log off;
                sendfile on;
                server { location /copied/ { alias {{data}}/media/; sendfile off; } listen 127.0.0.1:{{port}}; root {{data}}/media; }
            }
            """
        );
        var nginx = new Nginx(
            Process.Start(new ProcessStartInfo("/usr/sbin/nginx", ["-c", configuration, "-p", data]))!,
            new($"http://127.0.0.1:{port}")
        );
        using var http = new HttpClient { BaseAddress = nginx.Url };
        await Eventually.TrueAsync(
            async () =>
            {
                try
                {
                    return await AskAsync(http, $"/{Sha256}", 0, 1, CancellationToken.None) == 1;
                }
                catch (HttpRequestException)
                {
                    return false;
                }
            },
            TimeSpan.FromSeconds(20),
            () => "nginx answers"
        );
        return nginx;
    }

    private sealed record Nginx(Process Process, Uri Url) : IDisposable
    {
        public void Dispose()
        {
            Process.Kill(entireProcessTree: true);
            Process.WaitForExit();
            Process.Dispose();
        }
    }
}
