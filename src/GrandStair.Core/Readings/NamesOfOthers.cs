using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>
/// What readings of a machine say of others by name, as somebody sees it who may see some sites only: names of machines that stand
/// elsewhere are left out. What is known of those stays, since it decides whether the machine may go.
/// </summary>
public static class NamesOfOthers
{
    /// <summary>What is shown in place of a name that is left out.</summary>
    public const string Elsewhere = "(at another site)";

    // What a machine hangs on is told: whoever plans the machine has to wait for that one.
    private static readonly ImmutableHashSet<string> Naming = [Successors.Replaces, Successors.Successor, Successors.ReplacedBy];

    /// <summary>Whether the value of a key is the name of another machine, or a table that has names of others.</summary>
    public static bool AreIn(string key) => key == Dependents.Key || Naming.Contains(key);

    /// <summary>A machine without the names that may not be seen.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="isSeen">Whether the machine of a name may be seen.</param>
    public static Machine LeftOut(Machine machine, Func<string, bool> isSeen)
    {
        ArgumentNullException.ThrowIfNull(machine);
        return machine.Readings.Any(r => AreIn(r.Key))
            ? machine with
            {
                Readings = [.. machine.Readings.Select(r => LeftOut(r, isSeen))],
            }
            : machine;
    }

    /// <summary>A reading without the names that may not be seen.</summary>
    /// <param name="reading">The reading.</param>
    /// <param name="isSeen">Whether the machine of a name may be seen.</param>
    public static Reading LeftOut(Reading reading, Func<string, bool> isSeen)
    {
        ArgumentNullException.ThrowIfNull(reading);
        ArgumentNullException.ThrowIfNull(isSeen);
        if (reading.Value is not { } value)
            return reading;
        if (reading.Key == Dependents.Key)
            return reading with { Value = ReadingValue.Of([.. value.Rows.Select(r => LeftOut(r, isSeen))]) };
        return Naming.Contains(reading.Key) && !isSeen(value.Text)
            ? reading with
            {
                Value = ReadingValue.Parse(ValueKind.Text, Elsewhere, out _),
            }
            : reading;
    }

    private static TableRow LeftOut(TableRow row, Func<string, bool> isSeen) =>
        row.Cells.GetValueOrDefault(Dependents.NameColumn) is { } name && !isSeen(name)
            ? new(row.Cells.SetItem(Dependents.NameColumn, Elsewhere))
            : row;
}
