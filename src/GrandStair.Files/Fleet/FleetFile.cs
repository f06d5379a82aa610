using System.Collections.Frozen;
using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Text.Json;
using CsvHelper;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Files.Parsing;

namespace GrandStair.Files.Fleet;

/// <summary>How a fleet file is to be understood.</summary>
/// <param name="Source">The name of the source that its readings come from.</param>
/// <param name="SeenAt">When the readings were seen, for a file without a column <c>seen</c>; null refuses such a file, since old readings
/// taken for new ones mislead.</param>
/// <param name="Mapping">Which column is which key; null where the columns are named as keys are.</param>
/// <param name="IsJsonLines">Whether every line is a JSON object (JSON Lines) in place of CSV.</param>
public sealed record FleetFormat(string Source, DateTimeOffset? SeenAt = null, FleetMapping? Mapping = null, bool IsJsonLines = false);

/// <summary>The same problem in several lines.</summary>
/// <param name="What">What is wrong, such as <c>values of hardware.memory</c>.</param>
/// <param name="Count">How often.</param>
/// <param name="FirstLine">The first line of these.</param>
/// <param name="Example">What is wrong in that line.</param>
public sealed record FileProblemGroup(string What, int Count, int FirstLine, string Example);

/// <summary>
/// Reads a fleet from CSV (RFC 4180) or JSON Lines, line by line, however long the file is. The first line of a CSV file names the columns:
/// <c>name</c>, <c>serial</c>, <c>site</c>, <c>group</c>, <c>owner</c>, <c>tags</c> (separated by spaces), <c>connection</c>,
/// <c>address</c>, <c>port</c>, <c>user</c>, <c>host key</c>, <c>seen</c>, and any reading key; a mapping names them otherwise. Commas,
/// semicolons and tabs are told by the first line. An empty cell of a reading means absent, a single <c>?</c> that it could not be read. A
/// field that a JSON object lacks says nothing.
/// </summary>
public sealed class FleetFile
{
    /// <summary>How many problems are shown in full; further ones are counted.</summary>
    public const int MostProblems = 1000;

    /// <summary>How far a source's clock may be ahead without its times counting as wrong.</summary>
    public static readonly TimeSpan ClockSkew = TimeSpan.FromMinutes(10);

    private static readonly string[] Columns =
    [
        "name",
        "serial",
        "site",
        "group",
        "owner",
        "tags",
        "connection",
        "address",
        "port",
        "user",
        "host key",
        "ssh key",
        "seen",
    ];
    private static readonly FrozenSet<string> OwnColumns = Columns.ToFrozenSet(StringComparer.Ordinal);
    private readonly TextReader _reader;
    private readonly string _file;
    private readonly FleetFormat _format;
    private readonly KeyRegistry _keys;
    private readonly DateTimeOffset _now;
    private readonly List<FileProblem> _problems = [];
    private readonly Dictionary<string, FileProblemGroup> _groups = new(StringComparer.Ordinal);
    private readonly Dictionary<string, int> _names = new(StringComparer.OrdinalIgnoreCase);

    private const int LongestShown = 200;

    private ImmutableArray<string> _covered = [];

    // The fields of the line that JSON has as numbers: with decimals behind a point and no separator of thousands, whatever a mapping says
    // of texts.
    private readonly HashSet<string> _numbers = new(StringComparer.Ordinal);

    /// <summary>Reads a file.</summary>
    public FleetFile(TextReader reader, string file, FleetFormat format, KeyRegistry keys, DateTimeOffset now) =>
        (_reader, _file, _format, _keys, _now) = (reader, file, format, keys, now);

    /// <summary>The lines, or values of lines, that were not understood so far; the rest goes on.</summary>
    public IReadOnlyList<FileProblem> Problems => _problems;

    /// <summary>The problems by what is wrong, those of most lines first.</summary>
    public IReadOnlyList<FileProblemGroup> Groups => [.. _groups.Values.OrderByDescending(g => g.Count).ThenBy(g => g.FirstLine)];

