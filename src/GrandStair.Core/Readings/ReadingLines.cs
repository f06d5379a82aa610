using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>
/// Reads what a reading script prints: one line a key, <c>key = value</c>, <c>key is absent</c> or <c>key is unreadable: why</c>.
/// A table is one line a row, <c>key += {"name": "Ledger", "version": "8.2"}</c>; one without rows is <c>key = []</c>.
/// </summary>
public static class ReadingLines
{
    /// <summary>The longest line that is taken; a longer one makes its key unreadable.</summary>
    public const int MaxLine = 4000;

    /// <summary>
    /// Turns a script's output into readings. A line that is none is listed, and the rest goes on; a value that does not fit its key
    /// becomes unreadable.
    /// </summary>
    /// <param name="refused">The lines that are no readings or name no known key.</param>
    public static ImmutableArray<Reading> Parse(
        string output,
        KeyRegistry keys,
        string source,
        DateTimeOffset seen,
        out ImmutableArray<string> refused
    )
    {
        ArgumentNullException.ThrowIfNull(output);
        var readings = ImmutableArray.CreateBuilder<Reading>();
        var wrong = ImmutableArray.CreateBuilder<string>();
        var tables = new Dictionary<string, ImmutableArray<TableRow>.Builder>(StringComparer.Ordinal);
        foreach (var raw in output.Split('\n', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            var line = Clean(raw);
            var name = line.Split(' ', 2)[0];
            if (keys.Find(name) is not { } key)
            {
                wrong.Add(line);
                continue;
            }

            var rest = line[name.Length..].Trim();
            if (rest.StartsWith("+= ", StringComparison.Ordinal) && key.Kind == ValueKind.Table && line.Length <= MaxLine)
            {
                var row = TableRow.Parse(rest[3..], out _);
                if (
                    row is null
                    || key.Wrong(row) is not null
                    || (tables.TryGetValue(name, out var full) && full.Count == TableRow.MostRows)
                )
                    wrong.Add(line);
                else
                    (tables.TryGetValue(name, out var rows) ? rows : tables[name] = ImmutableArray.CreateBuilder<TableRow>()).Add(row);
            }
            else if (rest.StartsWith("= ", StringComparison.Ordinal) && line.Length <= MaxLine)
            {
                var value = key.Parse(rest[2..], out var expected);
                readings.Add(
                    value is null
                        ? Reading.Unreadable(name, $"the machine said '{rest[2..]}', expected {expected}", seen, seen, source)
                        : Reading.Of(name, value, seen, seen, source)
                );
            }
            else if (rest == "is absent")
            {
                readings.Add(Reading.Absent(name, seen, seen, source));
            }
            else if (rest.StartsWith("is unreadable: ", StringComparison.Ordinal) && line.Length <= MaxLine)
            {
                readings.Add(Reading.Unreadable(name, rest["is unreadable: ".Length..], seen, seen, source));
            }
            else
            {
                wrong.Add(line);
            }
        }

        readings.AddRange(tables.Select(t => Reading.Of(t.Key, ReadingValue.Of(t.Value.ToImmutable()), seen, seen, source)));
        refused = wrong.ToImmutable();
        return readings.ToImmutable();
    }

    /// <summary>What a machine sends is hostile: control signs are taken out and the length is bounded.</summary>
    private static string Clean(string line)
    {
        if (line.Length > MaxLine)
            line = line[..(MaxLine + 1)];
        return line.Any(char.IsControl) ? string.Concat(line.Where(c => !char.IsControl(c))) : line;
    }
}
