using System.Security.Cryptography;

namespace GrandStair.Service.HostKeys;

/// <summary>Host keys as people compare them.</summary>
internal static class HostKey
{
    /// <summary>Whether the text is a key as in known_hosts.</summary>
    public static bool IsKey(string? text) => Bytes(text) is not null;

    /// <summary>The kind and the fingerprint, as ssh-keygen shows them.</summary>
    public static string Show(string key) =>
        Bytes(key) is { } bytes
            ? $"{key.Split(' ')[0]} SHA256:{Convert.ToBase64String(SHA256.HashData(bytes)).TrimEnd('=')}"
            : "unreadable";

    private static byte[]? Bytes(string? key)
    {
        if (key?.Trim().Split(' ', StringSplitOptions.RemoveEmptyEntries) is not [var kind, var data, ..] || kind.Length == 0)
            return null;
        var buffer = new byte[data.Length];
        return Convert.TryFromBase64String(data, buffer, out var length) && length > 0 ? buffer[..length] : null;
    }
}
