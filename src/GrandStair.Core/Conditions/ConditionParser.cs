using System.Collections.Immutable;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Conditions;

/// <summary>A text that is not a condition.</summary>
public sealed class ConditionException : Exception
{
    /// <summary>Tells what is wrong and where.</summary>
    /// <param name="message">What is wrong, what was expected, and what to do.</param>
    /// <param name="text">The whole text.</param>
    /// <param name="column">Where it is wrong, counted from 1.</param>
    public ConditionException(string message, string text, int column)
        : base($"{message} (column {column})")
    {
        Text = text;
        Column = column;
    }

    /// <summary>The whole text.</summary>
    public string Text { get; }

    /// <summary>Where it is wrong, counted from 1.</summary>
    public int Column { get; }
}

/// <summary>
/// Reads conditions. Grammar, loosest first: <c>or</c>, <c>and</c>, <c>not</c>, then parentheses or a comparison of a key:
/// <c>= != &lt; &lt;= &gt; &gt;=</c>, <c>in (a, b)</c>, <c>between a and b</c>, <c>like "*"</c> (each also with <c>not</c> before it),
/// <c>is known</c>, <c>is absent</c>, <c>older than 7 d</c>,
/// and <c>has ( … )</c> of a table, in which its columns are the keys. A literal takes the type of the key it meets.
/// </summary>
public sealed class ConditionParser
{
    /// <summary>The longest text that is read.</summary>
    public const int MaxLength = 4000;

    /// <summary>How deep parentheses and <c>not</c> may go.</summary>
    public const int MaxDepth = 60;

    private const double MostSeconds = 1000.0 * 366 * 86400;

    private static readonly Dictionary<string, Comparison> Signs = new(StringComparer.Ordinal)
    {
        ["="] = Comparison.Equal,
        ["!="] = Comparison.NotEqual,
        ["<"] = Comparison.Less,
        ["<="] = Comparison.AtMost,
        [">"] = Comparison.Greater,
        [">="] = Comparison.AtLeast,
    };

    private readonly string _text;
    private readonly KeyRegistry _keys;
    private readonly List<Token> _tokens;
    private KeyDefinition? _table;
    private int _at;
    private int _depth;

    private ConditionParser(string text, KeyRegistry keys)
    {
        if (text.Length > MaxLength)
            throw new ConditionException($"The condition has {text.Length} signs, expected at most {MaxLength}.", text, MaxLength);
        _text = text;
        _keys = keys;
        _tokens = Token.Split(text);
    }

    /// <summary>Reads a condition.</summary>
    /// <exception cref="ConditionException">The text is none; the message names the column, what was expected and the nearest known
    /// key.</exception>
    public static Condition Parse(string text, KeyRegistry keys)
    {
        ArgumentNullException.ThrowIfNull(text);
        var parser = new ConditionParser(text, keys);
        if (parser.Next.Kind == TokenKind.End)
            throw parser.Wrong("The condition is empty; expected one such as site = \"Westhaven\".");
        var condition = parser.Or();
        if (parser.Next.Kind != TokenKind.End)
            throw parser.Wrong($"'{parser.Next.Text}' was not expected here; expected 'and', 'or' or the end.");
        return condition;
    }

    private Token Next => _tokens[_at];

    private ConditionException Wrong(string message) => Wrong(message, Next);

    private ConditionException Wrong(string message, Token token) => new(message, _text, token.Start + 1);

    private string Since(int start) => _text[start.._tokens[_at - 1].End];

    private bool TakeWord(string word)
    {
        if (Next.Kind != TokenKind.Bare || !Next.Text.Equals(word, StringComparison.OrdinalIgnoreCase))
            return false;
        _at++;
        return true;
    }

    private bool TakeSign(string sign)
    {
        if (Next.Kind != TokenKind.Sign || Next.Text != sign)
            return false;
        _at++;
        return true;
    }

    private Condition Or() => Chain("or", And, (text, parts) => new Any(text, parts));

    private Condition And() => Chain("and", Unary, (text, parts) => new All(text, parts));

    private Condition Chain(string word, Func<Condition> part, Func<string, ImmutableArray<Condition>, Condition> join)
    {
        var start = Next.Start;
        var parts = new List<Condition> { part() };
        while (TakeWord(word))
            parts.Add(part());
        return parts.Count == 1 ? parts[0] : join(Since(start), [.. parts]);
    }

    private Condition Unary()
    {
        if (++_depth > MaxDepth)
            throw Wrong($"The condition goes deeper than {MaxDepth} levels; expected a flatter one.");
        try
        {
            var start = Next.Start;
            if (TakeWord("not"))
            {
                var part = Unary();
                return new Not(Since(start), part);
            }

            if (!TakeSign("("))
                return Comparing();
            var inner = Or();
            if (!TakeSign(")"))
                throw Wrong("A ')' is missing; expected it here.");
            return inner;
        }
        finally
        {
            _depth--;
        }
    }

