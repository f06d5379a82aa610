using System.Globalization;
using GrandStair.Core.Readings;

namespace GrandStair.Service;

/// <summary>What the service was started with.</summary>
/// <param name="Data">The folder of its data; made where it is missing.</param>
/// <param name="Database">A PostgreSQL connection string, or null for SQLite in the data folder.</param>
/// <param name="Port">The TCP port on loopback.</param>
/// <param name="Catalogue">The folder with one folder a product.</param>
/// <param name="SshKey">The private key for machines reached by SSH; null where there is none.</param>
/// <param name="PostQuantum">Whether SSH logins offer the post-quantum key exchange.</param>
/// <param name="Pace">Seconds of domain time in one real second; 1 unless all machines are stand-ins.</param>
/// <param name="StandIns">A CSV file with what is true of simulated machines; null where there are none.</param>
/// <param name="Demo">The folder of the demo's data; null outside the demo.</param>
/// <param name="Hosts">The host names under which the service may be called.</param>
/// <param name="ReadEvery">How often every machine is read over its link without being asked; null for never.</param>
/// <param name="Sources">The folder with one YAML file a source; null where there are none.</param>
public sealed record ServiceOptions(string Data, string? Database, int Port, string Catalogue, string? SshKey, bool PostQuantum, double Pace, string? StandIns, string? Demo, IReadOnlyList<string> Hosts, TimeSpan? ReadEvery, string? Sources)
{
    /// <summary>Reads the options.</summary>
    /// <exception cref="FormatException">One cannot be read; the message says which and what was expected.</exception>
    public static ServiceOptions From(IConfiguration from)
    {
        ArgumentNullException.ThrowIfNull(from);
        var data = Path.GetFullPath(from["data"] ?? "data");
        return new(
            data,
            from["database"],
            (int)Number(from, "port", 7420, 0, 65535),
            Path.GetFullPath(from["catalogue"] ?? "catalogue"),
            from["ssh-key"] is { } key ? Path.GetFullPath(key) : null,
            from["ssh-post-quantum"] != "no",
            Number(from, "pace", 1, 1, 1_000_000),
            from["stand-ins"] is { } standIns ? Path.GetFullPath(standIns) : null,
            from["demo"] is { } demo ? Path.GetFullPath(demo) : null,
            ["localhost", "127.0.0.1", "[::1]", .. (from["hosts"] ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)],
            Every(from["read-every"]),
            from["sources"] is { } sources ? Path.GetFullPath(sources) : null);
    }

    private static TimeSpan? Every(string? text)
    {
        if (text is null or "never") return null;
        return Units.Parse(text, ValueKind.Duration) is { } seconds and >= 600 and <= 31_622_400
            ? TimeSpan.FromSeconds(seconds)
            : throw new FormatException($"--read-every is '{text}'; expected never, or a length of time from 10 min to a year such as 24h.");
    }

    private static double Number(IConfiguration from, string name, double otherwise, double least, double most)
    {
        if (from[name] is not { } text) return otherwise;
        return double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) && number >= least && number <= most
            ? number
            : throw new FormatException($"--{name} is '{text}'; expected a number from {least} to {most}.");
    }
}
