using System.Buffers.Binary;
using System.IO.Compression;
using System.Security.Cryptography;
using System.Text;

namespace GrandStair.Files.Evidence;

/// <summary>A file of an evidence pack.</summary>
/// <param name="Name">Its name within the pack, such as <c>events.jsonl</c>.</param>
/// <param name="Content">Its text.</param>
public sealed record EvidenceFile(string Name, string Content);

/// <summary>What verifying an evidence pack has shown.</summary>
/// <param name="Files">How many files it has.</param>
/// <param name="Key">The SHA-256 of the public key that signed it, in hexadecimal; empty where none can be read.</param>
/// <param name="Faults">What is wrong, in sentences; empty where every byte is as it was signed.</param>
public sealed record EvidenceVerdict(int Files, string Key, IReadOnlyList<string> Faults);

/// <summary>
/// A zip file whose every byte is signed. The archive's comment, which is its last part, has the signature (ECDSA with P-256 and
/// SHA-256) of all bytes before it. Within, <c>SHA256SUMS</c> lists the files for <c>sha256sum --check</c>, and <c>public-key.pem</c> has
/// the key.
/// </summary>
public static class EvidencePack
{
    private const string Sums = "SHA256SUMS";
    private const string PublicKey = "public-key.pem";
    private const string Head = "grandstair-evidence 1\nkey ";
    private const string BeforeSignature = "\nsignature ";
    private const int KeyLength = 64;
    private const int SignatureBytes = 64;
    private const int SignatureLength = 88;
    private const int EndRecordLength = 22;
    private const uint EndRecordMark = 0x06054b50;
    private const long LargestFile = 1L << 30;
    private const long LargestText = 1 << 22;
    private const int BufferSize = 1 << 16;

    private static int CommentLength => Head.Length + KeyLength + BeforeSignature.Length + SignatureLength + 1;

    /// <summary>Writes a pack.</summary>
    /// <param name="stream">Where it goes.</param>
    /// <param name="files">Its files.</param>
    /// <param name="publicPem">The public key that belongs to <paramref name="sign"/> (PEM).</param>
    /// <param name="sign">Signs a SHA-256 hash: 64 bytes, as IEEE P1363 has them.</param>
    /// <param name="now">The time of the files, UTC.</param>
    public static void Write(
        Stream stream,
        IReadOnlyList<EvidenceFile> files,
        string publicPem,
        Func<byte[], byte[]> sign,
        DateTimeOffset now
    )
    {
        ArgumentNullException.ThrowIfNull(stream);
        ArgumentNullException.ThrowIfNull(files);
        ArgumentNullException.ThrowIfNull(sign);
        using var zip = new MemoryStream();
        using (var archive = new ZipArchive(zip, ZipArchiveMode.Create, leaveOpen: true))
        {
            var sums = string.Concat(
                files
                    .Append(new(PublicKey, publicPem))
                    .Select(f => $"{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(f.Content)))}  {f.Name}\n")
            );
            foreach (var file in files.Append(new(PublicKey, publicPem)).Append(new(Sums, sums)))
            {
                var entry = archive.CreateEntry(file.Name, CompressionLevel.Optimal);
                entry.LastWriteTime = now.UtcDateTime;
                using var content = entry.Open();
                content.Write(Encoding.UTF8.GetBytes(file.Content));
            }

            archive.Comment = new(' ', CommentLength);
        }

        var signed = zip.GetBuffer().AsSpan(0, (int)zip.Length - CommentLength);
        stream.Write(signed);
        stream.Write(Encoding.ASCII.GetBytes(Comment(KeyId(publicPem), Convert.ToBase64String(sign(SHA256.HashData(signed))))));
    }

