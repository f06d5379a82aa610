using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.Logging;

namespace GrandStair.Benches;

/// <summary>Asks the list of machines with a filter, 32 clients at once, against Kestrel that returns the same bytes from memory.</summary>
internal static class ListBench
{
    private const double Goal = 0.1;
    private const int Clients = 32;
    private const int CallsEach = 40;
    private const string Query = "/api/v1/machines?limit=100&filter=sample.number-0%20%3E%2050%20and%20site%20like%20%22Site%203*%22";

    public static async Task<bool> RunAsync()
    {
        // csharpier-ignore
        Console.WriteLine($"{"machines",10} {"list p50",12} {"list p99",12} {"bytes p50",12} {"bytes p99",12} {"ratio p99",10}");
        var ratio = 0.0;
        foreach (var count in new[] { 1_000, 10_000, 100_000 })
        {
            var data = Directory.CreateTempSubdirectory("grandstair-bench-").FullName;
            try
            {
                await FillAsync(Path.Combine(data, "grandstair.db"), count);
                var port = FreePort();
                using var service = Start(data, port);
                try
                {
                    using var http = await ClientAsync(data, port);
                    var bytes = await http.GetByteArrayAsync(new Uri(Query, UriKind.Relative));
                    var list = await CallAsync(http);
                    await using var plain = await PlainAsync(bytes);
                    using var other = new HttpClient { BaseAddress = new(plain.Urls.First()) };
                    var baseline = await CallAsync(other);
                    ratio = baseline.P99 / list.P99;
                    // csharpier-ignore
                    Console.WriteLine(
                        $"{count,10:N0} {list.P50.TotalMilliseconds,9:0.0} ms {list.P99.TotalMilliseconds,9:0.0} ms "
                            + $"{baseline.P50.TotalMilliseconds,9:0.0} ms {baseline.P99.TotalMilliseconds,9:0.0} ms {ratio,10:0.00}"
                    );
                }
                finally
                {
                    service.Kill();
                    await service.WaitForExitAsync();
                }
            }
            finally
            {
                Directory.Delete(data, recursive: true);
            }
        }

        return Result.Tell("list", ratio, Goal);
    }

    private static async Task FillAsync(string path, int count)
    {
        await using var database = await Database.OpenAsync(path, default);
        await new FleetTable(database).ImportAsync(
            SampleFleet
                .Machines(count)
                .Select(m => new ReportedMachine(
                    0,
                    m.Name,
                    [],
                    m.Site,
                    m.Group,
                    m.Owner,
                    m.Tags,
                    m.Connection,
                    new SourceReport("inventory", [], m.Readings),
                    SampleFleet.Now
                )),
            "inventory",
            new("bench"),
            SampleFleet.Now,
            default
        );
    }

    private static Process Start(string data, int port)
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "GrandStair.slnx")))
            root = Path.GetDirectoryName(root)!;
        var catalogue = Directory.CreateDirectory(Path.Combine(data, "catalogue", "sample")).FullName;
        File.WriteAllText(
            Path.Combine(catalogue, "product.yaml"),
            "product: Sample\nis: os.product = Sample\nversion-key: os.version\nkeys:\n"
                + string.Concat(
                    SampleFleet.Columns.Select(c =>
                        $"  - {{ key: {c.Key.Name}, kind: {c.Key.Kind.ToString().ToLowerInvariant()}, meaning: sample }}\n"
                    )
                )
        );
        var start = new ProcessStartInfo(
            "dotnet",
            [
                Path.Combine(root, "src/GrandStair.Service/bin/Release/net10.0/grandstair.dll"),
                "--data",
                data,
                "--port",
                $"{port}",
                "--catalogue",
                Path.GetDirectoryName(catalogue)!,
                "--rate",
                "1000000",
            ]
        )
        {
            RedirectStandardOutput = true,
        };
        var process = Process.Start(start)!;
        process.BeginOutputReadLine();
        return process;
    }

    private static async Task<HttpClient> ClientAsync(string data, int port)
    {
        var http = new HttpClient { BaseAddress = new($"http://127.0.0.1:{port}"), Timeout = TimeSpan.FromMinutes(2) };
        for (var tries = 0; ; tries++)
        {
            try
            {
                if ((await http.GetAsync(new Uri("/health/ready", UriKind.Relative))).IsSuccessStatusCode)
                    break;
            }
            catch (HttpRequestException) when (tries < 300)
            {
                // It is still starting.
            }

            await Task.Delay(200);
        }

        http.DefaultRequestHeaders.Authorization = new(
            "Bearer",
            (await File.ReadAllTextAsync(Path.Combine(data, "admin.token"), Encoding.UTF8)).Trim()
        );
        return http;
    }

    /// <summary>Kestrel with the same bytes in memory.</summary>
    private static async Task<WebApplication> PlainAsync(byte[] bytes)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        var app = builder.Build();
        app.MapGet("/api/v1/machines", () => Results.Bytes(bytes, "application/json"));
        await app.StartAsync();
        return app;
    }

    private static async Task<(TimeSpan P50, TimeSpan P99)> CallAsync(HttpClient http)
    {
        for (var i = 0; i < 20; i++)
            await http.GetByteArrayAsync(new Uri(Query, UriKind.Relative));
        var clients = Enumerable
            .Range(0, Clients)
            .Select(async _ =>
            {
                var took = new List<TimeSpan>();
                for (var i = 0; i < CallsEach; i++)
                {
                    var begun = Stopwatch.GetTimestamp();
                    await http.GetByteArrayAsync(new Uri(Query, UriKind.Relative));
                    took.Add(Stopwatch.GetElapsedTime(begun));
                }

                return took;
            });
        var all = (await Task.WhenAll(clients)).SelectMany(t => t).Order().ToArray();
        return (all[all.Length / 2], all[all.Length * 99 / 100]);
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
