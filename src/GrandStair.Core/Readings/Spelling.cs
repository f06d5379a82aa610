namespace GrandStair.Core.Readings;

/// <summary>Finds what somebody probably meant by a mistyped word.</summary>
public static class Spelling
{
    private const int LongestWord = 100;

    /// <summary>
    /// The candidate that takes the fewest edits to reach (Levenshtein), where it takes at most a third of the word's length and two more.
    /// </summary>
    public static string? Nearest(string word, IEnumerable<string> candidates)
    {
        ArgumentNullException.ThrowIfNull(word);
        // Nobody mistypes a name this long, and comparing it with thousands of others would take long.
        if (word.Length > LongestWord)
            return null;
        var best = candidates
            .Where(c => c.Length <= 2 * LongestWord)
            .Select(c => (Word: c, Distance: Distance(word, c)))
            .OrderBy(c => c.Distance)
            .ThenBy(c => c.Word, StringComparer.Ordinal)
            .FirstOrDefault((Word: "", Distance: int.MaxValue));
        return best.Distance <= (word.Length / 3) + 2 ? best.Word : null;
    }

    /// <summary>The end of a refusal of an unknown name: <c>; did you mean 'x'?</c> where one is near, else what the caller says.</summary>
    /// <param name="word">The unknown name.</param>
    /// <param name="candidates">The names that exist.</param>
    /// <param name="otherwise">The end where none is near, with its punctuation.</param>
    public static string DidYouMean(string word, IEnumerable<string> candidates, string otherwise) =>
        Nearest(word, candidates) is { } near ? $"; did you mean '{near}'?" : otherwise;

    private static int Distance(string a, string b)
    {
        var row = Enumerable.Range(0, b.Length + 1).ToArray();
        for (var i = 1; i <= a.Length; i++)
        {
            var diagonal = row[0];
            row[0] = i;
            for (var j = 1; j <= b.Length; j++)
            {
                var above = row[j];
                var same = char.ToUpperInvariant(a[i - 1]) == char.ToUpperInvariant(b[j - 1]) ? 0 : 1;
                row[j] = Math.Min(Math.Min(row[j - 1], above) + 1, diagonal + same);
                diagonal = above;
            }
        }

        return row[b.Length];
    }
}