    /// <summary>How many problems there were beyond those that are shown.</summary>
    public int FurtherProblems { get; private set; }

    /// <summary>The lines that are understood, one after the other.</summary>
    /// <exception cref="FileException">The header is wrong; nothing can be read.</exception>
    public IEnumerable<ReportedMachine> Lines() => _format.IsJsonLines ? JsonLines() : CsvLines();

    private IEnumerable<ReportedMachine> CsvLines()
    {
        using var csv = BoundedCsv.Open(_reader);
        if (!csv.Read() || !csv.ReadHeader())
            throw new FileException([new(_file, 1, 0, "The file is empty; expected a first line that names the columns.")]);
        var header = csv.HeaderRecord!.Select(h => h.TrimStart('\uFEFF').Trim()).ToArray();
        var columns = _format.Mapping is { } mapping ? mapping.Header(header, _file) : [.. header.Select(h => h.ToLowerInvariant())];
        CheckHeader([.. columns.OfType<string>(), .. _format.Mapping?.Constants.Keys ?? []]);
        while (HasNext(csv))
        {
            var line = csv.Parser.RawRow;
            if (csv.Parser.Count != header.Length)
            {
                Tell(
                    line,
                    $"The line has {csv.Parser.Count} cells, expected {header.Length} as in the first line. It was left out.",
                    "lines with another number of cells than the first line"
                );
                continue;
            }

            var cells = new Dictionary<string, string>(columns.Length, StringComparer.Ordinal);
            for (var i = 0; i < columns.Length; i++)
                if (columns[i] is { } column)
                    cells[column] = csv.Parser[i];
            if (Understood(cells, line) is { } understood)
                yield return understood;
        }
    }

    /// <summary>
    /// Goes to the next line. Where a cell has no end, the file has none that could be found again behind it, and what follows is left out.
    /// </summary>
    private bool HasNext(CsvReader csv)
    {
        try
        {
            return csv.Read();
        }
        catch (MaxFieldSizeException)
        {
            Tell(
                csv.Parser.RawRow,
                $"A cell has more than {BoundedCsv.LongestCell} characters; is a quotation mark missing? This line and all after it "
                    + $"were left out.",
                "the rest of the file"
            );
            return false;
        }
    }

    /// <summary>The next line; null at the end, or where one is longer than any that is taken.</summary>
    private string? NextLine(int number)
    {
        var text = new StringBuilder();
        for (var read = _reader.Read(); read >= 0; read = _reader.Read())
        {
            if (read == '\n')
                return text.ToString();
            if (text.Append((char)read).Length <= BoundedJson.LongestLine)
                continue;
            Tell(
                number,
                $"The line has more than {BoundedJson.LongestLine} characters. It and all after it were left out.",
                "the rest of the file"
            );
            return null;
        }

        return text.Length == 0 ? null : text.ToString();
    }

    private IEnumerable<ReportedMachine> JsonLines()
    {
        var line = 0;
        while (NextLine(line + 1) is { } text)
        {
            line++;
            if (string.IsNullOrWhiteSpace(text))
                continue;
            if (ObjectOf(text, line) is not { } fields)
                continue;
            var cells = new Dictionary<string, string>(StringComparer.Ordinal);
            foreach (var (name, value) in fields)
            {
                if ((_format.Mapping is { } mapping ? mapping.ColumnOf(name) : name.ToLowerInvariant()) is not { } column)
                    continue;
                if (_numbers.Remove(name))
                    _numbers.Add(column);
                if (!IsReading(column) || _keys.Find(column) is not null)
                    cells[column] = value;
                else
                    Tell(
                        line,
                        $"The field '{name}' is neither known nor a reading key{Near(column)}. It was left out; the rest of the line "
                            + $"was kept.",
                        $"fields '{name}', which is no key"
                    );
            }

            if (_format.SeenAt is null && !cells.ContainsKey("seen") && cells.Keys.Any(IsReading))
            {
                Tell(
                    line,
                    "The line does not say when its readings were seen. Add a field 'seen', or say it for all with --seen TIME. It was "
                        + "left out.",
                    "lines that do not say when their readings were seen"
                );
                continue;
            }

            if (Understood(cells, line) is { } understood)
                yield return understood;
        }
    }

