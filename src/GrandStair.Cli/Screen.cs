using System.Globalization;
using GrandStair.Core.Readings;
using Spectre.Console;

namespace GrandStair.Cli;

/// <summary>The terminal. Colours and shapes are left out where it is none.</summary>
internal sealed class Screen
{
    private const int Unbroken = 4000;
    private readonly IAnsiConsole _console = AnsiConsole.Create(
        new() { Out = new AnsiConsoleOutput(Terminal.Streams.Output), Ansi = IsTerminal ? AnsiSupport.Detect : AnsiSupport.No }
    );

    public Screen()
    {
        // Where the output goes into a file or a pipe, lines are not broken, unless a width is asked for.
        if (!IsTerminal)
            _console.Profile.Width =
                int.TryParse(Environment.GetEnvironmentVariable("COLUMNS"), out var columns) && columns is >= 40 and < Unbroken
                    ? columns
                    : Unbroken;
    }

    /// <summary>A line; <c>**bold**</c> marks what is to stand out.</summary>
    public void Say(string line)
    {
        var bold = false;
        _console.MarkupLine(
            string.Concat(
                line.Split("**")
                    .Select(part =>
                    {
                        var text = Markup.Escape(Clean(part));
                        var shown = bold ? $"[bold]{text}[/]" : text;
                        bold = !bold;
                        return shown;
                    })
            )
        );
    }

    /// <summary>Says the first lines of a list that may be long, and how many more there are.</summary>
    public void First(string before, IReadOnlyCollection<string> lines)
    {
        const int shown = 5;
        foreach (var line in lines.Take(shown))
            Say($"{before}{line}");
        if (lines.Count > shown)
            Hint($"{before}{lines.Count - shown:N0} more; --json lists all");
    }

    /// <summary>A line of somebody else's text, as it is.</summary>
    public void Plain(string line) => _console.WriteLine(Clean(line));

    /// <summary>A quieter line.</summary>
    public void Hint(string line) => _console.MarkupLine($"[grey]{Markup.Escape(Clean(line))}[/]");

    /// <summary>
    /// A table that fits the terminal: columns whose head ends with <c>?</c> are left out where there is no room for them, other
    /// texts are shortened, and the last column is broken into lines. The first column is never shortened. Columns whose head
    /// begins with <c>#</c> are numbers.
    /// </summary>
    public void Table(IReadOnlyList<string> heads, IEnumerable<IReadOnlyList<string?>> rows)
    {
        var cells = rows.Select(row => row.Select(c => Clean(c ?? "")).ToArray()).ToArray();
        var columns = TableLayout.Fit(heads, cells, _console.Profile.Width);
        var table = new Table { Border = TableBorder.Simple, ShowHeaders = true };
        foreach (var column in columns)
        {
            var head = new TableColumn($"[grey]{Markup.Escape(TableLayout.Title(heads[column.Index]))}[/]")
            {
                Padding = new(0, TableLayout.Gap),
                NoWrap = !column.Wraps,
            };
            if (heads[column.Index].StartsWith('#'))
                head.RightAligned();
            table.AddColumn(head);
        }

        foreach (var row in cells)
            table.AddRow(
                columns
                    .Select(c =>
                        (Spectre.Console.Rendering.IRenderable)
                            new Markup(Coloured(c.Wraps ? row[c.Index] : TableLayout.Shorten(row[c.Index], c.Width)))
                    )
                    .ToArray()
            );
        _console.Write(table);
        // A head with nothing under it leaves open whether something went wrong.
        if (table.Rows.Count == 0)
            Hint("none");
    }

    /// <summary>A number of things: <c>1 machine</c>, <c>240 machines</c>.</summary>
    public static string Many(int count, string one) => count == 1 ? $"**1** {one}" : $"**{count}** {one}s";

    public void Clear() => _console.Clear();

    public static bool IsTerminal => Terminal.Streams.IsOutputTerminal;

    /// <summary>How long ago, in the unit people use.</summary>
    public static string Age(double? seconds) =>
        seconds switch
        {
            null => "",
            < 59.5 => $"{seconds:0} s",
            < 5400 => $"{seconds / 60:0} min",
            < 172800 => $"{seconds / 3600:0} h",
            _ => $"{seconds / 86400:0} d",
        };

    /// <summary>A moment in UTC, as people write it, with its year where that is not this one.</summary>
    public static string Time(DateTimeOffset? time) =>
        time is not { } at
            ? ""
            : at.UtcDateTime.ToString(
                at.UtcDateTime.Year == DateTime.UtcNow.Year ? "ddd d MMM HH:mm" : "d MMM yyyy HH:mm",
                CultureInfo.InvariantCulture
            );

    /// <summary>A word of the API's as people read it.</summary>
    public static string Word(string? word) => word?.Replace('-', ' ') ?? "";

    /// <summary>What machines and files say may hold codes that a terminal would obey; they are left out.</summary>
    private static string Clean(string text) => PlainText.Line(text);

    private static string Coloured(string cell)
    {
        // Middle tones, which can be read on light and on dark terminals.
        var colour = cell switch
        {
            "open" or "done" or "verified" or "met" => "springgreen4",
            "blocked" or "unmet" or "stopped" or "failed" => "red3",
            "undecided" or "unknown" or "parked" => "darkorange3",
            "running" => "dodgerblue2",
            _ => null,
        };
        return colour is null ? Markup.Escape(cell) : $"[{colour}]{Markup.Escape(cell)}[/]";
    }
}
