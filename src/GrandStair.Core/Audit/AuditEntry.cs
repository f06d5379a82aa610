using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace GrandStair.Core.Audit;

/// <summary>A command as it was given.</summary>
/// <param name="Number">Its place, from 1, without gaps.</param>
/// <param name="At">When, UTC, to the microsecond.</param>
/// <param name="Actor">Who.</param>
/// <param name="From">From where, and by which way in.</param>
/// <param name="Command">What, such as <c>plan start</c>.</param>
/// <param name="Subject">To what, such as a plan's name or <c>m12</c>.</param>
/// <param name="Machine">The number of the machine that it concerns; null where it concerns none or many.</param>
/// <param name="Before">What was so before; null where there was nothing.</param>
/// <param name="After">What is so since; null where nothing is left.</param>
/// <param name="Reason">Why, or what there is to say of it.</param>
public sealed record AuditEntry(
    long Number,
    DateTimeOffset At,
    string Actor,
    string From,
    string Command,
    string Subject,
    long? Machine,
    string? Before,
    string? After,
    string Reason
)
{
    /// <summary>What the first entry follows.</summary>
    public const string Beginning = "0000000000000000000000000000000000000000000000000000000000000000";

    /// <summary>
    /// The hash of this entry after the one before it: SHA-256, in hexadecimal, over the hash before and every field, each as its
    /// length in bytes, a colon and its UTF-8 text, or a hyphen where there is none.
    /// </summary>
    /// <param name="before">The hash of the entry before; <see cref="Beginning"/> for the first.</param>
    public string Seal(string before)
    {
        using var bytes = new MemoryStream();
        foreach (
            var field in (string?[])
                [
                    before,
                    Text(Number),
                    Text((At - DateTimeOffset.UnixEpoch).Ticks / TimeSpan.TicksPerMicrosecond),
                    Actor,
                    From,
                    Command,
                    Subject,
                    Machine is { } m ? Text(m) : null,
                    Before,
                    After,
                    Reason,
                ]
        )
        {
            var text = field is null ? "-"u8.ToArray() : Encoding.UTF8.GetBytes(field);
            if (field is not null)
                bytes.Write(Encoding.ASCII.GetBytes($"{Text(text.Length)}:"));
            bytes.Write(text);
        }

        return Convert.ToHexStringLower(SHA256.HashData(bytes.GetBuffer().AsSpan(0, (int)bytes.Length)));
    }

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);
}

/// <summary>An entry with its hash.</summary>
/// <param name="Entry">The entry.</param>
/// <param name="Hash">Its hash; null where it was not sealed yet.</param>
public sealed record SealedEntry(AuditEntry Entry, string? Hash);

/// <summary>A signed statement that the chain stood so at an entry.</summary>
/// <param name="Number">The entry's number.</param>
/// <param name="Hash">Its hash.</param>
/// <param name="Key">The SHA-256, in hexadecimal, of the public key that checks the signature.</param>
/// <param name="Signature">The signature over number and hash (ECDSA with P-256 and SHA-256), in base64.</param>
public sealed record AuditSeal(long Number, string Hash, string Key, string Signature)
{
    /// <summary>The name of a key: the SHA-256 of its public part, in hexadecimal.</summary>
    public static string KeyId(ECDsa key)
    {
        ArgumentNullException.ThrowIfNull(key);
        return Convert.ToHexStringLower(SHA256.HashData(key.ExportSubjectPublicKeyInfo()));
    }

    /// <summary>Whether it was signed by a key.</summary>
    /// <param name="key">The key; its public part is enough.</param>
    /// <param name="id">The key's name.</param>
    public bool IsSignedBy(ECDsa key, string id)
    {
        ArgumentNullException.ThrowIfNull(key);
        var signature = new byte[Signature.Length];
        return Key == id
            && Convert.TryFromBase64String(Signature, signature, out var length)
            && key.VerifyData(Statement(Number, Hash), signature.AsSpan(0, length), HashAlgorithmName.SHA256);
    }

    /// <summary>What is signed.</summary>
    public static byte[] Statement(long number, string hash) =>
        Encoding.ASCII.GetBytes($"grandstair audit {number.ToString(CultureInfo.InvariantCulture)} {hash}");
}

/// <summary>Something in the audit that is not as it was sealed.</summary>
/// <param name="Number">The entry where it shows.</param>
/// <param name="What">What it is.</param>
public sealed record AuditFault(long Number, string What);

