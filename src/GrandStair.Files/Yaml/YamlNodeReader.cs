using System.Globalization;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Files.Parsing;
using YamlDotNet.RepresentationModel;

namespace GrandStair.Files.Yaml;

/// <summary>Collects what is wrong in a YAML file, so that all of it is reported at once, up to a limit.</summary>
internal sealed class Problems(string file)
{
    /// <summary>The largest number of problems that are reported one by one.</summary>
    public const int MostShown = 100;

    private readonly List<FileProblem> _found = [];
    private int _further;

    public string File { get; } = file;

    /// <summary>Whether further problems are only counted; what costs time to explain is left out then.</summary>
    public bool IsFull => _found.Count >= MostShown;

    public void Add(YamlNode node, string message)
    {
        if (IsFull)
            _further++;
        else
            _found.Add(new(File, (int)node.Start.Line, (int)node.Start.Column, message));
    }

    public void ThrowIfAny()
    {
        if (_found.Count == 0)
            return;
        var shown = _found.OrderBy(p => p.Line).ThenBy(p => p.Column);
        throw new FileException(
            _further == 0
                ? [.. shown]
                :
                [
                    .. shown,
                    new(
                        File,
                        _found.Max(p => p.Line),
                        0,
                        $"{_further.ToString("N0", CultureInfo.InvariantCulture)} more problems are not shown; fix these first."
                    ),
                ]
        );
    }
}

/// <summary>A mapping in a YAML file, with its position. Every field has to be read; the others are reported as unknown.</summary>
internal sealed class YamlMap
{
    private readonly YamlMappingNode _node;
    private readonly Problems _problems;
    private readonly HashSet<string> _asked = new(StringComparer.Ordinal);

    private YamlMap(YamlMappingNode node, Problems problems)
    {
        _node = node;
        _problems = problems;
    }

    // A name that is longer than any field's is compared with none.
    private const int LongestField = 60;
    private static readonly string[] Moments =
    [
        "yyyy-MM-dd",
        "yyyy-MM-dd HH:mm",
        "yyyy-MM-dd'T'HH:mmK",
        "yyyy-MM-dd'T'HH:mm:ssK",
        "yyyy-MM-dd'T'HH:mm:ss.fffK",
    ];

    /// <summary>Reads a file's only document.</summary>
    public static YamlMap Read(string text, Problems problems)
    {
        return new(BoundedYaml.LoadFields(text, problems.File), problems);
    }

    public bool Has(string field) => Find(field) is not null;

    /// <summary>The names of all fields, in their order; each counts as asked for once it is read.</summary>
    public IReadOnlyList<string> Fields => [.. _node.Children.Keys.OfType<YamlScalarNode>().Select(k => k.Value ?? "")];

    public bool IsGroup(string field) => Find(field) is YamlMappingNode;

    public void Wrong(string field, string message) => _problems.Add(Find(field) ?? _node, message);

    public string Text(string field) => Optional(field) ?? Missing(field, "a text");

    public string? Optional(string field)
    {
        switch (Find(field))
        {
            case null:
                return null;
            case YamlScalarNode scalar:
                return scalar.Value ?? "";
            case var other:
                _problems.Add(other, $"'{field}' must be a text.");
                return null;
        }
    }

    public IReadOnlyList<string> Texts(string field) =>
        Find(field) switch
        {
            null => [],
            YamlScalarNode scalar => [scalar.Value ?? ""],
            YamlSequenceNode sequence =>
            [
                .. sequence.Children.Select(c => c is YamlScalarNode s ? s.Value ?? "" : Refuse(c, $"'{field}' must be a list of texts.")),
            ],
            var other => [Refuse(other, $"'{field}' must be a list of texts.")],
        };

    public YamlMap Map(string field) => OptionalMap(field) ?? new([], Note(field, "a group of fields"));

    public YamlMap? OptionalMap(string field)
    {
        switch (Find(field))
        {
            case null:
                return null;
            case YamlMappingNode map:
                return new(map, _problems);
            case var other:
                _problems.Add(other, $"'{field}' must be a group of fields.");
                return null;
        }
    }

    public IReadOnlyList<YamlMap> Maps(string field)
    {
        switch (Find(field))
        {
            case null:
                return [];
            case YamlSequenceNode sequence:
                foreach (var wrong in sequence.Children.Where(c => c is not YamlMappingNode))
                    _problems.Add(wrong, $"An entry of '{field}' must be a group of fields.");
                return [.. sequence.Children.OfType<YamlMappingNode>().Select(m => new YamlMap(m, _problems))];
            case var other:
                _problems.Add(other, $"'{field}' must be a list.");
                return [];
        }
    }

    public IReadOnlyDictionary<string, string> Pairs(string field) => OptionalMap(field)?.All() ?? new Dictionary<string, string>();

    public T Word<T>(string field, T otherwise)
        where T : struct, Enum => Has(field) ? Word<T>(field) : otherwise;

    public T Word<T>(string field)
        where T : struct, Enum => WordOf<T>(field, Text(field));

    public IReadOnlyList<T> Words<T>(string field)
        where T : struct, Enum => [.. Texts(field).Select(t => WordOf<T>(field, t))];

    /// <summary>Each text of a list, parsed; those that cannot be parsed are reported.</summary>
    public IEnumerable<T> Each<T>(string field, Func<string, T> parse)
    {
        foreach (var text in Texts(field))
        {
            T read;
            try
            {
                read = parse(text);
            }
            catch (FormatException error)
            {
                Wrong(field, error.Message);
                continue;
            }

            yield return read;
        }
    }

