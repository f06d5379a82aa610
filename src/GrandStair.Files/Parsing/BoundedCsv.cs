using System.Globalization;
using CsvHelper;
using CsvHelper.Configuration;

namespace GrandStair.Files.Parsing;

/// <summary>The only way to a CSV file (RFC 4180): separated by comma, semicolon or tab, with cells of limited length.</summary>
public static class BoundedCsv
{
    /// <summary>
    /// The longest cell, in characters: a table of applications fits, a cell whose quotation mark is never closed does not.
    /// </summary>
    public const int LongestCell = 1 << 20;

    /// <summary>
    /// A reader that has not read anything yet. It throws <see cref="MaxFieldSizeException"/> at a cell that is too long.
    /// </summary>
    public static CsvReader Open(TextReader text) =>
        new(
            text,
            new CsvConfiguration(CultureInfo.InvariantCulture)
            {
                BadDataFound = null,
                MissingFieldFound = null,
                TrimOptions = TrimOptions.Trim,
                DetectDelimiter = true,
                DetectDelimiterValues = [",", ";", "\t"],
                MaxFieldSize = LongestCell,
            }
        );
}