    /// <summary>Verifies a pack without the service.</summary>
    /// <param name="pack">The pack; it can be read at any position.</param>
    public static EvidenceVerdict Verify(Stream pack)
    {
        ArgumentNullException.ThrowIfNull(pack);
        var end = pack.Length - CommentLength;
        if (pack.Length > LargestFile || end < EndRecordLength)
            return new(0, "", ["It is no evidence pack, or it was cut short."]);
        var record = Read(pack, end - EndRecordLength, EndRecordLength + CommentLength);
        var comment = Encoding.ASCII.GetString(record, EndRecordLength, CommentLength);
        var key = comment.StartsWith(Head, StringComparison.Ordinal) ? comment.Substring(Head.Length, KeyLength) : "";
        var written = comment.Substring(Head.Length + KeyLength + BeforeSignature.Length, SignatureLength);
        if (BinaryPrimitives.ReadUInt32LittleEndian(record) != EndRecordMark || comment != Comment(key, written))
            return new(0, "", ["It is no evidence pack, it was cut short, or its signature was changed."]);

        var faults = new List<string>();
        var files = 0;
        try
        {
            using var archive = new ZipArchive(pack, ZipArchiveMode.Read, leaveOpen: true);
            files = archive.Entries.Count;
            var listed = Listed(archive, faults);
            foreach (var entry in archive.Entries.Where(e => e.FullName != Sums))
            {
                if (!listed.Remove(entry.FullName, out var hash))
                    faults.Add($"{entry.FullName} is not listed in {Sums}.");
                else if (Hash(entry) != hash)
                    faults.Add($"{entry.FullName} was changed.");
            }

            faults.AddRange(listed.Keys.Select(name => $"{name} is missing."));
            var pem = archive.GetEntry(PublicKey) is { } kept ? Text(kept) : "";
            if (KeyId(pem) != key)
                faults.Add($"{PublicKey} is not the key that signed the pack.");
            else if (!IsSigned(pack, end, pem, written))
                faults.Add("The pack is not as it was signed.");
        }
        catch (Exception error) when (error is InvalidDataException or CryptographicException or ArgumentException or FormatException)
        {
            faults.Add("The pack is not as it was signed: it cannot be read as a whole.");
        }

        return new(files, key, faults);
    }

    private static string Comment(string key, string signature) => $"{Head}{key}{BeforeSignature}{signature}\n";

    /// <summary>The SHA-256 of a public key, in hexadecimal; empty where the text has none.</summary>
    private static string KeyId(string pem)
    {
        if (!PemEncoding.TryFind(pem, out var fields))
            return "";
        return Convert.ToHexStringLower(SHA256.HashData(Convert.FromBase64String(pem[fields.Base64Data])));
    }

    private static bool IsSigned(Stream pack, long length, string pem, string written)
    {
        var signature = new byte[SignatureBytes];
        // Base64 has unused bits at its end; only the one way of writing them counts.
        if (
            !Convert.TryFromBase64String(written, signature, out var count)
            || count != SignatureBytes
            || Convert.ToBase64String(signature) != written
        )
            return false;
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var buffer = new byte[BufferSize];
        pack.Position = 0;
        while (pack.Position < length)
        {
            var read = pack.Read(buffer, 0, (int)Math.Min(buffer.Length, length - pack.Position));
            if (read == 0)
                return false;
            hash.AppendData(buffer, 0, read);
        }

        using var key = ECDsa.Create();
        key.ImportFromPem(pem);
        return key.VerifyHash(hash.GetHashAndReset(), signature);
    }

    private static Dictionary<string, string> Listed(ZipArchive archive, List<string> faults)
    {
        var listed = new Dictionary<string, string>(StringComparer.Ordinal);
        if (archive.GetEntry(Sums) is not { } sums)
        {
            faults.Add($"{Sums} is missing.");
            return listed;
        }

        foreach (var line in Text(sums).Split('\n', StringSplitOptions.RemoveEmptyEntries))
        {
            if (line.Split("  ", 2) is [{ Length: KeyLength } hash, var name])
                listed[name] = hash;
            else
                faults.Add($"{Sums} has a line that is none: {line}");
        }

        return listed;
    }

    private static string Hash(ZipArchiveEntry entry)
    {
        using var content = entry.Open();
        return Convert.ToHexStringLower(SHA256.HashData(content));
    }

    private static string Text(ZipArchiveEntry entry)
    {
        if (entry.Length > LargestText)
            throw new InvalidDataException($"{entry.FullName} is larger than such a file is.");
        using var content = new StreamReader(entry.Open(), Encoding.UTF8);
        return content.ReadToEnd();
    }

    private static byte[] Read(Stream pack, long from, int count)
    {
        var bytes = new byte[count];
        pack.Position = from;
        pack.ReadExactly(bytes);
        return bytes;
    }
}
