using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Machines that mean harm: each gets a clear outcome, nothing is harmed, and the service's memory stays as it is.</summary>
public sealed class HostileMachineTests : IAsyncLifetime
{
    private const string Home = "/var/lib/grandstair";
    private const long MostGrowth = 150L << 20;
    private const string Passphrase = "nine gulls on the mole";
    private SshServer _sshd = null!;
    private ServiceProcess _service = null!;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        _sshd = await SshServer.StartAsync(Passphrase);
        _service = await ServiceProcess.StartAsync("--ssh-key", "secret:carrier");
        await _service.Client.PutSecretAsync("carrier", await File.ReadAllTextAsync(_sshd.KeyFile, Stop), Stop);
    }

    public async ValueTask DisposeAsync()
    {
        await _service.DisposeAsync();
        await _sshd.DisposeAsync();
    }

    [Fact]
    public async Task A_machine_that_sends_without_end_is_cut_off_and_told()
    {
        await using var loud = await SshServer.StartAsync(Passphrase, "ForceCommand head -c 100000000 /dev/zero");
        await using var oneLine = await SshServer.StartAsync(Passphrase, "ForceCommand tr '\\0' 'x' </dev/zero");
        await using var errors = await SshServer.StartAsync(Passphrase, "ForceCommand yes 'disk.system.free = 1 TiB' >&2");
        await _service.Client.PutSecretAsync("carrier.passphrase", Passphrase, Stop);
        foreach (var (name, server) in new[] { ("loud", loud), ("one-line", oneLine), ("errors", errors) })
        {
            await _service.Client.PutSecretAsync(name, await File.ReadAllTextAsync(server.KeyFile, Stop), Stop);
            await _service.Client.PutSecretAsync($"{name}.passphrase", Passphrase, Stop);
            await AddAsync(name, server.Port, server.HostKey, name);
            var before = Memory();
            var ran = await _service.GstairAsync("machine", "read", name);
            Assert.Equal(7, ran.Exit);
            Assert.Contains($"{name} sent more than 4 MiB in answer to one command, and was cut off", ran.Error, StringComparison.Ordinal);
            Assert.True(Memory() - before < MostGrowth, $"{name}: {(Memory() - before) >> 20} MiB more");
        }

        Assert.DoesNotContain((await _service.Client.MachineAsync("errors", Stop)).Readings, r => r.Source == "ssh");
    }

    [Theory]
    [InlineData("an endless greeting", "SSH-2.0-harbour\u001b]0;owned\u0007 ", 40)]
    [InlineData("lines and lines before the greeting", "Welcome aboard\r\n", 2)]
    [InlineData("what is no SSH at all", "HTTP/1.1 200 OK\r\n\r\n", 30)]
    public async Task A_machine_with_a_hostile_greeting_is_told_as_away(string what, string greeting, int seconds)
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        using var ended = new CancellationTokenSource();
        var sending = SendAsync(listener, greeting, ended.Token);
        await _service.Client.PutSecretAsync("carrier.passphrase", Passphrase, Stop);
        var name = $"greeter-{greeting.Length}";
        await AddAsync(name, ((IPEndPoint)listener.LocalEndpoint).Port, _sshd.HostKey, null);
        var before = Memory();
        var begun = Stopwatch.StartNew();
        var ran = await _service.GstairAsync("machine", "read", name);
        Assert.True(ran.Exit == 7, $"{what}: {ran.Exit} {ran.Error}");
        Assert.DoesNotContain('\u001b', ran.Error);
        Assert.True(begun.Elapsed < TimeSpan.FromSeconds(60 + seconds), $"{what}: {begun.Elapsed}");
        Assert.True(Memory() - before < MostGrowth, $"{what}: {(Memory() - before) >> 20} MiB more");
        await ended.CancelAsync();
        await sending;
    }

    [Fact]
    public async Task A_linked_run_directory_is_not_followed_a_key_needs_its_passphrase_and_first_use_is_trusted_only_where_a_site_says_so()
    {
        var elsewhere = Directory.CreateTempSubdirectory("grandstair-elsewhere-").FullName;
        var kept = Directory.Exists(Home) ? Home + ".kept" : null;
        if (kept is not null)
            Directory.Move(Home, kept);
        try
        {
            // A key without its passphrase, then with it.
            await AddAsync("linked", _sshd.Port, _sshd.HostKey, null);
            Assert.Contains(
                "secret:carrier cannot be used: it has a passphrase",
                (await _service.GstairAsync("machine", "read", "linked")).Error,
                StringComparison.Ordinal
            );
            await _service.Client.PutSecretAsync("carrier.passphrase", Passphrase, Stop);

            Directory.CreateSymbolicLink(Home, elsewhere);
            var ran = await _service.GstairAsync("machine", "read", "linked");
            Assert.Equal(7, ran.Exit);
            Assert.Contains($"{Home} is no folder of root's own but a symbolic link of root", ran.Error, StringComparison.Ordinal);
            Assert.Empty(Directory.GetFileSystemEntries(elsewhere));
            File.Delete(Home);
            Assert.Equal(0, (await _service.GstairAsync("machine", "read", "linked")).Exit);
            Assert.Contains(await ScriptsAsync("linked"), u => u is { Script: "read.sh", For: "admin", Times: >= 1 });

            await AddAsync("unpinned", _sshd.Port, null, null);
            Assert.Contains(
                "No host key is pinned for unpinned",
                (await _service.GstairAsync("machine", "read", "unpinned")).Error,
                StringComparison.Ordinal
            );
            Assert.Contains(
                "did you mean 'Westhaven'",
                (await _service.GstairAsync("host-key", "first-use", "Westhavn", "--reason", "x")).Error,
                StringComparison.Ordinal
            );
            Assert.Equal(0, (await _service.GstairAsync("host-key", "first-use", "Westhaven", "--reason", "the berth is ours")).Exit);
            Assert.Equal(0, (await _service.GstairAsync("machine", "read", "unpinned")).Exit);
            Assert.Contains("first use, not compared", (await _service.GstairAsync("host-key", "list")).Out, StringComparison.Ordinal);

            // A file compares, pins what has none, and never replaces.
            await AddAsync("listed", _sshd.Port, null, null, "127.0.0.9");
            await AddAsync(
                "other",
                _sshd.Port + 1,
                "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA",
                null
            );
            var file = Path.Combine(_service.Data, "known_hosts");
            await File.WriteAllTextAsync(
                file,
                $"[127.0.0.9]:{_sshd.Port} {_sshd.HostKey}\n[127.0.0.1]:{_sshd.Port + 1} {_sshd.HostKey}\n[127.0.0.77]:22 "
                    + $"{_sshd.HostKey}\n@revoked * ssh-ed25519 AAAA\n[127.0.0.1]:{_sshd.Port} {_sshd.HostKey}\n",
                Stop
            );
            await Shell.RunAsync("ssh-keygen", ["-H", "-f", file]);
            var compared = await _service.GstairAsync("host-key", "compare", file, "--json");
            Assert.Equal(9, compared.Exit);
            Assert.Equal(
                ["pinned listed", "differs other", "no-machine ", "not-understood ", "same linked", "same unpinned"],
                System
                    .Text.Json.JsonDocument.Parse(compared.Out)
                    .RootElement.EnumerateArray()
                    .Select(l => $"{l.GetProperty("outcome").GetString()} {l.GetProperty("machine").GetString()}")
            );
            Assert.Null((await _service.Client.HostKeysAsync("name = listed", null, 10, Stop)).Items.Single().HostKey);
            await _service.GstairAsync("host-key", "import", file, "--reason", "from the old jump host");
            var pinned = (await _service.Client.HostKeysAsync(null, null, 10, Stop)).Items.ToDictionary(k => k.Machine, k => k.From);
            Assert.Equal(("known-hosts", "import", "first-use"), (pinned["listed"], pinned["other"], pinned["unpinned"]));
        }
        finally
        {
            if (Directory.Exists(Home))
                Directory.Delete(Home, recursive: true);
            if (kept is not null)
                Directory.Move(kept, Home);
            Directory.Delete(elsewhere, recursive: true);
        }
    }

    private async Task<IReadOnlyList<Contracts.ScriptUseView>> ScriptsAsync(string machine) =>
        (await _service.Client.ScriptUsesAsync(machine, null, null, 100, Stop)).Items;

    private async Task AddAsync(string name, int port, string? hostKey, string? key, string address = "127.0.0.1")
    {
        var file = Path.Combine(_service.Data, $"{name}.csv");
        await File.WriteAllTextAsync(
            file,
            $"name,site,connection,address,port,user,host key,ssh key,os.product,seen\n"
                + $"{name},Westhaven,ssh,{address},{port},root,{hostKey},{key},Debian,{DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ}\n",
            Stop
        );
        await _service.OkAsync("fleet", "import", file);
    }

    private long Memory() =>
        long.Parse(
            File.ReadLines($"/proc/{_service.Id}/status")
                .First(l => l.StartsWith("VmRSS:", StringComparison.Ordinal))
                .Split(' ', StringSplitOptions.RemoveEmptyEntries)[1],
            System.Globalization.CultureInfo.InvariantCulture
        ) << 10;

    private static async Task SendAsync(TcpListener listener, string text, CancellationToken stop)
    {
        var bytes = Encoding.ASCII.GetBytes(string.Concat(Enumerable.Repeat(text, 1 + (60_000 / text.Length))));
        while (!stop.IsCancellationRequested)
        {
            try
            {
                using var client = await listener.AcceptTcpClientAsync(stop);
                // Bounded: 300 MB are sent at most.
                for (var i = 0; i < 5000; i++)
                    await client.GetStream().WriteAsync(bytes, stop);
            }
            catch (Exception error) when (error is IOException or OperationCanceledException or SocketException)
            {
                // It hung up, as it should.
            }
        }
    }
}
