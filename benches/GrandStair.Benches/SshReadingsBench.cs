using System.Collections.Immutable;
using System.Diagnostics;
using System.Globalization;
using GrandStair.Connections.Ssh;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;

namespace GrandStair.Benches;

/// <summary>
/// Reads two hundred machines over SSH and keeps what they say, against xargs with the ssh command doing the same and keeping nothing;
/// on both sides 32 at once and with the same key exchange. First every connection is made, then they are there already.
/// </summary>
internal static class SshReadingsBench
{
    private const double GoalCold = 1;
    private const double GoalKept = 2.5;
    private const int Targets = 200;
    private const int AtOnce = 32;
    private const int Repeats = 3;
    private const int Port = 2222;
    private const string KeyExchange = "curve25519-sha256";

    private const string Script = """
        echo "os.product = $(. /etc/os-release; echo $ID)"
        echo "hardware.memory = $(awk '/^MemTotal:/ { print $2 }' /proc/meminfo) KiB"
        echo "disk.system.free = $(df -Pk / | awk 'NR == 2 { print $4 }') KiB"
        echo "boot.id = $(cat /proc/sys/kernel/random/boot_id)"
        """;

    public static async Task<bool> RunAsync()
    {
        if (Environment.UserName != "root")
            throw new InvalidOperationException("The targets are real sshds that let root in; run this bench as root.");
        var folder = Directory.CreateTempSubdirectory("grandstair-bench-").FullName;
        var daemons = new List<Process>();
        try
        {
            await RunAsync("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", Path.Combine(folder, "key")]);
            Directory.CreateDirectory("/run/sshd");
            var machines = new List<Machine>();
            for (var i = 0; i < Targets; i++)
                machines.Add(await StartAsync(folder, i, daemons));
            await File.WriteAllLinesAsync(
                Path.Combine(folder, "known"),
                machines.Select(m => $"[{m.Connection.Address}]:{Port} {m.Connection.HostKey}")
            );
            await File.WriteAllLinesAsync(Path.Combine(folder, "targets"), machines.Select(m => m.Connection.Address));
            return await CompareAsync(folder, machines);
        }
        finally
        {
            foreach (var daemon in daemons)
            {
                daemon.Kill();
                daemon.Dispose();
            }

            Directory.Delete(folder, recursive: true);
        }
    }

    private static async Task<bool> CompareAsync(string folder, IReadOnlyList<Machine> machines)
    {
        await using var database = await Database.OpenAsync(Path.Combine(folder, "fleet.db"), default);
        var table = new FleetTable(database);
        await table.ImportAsync(
            machines.Select(m => new ReportedMachine(
                0,
                m.Name,
                [],
                m.Site,
                m.Group,
                m.Owner,
                m.Tags,
                m.Connection,
                new SourceReport("inventory", [], []),
                SampleFleet.Now
            )),
            "inventory",
            new("bench"),
            SampleFleet.Now,
            default
        );
        var (xargs, cold, kept) = (TimeSpan.MaxValue, TimeSpan.MaxValue, TimeSpan.MaxValue);
        // csharpier-ignore
        Console.WriteLine($"{"pass",5} {"xargs ssh",16} {"cold",16} {"kept connections",18}");
        for (var pass = 1; pass <= Repeats; pass++)
        {
            var theirs = await TimeAsync(() => XargsAsync(folder));
            using var connection = new SshConnection(new(new FileKey(Path.Combine(folder, "key")), "bench", PostQuantum: false));
            var first = await TimeAsync(() => ReadAsync(connection, table, machines));
            var again = await TimeAsync(() => ReadAsync(connection, table, machines));
            // csharpier-ignore
            Console.WriteLine(
                string.Create(CultureInfo.InvariantCulture, $"{pass,5} {Rate(theirs),16} {Rate(first),16} {Rate(again),18}")
            );
            (xargs, cold, kept) = (Least(xargs, theirs), Least(cold, first), Least(kept, again));
        }

        var met = Result.Tell("ssh-readings-cold", xargs / cold, GoalCold);
        return Result.Tell("ssh-readings-kept", xargs / kept, GoalKept) && met;
    }

    private static string Rate(TimeSpan took) =>
        string.Create(CultureInfo.InvariantCulture, $"{Targets / took.TotalSeconds:0.0} machines/s");

    private static TimeSpan Least(TimeSpan a, TimeSpan b) => a < b ? a : b;

    private static async Task<TimeSpan> TimeAsync(Func<Task> work)
    {
        var begun = Stopwatch.GetTimestamp();
        await work();
        return Stopwatch.GetElapsedTime(begun);
    }

    private static Task ReadAsync(SshConnection connection, FleetTable table, IReadOnlyList<Machine> machines) =>
        Parallel.ForEachAsync(machines, new ParallelOptions { MaxDegreeOfParallelism = AtOnce }, async (machine, stop) =>
        {
            var output = (await connection.ReadAsync(machine, [Script], [], stop)).Single().Text;
            var now = DateTimeOffset.UtcNow;
            ImmutableArray<Reading> readings = [.. ReadingLines.Parse(output, KeyRegistry.BuiltIn, connection.Kind, now, out _)];
            if (readings.Length != 4)
                throw new InvalidOperationException($"{machine.Name} said '{output}', which is {readings.Length} readings; expected 4.");
            await table.PutReadingsAsync(machine.Id, new(connection.Kind, [], readings), now, now, new("bench"), stop);
        });

    private static Task XargsAsync(string folder) =>
        RunAsync(
            "xargs",
            [
                "-a",
                Path.Combine(folder, "targets"),
                "-P",
                $"{AtOnce}",
                "-I",
                "{}",
                "ssh",
                "-F",
                "none",
                "-i",
                Path.Combine(folder, "key"),
                "-p",
                $"{Port}",
                "-o",
                $"KexAlgorithms={KeyExchange}",
                "-o",
                $"UserKnownHostsFile={Path.Combine(folder, "known")}",
                "-o",
                "StrictHostKeyChecking=yes",
                "root@{}",
                Script,
            ]
        );

    /// <summary>Starts an sshd on an address of its own, with a /var/lib and a home of its own.</summary>
    private static async Task<Machine> StartAsync(string folder, int number, List<Process> daemons)
    {
        var address = $"127.77.{number / 200}.{(number % 200) + 1}";
        var name = Path.Combine(folder, $"target-{number}");
        await RunAsync("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", name]);
        await File.WriteAllTextAsync(
            name + ".conf",
            $"""
            ListenAddress {address}:{Port}
            HostKey {name}
            AuthorizedKeysFile {Path.Combine(folder, "key.pub")}
            KexAlgorithms {KeyExchange}
            PermitRootLogin prohibit-password
            PasswordAuthentication no
            StrictModes no
            UsePAM no
            PidFile none
            MaxStartups 100:30:200
            LogLevel QUIET

            """
        );
        daemons.Add(
            Process.Start(
                "unshare",
                [
                    "--mount",
                    "sh",
                    "-c",
                    $"mount -t tmpfs tmpfs /var/lib && mount -t tmpfs tmpfs /root && exec /usr/sbin/sshd -D -f {name}.conf",
                ]
            )
        );
        var key = string.Join(' ', (await File.ReadAllTextAsync(name + ".pub")).Split(' ').Take(2));
        return new()
        {
            Id = new(number + 1),
            Name = $"target-{number}",
            Connection = new("ssh", address, Port, "root", key),
        };
    }

    private static async Task RunAsync(string program, IEnumerable<string> arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true })!;
        var output = process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        await output;
        if (process.ExitCode != 0)
            throw new InvalidOperationException($"{program} ended with {process.ExitCode}.");
    }
}

/// <summary>One key in a file for all machines.</summary>
internal sealed class FileKey(string file) : ISshAccess
{
    public async Task<SshKey> KeyAsync(string? name, CancellationToken stop) => new(file, await File.ReadAllTextAsync(file, stop), null);

    public Task<bool> TrustsFirstUseAsync(Machine machine, CancellationToken stop) => Task.FromResult(false);

    public Task PinAsync(Machine machine, string hostKey, CancellationToken stop) => Task.CompletedTask;
}
