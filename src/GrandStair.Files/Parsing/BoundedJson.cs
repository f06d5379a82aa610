using System.Text.Json;
using GrandStair.Core.Readings;

namespace GrandStair.Files.Parsing;

/// <summary>
/// The only way to a JSON document in a file that people or other programs wrote (RFC 8259): one line, of limited length and depth.
/// </summary>
internal static class BoundedJson
{
    /// <summary>The longest line, in characters.</summary>
    public const int LongestLine = 4 << 20;

    /// <summary>The deepest nesting: a line with a table of records.</summary>
    private const int DeepestNesting = 4;

    /// <summary>Reads a line.</summary>
    /// <exception cref="JsonException">The line is not JSON, or exceeds a limit.</exception>
    public static JsonDocument ParseLine(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (text.Length > LongestLine)
            throw new JsonException($"The line has {text.Length} characters; expected at most {LongestLine}.");
        // Half of a surrogate pair has no UTF-8, which the library reports as another kind of error.
        if (PlainText.HasHalfCharacter(text))
            throw new JsonException("The line has half of a character; is its encoding another one?");
        return JsonDocument.Parse(text.TrimStart('\uFEFF'), new JsonDocumentOptions { MaxDepth = DeepestNesting });
    }
}