    /// <summary>The fields of a line as text; what is null could not be read.</summary>
    private Dictionary<string, string>? ObjectOf(string text, int line)
    {
        try
        {
            using var document = BoundedJson.ParseLine(text);
            if (document.RootElement.ValueKind == JsonValueKind.Object)
            {
                var fields = FieldsOf(document.RootElement, "").ToArray();
                _numbers.Clear();
                _numbers.UnionWith(fields.Where(f => f.Value.ValueKind == JsonValueKind.Number).Select(f => f.Name));
                var cells = fields
                    .GroupBy(p => p.Name)
                    .ToDictionary(g => g.Key, g => CellOf(g.Key, g.Last().Value), StringComparer.Ordinal);
                if (!cells.ContainsValue(null!))
                    return cells!;
                Tell(
                    line,
                    $"'{cells.First(c => c.Value is null).Key}' has an item with a comma or, among tags, with a blank, which separate "
                        + $"items. The line was left out.",
                    "lists with their separator in an item"
                );
                return null;
            }
        }
        catch (JsonException error)
        {
            Tell(
                line,
                $"The line is no JSON object ({error.Message.Split(" LineNumber")[0]}). It was left out.",
                "lines that are no JSON objects"
            );
            return null;
        }

        Tell(line, "The line is no JSON object such as {\"name\": \"desk-1\"}. It was left out.", "lines that are no JSON objects");
        return null;
    }

    /// <summary>The fields of an object. A mapping may name those of objects within it by their path.</summary>
    private IEnumerable<(string Name, JsonElement Value)> FieldsOf(JsonElement element, string path) =>
        element
            .EnumerateObject()
            .SelectMany(p =>
                _format.Mapping is { } mapping && p.Value.ValueKind == JsonValueKind.Object && mapping.ColumnOf(path + p.Name) is null
                    ? FieldsOf(p.Value, $"{path}{p.Name}.")
                    : [(path + p.Name, p.Value)]
            );

    /// <summary>
    /// A field's value as a cell of CSV has it: a list's items with commas, tags with blanks; null where an item has its separator in it.
    /// </summary>
    private static string? CellOf(string field, JsonElement value)
    {
        if (!IsList(value))
            return value.ValueKind switch
            {
                JsonValueKind.Null => "?",
                JsonValueKind.Array or JsonValueKind.Object => value.GetRawText(),
                _ => value.ToString(),
            };
        var separator = field == "tags" ? ' ' : ',';
        var items = value.EnumerateArray().Select(i => i.ToString()).ToArray();
        return items.Any(i => i.Contains(separator, StringComparison.Ordinal)) ? null : string.Join(separator, items);
    }

    /// <summary>An array of plain values is a list; one with objects in it is a table.</summary>
    private static bool IsList(JsonElement value) =>
        value.ValueKind == JsonValueKind.Array
        && value.GetArrayLength() > 0
        && value
            .EnumerateArray()
            .All(i => i.ValueKind is JsonValueKind.String or JsonValueKind.Number or JsonValueKind.True or JsonValueKind.False);

    private ReportedMachine? Understood(Dictionary<string, string> cells, int line)
    {
        foreach (var (column, text) in _format.Mapping?.Constants ?? ImmutableDictionary<string, string>.Empty)
            cells[column] = text;
        if (_format.Mapping is { } mapping)
        {
            foreach (var (column, _) in cells.Where(c => mapping.IsAbsent(c.Key, c.Value.Trim())).ToArray())
                cells[column] = "";
        }

        // Lines of a file cover the same keys, mostly; those of CSV all do.
        if (!_covered.SequenceEqual(cells.Keys.Where(IsReading)))
            _covered = [.. cells.Keys.Where(IsReading)];
        if (MachineOf(cells, _covered, line) is not { } machine)
            return null;
        if (_names.TryGetValue(machine.Name, out var first))
        {
            Tell(line, $"'{machine.Name}' is a duplicate of line {first}; skipped.", "duplicate names");
            return null;
        }

        _names[machine.Name] = line;
        return machine;
    }

