using System.Diagnostics;
using System.Net;
using System.Net.Sockets;

namespace GrandStair.Testing;

/// <summary>A slapd of the tests' own on loopback, with TLS, from the distribution's binary.</summary>
public sealed class LdapServer : IDisposable
{
    /// <summary>Who may read.</summary>
    public const string Reader = "cn=reader,dc=northmere,dc=example";

    /// <summary>The reader's password.</summary>
    public const string Password = "berth-seven";

    private readonly string _folder;
    private readonly Process _process;

    private LdapServer(string folder, Process process, int port, int tlsPort)
    {
        _folder = folder;
        _process = process;
        (Port, TlsPort) = (port, tlsPort);
    }

    /// <summary>The port on which TLS is begun on demand.</summary>
    public int Port { get; }

    /// <summary>The port on which TLS is there from the first byte.</summary>
    public int TlsPort { get; }

    /// <summary>The certificate that its clients have to trust.</summary>
    public string Certificate => Path.Combine(_folder, "server.crt");

    /// <summary>Makes a directory from entries (LDIF, RFC 2849) and starts a server on it.</summary>
    public static async Task<LdapServer> StartAsync(string entries)
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-slapd-").FullName;
        Directory.CreateDirectory(Path.Combine(folder, "data"));
        // The LDAP library takes 'localhost' for the machine's own name.
        await RunAsync(
            "openssl",
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "2",
            "-subj",
            "/CN=localhost",
            "-addext",
            $"subjectAltName=DNS:localhost,DNS:{Dns.GetHostName()},IP:127.0.0.1",
            "-keyout",
            $"{folder}/server.key",
            "-out",
            $"{folder}/server.crt"
        );
        await File.WriteAllTextAsync(
            Path.Combine(folder, "slapd.conf"),
            $"""
            include /etc/ldap/schema/core.schema
            include /etc/ldap/schema/cosine.schema
            modulepath /usr/lib/ldap
            moduleload back_mdb
            pidfile {folder}/pid
            TLSCertificateFile {folder}/server.crt
            TLSCertificateKeyFile {folder}/server.key
            sizelimit size.soft=100 size.hard=100 size.prtotal=unlimited size.pr=1000
            database mdb
            maxsize 268435456
            suffix "dc=northmere,dc=example"
            directory {folder}/data
            rootdn "cn=root,dc=northmere,dc=example"
            access to attrs=userPassword by anonymous auth by * none
            access to * by users read by * none
            """
        );
        await File.WriteAllTextAsync(
            Path.Combine(folder, "entries.ldif"),
            $"""
            dn: dc=northmere,dc=example
            objectClass: organization
            objectClass: dcObject
            o: Northmere Ferries
            dc: northmere

            dn: {Reader}
            objectClass: organizationalRole
            objectClass: simpleSecurityObject
            cn: reader
            userPassword: {Password}

            {entries}
            """
        );
        await RunAsync("slapadd", "-q", "-f", $"{folder}/slapd.conf", "-l", $"{folder}/entries.ldif");
        var (port, tlsPort) = (ServiceProcess.FreePort(), ServiceProcess.FreePort());
        var process = Process.Start(
            new ProcessStartInfo(
                "slapd",
                ["-f", $"{folder}/slapd.conf", "-h", $"ldap://127.0.0.1:{port} ldaps://127.0.0.1:{tlsPort}", "-d", "0"]
            )
            {
                RedirectStandardError = true,
            }
        )!;
        process.BeginErrorReadLine();
        await Eventually.TrueAsync(() => AnswersAsync(port), TimeSpan.FromSeconds(30), () => "slapd answers");
        return new(folder, process, port, tlsPort);
    }

    /// <inheritdoc />
    public void Dispose()
    {
        _process.Kill();
        _process.WaitForExit(TimeSpan.FromSeconds(20));
        _process.Dispose();
        Directory.Delete(_folder, recursive: true);
    }

    private static async Task<bool> AnswersAsync(int port)
    {
        using var client = new TcpClient();
        try
        {
            await client.ConnectAsync(IPAddress.Loopback, port);
            return true;
        }
        catch (SocketException)
        {
            return false;
        }
    }

    private static async Task RunAsync(string program, params string[] arguments)
    {
        var ran = await Shell.RunAsync(program, arguments);
        if (ran.Exit != 0)
            throw new InvalidOperationException($"{program} {string.Join(' ', arguments)}: {ran.Out}{ran.Error}");
    }
}
