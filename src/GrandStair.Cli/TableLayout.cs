namespace GrandStair.Cli;

/// <summary>A column that is shown.</summary>
/// <param name="Index">Its place among all columns.</param>
/// <param name="Width">How many characters its cells may have.</param>
/// <param name="Wraps">Whether longer cells are broken into lines instead of shortened.</param>
internal readonly record struct ShownColumn(int Index, int Width, bool Wraps);

/// <summary>Fits the columns of a table into the width of a terminal.</summary>
internal static class TableLayout
{
    /// <summary>How many characters are free after each column.</summary>
    public const int Gap = 2;

    // What the border takes on the left and between columns.
    private const int Border = 1;
    private const int Shortest = 8;
    private const int ShortestLast = 20;

    /// <summary>What is written above a column.</summary>
    public static string Title(string head) => head.TrimStart('#').TrimEnd('?');

    /// <summary>A text of at most so many characters.</summary>
    public static string Shorten(string text, int width) => text.Length <= width ? text : $"{text[..(width - 1)]}…";

    /// <summary>The columns that are shown, and how wide each is.</summary>
    public static IReadOnlyList<ShownColumn> Fit(IReadOnlyList<string> heads, IReadOnlyList<IReadOnlyList<string>> rows, int width)
    {
        var natural = heads.Select((h, i) => Math.Max(Title(h).Length, rows.Select(r => r[i].Length).DefaultIfEmpty(0).Max())).ToArray();
        var shown = Enumerable.Range(0, heads.Count).ToList();
        int Last() => shown[^1];
        int Needed(int lastWidth) => shown.Take(shown.Count - 1).Sum(i => natural[i]) + lastWidth + Border + (shown.Count * (Gap + Border));
        if (Needed(natural[Last()]) <= width)
            return [.. shown.Select(i => new ShownColumn(i, natural[i], false))];

        // Texts at the end are broken into lines; numbers and short words there are not.
        int LastWidth() => Math.Min(natural[Last()], ShortestLast);
        while (Needed(LastWidth()) > width && shown.FindLastIndex(i => heads[i].EndsWith('?')) is >= 0 and var drop)
            shown.RemoveAt(drop);
        while (
            Needed(LastWidth()) > width
            && shown
                .Skip(1)
                .Take(shown.Count - 2)
                .Where(i => natural[i] > Shortest)
                .OrderByDescending(i => natural[i])
                .Cast<int?>()
                .FirstOrDefault()
                is { } widest
        )
            natural[widest]--;
        var room = width - Needed(0);
        return
        [
            .. shown.Select(i =>
                i == Last() ? new ShownColumn(i, Math.Max(room, ShortestLast), natural[i] > room) : new(i, natural[i], false)
            ),
        ];
    }
}
