using System.Globalization;
using System.Numerics;

namespace GrandStair.Core.Readings;

/// <summary>
/// Orders versions. Runs of digits compare as numbers, runs of letters as text, and a version that ends
/// earlier is filled with zeros, so that <c>7</c> equals <c>7.0</c> and <c>2.10</c> comes after <c>2.9</c>.
/// A tilde sorts before everything, even before the end (<c>7~rc1</c> is before <c>7</c>), as in Debian Policy 5.6.12.
/// </summary>
public sealed class VersionOrder : IComparer<string>
{
    private VersionOrder() { }

    /// <summary>The one order used for all products of this release.</summary>
    public static VersionOrder Instance { get; } = new();

    /// <inheritdoc />
    public int Compare(string? x, string? y)
    {
        var left = Split(x ?? "");
        var right = Split(y ?? "");
        for (var i = 0; i < Math.Max(left.Count, right.Count); i++)
        {
            var order = ComparePart(i < left.Count ? left[i] : null, i < right.Count ? right[i] : null);
            if (order != 0)
                return order;
        }

        return 0;
    }

    private static int ComparePart(string? x, string? y)
    {
        var (rankX, rankY) = (Rank(x), Rank(y));
        if (rankX == 0 || rankY == 0)
            return rankX.CompareTo(rankY);
        if (rankX == 2 || rankY == 2)
        {
            return rankX != rankY ? rankX.CompareTo(rankY) : string.Compare(x, y, StringComparison.OrdinalIgnoreCase);
        }

        return NumberOf(x).CompareTo(NumberOf(y));
    }

    /// <summary>0 for a tilde, 1 for a number or the end (which is zero), 2 for letters.</summary>
    private static int Rank(string? part) =>
        part switch
        {
            null => 1,
            "~" => 0,
            _ when char.IsAsciiDigit(part[0]) => 1,
            _ => 2,
        };

    private static BigInteger NumberOf(string? part) =>
        part is null ? BigInteger.Zero : BigInteger.Parse(part, CultureInfo.InvariantCulture);

    private static List<string> Split(string text)
    {
        var parts = new List<string>();
        var i = 0;
        while (i < text.Length)
        {
            var start = i;
            if (char.IsAsciiDigit(text[i]))
                while (i < text.Length && char.IsAsciiDigit(text[i]))
                    i++;
            else if (char.IsLetter(text[i]))
                while (i < text.Length && char.IsLetter(text[i]))
                    i++;
            else if (text[i] == '~')
                i++;
            else
            {
                i++;
                continue;
            }

            parts.Add(text[start..i]);
        }

        return parts;
    }
}
