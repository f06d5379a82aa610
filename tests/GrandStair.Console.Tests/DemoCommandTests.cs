using System.Diagnostics;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>The command that the README begins with.</summary>
public sealed class DemoCommandTests
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task The_demo_prints_a_link_that_leads_to_the_console_and_its_waves_move()
    {
        var data = Path.Combine(Path.GetTempPath(), $"grandstair-demo-{Guid.NewGuid():N}");
        var port = ServiceProcess.FreePort();
        var lines = new List<string>();
        using var demo = new Process
        {
            StartInfo = new(Path.Combine(Repository.Root, "demo"), ["--data", data, "--port", $"{port}", "--pace", "3000"])
            {
                RedirectStandardOutput = true,
            },
        };
        demo.OutputDataReceived += (_, e) =>
        {
            lock (lines)
                lines.Add(e.Data ?? "");
        };
        demo.Start();
        demo.BeginOutputReadLine();
        try
        {
            string? connection = null;
            await Eventually.TrueAsync(
                () =>
                {
                    lock (lines)
                        connection = lines.FirstOrDefault(l => l.StartsWith("Console: ", StringComparison.Ordinal))?["Console: ".Length..];
                    return Task.FromResult(connection is not null);
                },
                TimeSpan.FromMinutes(8),
                () => $"the demo prints its link; it printed\n{string.Join('\n', lines)}"
            );
            using var http = new HttpClient();
            Assert.Contains("<div id=\"root\">", await http.GetStringAsync(connection, Stop), StringComparison.Ordinal);
            using var client = new Client.GrandStairClient(
                new($"http://127.0.0.1:{port}"),
                (await File.ReadAllTextAsync(Path.Combine(data, "admin.token"), Stop)).Trim()
            );
            var before = await client.PlanAsync("winter-crossing", Stop);
            Assert.Equal("passed", before.Waves[0].State);
            await Eventually.TrueAsync(
                async () => (await client.PlanAsync("winter-crossing", Stop)).Waves[1].Tally["verified"] > 0,
                TimeSpan.FromMinutes(3),
                () => "a machine of the second wave is verified"
            );

            var again = await Shell.RunAsync(Path.Combine(Repository.Root, "demo"), ["--data", "/etc", "--fresh"]);
            Assert.Equal(1, again.Exit);
            Assert.Contains("is no demo's data folder; it was not deleted", again.Error, StringComparison.Ordinal);
            Assert.Equal(2, (await Shell.RunAsync(Path.Combine(Repository.Root, "demo"), ["--speed", "9"])).Exit);
        }
        finally
        {
            // The script hands its process over to the service, so this is the service.
            demo.Kill();
            await demo.WaitForExitAsync(CancellationToken.None);
            Directory.Delete(data, recursive: true);
        }
    }
}