    /// <summary>A value as it is shown in a problem.</summary>
    private static string Short(string text) => text.Length <= LongestShown ? text : $"{text[..LongestShown]}… ({text.Length} characters)";

    private static bool IsReading(string column) => !OwnColumns.Contains(column);

    /// <param name="line">The line.</param>
    /// <param name="message">What is wrong in it.</param>
    /// <param name="what">What is wrong, for all lines of which it is: a file of another system often has one mistake in every
    /// line.</param>
    private void Tell(int line, string message, string what)
    {
        var group = _groups.GetValueOrDefault(what) ?? new(what, 0, line, message);
        _groups[what] = group with { Count = group.Count + 1 };
        if (_problems.Count < MostProblems)
            _problems.Add(new(_file, line, 0, message));
        else
            FurtherProblems++;
    }

    private string Near(string column) => Spelling.DidYouMean(column, Columns.Concat(_keys.All.Select(k => k.Name)), "");

    private void CheckHeader(string[] columns)
    {
        var problems = new List<FileProblem>();
        if (!columns.Contains("name"))
            problems.Add(new(_file, 1, 0, "There is no column 'name'."));
        foreach (var column in columns.Where(h => IsReading(h) && _keys.Find(h) is null))
            problems.Add(new(_file, 1, 0, $"The column '{column}' is neither known nor a reading key{Near(column)}."));
        foreach (var twice in columns.GroupBy(h => h).Where(g => g.Count() > 1))
            problems.Add(new(_file, 1, 0, $"The column '{twice.Key}' is listed twice."));
        if (!columns.Contains("seen") && _format.SeenAt is null && columns.Any(IsReading))
            problems.Add(
                new(
                    _file,
                    1,
                    0,
                    "The file does not say when its readings were seen. Add a column 'seen', or say it for all with --seen TIME (or "
                        + "--seen now)."
                )
            );
        if (problems.Count > 0)
            throw new FileException(problems);
    }

    private ReportedMachine? MachineOf(Dictionary<string, string> cells, ImmutableArray<string> covered, int line)
    {
        string? Cell(string column) => cells.TryGetValue(column, out var text) && text.Length > 0 ? text : null;
        ReportedMachine? Refuse(string message)
        {
            Tell(line, message + " The line was left out.", "lines with a wrong name, time, address or key");
            return null;
        }

        if (Cell("name") is not { } name)
            return Refuse("The name is empty.");
        if (name.Length > 200 || name.Any(char.IsControl))
            return Refuse("The name has more than 200 characters, or control characters.");
        var seen = _format.SeenAt ?? _now;
        if (Cell("seen") is { } seenText)
        {
            var written = FormOf("seen").Read(seenText, ValueKind.Instant, out var why);
            if (why is not null)
                return Refuse($"'{name}': seen is '{Short(seenText)}', {why}.");
            if (ReadingValue.Parse(ValueKind.Instant, written, out var expected) is not { } value)
                return Refuse($"'{name}': seen is '{Short(seenText)}', expected {expected}.");
            seen = DateTimeOffset.FromUnixTimeSeconds((long)value.Amount);
            if (seen > _now + ClockSkew)
                Tell(
                    line,
                    $"'{name}': seen is '{Short(seenText)}', which lies in the future; its readings count as seen now. Check the clock "
                        + $"of the source, and which part of a date is the day.",
                    "times that lie in the future"
                );
        }
        else if (_format.SeenAt is null && covered.Length > 0)
        {
            // To take them for new would put them before what was really read since.
            Tell(
                line,
                $"'{name}' does not say when its readings were seen. They were left out, the rest of the line was kept; say it for "
                    + $"such lines with --seen TIME.",
                "lines that do not say when their readings were seen"
            );
            covered = [];
        }

        if (!TryConnection(cells, name, out var connection, out var wrong))
            return Refuse(wrong!);
        var readings = ImmutableArray.CreateBuilder<Reading>();
        foreach (var key in covered)
        {
            var text = cells[key];
            if (text.Length == 0)
                continue;
            if (text == "?")
            {
                readings.Add(Reading.Unreadable(key, "the source could not read it", seen, _now, _format.Source));
            }
            else if (ValueOf(key, text, out var why) is { } value)
            {
                readings.Add(Reading.Of(key, value, seen, _now, _format.Source));
            }
            else
            {
                Tell(
                    line,
                    $"'{name}': {key} is '{Short(text)}', {why}. It was taken as unreadable; the rest of the line was kept.",
                    $"values of {key}"
                );
                readings.Add(Reading.Unreadable(key, $"the file said '{text}', {why}", seen, _now, _format.Source));
            }
        }

        return new(
            line,
            name,
            Cell("serial") is { } serial ? [new("serial", serial)] : [],
            cells.ContainsKey("site") ? Cell("site") ?? "" : null,
            cells.ContainsKey("group") ? Cell("group") ?? "" : null,
            cells.ContainsKey("owner") ? Cell("owner") ?? "" : null,
            cells.ContainsKey("tags") ? [.. (Cell("tags") ?? "").Split(' ', StringSplitOptions.RemoveEmptyEntries)] : null,
            connection,
            new(_format.Source, covered, readings.ToImmutable()),
            seen
        );
    }

