using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Files.Yaml;
using NodaTime;

namespace GrandStair.Files.Fleet;

/// <summary>Says which column of a foreign file is which key, how its cells are written, and what is the same for all lines.</summary>
/// <param name="ByColumn">The key or field of every column that is taken, by the column's name (case ignored); the others are left
/// out.</param>
/// <param name="Forms">How the cells of a key or field are written, where they are not written as Grand Stair writes them.</param>
/// <param name="Constants">What every line has besides its own cells.</param>
/// <param name="Absent">Texts that mean that there is nothing, such as <c>N/A</c>; case ignored.</param>
public sealed record FleetMapping(
    ImmutableDictionary<string, string> ByColumn,
    ImmutableDictionary<string, CellForm> Forms,
    ImmutableDictionary<string, string> Constants,
    ImmutableHashSet<string> Absent
)
{
    /// <summary>
    /// Reads a mapping file: <c>columns</c> with a key or field and its column, or a group of <c>column</c> and how its cells are written
    /// (<c>unit</c>, <c>format</c>, <c>zone</c>, <c>decimal</c>, <c>values</c>, <c>absent</c>); <c>zone</c> and <c>decimal</c> for all
    /// columns that do not say otherwise; <c>absent</c> with texts that mean nothing; <c>constants</c> with a key or field and its text.
    /// The column of <c>seen</c> says when readings were seen. In JSON Lines a column is the path of a field, such as <c>bios.version</c>.
    /// </summary>
    /// <exception cref="FileException">Something is wrong in it; all of it is reported, with line and column.</exception>
    public static FleetMapping Parse(string text, KeyRegistry keys, string file)
    {
        var problems = new Problems(file);
        var map = YamlMap.Read(text, problems);
        var byColumn = ImmutableDictionary.CreateBuilder<string, string>(StringComparer.OrdinalIgnoreCase);
        var forms = ImmutableDictionary.CreateBuilder<string, CellForm>(StringComparer.Ordinal);
        var all = new CellForm(Zone: ZoneOf(map), Decimal: DecimalOf(map));
        var columns = map.Map("columns");
        foreach (var key in columns.Fields)
        {
            var group = columns.IsGroup(key) ? columns.OptionalMap(key) : null;
            var column = group is null ? columns.Text(key) : group.Text("column");
            if (byColumn.ContainsKey(column))
                columns.Wrong(key, $"The column '{column}' is mapped twice.");
            byColumn[column] = key;
            var kind = key == "seen" ? ValueKind.Instant : keys.Find(key)?.Kind ?? ValueKind.Text;
            forms[key] = group is null ? all : FormOf(group, key, kind, all);
            group?.Done();
        }

        var constants = map.Pairs("constants").ToImmutableDictionary();
        foreach (var key in constants.Keys.Where(k => byColumn.ContainsValue(k)))
            map.Wrong("constants", $"'{key}' has a column as well.");
        ImmutableHashSet<string> absent = [.. map.Texts("absent")];
        map.Done();
        problems.ThrowIfAny();
        return new(byColumn.ToImmutable(), forms.ToImmutable(), constants, absent.WithComparer(StringComparer.OrdinalIgnoreCase));
    }

    private static CellForm FormOf(YamlMap group, string key, ValueKind kind, CellForm all)
    {
        var (unit, format) = (group.Optional("unit"), group.Optional("format"));
        var zone = ZoneOf(group) ?? all.Zone;
        if (unit is not null && !Units.Of(kind).Contains(unit))
            group.Wrong(
                "unit",
                $"'{unit}' is no unit of '{key}'; expected one of {string.Join(", ", Units.Of(kind).DefaultIfEmpty("none"))}."
            );
        if (format is not null && kind is not (ValueKind.Date or ValueKind.Instant))
            group.Wrong("format", $"'{key}' is no day or time and has no format.");
        else if (format is not null && !IsPattern(format))
            group.Wrong("format", $"'{format}' is no pattern of a day or time; expected one such as dd/MM/yyyy HH:mm.");
        else if (format is not null && kind == ValueKind.Instant && zone is null && !CellForm.HasOffset(format))
            group.Wrong("format", $"Times such as '{format}' do not say their zone; state it with 'zone', such as Europe/London.");
        return new(
            unit,
            format,
            zone,
            DecimalOf(group) ?? all.Decimal,
            group.Pairs("values").ToImmutableDictionary(StringComparer.OrdinalIgnoreCase)
        )
        {
            Absent = [.. group.Texts("absent")],
        };
    }

    private static bool IsPattern(string format)
    {
        try
        {
            return new DateTimeOffset(2027, 3, 31, 18, 5, 0, TimeSpan.Zero)
                    .ToString(format, System.Globalization.CultureInfo.InvariantCulture)
                    .Any(char.IsAsciiDigit)
                && format.Length > 1;
        }
        catch (FormatException)
        {
            return false;
        }
    }

    private static DateTimeZone? ZoneOf(YamlMap map)
    {
        if (map.Optional("zone") is not { } name)
            return null;
        if (DateTimeZoneProviders.Tzdb.GetZoneOrNull(name) is { } zone)
            return zone;
        map.Wrong("zone", $"'{name}' is no time zone; expected a name of the IANA database such as Europe/London.");
        return null;
    }

    private static char? DecimalOf(YamlMap map)
    {
        if (map.Optional("decimal") is not { } text)
            return null;
        if (text is "." or ",")
            return text[0];
        map.Wrong("decimal", $"'{text}' is no character before decimals; expected '.' or ','.");
        return null;
    }

    /// <summary>The key or field of a column; null where it is left out.</summary>
    public string? ColumnOf(string name) => ByColumn.GetValueOrDefault(name);

    /// <summary>The key or field of every column of a header, in its order; null where it is left out.</summary>
    /// <exception cref="FileException">A mapped column is not there.</exception>
    public string?[] Header(IReadOnlyList<string> header, string file)
    {
        FileProblem[] missing =
        [
            .. ByColumn
                .Keys.Where(c => !header.Contains(c, StringComparer.OrdinalIgnoreCase))
                .Order(StringComparer.Ordinal)
                .Select(c => new FileProblem(
                    file,
                    1,
                    0,
                    $"The mapping speaks of a column '{c}', which the file has not{Spelling.DidYouMean(c, header, "")}."
                )),
        ];
        return missing.Length > 0 ? throw new FileException(missing) : [.. header.Select(ColumnOf)];
    }

    /// <summary>Whether a text means, under a key or field, that there is nothing.</summary>
    internal bool IsAbsent(string key, string text) =>
        Absent.Contains(text) || FormOf(key).Absent.Contains(text, StringComparer.OrdinalIgnoreCase);

    /// <summary>How the cells of a key or field are written.</summary>
    internal CellForm FormOf(string key) => Forms.GetValueOrDefault(key, CellForm.Own);
}
