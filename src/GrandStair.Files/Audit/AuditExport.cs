using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using GrandStair.Core.Audit;

namespace GrandStair.Files.Audit;

/// <summary>What checking an exported audit came to.</summary>
/// <param name="Entries">The number of the last entry.</param>
/// <param name="Seals">How many seals there are.</param>
/// <param name="Head">The hash of the last entry.</param>
/// <param name="Key">The SHA-256, in hexadecimal, of the public key that checks the seals; compare it with the one that was noted
/// before.</param>
/// <param name="Faults">What is not as it was sealed.</param>
public sealed record AuditExportVerdict(long Entries, int Seals, string Head, string Key, IReadOnlyList<AuditFault> Faults);

/// <summary>An exported audit, as JSON Lines: the public key, then the seals, then every entry with its hash.</summary>
public static class AuditExport
{
    private const int LongestLine = 4 << 20;
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        MaxDepth = 8,
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    };

    /// <summary>The line with the public key.</summary>
    /// <param name="publicKey">The key (PEM).</param>
    public static string KeyLine(string publicKey) => JsonSerializer.Serialize(new Line { PublicKey = publicKey }, Json);

    /// <summary>The line of a seal.</summary>
    public static string SealLine(AuditSeal seal) => JsonSerializer.Serialize(new Line { Seal = seal }, Json);

    /// <summary>The seal in a line; null where the line holds none.</summary>
    internal static AuditSeal? SealIn(string line)
    {
        try
        {
            return line.Length > LongestLine ? null : JsonSerializer.Deserialize<Line>(line, Json)?.Seal;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>The line of an entry.</summary>
    public static string EntryLine(SealedEntry entry)
    {
        ArgumentNullException.ThrowIfNull(entry);
        return JsonSerializer.Serialize(new Line { Entry = entry.Entry, Hash = entry.Hash }, Json);
    }

    /// <summary>Checks an export, with nothing but itself.</summary>
    /// <param name="text">The export.</param>
    /// <param name="name">Its name, for errors.</param>
    /// <param name="known">Entries with their hashes as they are known from elsewhere; null where none is.</param>
    /// <exception cref="FileException">It is no export of an audit.</exception>
    public static AuditExportVerdict Verify(TextReader text, string name, IReadOnlyList<(long Number, string Hash)>? known = null)
    {
        ArgumentNullException.ThrowIfNull(text);
        using var key = ECDsa.Create();
        var id = "";
        var seals = new List<AuditSeal>();
        AuditCheck? check = null;
        var number = 0;
        while (text.ReadLine() is { } written)
        {
            number++;
            if (string.IsNullOrWhiteSpace(written))
                continue;
            var line = Read(written, name, number);
            if (line.PublicKey is { } pem)
            {
                id = Load(key, pem, name, number);
            }
            else if (line.Seal is { } seal)
            {
                seals.Add(seal);
            }
            else
            {
                if (id.Length == 0)
                    throw Wrong(name, number, "The first line has to hold the public key ('publicKey').");
                check ??= new(seals, s => s.IsSignedBy(key, id), known: known);
                check.Look(new(line.Entry!, line.Hash));
            }
        }

        if (id.Length == 0)
            throw Wrong(name, 1, "This is no export of an audit: it holds no public key.");
        check ??= new(seals, s => s.IsSignedBy(key, id), known: known);
        return new(check.Number, seals.Count, check.Head ?? "", id, check.End());
    }

    private static Line Read(string written, string name, int number)
    {
        if (written.Length > LongestLine)
            throw Wrong(name, number, $"The line has {written.Length} signs; expected at most {LongestLine}.");
        try
        {
            var line = JsonSerializer.Deserialize<Line>(written, Json);
            return line is { PublicKey: not null } or { Seal: not null } or { Entry: not null }
                ? line
                : throw Wrong(name, number, "The line holds neither 'publicKey', nor 'seal', nor 'entry'.");
        }
        catch (JsonException error)
        {
            throw Wrong(name, number, $"The line is no JSON as an export has it: {error.Message}");
        }
    }

    private static string Load(ECDsa key, string pem, string name, int number)
    {
        try
        {
            key.ImportFromPem(pem);
            return AuditSeal.KeyId(key);
        }
        catch (Exception error) when (error is ArgumentException or CryptographicException)
        {
            throw Wrong(name, number, $"The public key cannot be read: {error.Message}");
        }
    }

    private static FileException Wrong(string name, int line, string message) => new([new(name, line, 0, message)]);

    private sealed record Line
    {
        public string? PublicKey { get; init; }

        public AuditSeal? Seal { get; init; }

        public AuditEntry? Entry { get; init; }

        public string? Hash { get; init; }
    }
}