    private CellForm FormOf(string key) => _format.Mapping?.FormOf(key) ?? CellForm.Own;

    /// <summary>The value of a cell; null where it is none, or could be two.</summary>
    private ReadingValue? ValueOf(string key, string text, out string? why)
    {
        var definition = _keys.Find(key)!;
        var form = _numbers.Contains(key) ? FormOf(key) with { Decimal = '.' } : FormOf(key);
        var written = form.Read(text, definition.Kind, out why);
        if (why is not null)
            return null;
        var value = definition.Parse(written, out var expected);
        why = $"expected {expected}";
        return value;
    }

    private static bool TryConnection(Dictionary<string, string> cells, string name, out ConnectionAddress? connection, out string? wrong)
    {
        connection = null;
        wrong = null;
        string Cell(string column, string otherwise) => cells.TryGetValue(column, out var text) && text.Length > 0 ? text : otherwise;
        if (!cells.ContainsKey("connection") && !cells.ContainsKey("address"))
            return true;
        var kind = Cell("connection", "ssh");
        if (kind is not ("ssh" or "simulated"))
        {
            wrong = $"'{name}': connection is '{kind}', expected ssh or simulated.";
            return false;
        }

        if (!int.TryParse(Cell("port", "22"), NumberStyles.None, CultureInfo.InvariantCulture, out var port) || port is < 1 or > 65535)
        {
            wrong = $"'{name}': port is '{Cell("port", "")}', expected 1 to 65535.";
            return false;
        }

        var hostKey = Cell("host key", "");
        if (hostKey.Length > 0 && hostKey.Split(' ').Length < 2)
        {
            wrong = $"'{name}': the host key must be as in known_hosts, such as 'ssh-ed25519 AAAA…'.";
            return false;
        }

        var key = Cell("ssh key", "");
        if (key.Length > 0 && !SecretReference.IsName(key))
        {
            // Whatever it is, it may be a key, and is not repeated.
            wrong =
                $"'{name}': 'ssh key' must be the name of a secret, such as 'carrier'. A key is not written down here; it is kept by "
                + $"'gstair secret put'.";
            return false;
        }

        connection = new(
            kind,
            kind == "ssh" ? Cell("address", name) : "",
            port,
            Cell("user", "root"),
            hostKey.Length > 0 ? hostKey : null,
            key.Length > 0 ? key : null
        );
        return true;
    }
}
