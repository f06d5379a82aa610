using System.Collections.Immutable;
using GrandStair.Core.Readings;

namespace GrandStair.Service;

/// <summary>An option of the service's command line.</summary>
/// <param name="Name">Its name without dashes.</param>
/// <param name="Value">What follows it.</param>
/// <param name="Meaning">What it does, and what counts without it.</param>
internal sealed record ServiceOption(string Name, string Value, string Meaning);

/// <summary>The service's options, for <c>--help</c> and against misspelt ones. docs/service.md has the same.</summary>
internal static class ServiceHelp
{
    /// <summary>All options.</summary>
    public static readonly ImmutableArray<ServiceOption> All =
    [
        new("data", "FOLDER", "where the database, keys and the first token are stored (default: data)"),
        new("database", "\"Host=…;Database=…\"", "a PostgreSQL database instead of the SQLite file in the data folder"),
        new("catalogue", "FOLDER", "one folder per product (default: the catalogue that ships with the program)"),
        new("webroot", "FOLDER", "the built console (default: the one that ships with the program)"),
        new("listen", "ADDRESS", "the address to listen on (default: 127.0.0.1)"),
        new("port", "N", "the TCP port (default: 7420; 0 for any that is free)"),
        new("tls-certificate", "FILE", "certificate chain (PEM)"),
        new("tls-key", "FILE", "its private key (PEM)"),
        new("plain-http", "yes", "allow plain HTTP on other addresses than loopback"),
        new("proxy", "ADDRESS,…", "proxies in front whose forwarding headers are believed"),
        new("hosts", "NAME,…", "further host names under which the service may be called"),
        new("provider", "FILE", "sign-in by an OpenID Connect provider"),
        new("rate", "N", "calls per second that one account may make over time (default: 200)"),
        new("keys", "FOLDER", "the keys that encrypt secrets (default: keys in the data folder)"),
        new("ssh-key", "FILE or secret:NAME", "the private key for machines that name none of their own"),
        new("ssh-passphrase", "secret:NAME", "the passphrase of that key; also file:PATH or env:VARIABLE"),
        new("ssh-post-quantum", "no", "do not offer the post-quantum key exchange"),
        new("media", "FOLDER", "the media that machines fetch (default: media in the data folder)"),
        new(
            "machine-url",
            "URL",
            "the URL under which machines reach this service, to fetch media and leave saved files (default: the one it listens on)"
        ),
        new("read-every", "24h", "read every machine at this interval; never (default)"),
        new("sources", "FOLDER", "directories to read"),
        new("audit-anchor", "file:PATH,…", "where the heads of the audit log are also written; also syslog:HOST:PORT or an https URL"),
        new("accept-audit", "NUMBER:HASH", "the entry to continue from after an audit alarm"),
        new("simulated", "FILE.csv", "simulated machines to try things on"),
        new("pace", "N", "seconds of simulated time per real second; only if all machines are simulated (default: 1)"),
        new("demo", "FOLDER", "start with the demo's data"),
    ];

    /// <summary>What <c>--help</c> prints.</summary>
    public static string Text =>
        $"""
            grandstair: plans and runs major-version upgrades across a fleet of machines

            Options:
            {string.Join('\n', All.Select(o => $"  {$"--{o.Name} {o.Value}".PadRight(34)} {o.Meaning}"))}

            All options and what they mean: docs/service.md
            """;

    /// <summary>Checks that every option is known.</summary>
    /// <exception cref="FormatException">One is not, or has no value.</exception>
    public static void Check(IReadOnlyList<string> args)
    {
        for (var i = 0; i < args.Count; i++)
        {
            if (!args[i].StartsWith("--", StringComparison.Ordinal))
                throw new FormatException($"'{args[i]}' is not an option; expected --NAME VALUE. 'grandstair --help' lists them.");
            var (name, hasValue) = args[i].IndexOf('=', StringComparison.Ordinal) is > 0 and var equals
                ? (args[i][2..equals], true)
                : (args[i][2..], false);
            if (All.All(o => !o.Name.Equals(name, StringComparison.OrdinalIgnoreCase)))
                throw new FormatException(
                    Spelling.Nearest(name, All.Select(o => o.Name)) is { } near
                        ? $"There is no option '--{name}'; did you mean '--{near}'?"
                        : $"There is no option '--{name}'; 'grandstair --help' lists them."
                );
            if (!hasValue && ++i == args.Count)
                throw new FormatException(
                    $"--{name} needs a value: {All.First(o => o.Name.Equals(name, StringComparison.OrdinalIgnoreCase)).Value}."
                );
        }
    }
}
