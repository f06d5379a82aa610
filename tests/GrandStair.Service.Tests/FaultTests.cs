using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>What goes wrong around the service.</summary>
public sealed class FaultTests
{
    [Fact]
    public async Task A_full_disk_under_the_database_is_told_and_nothing_that_was_kept_is_lost()
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-full-").FullName;
        Assert.Equal(0, (await Shell.RunAsync("mount", ["-t", "tmpfs", "-o", "size=3m", "tmpfs", folder])).Exit);
        try
        {
            await using var service = await ServiceProcess.StartAsync(Path.Combine(folder, "data"), []);
            var small = Path.Combine(Path.GetTempPath(), $"small-{Guid.NewGuid():N}.csv");
            await File.WriteAllTextAsync(
                small,
                "name,site,connection\nkept-1,Westhaven,simulated\n",
                TestContext.Current.CancellationToken
            );
            Assert.Equal(0, (await service.GstairAsync("fleet", "import", small)).Exit);

            var large = Path.Combine(Path.GetTempPath(), $"large-{Guid.NewGuid():N}.csv");
            await File.WriteAllLinesAsync(
                large,
                Enumerable
                    .Range(0, 9000)
                    .Select(i => i == 0 ? "name,site,connection,hardware.model" : $"many-{i},Westhaven,simulated,{new string('x', 300)}"),
                TestContext.Current.CancellationToken
            );
            var full = await service.GstairAsync("fleet", "import", large, "--seen", "now");
            Assert.Equal(8, full.Exit);
            Assert.Contains("disk is full", full.Error, StringComparison.Ordinal);
            Assert.Contains("Make room on the disk", full.Error, StringComparison.Ordinal);
            Assert.Contains("1 machine", (await service.GstairAsync("fleet", "list", "name = kept-1")).Out, StringComparison.Ordinal);

            await Shell.RunAsync("mount", ["-o", "remount,size=200m", folder]);
            await Eventually.TrueAsync(
                async () => (await service.GstairAsync("fleet", "import", large, "--seen", "now")).Exit == 0,
                TimeSpan.FromMinutes(1),
                () => "the import goes through once there is room"
            );
            Assert.Contains("9000 machines", (await service.GstairAsync("fleet", "list", "--limit", "1")).Out, StringComparison.Ordinal);
            await service.KillAsync();
            File.Delete(small);
            File.Delete(large);
        }
        finally
        {
            await Shell.RunAsync("umount", ["-l", folder]);
        }
    }

    [Fact]
    public async Task A_damaged_database_a_locked_one_and_a_folder_that_cannot_be_written_are_each_called_what_they_are()
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-faults-").FullName;
        Assert.Equal(0, (await Shell.RunAsync("mount", ["-t", "tmpfs", "-o", "size=50m", "tmpfs", folder])).Exit);
        var data = Path.Combine(folder, "data");
        var file = Path.Combine(data, "grandstair.db");
        try
        {
            await using var service = await ServiceProcess.StartAsync(data, []);
            await using (var locks = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={file};Pooling=False"))
            {
                await locks.OpenAsync(TestContext.Current.CancellationToken);
                await using var begin = locks.CreateCommand();
                begin.CommandText = "BEGIN IMMEDIATE";
                await begin.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
                var locked = await service.GstairAsync("plan", "create", service.Write(SmallPlan, "plan.yaml"));
                Assert.Equal(8, locked.Exit);
                Assert.Contains($"Another process has locked the database at {file}", locked.Error, StringComparison.Ordinal);
            }

            await service.KillAsync();
            await Shell.RunAsync("mount", ["-o", "remount,ro", folder]);
            var unwritable = await StartAsync(data);
            Assert.Equal(1, unwritable.Exit);
            Assert.Contains($"The data folder {data} cannot be written", unwritable.Error, StringComparison.Ordinal);

            await Shell.RunAsync("mount", ["-o", "remount,rw", folder]);
            await using (var damaged = File.OpenWrite(file))
            {
                damaged.Seek(8192, SeekOrigin.Begin);
                await damaged.WriteAsync(
                    new byte[8192]
                        .Select(_ => (byte)0xA5)
                        .ToArray(),
                    TestContext.Current.CancellationToken
                );
            }

            var ran = await StartAsync(data);
            Assert.Equal(1, ran.Exit);
            Assert.Contains($"The database at {file} is damaged", ran.Error, StringComparison.Ordinal);
            Assert.Contains("restore the last good backup", ran.Error, StringComparison.Ordinal);
        }
        finally
        {
            await Shell.RunAsync("umount", ["-l", folder]);
        }
    }

    private const string SmallPlan = """
        plan: locked-out
        target: { product: Brae Desktop, release: "7" }
        scope: os.version < 7
        methods: [image-in-place]
        waves: [{ name: All }]
        windows: [{ zone: Europe/London, weekly: ["Sat 18:00-23:00"] }]
        """;

    private static Task<Ran> StartAsync(string data) =>
        Shell.RunAsync(
            "dotnet",
            [
                Repository.Built("GrandStair.Service", "grandstair"),
                "--data",
                data,
                "--port",
                "0",
                "--catalogue",
                Path.Combine(Repository.Root, "catalogue"),
            ]
        );

    [Fact]
    public async Task A_wrong_option_ends_the_start_with_what_was_expected()
    {
        var ran = await Shell.RunAsync("dotnet", [Repository.Built("GrandStair.Service", "grandstair"), "--port", "high"]);
        Assert.Equal(1, ran.Exit);
        Assert.Contains("--port is 'high'; expected a number from 0 to 65535", ran.Error, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_pace_other_than_real_is_for_simulated_machines_alone()
    {
        await using var service = await ServiceProcess.StartAsync("--pace", "60");
        var file = Path.Combine(service.Data, "real.csv");
        await File.WriteAllTextAsync(file, "name,connection,address\nreal-1,ssh,127.0.0.1\n", TestContext.Current.CancellationToken);
        var ran = await service.GstairAsync("fleet", "import", file);
        Assert.Equal(9, ran.Exit);
        Assert.Contains(
            "real.csv:2: 'real-1' is reached by ssh, and this service runs at pace 60, which is for simulated machines alone",
            ran.Error,
            StringComparison.Ordinal
        );
        Assert.Contains("0 machines", (await service.GstairAsync("fleet", "list")).Out, StringComparison.Ordinal);
    }
}
