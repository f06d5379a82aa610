using System.Net;
using GrandStair.Core.Readings;

namespace GrandStair.Files.Reports;

/// <summary>What pages that stand alone have in common: no script, nothing fetched, and no text that could be markup.</summary>
internal static class StandAlonePage
{
    /// <summary>The look of all of them.</summary>
    private const string Style =
        "body{font:14px/1.45 "
        + "system-ui,sans-serif;margin:2rem;color:#1d2730;background:#fff}h1{font-size:1.5rem;margin:0}h2{font-size:1.05rem;margin:1.6rem "
        + "0 .4rem}.n{text-align:right}.hint{color:#51606c;margin:.2rem "
        + "0}table{border-collapse:collapse;width:100%}th{text-align:left;font-weight:600;color:#51606c}th,td{padding:.25rem .8rem "
        + ".25rem 0;border-bottom:1px solid #d9e0e5;vertical-align:top;overflow-wrap:anywhere}";

    private const int LongestCell = 2000;

    /// <summary>Begins a page; what comes first in it is its title.</summary>
    public static void Begin(TextWriter writer, string title) =>
        writer.Write(
            $"""
            <!doctype html>
            <html lang="en"><head><meta charset="utf-8">
            <meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
            <title>{Text(title)}</title><style>{Style}</style></head><body>

            """
        );

    /// <summary>Ends a page.</summary>
    public static void End(TextWriter writer) => writer.Write("</body></html>\n");

    /// <summary>Text as HTML; what machines send is never markup.</summary>
    public static string Text(string text) =>
        WebUtility.HtmlEncode(string.Concat(text.Where(c => !char.IsControl(c) || c is '\n' or '\t')));

    /// <summary>A table with its title; nothing where it has no rows. A head that begins with <c>#</c> is of numbers.</summary>
    public static void Table(TextWriter writer, string title, string[] heads, IEnumerable<string?[]> rows)
    {
        var all = rows.ToArray();
        if (all.Length == 0)
            return;
        writer.Write(
            $"<h2>{Text(title)}</h2>\n<table><thead><tr>"
                + $"{string.Concat(heads.Select(h => $"<th{Side(h)}>{Text(h.TrimStart('#'))}</th>"))}</tr></thead><tbody>\n"
        );
        foreach (var row in all)
            writer.Write($"<tr>{string.Concat(row.Zip(heads, Cell))}</tr>\n");
        writer.Write("</tbody></table>\n");
    }

    private static string Cell(string? text, string head) => $"<td{Side(head)}>{Text(PlainText.Shorten(text ?? "", LongestCell))}</td>";

    private static string Side(string head) => head.StartsWith('#') ? " class=\"n\"" : "";
}
