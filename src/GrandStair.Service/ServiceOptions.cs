using System.Globalization;
using System.Net;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;

namespace GrandStair.Service;

/// <summary>What the service was started with.</summary>
/// <param name="Data">The folder of its data; made where it is missing.</param>
/// <param name="Database">A PostgreSQL connection string, or null for SQLite in the data folder.</param>
/// <param name="Listen">The address that it listens on; loopback unless said otherwise.</param>
/// <param name="Port">The TCP port.</param>
/// <param name="TlsCertificate">The file with the TLS certificate and its chain (PEM); null for plain HTTP.</param>
/// <param name="TlsKey">The file with its private key (PEM).</param>
/// <param name="Provider">The file that says by which provider people sign in; null for none.</param>
/// <param name="Rate">How many calls a second an account may make for long; five times as many at once.</param>
/// <param name="Catalogue">The folder with one folder a product.</param>
/// <param name="SshKey">The private key for machines reached by SSH whose fleet entry names none; null where there is none.</param>
/// <param name="SshPassphrase">What that key is encrypted with; null where it is not.</param>
/// <param name="Keys">The folder of the keys that encrypt secrets; never in the database.</param>
/// <param name="PostQuantum">Whether SSH logins offer the post-quantum key exchange.</param>
/// <param name="Pace">Seconds of domain time in one real second; 1 unless all machines are simulated machines. Infinite where time moves
/// on whenever the engine is idle.</param>
/// <param name="SimulatedMachines">A CSV file with what is true of simulated machines; null where there are none.</param>
/// <param name="Demo">The folder of the demo's data; null outside the demo.</param>
/// <param name="Hosts">The host names under which the service may be called.</param>
/// <param name="ReadEvery">How often every machine is read over its connection without being asked; null for never.</param>
/// <param name="Sources">The folder with one YAML file a source; null where there are none.</param>
/// <param name="AuditAnchors">Where heads of the audit are written besides: <c>file:PATH</c>, <c>syslog:HOST:PORT</c> or an https
/// URL.</param>
/// <param name="Proxies">The addresses of proxies in front that do TLS; from them the caller's address and scheme are taken
/// (X-Forwarded-For, X-Forwarded-Proto).</param>
/// <param name="AcceptAudit">The audit entry to continue from after an alarm, as NUMBER:HASH; null for none.</param>
public sealed record ServiceOptions(
    string Data,
    string? Database,
    IPAddress Listen,
    int Port,
    string? TlsCertificate,
    string? TlsKey,
    string? Provider,
    int Rate,
    string Catalogue,
    SecretReference? SshKey,
    SecretReference? SshPassphrase,
    string Keys,
    bool PostQuantum,
    double Pace,
    string? SimulatedMachines,
    string? Demo,
    IReadOnlyList<string> Hosts,
    TimeSpan? ReadEvery,
    string? Sources,
    IReadOnlyList<string> AuditAnchors,
    string? AcceptAudit,
    IReadOnlyList<IPAddress> Proxies
)
{
    /// <summary>The folder of the media that machines fetch.</summary>
    public required string Media { get; init; }

    /// <summary>The URL under which machines reach the service; null where it is the one that it listens on.</summary>
    public Uri? MachineUrl { get; init; }

    /// <summary>Reads the options.</summary>
    /// <exception cref="FormatException">One cannot be read; the message says which and what was expected.</exception>
    public static ServiceOptions From(IConfiguration from)
    {
        ArgumentNullException.ThrowIfNull(from);
        var data = Path.GetFullPath(from["data"] ?? "data");
        if (!IPAddress.TryParse(from["listen"] ?? "127.0.0.1", out var listen))
            throw new FormatException(
                $"--listen is '{from["listen"]}'; expected an IP address of this machine, such as 127.0.0.1, or 0.0.0.0 for all of them."
            );
        var machineUrl = from["machine-url"] is { } url ? HttpUrl("machine-url", url) : null;
        var certificate = from["tls-certificate"] is { } file ? Path.GetFullPath(file) : null;
        if (certificate is null && !IPAddress.IsLoopback(listen) && from["plain-http"] != "yes")
            throw new FormatException(
                $"--listen {listen} would send tokens and passwords over the network as they are. Give --tls-certificate FILE and "
                    + $"--tls-key FILE; or, where something in front does TLS, say --plain-http yes."
            );
        return new(
            data,
            from["database"],
            listen,
            (int)Number(from, "port", 7420, 0, 65535),
            certificate,
            certificate is null
                ? null
                : Path.GetFullPath(
                    from["tls-key"]
                        ?? throw new FormatException("--tls-certificate needs --tls-key FILE, the private key of the certificate.")
                ),
            from["provider"] is { } provider ? Path.GetFullPath(provider) : null,
            (int)Number(from, "rate", 200, 1, 1_000_000),
            from["catalogue"] is { } catalogue ? Path.GetFullPath(catalogue) : Shipped("catalogue") ?? Path.GetFullPath("catalogue"),
            from["ssh-key"] is not { } key ? null
                : key.StartsWith("secret:", StringComparison.Ordinal) || key.StartsWith("env:", StringComparison.Ordinal)
                    ? SecretReference.Parse(key)
                : new("file", Present("ssh-key", key.StartsWith("file:", StringComparison.Ordinal) ? key[5..] : key)),
            from["ssh-passphrase"] is { } passphrase ? SecretReference.Parse(passphrase) : null,
            Path.GetFullPath(from["keys"] ?? Path.Combine(data, "keys")),
            from["ssh-post-quantum"] != "no",
            from["pace"] == "idle" ? double.PositiveInfinity : Number(from, "pace", 1, 1, 1_000_000),
            from["simulated"] is { } simulated ? Path.GetFullPath(simulated) : null,
            from["demo"] is { } demo ? Path.GetFullPath(demo) : null,
            HostNames(from["hosts"], machineUrl),
            Every(from["read-every"]),
            from["sources"] is { } sources ? Path.GetFullPath(sources) : null,
            [
                .. (from["audit-anchor"] ?? "")
                    .Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                    .Select(Anchor),
            ],
            from["accept-audit"],
            [.. (from["proxy"] ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries).Select(Proxy)]
        )
        {
            Media = Path.GetFullPath(from["media"] ?? Path.Combine(data, "media")),
            MachineUrl = machineUrl,
        };
    }

    /// <summary>
    /// A folder that ships with the program: beside it, or, where it was built in a checkout, in one of the folders above; null where there
    /// is none.
    /// </summary>
    internal static string? Shipped(string name)
    {
        const int MostAbove = 6;
        var folder = new DirectoryInfo(AppContext.BaseDirectory);
        for (var above = 0; folder is not null && above <= MostAbove; above++, folder = folder.Parent)
        {
            if (Directory.Exists(Path.Combine(folder.FullName, name)))
                return Path.Combine(folder.FullName, name);
        }

        return null;
    }

    /// <summary>The pace as the option says it.</summary>
    public string PaceName => double.IsInfinity(Pace) ? "idle" : Pace.ToString(CultureInfo.InvariantCulture);

    /// <summary>Whether it answers over plain HTTP to other machines.</summary>
    public bool IsPlainAbroad => TlsCertificate is null && !IPAddress.IsLoopback(Listen);

    private static string[] HostNames(string? more, Uri? machineUrl) =>
        [
            "localhost",
            "127.0.0.1",
            "[::1]",
            .. machineUrl is null ? Array.Empty<string>() : [machineUrl.Host],
            .. (more ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries),
        ];

    private static Uri HttpUrl(string name, string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var url) && url.Scheme is "http" or "https"
            ? url
            : throw new FormatException($"--{name} is '{text}'; expected a URL such as https://grandstair.northmere.example:7420.");

    private static string Present(string name, string file) =>
        File.Exists(file) ? Path.GetFullPath(file) : throw new FormatException($"--{name} is '{file}'; there is no such file.");

    private static TimeSpan? Every(string? text)
    {
        if (text is null or "never")
            return null;
        return Units.Parse(text, ValueKind.Duration) is { } seconds and >= 600 and <= 31_622_400
            ? TimeSpan.FromSeconds(seconds)
            : throw new FormatException(
                $"--read-every is '{text}'; expected never, or a length of time from 10 min to a year such as 24h."
            );
    }

    private static IPAddress Proxy(string text) =>
        IPAddress.TryParse(text, out var address)
            ? address
            : throw new FormatException($"--proxy has '{text}'; expected the IP addresses of the proxies in front, separated by commas.");

    private static string Anchor(string text)
    {
        if (text.StartsWith("file:", StringComparison.Ordinal) && text.Length > 5)
            return $"file:{Path.GetFullPath(text[5..])}";
        if (
            text.Split(':') is ["syslog", { Length: > 0 }, var port]
            && int.TryParse(port, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            && number is > 0 and < 65536
        )
            return text;
        return Uri.TryCreate(text, UriKind.Absolute, out var url) && (url.Scheme == "https" || (url.Scheme == "http" && url.IsLoopback))
            ? text
            : throw new FormatException($"--audit-anchor has '{text}'; expected file:PATH, syslog:HOST:PORT, or an https URL.");
    }

    private static double Number(IConfiguration from, string name, double otherwise, double least, double most)
    {
        if (from[name] is not { } text)
            return otherwise;
        return double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) && number >= least && number <= most
            ? number
            : throw new FormatException($"--{name} is '{text}'; expected a number from {least} to {most}.");
    }
}
