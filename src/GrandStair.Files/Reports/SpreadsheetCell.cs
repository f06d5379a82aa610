using System.Text;
using GrandStair.Core.Readings;

namespace GrandStair.Files.Reports;

/// <summary>
/// Cells of CSV reports. What machines and files said must not be taken for a formula, whatever separator the spreadsheet splits at.
/// </summary>
public static class SpreadsheetCell
{
    private const string Separators = ";,|";
    private const string Begins = "=+-@";

    /// <summary>
    /// The text in one line, without codes for terminals, and with an apostrophe before everything that would be a formula if a spreadsheet
    /// split the cell before it. The beginning of the cell itself is the writer's to escape.
    /// </summary>
    public static string Safe(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        text = PlainText.Line(text);
        var safe = new StringBuilder(text.Length);
        var isAtStart = false;
        foreach (var c in text)
        {
            if (isAtStart && Begins.Contains(c, StringComparison.Ordinal))
                safe.Append('\'');
            safe.Append(c);
            isAtStart = Separators.Contains(c, StringComparison.Ordinal) || (isAtStart && c is ' ' or '"' or '\'');
        }

        return safe.ToString();
    }
}