    public int Whole(string field, int otherwise, int least = 1)
    {
        if (Optional(field) is not { } text)
            return otherwise;
        if (int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= least)
            return number;
        Wrong(field, $"'{field}' is '{text}'; expected a whole number of at least {least}.");
        return otherwise;
    }

    public bool Flag(string field)
    {
        switch (Optional(field))
        {
            case null or "false" or "no":
                return false;
            case "true" or "yes":
                return true;
            case var text:
                Wrong(field, $"'{field}' is '{text}'; expected true or false.");
                return false;
        }
    }

    public double Share(string field)
    {
        var text = Text(field);
        if (
            text.EndsWith('%')
            && double.TryParse(text[..^1], NumberStyles.Float, CultureInfo.InvariantCulture, out var percent)
            && percent is >= 0 and <= 100
        )
            return percent / 100;
        if (text.Length > 0)
            Wrong(field, $"'{field}' is '{text}'; expected a share such as 90 %.");
        return 1;
    }

    public TimeSpan? Duration(string field)
    {
        if (Optional(field) is not { } text)
            return null;
        if (Units.Parse(text, ValueKind.Duration) is { } seconds and >= 0)
            return TimeSpan.FromSeconds(seconds);
        Wrong(field, $"'{field}' is '{text}'; expected {ReadingValue.Expected(ValueKind.Duration)}.");
        return null;
    }

    /// <summary>An amount with its unit, above 0; null where the field is not there or is none.</summary>
    public double? Amount(string field, ValueKind kind)
    {
        if (Optional(field) is not { } text)
            return null;
        if (Units.Parse(text, kind) is { } amount and > 0)
            return amount;
        Wrong(field, $"'{field}' is '{text}'; expected {ReadingValue.Expected(kind)}, above 0.");
        return null;
    }

    public DateOnly? Date(string field)
    {
        if (Optional(field) is not { } text)
            return null;
        if (DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var date) && Era.Holds(date))
            return date;
        Wrong(field, $"'{field}' is '{text}'; expected {ReadingValue.Expected(ValueKind.Date)}.");
        return null;
    }

    /// <summary>
    /// A moment: a day, meant from its midnight, or a day with a time; without an offset in UTC. Null where the field is not there or is
    /// none.
    /// </summary>
    public DateTimeOffset? Moment(string field)
    {
        if (Optional(field) is not { } text)
            return null;
        if (
            DateTimeOffset.TryParseExact(
                text,
                Moments,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal | DateTimeStyles.AdjustToUniversal,
                out var moment
            ) && Era.Holds(moment)
        )
            return moment;
        Wrong(
            field,
            $"'{field}' is '{text}'; expected a day, or a day with a time, such as 2027-02-08, 2027-02-08 20:00 (UTC) or "
                + $"2027-02-08T20:00+01:00."
        );
        return null;
    }

    public Condition? Condition(string field, KeyRegistry keys)
    {
        if (Optional(field) is not { } text)
            return null;
        try
        {
            return ConditionParser.Parse(text, keys);
        }
        catch (ConditionException error)
        {
            Wrong(field, $"In '{field}': {error.Message}");
            return null;
        }
    }

    public Condition Required(string field, KeyRegistry keys)
    {
        if (!Has(field))
            Missing(field, "a condition");
        return Condition(field, keys) ?? ConditionParser.Parse("name is known", KeyRegistry.BuiltIn);
    }

    /// <summary>Reports the fields that were not read; called after all others.</summary>
    public void Done()
    {
        foreach (var key in _node.Children.Keys.OfType<YamlScalarNode>().Where(k => !_asked.Contains(k.Value!)))
        {
            if (_problems.IsFull)
            {
                _problems.Add(key, "");
                continue;
            }

            var nearest = key.Value!.Length > LongestField ? null : Spelling.Nearest(key.Value, _asked);
            _problems.Add(
                key,
                $"There is no field '{PlainText.Shorten(key.Value, LongestField)}' here"
                    + $"{(nearest is null ? $"; expected one of {string.Join(", ", _asked.Order())}" : $"; did you mean '{nearest}'?")}."
            );
        }
    }

    private Dictionary<string, string> All()
    {
        foreach (var wrong in _node.Children.Values.Where(v => v is not YamlScalarNode))
            _problems.Add(wrong, "Expected a text.");
        return _node
            .Children.Where(c => c.Value is YamlScalarNode)
            .ToDictionary(c => ((YamlScalarNode)c.Key).Value!, c => ((YamlScalarNode)c.Value).Value!);
    }

    private YamlNode? Find(string field)
    {
        _asked.Add(field);
        return _node.Children.TryGetValue(new YamlScalarNode(field), out var node) ? node : null;
    }

    private T WordOf<T>(string field, string text)
        where T : struct, Enum
    {
        var words = Enum.GetValues<T>().ToDictionary(v => Core.Runs.RunMachine.Name(v), v => v);
        if (words.TryGetValue(text, out var value))
            return value;
        if (text.Length > 0)
            Wrong(field, $"'{field}' is '{text}'; expected one of {string.Join(", ", words.Keys)}.");
        return default;
    }

    private string Missing(string field, string expected)
    {
        Note(field, expected);
        return "";
    }

    private Problems Note(string field, string expected)
    {
        _problems.Add(_node, $"The field '{field}' is missing; expected {expected}.");
        return _problems;
    }

    private string Refuse(YamlNode node, string message)
    {
        _problems.Add(node, message);
        return "";
    }
}
