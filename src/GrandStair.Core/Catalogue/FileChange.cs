using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;

namespace GrandStair.Core.Catalogue;

/// <summary>A file of a product that is different.</summary>
/// <param name="File">Its name.</param>
/// <param name="Before">The SHA-256 of what stood, in hexadecimal; null where there was nothing.</param>
/// <param name="After">The SHA-256 of what is there; null where there is nothing.</param>
/// <param name="Lines">The lines that went, each after <c>- </c>, and those that came, each after <c>+ </c>, in the order of the
/// file.</param>
public sealed record FileChange(string File, string? Before, string? After, ImmutableArray<string> Lines)
{
    // Beyond so many lines the longest common part is not looked for: all old lines went and all new ones came.
    private const int MostLines = 3000;

    /// <summary>The SHA-256 of a text's UTF-8, in hexadecimal.</summary>
    public static string Hash(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));

    /// <summary>What is different between two states of some files, by name.</summary>
    public static ImmutableArray<FileChange> Between(IReadOnlyDictionary<string, string> before, IReadOnlyDictionary<string, string> after)
    {
        ArgumentNullException.ThrowIfNull(before);
        ArgumentNullException.ThrowIfNull(after);
        return
        [
            .. before
                .Keys.Union(after.Keys)
                .Order(StringComparer.Ordinal)
                .Select(f => (File: f, Before: before.GetValueOrDefault(f), After: after.GetValueOrDefault(f)))
                .Where(f => f.Before != f.After)
                .Select(f => new FileChange(
                    f.File,
                    f.Before is null ? null : Hash(f.Before),
                    f.After is null ? null : Hash(f.After),
                    LinesOf(Split(f.Before), Split(f.After))
                )),
        ];
    }

    private static string[] Split(string? text) => text is null ? [] : text.TrimEnd('\n').Split('\n');

    /// <summary>The shortest way from one to the other, by the longest common subsequence of their lines.</summary>
    private static ImmutableArray<string> LinesOf(string[] before, string[] after)
    {
        if (before.Length > MostLines || after.Length > MostLines)
            return [.. before.Select(l => $"- {l}"), .. after.Select(l => $"+ {l}")];
        var common = new int[before.Length + 1, after.Length + 1];
        for (var i = before.Length - 1; i >= 0; i--)
        {
            for (var j = after.Length - 1; j >= 0; j--)
                common[i, j] = before[i] == after[j] ? common[i + 1, j + 1] + 1 : Math.Max(common[i + 1, j], common[i, j + 1]);
        }

        var lines = ImmutableArray.CreateBuilder<string>();
        var (b, a) = (0, 0);
        while (b < before.Length || a < after.Length)
        {
            if (b < before.Length && a < after.Length && before[b] == after[a])
                (b, a) = (b + 1, a + 1);
            else if (a == after.Length || (b < before.Length && common[b + 1, a] >= common[b, a + 1]))
                lines.Add($"- {before[b++]}");
            else
                lines.Add($"+ {after[a++]}");
        }

        return lines.ToImmutable();
    }
}
