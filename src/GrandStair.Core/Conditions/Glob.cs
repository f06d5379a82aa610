using System.Buffers;
using System.Runtime.CompilerServices;
using System.Text;

namespace GrandStair.Core.Conditions;

/// <summary>
/// Patterns of texts, case ignored: <c>*</c> is any number of characters, <c>?</c> is one, whether it takes one UTF-16 unit or two.
/// </summary>
internal static class Glob
{
    /// <summary>The longest pattern, in characters; with it the time to match a text is bounded by the text's length.</summary>
    public const int LongestPattern = 256;

    // Up to this product of lengths the plain way is quicker, and cannot take long.
    private const int PlainUpTo = 1 << 14;
    private const int Bits = 64;

    /// <summary>Whether a text fits, in time proportional to the text's length whatever the pattern is.</summary>
    public static bool Fits(ReadOnlySpan<char> text, ReadOnlySpan<char> pattern) =>
        (long)text.Length * pattern.Length <= PlainUpTo && !text.ContainsAnyInRange('\uD800', '\uDFFF')
            ? FitsPlainly(text, pattern)
            : FitsByStates(text, pattern);

    /// <summary>
    /// On a mismatch only the last <c>*</c> takes one character more. For texts whose characters take one UTF-16 unit each.
    /// </summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    internal static bool FitsPlainly(ReadOnlySpan<char> text, ReadOnlySpan<char> pattern)
    {
        int t = 0,
            p = 0,
            star = -1,
            from = 0;
        while (t < text.Length)
        {
            if (p < pattern.Length && pattern[p] == '*')
            {
                star = p++;
                from = t;
            }
            else if (
                p < pattern.Length
                && (pattern[p] == text[t] || pattern[p] == '?' || char.ToUpperInvariant(pattern[p]) == char.ToUpperInvariant(text[t]))
            )
            {
                p++;
                t++;
            }
            else if (star >= 0)
            {
                p = star + 1;
                t = ++from;
            }
            else
            {
                return false;
            }
        }

        while (p < pattern.Length && pattern[p] == '*')
            p++;
        return p == pattern.Length;
    }

    /// <summary>
    /// All places in the pattern that the text so far can have come to, a bit each, are carried along at once (Baeza-Yates and Gonnet,
    /// "A new approach to text searching", 1992): a few machine words a character, where trying one after another takes the product of both
    /// lengths.
    /// </summary>
    internal static bool FitsByStates(ReadOnlySpan<char> text, ReadOnlySpan<char> pattern)
    {
        // Characters of the pattern without its stars; after which of them a star stands says which places stay.
        var plain = new List<Rune>();
        var stays = new ulong[(pattern.Length / Bits) + 1];
        foreach (var rune in pattern.EnumerateRunes())
        {
            if (rune.Value == '*')
                stays[plain.Count / Bits] |= 1UL << (plain.Count % Bits);
            else
                plain.Add(Rune.ToUpperInvariant(rune));
        }

        var words = (plain.Count / Bits) + 1;
        var masks = new Dictionary<Rune, ulong[]>();
        var any = new ulong[words];
        for (var i = 0; i < plain.Count; i++)
            if (plain[i].Value == '?')
                any[(i + 1) / Bits] |= 1UL << ((i + 1) % Bits);
        for (var i = 0; i < plain.Count; i++)
        {
            if (plain[i].Value == '?')
                continue;
            if (!masks.TryGetValue(plain[i], out var mask))
                masks[plain[i]] = mask = [.. any];
            mask[(i + 1) / Bits] |= 1UL << ((i + 1) % Bits);
        }

        var states = ArrayPool<ulong>.Shared.Rent(words);
        try
        {
            Array.Clear(states);
            states[0] = 1;
            foreach (var rune in text.EnumerateRunes())
            {
                var mask = masks.GetValueOrDefault(Rune.ToUpperInvariant(rune), any);
                var carry = 0UL;
                for (var w = 0; w < words; w++)
                {
                    var now = states[w];
                    states[w] = (((now << 1) | carry) & mask[w]) | (now & stays[w]);
                    carry = now >> (Bits - 1);
                }
            }

            return (states[plain.Count / Bits] >> (plain.Count % Bits) & 1) == 1;
        }
        finally
        {
            ArrayPool<ulong>.Shared.Return(states);
        }
    }
}