    private Condition Comparing()
    {
        var token = Next;
        if (token.Kind != TokenKind.Bare)
            throw Wrong(
                token.Kind == TokenKind.End
                    ? "The condition ends too early; expected a key."
                    : $"'{token.Text}' is not a key; expected one such as site."
            );
        _at++;
        var key = (_table is null ? _keys.FindTyped(token.Text) : _table.Column(token.Text.ToLowerInvariant()))
            ?? throw Wrong(UnknownKey(token.Text), token);
        if (TakeWord("is"))
            return Is(key, token.Start);
        if (TakeWord("has"))
            return HasRow(key, token.Start);
        if (TakeWord("older"))
        {
            if (_table is not null)
                throw Wrong($"A row has no age of its own; ask '{_table.Name} older than …' outside of 'has'.", token);
            if (!TakeWord("than"))
                throw Wrong("Expected 'than' after 'older'.");
            var age = Duration();
            return new AsksRaw(Since(token.Start), key, RawQuestion.OlderThan, age);
        }

        var negated = TakeWord("not");
        if (negated && !(Next.Kind == TokenKind.Bare && Next.Text.ToUpperInvariant() is "IN" or "LIKE" or "BETWEEN"))
            throw Wrong($"Expected 'in', 'like' or 'between' after '{key.Name} not'.");
        var comparison = Compare(key, token.Start);
        return !negated
            ? comparison
            : comparison with
            {
                How = comparison.How switch
                {
                    Comparison.In => Comparison.NotIn,
                    Comparison.Between => Comparison.NotBetween,
                    _ => Comparison.NotLike,
                },
            };
    }

    private string UnknownKey(string name)
    {
        if (_table is not null)
        {
            var columns = _table.Columns.Select(c => c.Name).ToArray();
            var end = Spelling.DidYouMean(name, columns, $"; expected one of {string.Join(", ", columns)}.");
            return $"'{_table.Name}' has no column '{name}'{end}";
        }

        return _keys.Nearest(name) is { } nearest
            ? $"There is no key '{name}'; did you mean '{nearest}'?"
            : $"There is no key '{name}'. 'gstair catalogue keys' lists those that exist.";
    }

    private Has HasRow(KeyDefinition key, int start)
    {
        if (key.Kind != ValueKind.Table)
            throw Wrong($"'has' needs a table, and '{key.Name}' is a {Name(key.Kind)}.", _tokens[_at - 1]);
        if (!TakeSign("("))
            throw Wrong("Expected '(' after 'has'.");
        _table = key;
        var row = Or();
        _table = null;
        if (!TakeSign(")"))
            throw Wrong("A ')' is missing after the condition of 'has'; expected it here.");
        return new(Since(start), key, row);
    }

    private AsksRaw Is(KeyDefinition key, int start)
    {
        if (TakeWord("known"))
            return new(Since(start), key, RawQuestion.Known, default);
        if (TakeWord("absent"))
            return new(Since(start), key, RawQuestion.Absent, default);
        throw Wrong("Expected 'known' or 'absent' after 'is'.");
    }

    private Compares Compare(KeyDefinition key, int start)
    {
        var sign = Next;
        if (key.Kind == ValueKind.Table)
            throw Wrong(
                $"'{key.Name}' is a table; expected 'has ( … )' over its columns {string.Join(", ", key.Columns.Select(c => c.Name))}, "
                    + $"'is known', 'is absent' or 'older than'."
            );
        if (sign.Kind == TokenKind.Sign && Signs.TryGetValue(sign.Text, out var how))
        {
            _at++;
            if (how > Comparison.NotEqual)
                RequireOrder(key, sign);
            var literal = Literal(key);
            return new(Since(start), key, how, [literal]);
        }

        if (TakeWord("in"))
            return In(key, start);
        if (TakeWord("between"))
        {
            RequireOrder(key, sign);
            var low = Literal(key);
            if (!TakeWord("and"))
                throw Wrong("Expected 'and' with the upper end of 'between'.");
            var high = Literal(key);
            return new(Since(start), key, Comparison.Between, [low, high]);
        }

        if (TakeWord("like"))
        {
            if (key.Kind is not (ValueKind.Text or ValueKind.List or ValueKind.Version))
                throw Wrong($"'like' needs a text, and '{key.Name}' is a {Name(key.Kind)}.", sign);
            var pattern = Next;
            if (pattern.Kind is not (TokenKind.Quoted or TokenKind.Bare))
                throw Wrong("Expected a pattern after 'like', such as \"desk-*\".");
            if (pattern.Text.Length > Glob.LongestPattern)
                throw Wrong($"The pattern after 'like' has {pattern.Text.Length} characters; expected at most {Glob.LongestPattern}.");
            _at++;
            return new(Since(start), key, Comparison.Like, [new(pattern.Text, null)]);
        }

        throw Wrong(
            $"Expected a comparison after '{key.Name}': =, !=, <, <=, >, >=, in, between, like, is known, is "
                + $"absent{(_table is null ? " or older than" : "")}."
        );
    }

