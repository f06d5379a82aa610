using System.Text.RegularExpressions;
using GrandStair.Testing;

namespace GrandStair.Hosts.Tests;

/// <summary>A real Debian system on this machine, with an sshd of its own.</summary>
public sealed class TestHost : IAsyncDisposable
{
    private static readonly string Kit = Path.Combine(Repository.Root, "tests", "hosts", "host-kit");
    private readonly string _keys;

    private TestHost(string name, string address, string keys)
    {
        Name = name;
        Address = address;
        _keys = keys;
    }

    /// <summary>Its name.</summary>
    public string Name { get; }

    /// <summary>Its own loopback address.</summary>
    public string Address { get; }

    /// <summary>The private key that it lets in, as root and as the ordinary account <c>carrier</c> with sudo.</summary>
    public string KeyFile => Path.Combine(_keys, "key");

    /// <summary>Makes a host and starts it.</summary>
    public static async Task<TestHost> StartAsync(string name, string address, string suite)
    {
        var keys = Directory.CreateTempSubdirectory("grandstair-host-").FullName;
        var host = new TestHost(name, address, keys);
        await RunAsync("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", host.KeyFile);
        // One that an interrupted run left behind is in the way.
        await Shell.RunAsync(Kit, ["remove", name]);
        await RunAsync(Kit, "start", name, address, suite, host.KeyFile + ".pub");
        return host;
    }

    /// <summary>The host key that it shows, as in known_hosts.</summary>
    public async Task<string> HostKeyAsync()
    {
        var line = (await RunAsync("ssh-keyscan", "-t", "ed25519", Address))
            .Split('\n')
            .First(l => l.Contains("ssh-ed25519", StringComparison.Ordinal));
        return line[(line.IndexOf(' ', StringComparison.Ordinal) + 1)..].Trim();
    }

    /// <summary>
    /// Does something on it as root, as a person would. In the middle of an upgrade a login may be reset while sshd restarts, and no
    /// program may start while the C library is exchanged; then it is tried again.
    /// </summary>
    public async Task<string> DoAsync(string command)
    {
        const int attempts = 6;
        string[] passing = ["kex_exchange_identification", "Connection reset", "Connection refused", "version `GLIBC_"];
        for (var attempt = 1; ; attempt++)
        {
            var ran = await SshAsync(command);
            if (ran.Exit == 0)
                return ran.Out.Trim();
            if (attempt == attempts || !passing.Any(p => ran.Error.Contains(p, StringComparison.Ordinal)))
                throw new InvalidOperationException($"'{command}' on {Name} ended with {ran.Exit}: {ran.Out}{ran.Error}");
            await Task.Delay(TimeSpan.FromSeconds(attempt));
        }
    }

    private Task<Ran> SshAsync(string command) =>
        Shell.RunAsync(
            "ssh",
            [
                "-i",
                KeyFile,
                "-o",
                "StrictHostKeyChecking=no",
                "-o",
                "UserKnownHostsFile=/dev/null",
                "-o",
                "LogLevel=ERROR",
                "-o",
                "ConnectTimeout=5",
                $"root@{Address}",
                command,
            ]
        );

    /// <summary>Cuts its power, or switches it on again.</summary>
    public Task PowerAsync(bool on) => RunAsync(Kit, "power", Name, on ? "on" : "off");

    /// <summary>Leaves a package, while the power is off, as dpkg does when it is stopped while it unpacks the files.</summary>
    public async Task LeavePartlyUnpackedAsync(string package)
    {
        var file = Path.Combine((await RunAsync(Kit, "root", Name)).Trim(), "var/lib/dpkg/status");
        var text = await File.ReadAllTextAsync(file);
        var changed = Regex.Replace(
            text,
            $"^(Package: {package}\n(?:.+\n)*?Status: ).*$",
            "$1install reinstreq half-installed",
            RegexOptions.Multiline
        );
        if (changed == text)
            throw new InvalidOperationException($"There is no package {package} on {Name}.");
        await File.WriteAllTextAsync(file, changed);
    }

    /// <inheritdoc />
    public async ValueTask DisposeAsync()
    {
        await RunAsync(Kit, "remove", Name);
        Directory.Delete(_keys, recursive: true);
    }

    private static async Task<string> RunAsync(string program, params string[] arguments)
    {
        var ran = await Shell.RunAsync(program, arguments, limit: TimeSpan.FromMinutes(5));
        return ran.Exit == 0
            ? ran.Out
            : throw new InvalidOperationException($"{program} {string.Join(' ', arguments)} ended with {ran.Exit}: {ran.Out}{ran.Error}");
    }
}
