using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Files.Yaml;

namespace GrandStair.Files.Fleet;

/// <summary>Says which column of a foreign file is which key, in which unit its numbers are, and what is the same for all lines.</summary>
/// <param name="ByColumn">The key or field of every column that is taken, by the column's name (case ignored); the others are left out.</param>
/// <param name="Units">The unit that is put behind the plain numbers of a key.</param>
/// <param name="Constants">What every line has besides its own cells.</param>
public sealed record FleetMapping(ImmutableDictionary<string, string> ByColumn, ImmutableDictionary<string, string> Units, ImmutableDictionary<string, string> Constants)
{
    /// <summary>
    /// Reads a mapping file: <c>columns</c> with a key or field and its column, or a group of <c>column</c> and <c>unit</c>;
    /// <c>constants</c> with a key or field and its text. The column of <c>seen</c> says when readings were seen.
    /// </summary>
    /// <exception cref="FileException">Something is wrong in it; all of it is told, with line and column.</exception>
    public static FleetMapping Parse(string text, KeyRegistry keys, string file)
    {
        var problems = new Problems(file);
        var map = YamlMap.Read(text, problems);
        var byColumn = ImmutableDictionary.CreateBuilder<string, string>(StringComparer.OrdinalIgnoreCase);
        var units = ImmutableDictionary.CreateBuilder<string, string>(StringComparer.Ordinal);
        var columns = map.Map("columns");
        foreach (var key in columns.Fields)
        {
            var group = columns.IsGroup(key) ? columns.OptionalMap(key) : null;
            var column = group is null ? columns.Text(key) : group.Text("column");
            if (byColumn.ContainsKey(column)) columns.Wrong(key, $"The column '{column}' is mapped twice.");
            byColumn[column] = key;
            if (group?.Optional("unit") is { } unit)
            {
                if (keys.Find(key) is { } known && !Core.Readings.Units.Of(known.Kind).Contains(unit)) group.Wrong("unit", $"'{unit}' is no unit of '{key}'; expected one of {string.Join(", ", Core.Readings.Units.Of(known.Kind).DefaultIfEmpty("none"))}.");
                units[key] = unit;
            }

            group?.Done();
        }

        var constants = map.Pairs("constants").ToImmutableDictionary();
        foreach (var key in constants.Keys.Where(k => byColumn.ContainsValue(k))) map.Wrong("constants", $"'{key}' has a column as well.");
        map.Done();
        problems.ThrowIfAny();
        return new(byColumn.ToImmutable(), units.ToImmutable(), constants);
    }

    /// <summary>The key or field of a column; null where it is left out.</summary>
    public string? ColumnOf(string name) => ByColumn.GetValueOrDefault(name);

    /// <summary>The key or field of every column of a header, in its order; null where it is left out.</summary>
    /// <exception cref="FileException">A mapped column is not there.</exception>
    public string?[] Header(IReadOnlyList<string> header, string file)
    {
        FileProblem[] missing = [.. ByColumn.Keys.Where(c => !header.Contains(c, StringComparer.OrdinalIgnoreCase)).Order(StringComparer.Ordinal)
            .Select(c => new FileProblem(file, 1, 0, $"The mapping speaks of a column '{c}', which the file has not{(Spelling.Nearest(c, header) is { } near ? $"; did you mean '{near}'?" : "")}."))];
        return missing.Length > 0 ? throw new FileException(missing) : [.. header.Select(ColumnOf)];
    }

    /// <summary>Puts units behind plain numbers.</summary>
    internal void AddUnits(Dictionary<string, string> cells)
    {
        foreach (var (key, unit) in Units)
            if (cells.TryGetValue(key, out var text) && text.Length > 0 && text.All(c => char.IsAsciiDigit(c) || c is '.' or '-')) cells[key] = $"{text} {unit}";
    }
}
