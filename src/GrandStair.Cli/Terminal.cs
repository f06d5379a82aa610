using System.Globalization;
using System.Text;
using GrandStair.Core.Readings;

namespace GrandStair.Cli;

/// <summary>
/// The one way to the terminal beside <see cref="Screen"/>: nothing that machines, files or the service said reaches it with codes that it
/// would obey.
/// </summary>
internal static class Terminal
{
    private static readonly AsyncLocal<TerminalStreams> Current = new();

    /// <summary>What the running command reads from and writes to.</summary>
    public static TerminalStreams Streams => Current.Value!;

    /// <summary>Says what the command that runs from here on reads from and writes to.</summary>
    public static void Use(TerminalStreams streams) => Current.Value = streams;

    /// <summary>Writes a line to the error output.</summary>
    public static Task ErrorAsync(string line) => Streams.Error.WriteLineAsync(PlainText.Lines(line));

    /// <summary>Shows how far long work is, in place of the line before, where a person looks on; an empty line ends it.</summary>
    public static void Progress(string line)
    {
        if (Streams.IsErrorTerminal)
            Streams.Error.Write($"\r\u001b[K{PlainText.Line(line)}");
    }

    /// <summary>Writes a line to the output, for programs such as a shell's completion.</summary>
    public static void Line(string line) => Streams.Output.WriteLine(PlainText.Line(line));

    /// <summary>Writes what was fetched to the output: byte by byte into a file or a pipe, as cleaned text onto a terminal.</summary>
    public static async Task WriteAsync(Stream content, CancellationToken stop)
    {
        if (!Streams.IsOutputTerminal)
        {
            await content.CopyToAsync(Streams.OutputBytes, stop);
            return;
        }

        using var reader = new StreamReader(content);
        while (await reader.ReadLineAsync(stop) is { } line)
            Line(line);
    }

    /// <summary>Writes JSON to the output.</summary>
    public static void Json(string json) => Streams.Output.WriteLine(Escaped(json));

    /// <summary>
    /// JSON with every harmful character that its encoder let through as an escape (RFC 8259 §7), so that it is the same JSON.
    /// </summary>
    private static string Escaped(string json)
    {
        if (!json.Any(IsToEscape))
            return json;
        var escaped = new StringBuilder(json.Length);
        foreach (var c in json)
        {
            if (IsToEscape(c))
                escaped.Append(CultureInfo.InvariantCulture, $"\\u{(int)c:x4}");
            else
                escaped.Append(c);
        }

        return escaped.ToString();

        static bool IsToEscape(char c) => c != '\n' && PlainText.IsHarmful(c);
    }
}
