using System.IO.Compression;
using System.Text;
using Dapper;
using GrandStair.Testing;
using Microsoft.Data.Sqlite;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Secrets that are planted wherever one can be, and then looked for wherever one could come out.</summary>
public sealed class SecretTests : IAsyncLifetime
{
    private const string Home = "/var/lib/grandstair";
    private const string Ldap = "marker-ldap-pelican";
    private const string Passphrase = "marker-passphrase-petrel";
    private const string Handed = "marker-handed-puffin";
    private const string Password = "marker-password-kittiwake";
    private const string WrongPassword = "marker-wrong-guillemot";
    private const string Product = """
        product: Pier Lamp
        is: os.product = "Pier Lamp"
        version-key: os.version
        zone: Europe/London
        readers: [{ script: read.sh, covers: [os.product, os.version] }]
        releases:
          - { version: "1", name: Pier Lamp 1, out: 2020-09-01, support-ends: { "*": 2027-09-30 } }
          - { version: "2", name: Pier Lamp 2, status: recommended, out: 2026-02-09, support-ends: { "*": 2031-09-30 } }
        hops:
          - name: 1-to-2
            from: ["1"]
            to: "2"
            checks:
              - { name: runs-2, title: Pier Lamp 2 runs, wants: os.version >= 2, asked-at: [verification], fix: { by: person, words: Try again. } }
        methods:
          - name: in-place
            title: In place
            hops: [1-to-2]
            preserves: full
            steps:
              - { name: fetch, title: Fetch, phase: stage, kind: script, script: fetch.sh, secrets: [mirror-password], typical: 1 min, limit: 1 h }
              - { name: apply, title: Apply, phase: apply, kind: script, script: fetch.sh, typical: 1 min, limit: 1 h, point-of-no-return: true }
            rollback: { words: There is none. }
        """;
    private string _folder = null!;
    private SshServer _sshd = null!;
    private ServiceProcess _service = null!;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        _folder = Directory.CreateTempSubdirectory("grandstair-secrets-").FullName;
        _sshd = await SshServer.StartAsync(Passphrase);
        var sources = Directory.CreateDirectory(Path.Combine(_folder, "sources")).FullName;
        await File.WriteAllTextAsync(
            Path.Combine(sources, "directory.yaml"),
            $$"""
            source: directory
            ldap: { server: 127.0.0.1, port: 9, security: none, bind: "cn=reader", password: "secret:ldap-reader", base: "dc=x", filter: "(cn=*)" }
            fields: { name: cn }
            """
        );
        var product = Directory.CreateDirectory(Path.Combine(_folder, "catalogue", "pier-lamp")).FullName;
        await File.WriteAllTextAsync(Path.Combine(product, "product.yaml"), Product);
        await File.WriteAllTextAsync(Path.Combine(product, "read.sh"), "echo os.product = Pier Lamp; echo os.version = 1\n");
        // It verifies that it has the secret, prints it, and fails.
        await File.WriteAllTextAsync(
            Path.Combine(product, "fetch.sh"),
            "printf %s \"$GS_SECRET_MIRROR_PASSWORD\" | sha256sum >/tmp/grandstair-handed\necho \"refused: "
                + "$GS_SECRET_MIRROR_PASSWORD\"\nexit 5\n"
        );
        _service = await ServiceProcess.StartAsync(
            "--catalogue",
            Path.Combine(_folder, "catalogue"),
            "--sources",
            sources,
            "--ssh-key",
            "secret:carrier"
        );
    }

    public async ValueTask DisposeAsync()
    {
        await _service.DisposeAsync();
        await _sshd.DisposeAsync();
        Directory.Delete(_folder, recursive: true);
    }

    [Fact]
    public async Task A_planted_secret_comes_out_nowhere_and_the_keys_are_changed_under_all_of_them()
    {
        var client = _service.Client;
        var key = await File.ReadAllTextAsync(_sshd.KeyFile, Stop);
        var keyPart = key.Split('\n')[2];
        string[] markers = [Ldap, Passphrase, Handed, Password, WrongPassword, keyPart, _service.Token];
        using var watching = new CancellationTokenSource();
        var told = new StringBuilder();
        var watch = WatchAsync(told, watching.Token);
        foreach (
            var (name, value) in new[]
            {
                ("ldap-reader", Ldap),
                ("carrier", key),
                ("carrier.passphrase", Passphrase),
                ("mirror-password", Handed),
            }
        )
            await client.PutSecretAsync(name, value, Stop);
        await client.AddAccountAsync(new("deck-lead", "person", ["reader"], ["*"], "a test"), Stop);
        await client.SetPasswordAsync("deck-lead", Password, Stop);
        await Calls.OutcomeAsync(
            _service,
            "POST",
            "/api/v1/session",
            null,
            $$"""{"account":"deck-lead","password":"{{WrongPassword}}"}""",
            ("Sec-Fetch-Site", "same-origin")
        );

        // Everything is used, and some of it goes wrong.
        Assert.Equal(7, (await _service.GstairAsync("source", "read", "directory")).Exit);
        var fleet = Path.Combine(_folder, "fleet.csv");
        await File.WriteAllTextAsync(
            fleet,
            $"name,site,connection,address,port,user,host key\nhost-1,Westhaven,ssh,127.0.0.1,{_sshd.Port},root,{_sshd.HostKey}\n",
            Stop
        );
        Assert.Equal(0, (await _service.GstairAsync("fleet", "import", fleet)).Exit);
        var keyed = await _service.GstairAsync(
            "fleet",
            "import",
            Write("keyed.csv", $"name,connection,ssh key\nhost-2,ssh,{Handed} is no name\n")
        );
        Assert.Contains("A key is not written down here", keyed.Error, StringComparison.Ordinal);
        Assert.DoesNotContain(Handed, keyed.Error, StringComparison.Ordinal);
        await _service.OkAsync("machine", "read", "host-1");
        await RunStepAsync();
        Assert.StartsWith(
            Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(Encoding.UTF8.GetBytes(Handed))),
            await File.ReadAllTextAsync("/tmp/grandstair-handed", Stop),
            StringComparison.Ordinal
        );

        // Where one could come out: every answer, the events, exports, the log, the database, and the run directories on the machine.
        foreach (var call in (await Calls.AllAsync(_service)).Where(c => c.Method == "GET"))
        {
            var path = call
                .Path.Replace(
                    "{name}",
                    call.Path.Contains("/machines/", StringComparison.Ordinal) ? "host-1" : "lamps",
                    StringComparison.Ordinal
                )
                .Replace("{plan}", "lamps", StringComparison.Ordinal)
                .Replace("{run}", "r1", StringComparison.Ordinal)
                .Replace("{key}", "os.version", StringComparison.Ordinal);
            using var response = await Calls.SendAsync(_service, "GET", path, _service.Token);
            Nowhere(markers, call.Name, await response.Content.ReadAsByteArrayAsync(Stop));
        }

        var pack = Path.Combine(_folder, "pack.zip");
        Assert.Equal(0, (await _service.GstairAsync("machine", "support-pack", "host-1", "--out", pack)).Exit);
        using (var zip = ZipFile.OpenRead(pack))
        {
            foreach (var entry in zip.Entries)
            {
                using var content = new MemoryStream();
                await using (var from = entry.Open())
                    await from.CopyToAsync(content, Stop);
                Nowhere(markers, $"pack: {entry.Name}", content.ToArray());
            }
        }

        await watching.CancelAsync();
        await watch;
        Nowhere(markers, "live events", Encoding.UTF8.GetBytes(told.ToString()));
        Nowhere(markers, "log", Encoding.UTF8.GetBytes(_service.Output));
        foreach (var file in Directory.GetFiles(_service.Data, "grandstair.db*"))
            Nowhere(markers, Path.GetFileName(file), await File.ReadAllBytesAsync(file, Stop));
        foreach (
            var file in Directory
                .GetFiles(Home, "*", SearchOption.AllDirectories)
                .Concat(Directory.Exists("/run/grandstair-secrets") ? Directory.GetFiles("/run/grandstair-secrets") : [])
        )
        {
            // What a script itself prints is the script's; everything the launcher keeps is ours.
            if (Path.GetFileName(file) is not ("output" or "progress"))
                Nowhere(markers, file, await File.ReadAllBytesAsync(file, Stop));
        }

        // The keys are changed: what stood in the database before cannot be read any more, what stands there now can.
        var before = await EncryptedAsync();
        Assert.Equal(4, (await client.RotateSecretsAsync(Stop)).Secrets);
        Assert.Single(Directory.GetFiles(Path.Combine(_service.Data, "keys"), "*.xml"));
        Assert.Empty(before.Intersect(await EncryptedAsync()));
        Assert.Equal(0, (await _service.GstairAsync("machine", "read", "host-1")).Exit);
        await _service.KillAsync();
        foreach (var file in Directory.GetFiles(Path.Combine(_service.Data, "keys")))
            File.Delete(file);
        await _service.StartAgainAsync();
        var lost = await _service.GstairAsync("machine", "read", "host-1");
        Assert.Equal(7, lost.Exit);
        Assert.Contains("The secret 'carrier' cannot be decrypted: its key is not among those in", lost.Error, StringComparison.Ordinal);
    }

    /// <summary>Lets a step be handed a secret in a real run, on this very machine.</summary>
    private async Task RunStepAsync()
    {
        using var yaml = new MemoryStream(
            Encoding.UTF8.GetBytes(
                """
                plan: lamps
                target: { product: Pier Lamp, release: "2" }
                scope: name = host-1
                methods: [in-place]
                waves: [{ name: All }]
                windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
                limits: { all: 1 }
                advance: { verified: 100 %, failures: 0, soak: 0 s }
                lead: 0 s
                """
            )
        );
        await _service.Client.CreatePlanAsync(yaml, Stop);
        await _service.Client.StartAsync("lamps", Stop);
        await Eventually.TrueAsync(
            async () => (await _service.Client.RunsAsync("lamps", "parked", 10, Stop)).Total == 1,
            TimeSpan.FromSeconds(90),
            () => $"the step has failed:\n{_service.Output}"
        );
        var run = await _service.Client.RunAsync("r1", Stop);
        Assert.Contains(run.Log, e => e.Detail!.Contains("refused: (mirror-password)", StringComparison.Ordinal));
        Assert.Contains((await _service.Client.ScriptUsesAsync("host-1", null, "fetch.sh", 10, Stop)).Items, u =>
            u is { Purpose: "step", For: "plan lamps" }
        );
    }

    private static void Nowhere(string[] markers, string where, byte[] content)
    {
        foreach (var marker in markers)
        {
            foreach (var form in new[] { marker, Convert.ToBase64String(Encoding.UTF8.GetBytes(marker))[..^4] })
                Assert.True(content.AsSpan().IndexOf(Encoding.UTF8.GetBytes(form)) < 0, $"{where} holds the secret '{marker[..12]}…'");
        }
    }

    private async Task<string[]> EncryptedAsync()
    {
        await using var database = new SqliteConnection($"Data Source={Path.Combine(_service.Data, "grandstair.db")};Mode=ReadOnly");
        return [.. await database.QueryAsync<string>("SELECT value FROM secrets ORDER BY name")];
    }

    private string Write(string name, string text)
    {
        var file = Path.Combine(_folder, name);
        File.WriteAllText(file, text);
        return file;
    }

    private async Task WatchAsync(StringBuilder told, CancellationToken stop)
    {
        using var client = _service.Client;
        try
        {
            await foreach (var change in client.ChangesAsync(null, stop))
                told.Append(change).Append('\n');
        }
        catch (OperationCanceledException)
        {
            // The test has seen enough.
        }
    }
}
