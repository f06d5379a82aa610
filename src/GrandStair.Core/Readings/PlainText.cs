using System.Text;

namespace GrandStair.Core.Readings;

/// <summary>Text from outside without what a terminal would obey or what would show it in another order than it has.</summary>
public static class PlainText
{
    /// <summary>
    /// Whether a character is left out: the control characters C0 and C1, and the characters that override the direction of text
    /// (U+202A to U+202E, U+2066 to U+2069; Unicode Standard Annex #9).
    /// </summary>
    public static bool IsHarmful(char c) => char.IsControl(c) || c is >= '\u202A' and <= '\u202E' or >= '\u2066' and <= '\u2069';

    /// <summary>The text in one line: line breaks and tabs become spaces, harmful characters are left out.</summary>
    public static string Line(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        return text.Any(IsHarmful) ? Clean(text, breaks: false) : text;
    }

    /// <summary>The text with its line breaks; other harmful characters are left out.</summary>
    public static string Lines(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        return text.Any(IsHarmful) ? Clean(text, breaks: true) : text;
    }

    /// <summary>The text as it is, or its first characters and an ellipsis where it has more than <paramref name="most"/>.</summary>
    public static string Shorten(string text, int most)
    {
        ArgumentNullException.ThrowIfNull(text);
        return text.Length <= most ? text : $"{text[..most]}…";
    }

    /// <summary>Whether the text has half of a surrogate pair, which stands for no character and has no UTF-8.</summary>
    public static bool HasHalfCharacter(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        for (var i = 0; i < text.Length; i++)
        {
            if (!char.IsSurrogate(text[i]))
                continue;
            if (!char.IsHighSurrogate(text[i]) || i + 1 == text.Length || !char.IsLowSurrogate(text[i + 1]))
                return true;
            i++;
        }

        return false;
    }

    private static string Clean(string text, bool breaks)
    {
        var clean = new StringBuilder(text.Length);
        foreach (var c in text)
        {
            if (!IsHarmful(c) || (breaks && c == '\n'))
                clean.Append(c);
            else if (c is '\n' or '\t')
                clean.Append(' ');
        }

        return clean.ToString();
    }
}
