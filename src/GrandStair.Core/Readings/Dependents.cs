using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>The machines that hang on another, as a reading of that one: a radio on its gateway, a till on its server.</summary>
public static class Dependents
{
    /// <summary>The key under which a machine names the one that it hangs on.</summary>
    public const string HangsOn = "hangs-on";

    /// <summary>The key of the table of those that hang on a machine.</summary>
    public const string Key = "dependents";

    /// <summary>The column of that table with their names.</summary>
    internal const string NameColumn = "name";

    private const string Source = "dependents";

    /// <summary>
    /// The machine with the table of its dependents; as old as the oldest of what is known of them. Without any it has no such reading.
    /// </summary>
    public static Machine With(Machine machine, IReadOnlyCollection<Machine> dependents)
    {
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(dependents);
        if (dependents.Count == 0)
            return machine.WithComputed(Key, Source, null);
        var table = ReadingValue.Of([.. dependents.OrderBy(d => d.Name, StringComparer.OrdinalIgnoreCase).Select(Row)]);
        var seen = dependents.Min(d => d.CurrentOf(HangsOn)!.Seen);
        var received = dependents.Max(d => d.CurrentOf(HangsOn)!.Received);
        return machine.WithComputed(Key, Source, Reading.Of(Key, table, seen, received, Source));
    }

    private static TableRow Row(Machine machine)
    {
        var cells = ImmutableSortedDictionary.CreateBuilder<string, string?>(StringComparer.Ordinal);
        cells[NameColumn] = machine.Name;
        foreach (var (column, key) in new[] { ("product", "os.product"), ("version", "os.version"), ("model", "hardware.model") })
        {
            var reading = machine.CurrentOf(key);
            // What was never seen or could not be read cannot be told; what is absent has no cell.
            if (reading?.State != ReadingState.Absent)
                cells[column] = reading?.Value?.Text;
        }

        return new(cells.ToImmutable());
    }
}
