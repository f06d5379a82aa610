using GrandStair.Core.Readings;

namespace GrandStair.Core.Runs;

/// <summary>What scripts print, in pieces and in lines.</summary>
public static class OutputText
{
    /// <summary>The most that is kept of what one order prints, in bytes.</summary>
    public const long Most = 16 << 20;

    /// <summary>How many bytes of a piece can be taken, so that no line is cut in two.</summary>
    /// <param name="piece">What was printed from some place on.</param>
    /// <param name="isLast">Whether nothing follows it.</param>
    /// <param name="isFull">Whether it is as large as a piece can be, so that a line in it may never end.</param>
    /// <returns>0 where its only line has not ended yet.</returns>
    public static int WholeLines(ReadOnlySpan<byte> piece, bool isLast, bool isFull)
    {
        if (isLast)
            return piece.Length;
        var whole = piece.LastIndexOf((byte)'\n') + 1;
        return whole == 0 && isFull ? piece.Length : whole;
    }

    /// <summary>A text as it is given away: its lines, each with a line break.</summary>
    public static string Plain(string text) => string.Concat(Lines(text).Select(line => $"{line}\n"));

    /// <summary>
    /// The lines of a text without what a terminal would obey. Of a line that was overwritten, as by a progress bar, the last state.
    /// </summary>
    public static IEnumerable<string> Lines(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        var lines = text.Split('\n');
        var count = lines[^1].Length == 0 ? lines.Length - 1 : lines.Length;
        return lines.Take(count).Select(line => line.TrimEnd('\r')).Select(line => PlainText.Line(line[(line.LastIndexOf('\r') + 1)..]));
    }
}
