namespace GrandStair.Files;

/// <summary>Something wrong in a file.</summary>
/// <param name="File">The file's name.</param>
/// <param name="Line">The line, from 1.</param>
/// <param name="Column">The column, from 1; 0 where it is the whole line.</param>
/// <param name="Message">What is wrong, what was expected, what to do.</param>
public sealed record FileProblem(string File, int Line, int Column, string Message)
{
    /// <inheritdoc />
    public override string ToString() => Column > 0 ? $"{File}:{Line}:{Column}: {Message}" : $"{File}:{Line}: {Message}";
}

/// <summary>A file that cannot be accepted, with all that is wrong in it.</summary>
public sealed class FileException(IReadOnlyList<FileProblem> problems) : FormatException(string.Join('\n', problems))
{
    /// <summary>All that is wrong, in the order of the file.</summary>
    public IReadOnlyList<FileProblem> Problems { get; } = problems;
}
