using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.RegularExpressions;
using Dapper;
using GrandStair.Testing;
using Microsoft.Data.Sqlite;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>What the service shows others that they may trust it, and what it trusts itself.</summary>
public sealed class TrustTests
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_changed_catalogue_waits_for_an_approver_and_until_then_the_product_goes_on_as_it_was()
    {
        var catalogue = Directory.CreateTempSubdirectory("grandstair-catalogue-").FullName;
        foreach (var product in new[] { "brae-desktop", "debian" })
        {
            Directory.CreateDirectory(Path.Combine(catalogue, product));
            foreach (var file in Directory.GetFiles(Path.Combine(Repository.Root, "catalogue", product)))
                File.Copy(file, Path.Combine(catalogue, product, Path.GetFileName(file)));
        }

        await using var service = await ServiceProcess.StartAsync("--catalogue", catalogue);
        Assert.Contains("Nothing waits", (await service.GstairAsync("catalogue", "changes")).Out, StringComparison.Ordinal);
        var before = (await service.Client.CatalogueAsync(Stop)).Single(p => p.Name == "Debian").Hash;
        await service.KillAsync();
        var script = Path.Combine(catalogue, "debian", "tidy.sh");
        await File.AppendAllTextAsync(script, "echo owned\n", Stop);
        await service.StartAgainAsync();

        Assert.Equal(before, (await service.Client.CatalogueAsync(Stop)).Single(p => p.Name == "Debian").Hash);
        Assert.Contains(
            "Debian were changed and wait for an approver",
            (await service.Client.SessionAsync(Stop)).Notices.Single(),
            StringComparison.Ordinal
        );
        var shown = (await service.GstairAsync("catalogue", "changes")).Out;
        Assert.Contains("tidy.sh changed", shown, StringComparison.Ordinal);
        Assert.Contains("+ echo owned", shown, StringComparison.Ordinal);
        var waiting = Assert.Single(await service.Client.CatalogueChangesAsync(Stop));
        Assert.Contains(
            "has the hash",
            (await service.GstairAsync("catalogue", "approve", "Debian", before, "--reason", "x")).Error,
            StringComparison.Ordinal
        );
        var planner = await Calls.AccountAsync(service, "a-planner", ["reader", "planner", "operator", "admin"], "*");
        Assert.Equal(
            (403, "not-allowed"),
            await Calls.OutcomeAsync(
                service,
                "POST",
                "/api/v1/catalogue/changes/Debian/approve",
                planner,
                $$"""{"hash":"{{waiting.Hash}}","reason":"mine"}"""
            )
        );
        Assert.Equal(
            0,
            (await service.GstairAsync("catalogue", "approve", "Debian", waiting.Hash, "--reason", "read it, it is harmless")).Exit
        );
        Assert.Equal(waiting.Hash, (await service.Client.CatalogueAsync(Stop)).Single(p => p.Name == "Debian").Hash);
        Assert.Empty((await service.Client.SessionAsync(Stop)).Notices);
        var entry = (await service.Client.AuditAsync(null, "catalogue", null, null, null, null, 1, Stop)).Items.Single();
        Assert.Equal(("admin", "Debian", $"SHA-256 {waiting.Hash}"), (entry.Actor, entry.Subject, entry.After));
        Directory.Delete(catalogue, recursive: true);
    }

    [Fact]
    public async Task A_provider_that_does_not_answer_is_told_and_keeps_nobody_else_out()
    {
        var file = Path.Combine(Path.GetTempPath(), $"provider-{Guid.NewGuid():N}.yaml");
        await File.WriteAllTextAsync(
            file,
            (await File.ReadAllTextAsync(Path.Combine(Repository.Root, "docs", "examples", "provider.yaml"), Stop)).Replace(
                "https://id.northmere.example/",
                "http://127.0.0.1:9/",
                StringComparison.Ordinal
            ),
            Stop
        );
        await using var service = await ServiceProcess.StartAsync("--provider", file);
        using var response = await Calls.SendAsync(service, "GET", "/provider/sign-in");
        Assert.Equal("/sign-in?provider=away", response.Headers.Location?.ToString());
        Assert.Equal((401, "wrong-token"), await Calls.OutcomeAsync(service, "GET", "/api/v1/session", "a.b.c"));
        Assert.Equal("admin", (await service.Client.SessionAsync(Stop)).Actor);
        File.Delete(file);
    }

    [Fact]
    public async Task The_program_lists_its_options_refuses_misspelt_ones_and_finds_what_ships_with_it()
    {
        static Task<Ran> StartAsync(params string[] arguments) =>
            Shell.RunAsync("dotnet", [Repository.Built("GrandStair.Service", "grandstair"), .. arguments]);
        var help = await StartAsync("--help");
        Assert.Equal(0, help.Exit);
        var documented = Regex
            .Matches(
                await File.ReadAllTextAsync(Path.Combine(Repository.Root, "docs", "service.md"), Stop),
                "(?<=[`|] ?`?)--[a-z-]+(?=[ `])"
            )
            .Select(m => m.Value)
            .Distinct()
            .Where(o => o != "--help")
            .Order();
        Assert.Equal(
            documented,
            Regex
                .Matches(help.Out, "^  (--[a-z-]+)", RegexOptions.Multiline)
                .Select(m => m.Groups[1].Value)
                .Where(o => o != "--demo")
                .Order()
        );
        Assert.Contains(
            "There is no option '--catalog'; did you mean '--catalogue'?",
            (await StartAsync("--catalog", "x")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains("--port needs a value", (await StartAsync("--port")).Error, StringComparison.Ordinal);
        Assert.Contains(
            "--ssh-key is '/none'; there is no such file",
            (await StartAsync("--ssh-key", "/none")).Error,
            StringComparison.Ordinal
        );

        await using var service = await ServiceProcess.StartAsync();
        Assert.NotEmpty(await service.Client.CatalogueAsync(Stop));
        using var http = new HttpClient { BaseAddress = service.Url };
        Assert.Contains("<div id=\"root\">", await http.GetStringAsync("/", Stop), StringComparison.Ordinal);
    }

    [Fact]
    public async Task Plain_http_stays_on_loopback_and_a_tls_certificate_is_taken_over_when_it_changes()
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-tls-").FullName;
        var (certificate, key) = (Path.Combine(folder, "server.crt"), Path.Combine(folder, "server.key"));
        Write(certificate, key, "first");
        async Task<Ran> StartAsync(params string[] arguments) =>
            await Shell.RunAsync(
                "dotnet",
                [
                    Repository.Built("GrandStair.Service", "grandstair"),
                    "--data",
                    Path.Combine(folder, "data"),
                    "--catalogue",
                    Path.Combine(Repository.Root, "catalogue"),
                    "--port",
                    "0",
                    .. arguments,
                ]
            );
        Assert.Contains(
            "would send tokens and passwords over the network as they are",
            (await StartAsync("--listen", "0.0.0.0")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains("needs --tls-key", (await StartAsync("--tls-certificate", certificate)).Error, StringComparison.Ordinal);
        Assert.Contains(
            "cannot be used",
            (await StartAsync("--tls-certificate", certificate, "--tls-key", certificate)).Error,
            StringComparison.Ordinal
        );

        await using var service = await ServiceProcess.StartAsync(
            Path.Combine(folder, "data"),
            ServiceProcess.FreePort(),
            ["--tls-certificate", certificate, "--tls-key", key],
            tls: true
        );
        Assert.Equal("CN=first", await ShownAsync(service));
        using var http = new HttpClient(
            new HttpClientHandler
            {
                ServerCertificateCustomValidationCallback = HttpClientHandler.DangerousAcceptAnyServerCertificateValidator,
            }
        );
        using var signIn = new HttpRequestMessage(HttpMethod.Post, new Uri(service.Url, "/api/v1/session"))
        {
            Content = new StringContent($$"""{"token":"{{service.Token}}"}""", null, "application/json"),
        };
        signIn.Headers.Add("Sec-Fetch-Site", "same-origin");
        using var response = await http.SendAsync(signIn, Stop);
        var cookie = response.Headers.GetValues("Set-Cookie").Single();
        Assert.StartsWith("__Host-grandstair-session=", cookie, StringComparison.Ordinal);
        Assert.Contains("; secure", cookie, StringComparison.Ordinal);
        Assert.Equal("max-age=31536000", response.Headers.GetValues("Strict-Transport-Security").Single());

        Write(certificate, key, "second");
        await Eventually.TrueAsync(
            async () => await ShownAsync(service) == "CN=second",
            TimeSpan.FromSeconds(15),
            () => "the new certificate is shown"
        );
        await File.WriteAllTextAsync(certificate, "half a file", Stop);
        await Eventually.TrueAsync(
            async () =>
            {
                Assert.Equal("CN=second", await ShownAsync(service));
                return service.Output.Contains("the one before goes on", StringComparison.Ordinal);
            },
            TimeSpan.FromSeconds(15),
            () => "it is told that the new one cannot be used"
        );
    }

    [Fact]
    public async Task The_audit_is_checked_by_the_service_and_from_its_export_and_tampering_with_one_row_is_located()
    {
        await using var service = await ServiceProcess.StartAsync();
        for (var i = 0; i < 6; i++)
            await Calls.AccountAsync(service, $"account-{i}", ["reader"], "*");
        var file = Path.Combine(service.Data, "audit.jsonl");
        await Eventually.TrueAsync(
            async () => (await service.Client.VerifyAuditAsync(Stop)) is { Unsealed: 0, Entries: > 12 },
            TimeSpan.FromSeconds(10),
            () => "all is sealed"
        );
        Assert.Equal(0, (await service.GstairAsync("audit", "export", "--out", file)).Exit);
        var whole = await service.GstairAsync("audit", "verify", file);
        Assert.Contains("every one as it was sealed", whole.Out, StringComparison.Ordinal);
        Assert.Equal(0, (await service.GstairAsync("audit", "verify")).Exit);
        var head = whole.Out.Split('\n').Single(l => l.StartsWith("head ", StringComparison.Ordinal))[5..].Trim();
        Assert.Equal(0, (await service.GstairAsync("audit", "verify", file, "--entry", head)).Exit);
        Assert.Equal(3, (await service.GstairAsync("audit", "verify", file, "--key", new string('0', 64))).Exit);

        var text = await File.ReadAllTextAsync(file, Stop);
        await File.WriteAllTextAsync(file, text.Replace("account-3", "account-9", StringComparison.Ordinal), Stop);
        var tampered = await service.GstairAsync("audit", "verify", file);
        Assert.Equal(3, tampered.Exit);
        Assert.Contains("not what was sealed", tampered.Out, StringComparison.Ordinal);

        // Somebody with the database's file takes the protections away and changes one row.
        await using (var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")}"))
            await database.ExecuteAsync("DROP TRIGGER audit_not_changed; UPDATE audit SET actor = 'somebody' WHERE number = 9");
        var online = await service.GstairAsync("audit", "verify");
        Assert.Equal(3, online.Exit);
        Assert.Contains("#9 the entry is not what was sealed", online.Out, StringComparison.Ordinal);
        // Or cuts off the end, seals and all: the head that is kept outside the database misses it.
        await using (var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")}"))
            await database.ExecuteAsync(
                "DROP TRIGGER audit_not_deleted; UPDATE audit SET actor = 'admin' WHERE number = 9; DELETE FROM audit WHERE number > "
                    + "10; DELETE FROM audit_seals"
            );
        Assert.Contains("#11 the end is missing", (await service.GstairAsync("audit", "verify")).Out, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_forged_audit_raises_an_alarm_on_every_page_and_in_health_and_stays_unsealed_until_an_entry_is_accepted()
    {
        await using var service = await ServiceProcess.StartAsync();
        for (var i = 0; i < 6; i++)
            await Calls.AccountAsync(service, $"account-{i}", ["reader"], "*");
        await Eventually.TrueAsync(
            async () => (await service.Client.VerifyAuditAsync(Stop)) is { Unsealed: 0, Entries: > 12 },
            TimeSpan.FromSeconds(10),
            () => "all is sealed"
        );
        var before = await service.Client.VerifyAuditAsync(Stop);
        Assert.Equal("ok", await HealthAsync(service));
        // Changed, and the hashes and seals behind it cleared, so that the service would seal it anew.
        await using (var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")}"))
        {
            await database.ExecuteAsync("DROP TRIGGER audit_not_changed; DROP TRIGGER audit_not_deleted");
            await database.ExecuteAsync(
                "UPDATE audit SET actor = 'somebody' WHERE number = 5; UPDATE audit SET hash = NULL WHERE number >= 5; DELETE FROM "
                    + "audit_seals WHERE number >= 5"
            );
        }

        await Eventually.TrueAsync(
            async () => await HealthAsync(service) == "alarm",
            TimeSpan.FromSeconds(10),
            () => "the alarm is raised"
        );
        await Calls.AccountAsync(service, "after-the-alarm", ["reader"], "*");
        Assert.Contains((await service.Client.SessionAsync(Stop)).Notices, n => n.StartsWith("AUDIT ALARM", StringComparison.Ordinal));
        Assert.Equal(3, (await service.GstairAsync("audit", "verify")).Exit);
        await service.KillAsync();
        await service.StartAgainAsync();
        Assert.Equal("alarm", await HealthAsync(service));
        var verdict = await service.Client.VerifyAuditAsync(Stop);
        Assert.NotEmpty(verdict.Faults);
        Assert.True(verdict.Unsealed > 0, "the forged entries are sealed again");
        Assert.Contains("AUDIT ALARM", service.Output, StringComparison.Ordinal);

        // An administrator of the machine puts the backup back and continues from its last entry.
        await service.KillAsync();
        await using (var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")}"))
            await database.ExecuteAsync("UPDATE audit SET actor = 'admin' WHERE number = 5");
        Assert.Contains(
            "the last sealed entry of the audit is another one",
            (
                await Shell.RunAsync(
                    "dotnet",
                    [
                        Repository.Built("GrandStair.Service", "grandstair"),
                        "--data",
                        service.Data,
                        "--catalogue",
                        Path.Combine(Repository.Root, "catalogue"),
                        "--port",
                        "0",
                        "--accept-audit",
                        $"{before.Entries}:{before.Head}",
                    ]
                )
            ).Error,
            StringComparison.Ordinal
        );
        string hash;
        await using (var database = new SqliteConnection($"Data Source={Path.Combine(service.Data, "grandstair.db")}"))
            hash = (await database.ExecuteScalarAsync<string>("SELECT hash FROM audit WHERE number = 4"))!;
        var accepted = await ServiceProcess.StartAsync(service.Data, ServiceProcess.FreePort(), ["--accept-audit", $"4:{hash}"]);
        await Eventually.TrueAsync(
            async () => (await accepted.Client.VerifyAuditAsync(Stop)) is { Unsealed: 0, Faults.Count: 0 },
            TimeSpan.FromSeconds(10),
            () => "all is sealed again"
        );
        Assert.Equal("ok", await HealthAsync(accepted));
        Assert.Contains((await accepted.Client.AuditAsync(null, "audit accept", null, null, null, null, 1, Stop)).Items, e =>
            e.Reason.Contains("continued from 4:", StringComparison.Ordinal)
        );
        await accepted.KillAsync();
    }

    [Fact]
    public async Task Heads_are_anchored_to_a_file_to_syslog_and_to_a_webhook_and_an_export_is_checked_against_them_without_the_service()
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-anchors-").FullName;
        using var syslog = new System.Net.Sockets.UdpClient(new System.Net.IPEndPoint(System.Net.IPAddress.Loopback, 0));
        using var webhook = new System.Net.HttpListener();
        var port = ServiceProcess.FreePort();
        webhook.Prefixes.Add($"http://127.0.0.1:{port}/");
        webhook.Start();
        var file = Path.Combine(folder, "anchors.jsonl");
        await using var service = await ServiceProcess.StartAsync(
            "--audit-anchor",
            $"file:{file},syslog:127.0.0.1:{((System.Net.IPEndPoint)syslog.Client.LocalEndPoint!).Port},http://127.0.0.1:{port}/audit"
        );
        var posted = await webhook.GetContextAsync().WaitAsync(TimeSpan.FromSeconds(20), Stop);
        using (var reader = new StreamReader(posted.Request.InputStream))
            await File.WriteAllTextAsync(Path.Combine(folder, "webhook"), await reader.ReadToEndAsync(Stop) + "\n", Stop);
        posted.Response.Close();
        var message = System.Text.Encoding.UTF8.GetString(
            (await syslog.ReceiveAsync(Stop).AsTask().WaitAsync(TimeSpan.FromSeconds(20), Stop)).Buffer
        );
        Assert.StartsWith("<109>1 ", message, StringComparison.Ordinal);
        Assert.Contains(" grandstair ", message, StringComparison.Ordinal);
        await File.WriteAllTextAsync(Path.Combine(folder, "syslog"), $"a line of another program\n{message}\n", Stop);
        await Eventually.TrueAsync(() => Task.FromResult(File.Exists(file)), TimeSpan.FromSeconds(20), () => "the file is written");

        var export = Path.Combine(folder, "audit.jsonl");
        await service.OkAsync("audit", "export", "--out", export);
        foreach (var anchors in new[] { file, Path.Combine(folder, "syslog"), Path.Combine(folder, "webhook") })
            Assert.Contains(
                "every one as it was sealed",
                await service.OkAsync("audit", "verify", export, "--anchors", anchors),
                StringComparison.Ordinal
            );
        // Somebody with the whole machine, key and all, makes the chain anew; the anchors tell.
        var text = await File.ReadAllTextAsync(file, Stop);
        await File.WriteAllTextAsync(
            file,
            System.Text.RegularExpressions.Regex.Replace(text, "\"hash\":\"[0-9a-f]{8}", "\"hash\":\"00000000"),
            Stop
        );
        var forged = await service.GstairAsync("audit", "verify", export, "--anchors", file);
        Assert.Equal(3, forged.Exit);
        Assert.Contains("sealed with another hash", forged.Out, StringComparison.Ordinal);
        Assert.Contains(
            "no anchored head",
            (await service.GstairAsync("audit", "verify", export, "--anchors", Path.Combine(Repository.Root, "README.md"))).Error,
            StringComparison.Ordinal
        );
        Directory.Delete(folder, recursive: true);
    }

    private static async Task<string> HealthAsync(ServiceProcess service)
    {
        using var response = await Calls.SendAsync(service, "GET", "/health/ready");
        return System
            .Text.Json.JsonDocument.Parse(await response.Content.ReadAsStringAsync(Stop))
            .RootElement.GetProperty("status")
            .GetString()!;
    }

    private static async Task<string> ShownAsync(ServiceProcess service)
    {
        using var client = new System.Net.Sockets.TcpClient("127.0.0.1", service.Url.Port);
        var shown = "";
        await using var tls = new SslStream(client.GetStream(), false, (_, certificate, _, _) =>
            (shown = certificate?.Subject ?? "").Length > 0
        );
        await tls.AuthenticateAsClientAsync(new SslClientAuthenticationOptions { TargetHost = "localhost" }, Stop);
        return shown;
    }

    private static void Write(string certificate, string key, string name)
    {
        using var pair = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var made = new CertificateRequest($"CN={name}", pair, HashAlgorithmName.SHA256).CreateSelfSigned(
            DateTimeOffset.UtcNow.AddDays(-1),
            DateTimeOffset.UtcNow.AddDays(30)
        );
        File.WriteAllText(key, pair.ExportPkcs8PrivateKeyPem());
        File.WriteAllText(certificate, made.ExportCertificatePem());
    }
}
