using System.Globalization;

namespace GrandStair.Files.Reports;

/// <summary>The page of an evidence pack that people read; it stands alone.</summary>
public sealed class EvidenceReport : IDisposable
{
    private readonly StringWriter _page = new(CultureInfo.InvariantCulture);
    private bool _hasEnded;

    /// <summary>Begins the page.</summary>
    /// <param name="title">What it is about.</param>
    /// <param name="under">What stands below its title.</param>
    public EvidenceReport(string title, string under)
    {
        StandAlonePage.Begin(_page, title);
        _page.Write($"<h1>{StandAlonePage.Text(title)}</h1><p class=\"hint\">{StandAlonePage.Text(under)}</p>\n");
    }

    /// <summary>Adds a table, unless it has no rows.</summary>
    public void Table(string title, string[] heads, IEnumerable<string?[]> rows)
    {
        var all = rows.ToArray();
        if (all.Length > 0)
            StandAlonePage.Table(_page, title, heads, all);
    }

    /// <summary>The page; nothing can be added after it was asked for.</summary>
    public string Text
    {
        get
        {
            if (!_hasEnded)
                StandAlonePage.End(_page);
            _hasEnded = true;
            return _page.ToString();
        }
    }

    /// <inheritdoc />
    public void Dispose() => _page.Dispose();
}
