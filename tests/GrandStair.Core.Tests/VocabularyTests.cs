using System.Text.RegularExpressions;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Core.Tests;

/// <summary>One word for one thing: words that were given up appear nowhere that a user or developer reads.</summary>
public sealed partial class VocabularyTests
{
    private static readonly string[] Folders = ["src", "console/src", "docs", "schemas", "catalogue", "demo-data", "tests", "benches"];
    private static readonly string[] Kinds = [".cs", ".ts", ".tsx", ".css", ".md", ".yaml", ".json", ".sql", ".csv", ".sh"];

    [Fact]
    public void Words_that_were_given_up_appear_nowhere()
    {
        var files = Folders
            .SelectMany(f => Directory.EnumerateFiles(Path.Combine(Repository.Root, f), "*", SearchOption.AllDirectories))
            .Append(Path.Combine(Repository.Root, "README.md"))
            .Where(f =>
                Kinds.Contains(Path.GetExtension(f)) && !GeneratedOrForeign().IsMatch(f) && Path.GetFileName(f) != "VocabularyTests.cs"
            );
        var found = files
            .SelectMany(file =>
                File.ReadLines(file)
                    .SelectMany(
                        (line, i) =>
                            GivenUp().Matches(line).Select(m => $"{Path.GetRelativePath(Repository.Root, file)}:{i + 1}: '{m.Value}'")
                    )
            )
            .ToArray();
        Assert.True(
            found.Length == 0,
            $"{found.Length} words; shared vocabulary has others for them:\n{string.Join('\n', found.Take(60))}"
        );
    }

    [GeneratedRegex(@"[\\/](bin|obj|node_modules|wwwroot)[\\/]|package-lock\.json|packages\.lock\.json|tests[\\/]calendars")]
    private static partial Regex GeneratedOrForeign();

    [GeneratedRegex(
        @"\b[Mm]end(s|ed|ing)?\b|\b[Uu]ntold\b"
            + @"|(?<![A-Za-z])[Ss]hut(?!down|s? down|s? out)\b|\b[Cc]losures?\b|\b[Ss]tand-?[Ii]ns?\b|[Dd]isagree"
            + @"|\b[Pp]lacements?\b|[Aa]ppoint(?!ment)|[Ss]ecret address|(?<![a-z])[Pp]rove[ds]?(?![a-z])|(?<![A-Za-z])[Pp]roof\b"
            + @"|\b[Gg]uard(s|ed)?\b|[Tt]urning.?[Pp]oint|[Ll]oose.?[Ee]nd"
            + @"|(?<![A-Za-z])standings?\b|(?<![a-z])Standings?\b|[Ee]xcuse|[Uu]nder.?[Ww]ay\b"
            + @"|\b[Rr]everted\b|[Cc]all.?[Oo]ff\b|\b[Rr]ulings?\b|\b[Pp]assages?\b|\b[Ll]aid.?out\b|\b[Cc]annot tell\b|\bran-out\b"
    )]
    private static partial Regex GivenUp();
}
