using System.Text;

namespace GrandStair.Cli;

/// <summary>Reads what must not be seen on the screen.</summary>
internal static class Hidden
{
    /// <summary>A line from the terminal, which is not shown; or from standard input, where that is none.</summary>
    /// <exception cref="IOException">Nothing was given.</exception>
    public static string Read(string prompt)
    {
        if (!Terminal.Streams.IsInputTerminal)
            return Terminal.Streams.Input.ReadLine() is { Length: > 0 } line
                ? line
                : throw new IOException("Nothing was given on standard input.");
        Terminal.Streams.Error.Write(prompt);
        var typed = new StringBuilder();
        while (Console.ReadKey(intercept: true) is { Key: not ConsoleKey.Enter } key)
        {
            if (key.Key == ConsoleKey.Backspace)
                typed.Length = Math.Max(0, typed.Length - 1);
            else if (!char.IsControl(key.KeyChar))
                typed.Append(key.KeyChar);
        }

        Terminal.Streams.Error.WriteLine();
        return typed.Length > 0 ? typed.ToString() : throw new IOException("Nothing was given.");
    }
}
