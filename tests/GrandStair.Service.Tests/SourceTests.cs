using System.Net;
using System.Net.Sockets;
using System.Text;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>A directory with five thousand machines as a source, read from a real slapd.</summary>
public sealed class SourceTests : IAsyncLifetime
{
    private const int Count = 5000;
    private const int CutAfter = 150_000;
    private LdapServer _ldap = null!;
    private ServiceProcess _service = null!;
    private string _folder = null!;
    private TcpListener _cutting = null!;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        var entries = new StringBuilder("dn: ou=machines,dc=northmere,dc=example\nobjectClass: organizationalUnit\nou: machines\n\n");
        for (var i = 1; i <= Count; i++)
        {
            var version = i switch
            {
                7 => "\ndescription: unknown",
                8 => "",
                _ => $"\ndescription: 6.{i % 5}",
            };
            entries.Append(
                $"dn: cn=till-{i:0000},ou=machines,dc=northmere,dc=example\nobjectClass: device\ncn: till-{i:0000}\nserialNumber: "
                    + $"NF{i}\nl: {(i % 2 == 0 ? "Westhaven" : "Eastness")}\nou: tills{version}\n\n"
            );
        }

        _ldap = await LdapServer.StartAsync(entries.ToString());
        _cutting = new(IPAddress.Loopback, 0);
        _cutting.Start();
        _ = CutAsync();
        _folder = Directory.CreateTempSubdirectory("grandstair-sources-").FullName;
        Environment.SetEnvironmentVariable("LDAPTLS_CACERT", _ldap.Certificate);
        await File.WriteAllTextAsync(Path.Combine(_folder, "password"), LdapServer.Password + "\n");
        await File.WriteAllTextAsync(Path.Combine(_folder, "wrong"), "berth-eight\n");
        Write("directory", $"port: {_ldap.TlsPort}");
        Write("started", $"security: starttls, port: {_ldap.Port}");
        Write("refused", $"port: {_ldap.TlsPort}", password: "wrong");
        Write("dropped", $"security: none, port: {((IPEndPoint)_cutting.LocalEndpoint).Port}");
        Write("gone", "port: 9");
        Write("surprise", $"port: {_ldap.TlsPort}", filter: "(cn=till-000*)", version: "operatingSystemVersion");
        Write("astray", $"port: {_ldap.TlsPort}", below: "ou=nowhere,dc=northmere,dc=example");
        Write("nobody", $"port: {_ldap.TlsPort}", filter: "(cn=crane-*)");
        _service = await ServiceProcess.StartAsync("--sources", _folder);
    }

    public async ValueTask DisposeAsync()
    {
        await _service.DisposeAsync();
        _cutting.Dispose();
        _ldap.Dispose();
        Directory.Delete(_folder, recursive: true);
    }

    [Fact]
    public async Task Five_thousand_machines_are_read_page_by_page_and_what_is_wrong_is_told()
    {
        foreach (
            var (name, says) in new[]
            {
                ("refused", "refuses 'cn=reader,dc=northmere,dc=example': the name or the password is wrong"),
                ("gone", "The directory at localhost:9 does not answer"),
                ("astray", "base 'ou=nowhere,dc=northmere,dc=example'"),
                ("nobody", "No entry below 'ou=machines,dc=northmere,dc=example' fits the filter '(cn=crane-*)'"),
                ("directry", "did you mean 'directory'"),
            }
        )
        {
            var ran = await _service.GstairAsync("source", "read", name);
            Assert.True(ran.Error.Contains(says, StringComparison.Ordinal), ran.Error);
            Assert.Contains(ran.Exit, new[] { 3, 4, 7 });
        }

        var dropped = await _service.GstairAsync("source", "read", "dropped");
        Assert.Equal(7, dropped.Exit);
        Assert.Matches("stopped answering after [1-9][0-9]* entries.*Nothing of this reading was taken", dropped.Error);
        Assert.Equal(0, (await _service.Client.MachinesAsync(null, 1, Stop)).Total);

        var read = await _service.GstairAsync("source", "read", "directory");
        Assert.Equal(9, read.Exit);
        Assert.Contains($"{Count} machines read from directory, {Count} of them new, 1 problem", read.Out, StringComparison.Ordinal);
        Assert.Contains(
            "cn=till-0007,ou=machines,dc=northmere,dc=example: os.version (description) is 'unknown', expected a version",
            read.Error,
            StringComparison.Ordinal
        );
        Assert.Equal(Count / 2, (await _service.Client.MachinesAsync("site = Westhaven and group = tills", 1, Stop)).Total);
        var eight = await _service.Client.MachineAsync("till-0008", Stop);
        Assert.Equal(("os.version", "absent"), eight.Readings.Select(r => (r.Key, r.State)).Single());
        Assert.StartsWith(
            "unreadable: the directory said 'unknown'",
            (await _service.Client.MachineAsync("till-0007", Stop)).Readings.Single().Shown,
            StringComparison.Ordinal
        );

        // The same again over StartTLS: known by its serial number, nothing is added.
        var started = await _service.GstairAsync("source", "read", "started");
        Assert.True(started.Out.Contains($"{Count} machines read from started, 0 of them new", StringComparison.Ordinal), started.Error);

        var surprise = await _service.GstairAsync("source", "read", "surprise");
        Assert.Contains("No entry has an attribute 'operatingSystemVersion'. Is it spelt so", surprise.Error, StringComparison.Ordinal);
        Assert.DoesNotContain("surprise", (await _service.Client.MachineAsync("till-0003", Stop)).Readings.Select(r => r.Source));
        var listed = await _service.GstairAsync("source", "list");
        Assert.Contains("refuses 'cn=reader", listed.Out, StringComparison.Ordinal);
        Assert.DoesNotContain(LdapServer.Password, listed.Out + read.Out + read.Error + _service.Output, StringComparison.Ordinal);
    }

    private void Write(
        string name,
        string connection,
        string password = "password",
        string filter = "(objectClass=device)",
        string below = "ou=machines,dc=northmere,dc=example",
        string version = "description"
    ) =>
        File.WriteAllText(
            Path.Combine(_folder, $"{name}.yaml"),
            $$"""
            source: {{name}}
            ldap: { server: localhost, {{connection}}, bind: "{{LdapServer.Reader}}", password-file: {{Path.Combine(
                _folder,
                password
            )}}, base: "{{below}}", filter: "{{filter}}" }
            fields: { name: cn, serial: serialNumber, site: l, group: ou, os.version: {{version}} }
            seen: modifyTimestamp
            """
        );

    /// <summary>Stands before the directory and cuts the line in the middle of its answer.</summary>
    private async Task CutAsync()
    {
        try
        {
            while (true)
            {
                using var client = await _cutting.AcceptTcpClientAsync();
                using var server = new TcpClient();
                await server.ConnectAsync(IPAddress.Loopback, _ldap.Port);
                var there = client.GetStream().CopyToAsync(server.GetStream());
                var buffer = new byte[16 * 1024];
                var sent = 0;
                while (sent < CutAfter)
                {
                    var read = await server.GetStream().ReadAsync(buffer);
                    if (read == 0)
                        break;
                    await client.GetStream().WriteAsync(buffer.AsMemory(0, read));
                    sent += read;
                }

                client.Close();
                server.Close();
                await there.ContinueWith(_ => { }, TaskScheduler.Default);
            }
        }
        catch (Exception error) when (error is SocketException or ObjectDisposedException or IOException)
        {
            // The test is over.
        }
    }
}
