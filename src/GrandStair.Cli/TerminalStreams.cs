namespace GrandStair.Cli;

/// <summary>What a command reads from and writes to.</summary>
/// <param name="Output">Where its results go.</param>
/// <param name="OutputBytes">The same for content that is passed on byte by byte.</param>
/// <param name="Error">Where progress and errors go.</param>
/// <param name="Input">Where answers come from.</param>
public sealed record TerminalStreams(TextWriter Output, Stream OutputBytes, TextWriter Error, TextReader Input)
{
    /// <summary>Whether a person sees the output, rather than a file or a program.</summary>
    public bool IsOutputTerminal { get; init; }

    /// <summary>Whether a person sees the error output.</summary>
    public bool IsErrorTerminal { get; init; }

    /// <summary>Whether a person types the input.</summary>
    public bool IsInputTerminal { get; init; }

    /// <summary>Those of this process.</summary>
    public static TerminalStreams OfProcess() =>
        new(Console.Out, Console.OpenStandardOutput(), Console.Error, Console.In)
        {
            IsOutputTerminal = !Console.IsOutputRedirected,
            IsErrorTerminal = !Console.IsErrorRedirected,
            IsInputTerminal = !Console.IsInputRedirected,
        };
}
