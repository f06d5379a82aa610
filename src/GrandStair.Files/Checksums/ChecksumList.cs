using System.Text.RegularExpressions;

namespace GrandStair.Files.Checksums;

/// <summary>
/// A list of checksums as <c>sha256sum</c> writes it: 64 hexadecimal digits, a space, a space or an asterisk, the file's name. Lines that
/// begin with <c>#</c> and empty lines say nothing.
/// </summary>
public static partial class ChecksumList
{
    /// <summary>The checksums by file name, in lower-case digits; of a path only the last part counts.</summary>
    /// <param name="text">The list.</param>
    /// <param name="where">What to call it in errors.</param>
    /// <exception cref="FileException">A line is none of a list, or names a file a second time with another checksum.</exception>
    public static IReadOnlyDictionary<string, string> Parse(string text, string where)
    {
        ArgumentNullException.ThrowIfNull(text);
        var sums = new Dictionary<string, string>(StringComparer.Ordinal);
        var problems = new List<FileProblem>();
        foreach (var (line, number) in text.TrimStart('\uFEFF').Split('\n').Select((l, i) => (l.TrimEnd('\r'), i + 1)))
        {
            if (line.Length == 0 || line.StartsWith('#'))
                continue;
            if (Line().Match(line) is not { Success: true } match)
                problems.Add(
                    new(where, number, 1, $"'{line}' is no line of a checksum list; expected 64 hexadecimal digits and a file name.")
                );
            else if (!sums.TryAdd(Path.GetFileName(match.Groups[2].Value), match.Groups[1].Value.ToLowerInvariant()))
                problems.Add(new(where, number, 1, $"'{match.Groups[2].Value}' is listed twice; leave one of the lines out."));
        }

        return problems.Count > 0 ? throw new FileException([.. problems]) : sums;
    }

    [GeneratedRegex("^([0-9A-Fa-f]{64}) [ *](.+)$")]
    private static partial Regex Line();
}
