using System.Diagnostics;
using System.Net;
using System.Net.Sockets;

namespace GrandStair.Testing;

/// <summary>A PostgreSQL server of the tests' own on loopback, from the distribution's binaries.</summary>
public sealed class PostgresServer : IDisposable
{
    private readonly string _folder;
    private readonly Process _process;
    private readonly int _port;

    private PostgresServer(string folder, Process process, int port)
    {
        _folder = folder;
        _process = process;
        _port = port;
    }

    /// <summary>Makes a cluster and starts a server on it; it runs as the account postgres, since root may not.</summary>
    public static async Task<PostgresServer> StartAsync()
    {
        var bin = Directory.GetDirectories("/usr/lib/postgresql").Order().Last() + "/bin";
        var folder = Directory.CreateTempSubdirectory("grandstair-postgres-").FullName;
        await RunAsync("chown", "postgres", folder);
        await RunAsync(
            "runuser",
            "-u",
            "postgres",
            "--",
            $"{bin}/initdb",
            "-D",
            $"{folder}/data",
            "-A",
            "trust",
            "-U",
            "grandstair",
            "--locale=C.UTF-8"
        );
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var port = ((IPEndPoint)listener.LocalEndpoint).Port;
        listener.Stop();
        var process = Process.Start(
            new ProcessStartInfo(
                "runuser",
                [
                    "-u",
                    "postgres",
                    "--",
                    $"{bin}/postgres",
                    "-D",
                    $"{folder}/data",
                    "-p",
                    $"{port}",
                    "-k",
                    folder,
                    "-c",
                    "listen_addresses=127.0.0.1",
                ]
            )
            {
                RedirectStandardError = true,
            }
        )!;
        process.BeginErrorReadLine();
        var server = new PostgresServer(folder, process, port);
        await Eventually.TrueAsync(
            async () => (await Shell.RunAsync($"{bin}/pg_isready", ["-h", "127.0.0.1", "-p", $"{port}"])).Exit == 0,
            TimeSpan.FromSeconds(30),
            () => "PostgreSQL answers"
        );
        return server;
    }

    /// <summary>A new, empty database; its connection string.</summary>
    public async Task<string> NewDatabaseAsync()
    {
        var name = $"t{Guid.NewGuid():N}";
        var made = await Shell.RunAsync("createdb", ["-h", "127.0.0.1", "-p", $"{_port}", "-U", "grandstair", name]);
        return made.Exit == 0
            ? $"Host=127.0.0.1;Port={_port};Username=grandstair;Database={name};Maximum Pool Size=20"
            : throw new InvalidOperationException(made.Error);
    }

    /// <inheritdoc />
    public void Dispose()
    {
        // The signal for a fast shutdown goes to the server itself, whose number it keeps in its folder.
        var pid = File.ReadLines($"{_folder}/data/postmaster.pid").First();
        Process.Start("kill", ["-INT", pid]).WaitForExit();
        _process.WaitForExit(TimeSpan.FromSeconds(20));
        _process.Dispose();
        Directory.Delete(_folder, recursive: true);
    }

    private static async Task RunAsync(string program, params string[] arguments)
    {
        var ran = await Shell.RunAsync(program, arguments);
        if (ran.Exit != 0)
            throw new InvalidOperationException($"{program} {string.Join(' ', arguments)}: {ran.Out}{ran.Error}");
    }
}