    private Compares In(KeyDefinition key, int start)
    {
        if (!TakeSign("("))
            throw Wrong("Expected '(' after 'in'.");
        var literals = new List<Literal>();
        do literals.Add(Literal(key));
        while (TakeSign(","));
        if (!TakeSign(")"))
            throw Wrong("Expected ',' or ')' in the list of 'in'.");
        return new(Since(start), key, Comparison.In, [.. literals]);
    }

    private void RequireOrder(KeyDefinition key, Token sign)
    {
        if (key.Kind is ValueKind.Text or ValueKind.Flag or ValueKind.List)
            throw Wrong(
                $"'{sign.Text}' needs something with an order, and '{key.Name}' is a {Name(key.Kind)}; expected =, !=, "
                    + $"in{(key.Kind == ValueKind.Flag ? "" : " or like")}.",
                sign
            );
    }

    private Literal Literal(KeyDefinition key)
    {
        var token = Next;
        if (token.Kind is not (TokenKind.Quoted or TokenKind.Bare))
            throw Wrong($"Expected {ReadingValue.Expected(key.Kind)} for '{key.Name}'.");
        _at++;
        var text = token.Text;
        if (token.Kind == TokenKind.Bare && Next.Kind == TokenKind.Bare && Units.IsUnit(Next.Text))
        {
            text = $"{text} {Next.Text}";
            _at++;
            if (key.Kind is ValueKind.Date or ValueKind.Instant && (TakeWord("ago") || TakeWord("ahead")))
            {
                var away = TimeSpan.FromSeconds(
                    Units.Parse(text, ValueKind.Duration) is >= 0 and < MostSeconds and var seconds
                        ? seconds
                        : throw Wrong("Expected a length of time before 'ago' or 'ahead', of up to 1000 years.", token)
                );
                return new(
                    Since(token.Start),
                    null,
                    _tokens[_at - 1].Text.Equals("ago", StringComparison.OrdinalIgnoreCase) ? away : -away
                );
            }
        }

        // A moment may be compared with a day: its first instant in UTC.
        var value = ReadingValue.Parse(key.Kind, text, out var expected)
            ?? (key.Kind == ValueKind.Instant ? ReadingValue.Parse(ValueKind.Date, text, out _) : null);
        return value is null
            ? throw Wrong($"'{text}' does not fit '{key.Name}', a {Name(key.Kind)}; expected {expected}.", token)
            : new(text, value);
    }

    private TimeSpan Duration()
    {
        var token = Next;
        var age = new KeyDefinition("an age", ValueKind.Duration, "");
        return Literal(age).Value is { Amount: >= 0 and < MostSeconds } value
            ? TimeSpan.FromSeconds(value.Amount)
            : throw Wrong("Expected a length of time of up to 1000 years.", token);
    }

    private static string Name(ValueKind kind) => kind.ToString().ToLowerInvariant();
}

internal enum TokenKind
{
    Bare,
    Quoted,
    Sign,
    End,
}

/// <summary>A piece of a condition's text.</summary>
internal readonly record struct Token(TokenKind Kind, string Text, int Start, int End)
{
    public static List<Token> Split(string text)
    {
        var tokens = new List<Token>();
        var i = 0;
        while (true)
        {
            while (i < text.Length && char.IsWhiteSpace(text[i]))
                i++;
            if (i == text.Length)
            {
                tokens.Add(new(TokenKind.End, "", i, i));
                return tokens;
            }

            var token =
                text[i] == '"' ? Quoted(text, i)
                : IsBare(text[i]) ? Bare(text, i)
                : Sign(text, i);
            tokens.Add(token);
            i = token.End;
        }
    }

    internal static bool IsBare(char c) => char.IsLetterOrDigit(c) || c is '.' or '-' or '_' or '/' or ':' or '+' or '~' or '*' or '?';

    private static Token Bare(string text, int start)
    {
        var i = start;
        while (i < text.Length && IsBare(text[i]))
            i++;
        return new(TokenKind.Bare, text[start..i], start, i);
    }

    private static Token Quoted(string text, int start)
    {
        var built = new System.Text.StringBuilder();
        for (var i = start + 1; i < text.Length; i++)
        {
            if (text[i] == '"')
                return new(TokenKind.Quoted, built.ToString(), start, i + 1);
            if (text[i] == '\\' && i + 1 < text.Length)
                i++;
            built.Append(text[i]);
        }

        throw new ConditionException("A text begins here and has no closing '\"'.", text, start + 1);
    }

    private static Token Sign(string text, int start)
    {
        var two = start + 1 < text.Length ? text.Substring(start, 2) : "";
        if (two is "!=" or "<=" or ">=")
            return new(TokenKind.Sign, two, start, start + 2);
        if (text[start] is '=' or '<' or '>' or '(' or ')' or ',')
            return new(TokenKind.Sign, text[start].ToString(), start, start + 1);
        throw new ConditionException($"'{text[start]}' was not expected here.", text, start + 1);
    }
}