/// <summary>Goes over an audit entry by entry and finds any change, gap or reordering.</summary>
public sealed class AuditCheck
{
    private const int MostFaults = 100;
    private readonly Dictionary<long, AuditSeal> _seals;
    private readonly Func<AuditSeal, bool> _isSigned;
    private readonly List<AuditFault> _faults = [];
    private readonly Dictionary<long, string> _known;
    private bool _unsealed;
    private long? _lastSealed;

    /// <summary>Begins a check.</summary>
    /// <param name="seals">The seals that there are.</param>
    /// <param name="isSigned">Whether a seal's signature is right.</param>
    /// <param name="from">The number of the first entry that is expected; 1 for a whole audit.</param>
    /// <param name="before">The hash that the first entry follows; null where it is not known, and then the first entry is taken at its
    /// word.</param>
    /// <param name="known">Entries with their hashes as they are known from elsewhere, such as an earlier export or anchors; null where
    /// none is.</param>
    public AuditCheck(
        IEnumerable<AuditSeal> seals,
        Func<AuditSeal, bool> isSigned,
        long from = 1,
        string? before = AuditEntry.Beginning,
        IEnumerable<(long Number, string Hash)>? known = null
    )
    {
        ArgumentNullException.ThrowIfNull(seals);
        _seals = seals.GroupBy(s => s.Number).ToDictionary(g => g.Key, g => g.Last());
        _isSigned = isSigned;
        (Number, Head) = (from - 1, before);
        _known = (known ?? []).GroupBy(k => k.Number).ToDictionary(g => g.Key, g => g.First().Hash);
        foreach (var (number, _) in (known ?? []).Where(k => _known[k.Number] != k.Hash))
            Tell(number, "it is known from elsewhere with two different hashes");
        foreach (var seal in _seals.Values.Where(s => !isSigned(s)))
            Tell(seal.Number, "the seal's signature is wrong");
    }

    /// <summary>The number of the last entry that was looked at.</summary>
    public long Number { get; private set; }

    /// <summary>Its hash; null where it was not sealed yet.</summary>
    public string? Head { get; private set; }

    /// <summary>How many entries at the end are not sealed yet.</summary>
    public int Unsealed { get; private set; }

    /// <summary>What was found.</summary>
    public IReadOnlyList<AuditFault> Faults => _faults;

    /// <summary>Looks at the next entry.</summary>
    public void Look(SealedEntry next)
    {
        ArgumentNullException.ThrowIfNull(next);
        var number = next.Entry.Number;
        if (number > Number + 1)
            Tell(Number + 1, number == Number + 2 ? "this entry is missing" : $"the entries {Number + 1} to {number - 1} are missing");
        else if (number <= Number)
            Tell(number, $"this entry comes after {Number}: it is there twice, or entries were reordered");
        var follows = number == Number + 1;
        Number = Math.Max(Number, number);
        if (next.Hash is null)
        {
            if (number <= LastSealed)
                Tell(number, "the entry was sealed, and its hash was taken away");
            _unsealed = true;
            Unsealed++;
            return;
        }

        if (_unsealed)
            Tell(number, "entries before this one are not sealed, though this one is");
        // After a gap what it follows is not there; the next one follows this one's own hash again.
        if (follows && Head is { } before && next.Entry.Seal(before) != next.Hash)
            Tell(number, "the entry is not what was sealed: it was changed, or what it follows was");
        Head = next.Hash;
        if (
            (_seals.TryGetValue(number, out var seal) && _isSigned(seal) && seal.Hash != next.Hash)
            || (_known.TryGetValue(number, out var known) && known != next.Hash)
        )
            Tell(number, "the entry was sealed with another hash: this one or an entry before it was changed and the chain made again");
    }

    /// <summary>Ends the check: what was sealed has to be there.</summary>
    public IReadOnlyList<AuditFault> End()
    {
        var last = LastSealed;
        if (last > Number)
            Tell(Number + 1, $"the end is missing: the entries up to {last} were sealed");
        return _faults;
    }

    /// <summary>The last entry that is known to have been sealed.</summary>
    private long LastSealed => _lastSealed ??= _seals.Values.Where(_isSigned).Select(s => s.Number).Concat(_known.Keys).Append(0).Max();

    private void Tell(long number, string what)
    {
        if (_faults.Count < MostFaults && !_faults.Contains(new(number, what)))
            _faults.Add(new(number, what));
    }
}
