using GrandStair.Core.Readings;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;
using YamlDotNet.RepresentationModel;

namespace GrandStair.Files.Parsing;

/// <summary>
/// The only way to a YAML document (YAML 1.2). The library reads recursively and expands aliases, so a few hundred bytes can exhaust the
/// stack or the memory; every text therefore passes the same limits on length, depth, nodes and aliases first.
/// </summary>
internal static class BoundedYaml
{
    /// <summary>The longest text, in characters.</summary>
    public const int LongestText = 4 << 20;

    /// <summary>The deepest nesting of lists and fields.</summary>
    public const int DeepestNesting = 30;

    /// <summary>The largest number of values, lists and groups in one document.</summary>
    public const int MostNodes = 200_000;

    /// <summary>Reads the only document of a text.</summary>
    /// <param name="text">The YAML text.</param>
    /// <param name="file">What to call the text in errors.</param>
    /// <returns>The document's root node.</returns>
    /// <exception cref="FileException">The text is not YAML, is not exactly one document, or exceeds a limit; the error names line and
    /// column.</exception>
    public static YamlNode Load(string text, string file)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (text.Length > LongestText)
            throw new FileException([new(file, 1, 0, $"The file has {text.Length} characters; expected at most {LongestText}.")]);
        if (PlainText.HasHalfCharacter(text))
            throw new FileException([new(file, 1, 0, "The file has half of a character; is its encoding another one than UTF-8?")]);
        var parser = new LimitedParser(new Parser(new StringReader(text)));
        var stream = new YamlStream();
        try
        {
            stream.Load(parser);
        }
        catch (YamlException error)
        {
            throw Wrong(
                file,
                error.Start,
                error.InnerException is ArgumentException
                    ? "a field is given twice in one group"
                    : error.InnerException?.Message ?? error.Message
            );
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            // The library ends with exceptions of many kinds on unfinished lists and groups, none of which carries a place.
            throw Wrong(
                file,
                parser.Current?.End ?? new Mark(0, 1, 1),
                "the list or group that begins here or shortly before is not closed, or something is missing after it"
            );
        }

        return stream.Documents.Count == 1
            ? stream.Documents[0].RootNode
            : throw new FileException([new(file, 1, 1, $"The file holds {stream.Documents.Count} YAML documents; expected one.")]);
    }

    /// <summary>Reads the only document of a text, which has to be a group of fields.</summary>
    /// <exception cref="FileException">As <see cref="Load"/>, or the document is a single value or a list.</exception>
    public static YamlMappingNode LoadFields(string text, string file) =>
        Load(text, file) as YamlMappingNode
        ?? throw new FileException([new(file, 1, 1, "Expected one document of fields, such as 'name: …'.")]);

    private static FileException Wrong(string file, Mark at, string why) =>
        new([new(file, (int)Math.Max(1, at.Line), (int)at.Column, $"This is not YAML: {why.TrimEnd('.')}.")]);

    /// <summary>Hands on what a parser finds until a limit is reached.</summary>
    private sealed class LimitedParser(IParser inner) : IParser
    {
        private const int MostAliases = 100;
        private int _depth;
        private int _aliases;
        private int _nodes;
        private int? _anchoredAt;

        public ParsingEvent? Current => inner.Current;

        public bool MoveNext()
        {
            if (!inner.MoveNext())
                return false;
            var at = inner.Current!;
            if (at is AnchorAlias && (_anchoredAt is not null || ++_aliases > MostAliases))
                throw Exceeded(
                    at,
                    $"an alias ('*') inside what an anchor ('&') names, or more than {MostAliases} aliases, are not accepted; write "
                        + $"the value out"
                );
            if (at is NodeEvent && ++_nodes > MostNodes)
                throw Exceeded(at, $"the document has more than {MostNodes} values");
            if (at is NodeEvent { Anchor.IsEmpty: false } && at.NestingIncrease > 0)
                _anchoredAt ??= _depth;
            _depth += at.NestingIncrease;
            if (_anchoredAt == _depth)
                _anchoredAt = null;
            return _depth <= DeepestNesting ? true : throw Exceeded(at, $"the document is nested deeper than {DeepestNesting} levels");
        }

        private static YamlException Exceeded(ParsingEvent at, string why) => new(at.Start, at.End, why);
    }
}
