using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>Reads what a reading script prints: one line a key, <c>key = value</c>, <c>key is absent</c> or <c>key is unreadable: why</c>.</summary>
public static class ReadingLines
{
    /// <summary>The longest line that is taken; a longer one makes its key unreadable.</summary>
    public const int MaxLine = 4000;

    /// <summary>Turns a script's output into readings. A line that is none is listed, and the rest goes on; a value that does not fit its key becomes unreadable.</summary>
    /// <param name="refused">The lines that are no readings or name no known key.</param>
    public static ImmutableArray<Reading> Parse(string output, KeyRegistry keys, string source, DateTimeOffset seen, out ImmutableArray<string> refused)
    {
        ArgumentNullException.ThrowIfNull(output);
        var readings = ImmutableArray.CreateBuilder<Reading>();
        var wrong = ImmutableArray.CreateBuilder<string>();
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
            if (rest.StartsWith("= ", StringComparison.Ordinal) && line.Length <= MaxLine)
            {
                var value = ReadingValue.Parse(key.Kind, rest[2..], out var expected);
                readings.Add(value is null
                    ? Reading.Unreadable(name, $"the machine said '{rest[2..]}', expected {expected}", seen, seen, source)
                    : Reading.Of(name, value, seen, seen, source));
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

        refused = wrong.ToImmutable();
        return readings.ToImmutable();
    }

    /// <summary>What a machine sends is hostile: control signs are taken out and the length is bounded.</summary>
    private static string Clean(string line)
    {
        if (line.Length > MaxLine) line = line[..(MaxLine + 1)];
        return line.Any(char.IsControl) ? string.Concat(line.Where(c => !char.IsControl(c))) : line;
    }
}
