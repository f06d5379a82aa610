using System.Diagnostics;

namespace GrandStair.Testing;

/// <summary>An sshd of the tests' own on loopback, which lets in one key as root.</summary>
public sealed class SshServer : IAsyncDisposable
{
    private readonly string _folder;
    private readonly Process _daemon;

    private SshServer(string folder, Process daemon, int port, string hostKey)
    {
        (_folder, _daemon, Port, HostKey) = (folder, daemon, port, hostKey);
    }

    /// <summary>Its TCP port on 127.0.0.1.</summary>
    public int Port { get; }

    /// <summary>The key that it shows, as in known_hosts.</summary>
    public string HostKey { get; }

    /// <summary>The private key that it lets in.</summary>
    public string KeyFile => Path.Combine(_folder, "key");

    /// <summary>Starts one.</summary>
    /// <param name="passphrase">What the private key is encrypted with; empty for none.</param>
    /// <param name="settings">Further lines of its configuration (sshd_config(5)), such as <c>ForceCommand</c>.</param>
    public static async Task<SshServer> StartAsync(string passphrase = "", params string[] settings)
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-sshd-").FullName;
        Directory.CreateDirectory("/run/sshd");
        await MakeKeyAsync(Path.Combine(folder, "key"), passphrase);
        await MakeKeyAsync(Path.Combine(folder, "host"), "");
        File.Copy(Path.Combine(folder, "key.pub"), Path.Combine(folder, "authorized"));
        var port = ServiceProcess.FreePort();
        string[] configuration =
        [
            $"Port {port}",
            "ListenAddress 127.0.0.1",
            $"HostKey {folder}/host",
            $"AuthorizedKeysFile {folder}/authorized",
            "PermitRootLogin prohibit-password",
            "StrictModes no",
            "UsePAM no",
            "PidFile none",
            "LogLevel ERROR",
            .. settings,
        ];
        await File.WriteAllLinesAsync(Path.Combine(folder, "sshd_config"), configuration);
        var daemon = Process.Start(
            new ProcessStartInfo("/usr/sbin/sshd", ["-D", "-e", "-f", Path.Combine(folder, "sshd_config")]) { RedirectStandardError = true }
        )!;
        daemon.BeginErrorReadLine();
        var hostKey = string.Join(' ', (await File.ReadAllTextAsync(Path.Combine(folder, "host.pub"))).Split(' ')[..2]);
        var server = new SshServer(folder, daemon, port, hostKey);
        await Eventually.TrueAsync(
            async () =>
                (await Shell.RunAsync("ssh-keyscan", ["-p", $"{port}", "127.0.0.1"])).Out.Contains("ssh-ed25519", StringComparison.Ordinal),
            TimeSpan.FromSeconds(20),
            () => "sshd answers"
        );
        return server;
    }

    /// <inheritdoc />
    public async ValueTask DisposeAsync()
    {
        _daemon.Kill(entireProcessTree: true);
        await _daemon.WaitForExitAsync();
        _daemon.Dispose();
        Directory.Delete(_folder, recursive: true);
    }

    private static async Task MakeKeyAsync(string file, string passphrase)
    {
        var ran = await Shell.RunAsync("ssh-keygen", ["-q", "-t", "ed25519", "-N", passphrase, "-f", file]);
        if (ran.Exit != 0)
            throw new InvalidOperationException($"ssh-keygen: {ran.Error}");
    }
}
