using System.Security.Cryptography;
using System.Text;

namespace GrandStair.Files.HostKeys;

/// <summary>A line of a known_hosts file.</summary>
/// <param name="Line">Its number.</param>
/// <param name="Hosts">The names that it is for: plain, as <c>[name]:port</c>, or hashed.</param>
/// <param name="Kind">The kind of key, such as <c>ssh-ed25519</c>.</param>
/// <param name="Data">The key, in base64.</param>
public sealed record KnownHost(int Line, IReadOnlyList<string> Hosts, string Kind, string Data)
{
    private const int DefaultPort = 22;

    /// <summary>The key as it is pinned.</summary>
    public string Key => $"{Kind} {Data}";

    /// <summary>Whether the line is for a host at a port. Patterns and negations are not looked at.</summary>
    public bool IsFor(string host, int port)
    {
        var name = port == DefaultPort ? host : $"[{host}]:{port}";
        return Hosts.Any(h =>
            h.StartsWith("|1|", StringComparison.Ordinal) ? IsHashOf(h, name) : h.Equals(name, StringComparison.OrdinalIgnoreCase)
        );
    }

    /// <summary>A hashed name is <c>|1|salt|hash</c>, with the HMAC-SHA1 of the name under the salt.</summary>
    private static bool IsHashOf(string hashed, string name)
    {
        if (hashed.Split('|') is not ["", "1", var salt, var hash])
            return false;
        Span<byte> saltBytes = stackalloc byte[64];
        Span<byte> hashBytes = stackalloc byte[64];
        if (
            !Convert.TryFromBase64String(salt, saltBytes, out var saltLength)
            || !Convert.TryFromBase64String(hash, hashBytes, out var hashLength)
        )
            return false;
#pragma warning disable CA5350 // The file's format says which hash it is; it hides names and protections nothing.
        return HMACSHA1
            .HashData(saltBytes[..saltLength], Encoding.ASCII.GetBytes(name.ToLowerInvariant()))
            .AsSpan()
            .SequenceEqual(hashBytes[..hashLength]);
#pragma warning restore CA5350
    }
}

/// <summary>Reads a known_hosts file, as sshd(8) describes it.</summary>
public static class KnownHosts
{
    // The strongest first: where a file has several keys of a machine, this one is pinned.
    private static readonly string[] Kinds =
    [
        "ssh-ed25519",
        "ecdsa-sha2-nistp256",
        "ecdsa-sha2-nistp384",
        "ecdsa-sha2-nistp521",
        "ssh-rsa",
    ];

    /// <summary>The lines that are understood, and what is wrong with the others.</summary>
    public static (IReadOnlyList<KnownHost> Hosts, IReadOnlyList<FileProblem> Problems) Parse(string text, string file)
    {
        ArgumentNullException.ThrowIfNull(text);
        var hosts = new List<KnownHost>();
        var problems = new List<FileProblem>();
        var number = 0;
        foreach (var line in text.ReplaceLineEndings("\n").Split('\n'))
        {
            number++;
            var words = line.Split([' ', '\t'], StringSplitOptions.RemoveEmptyEntries);
            if (words.Length == 0 || words[0].StartsWith('#'))
                continue;
            if (words[0].StartsWith('@'))
                problems.Add(new(file, number, 0, $"Lines marked {words[0]} are not taken; expected the keys of hosts."));
            else if (words.Length < 3 || !Kinds.Contains(words[1]) || !IsKey(words[2]))
                problems.Add(new(file, number, 0, $"Expected names, a kind of key ({string.Join(", ", Kinds)}) and the key in base64."));
            else
                hosts.Add(new(number, words[0].Split(','), words[1], words[2]));
        }

        return (hosts, problems);
    }

    /// <summary>How much a kind of key is preferred, 0 the most.</summary>
    public static int Rank(string kind) => Array.IndexOf(Kinds, kind) is var at and >= 0 ? at : Kinds.Length;

    private static bool IsKey(string base64) => Convert.TryFromBase64String(base64, new byte[base64.Length], out var length) && length > 16;
}
