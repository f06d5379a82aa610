namespace GrandStair.Core.Readings;

/// <summary>
/// Two machines of which one takes the other's place: an upgrade that goes side by side builds or clones a second machine, upgrades and
/// tries that, and switches over. Until then the second one stands by; afterwards the old one is out of use and kept for the rollback.
/// </summary>
public static class Successors
{
    /// <summary>The key under which a second machine names the one whose place it is to take.</summary>
    public const string Replaces = "replaces";

    /// <summary>The key of the name of a machine's second one.</summary>
    public const string Successor = "successor";

    /// <summary>The key that says of a second machine that it does not do the first one's work yet.</summary>
    public const string StandsBy = "stands-by";

    /// <summary>The key of the name of the machine that has taken a machine's place.</summary>
    public const string ReplacedBy = "replaced-by";

    /// <summary>The name of the check that there is a second machine; it is asked of the first one alone.</summary>
    public const string Check = "second-machine";

    /// <summary>The source of what follows from which machine names which.</summary>
    public const string Computed = "successors";

    /// <summary>The machine with the name of its second one; without any it has no such reading.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="replacing">Those that name it as the one that they replace; the one that came last counts.</param>
    public static Machine With(Machine machine, IReadOnlyCollection<Machine> replacing)
    {
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(replacing);
        var next = replacing.Where(m => m.Id != machine.Id).MaxBy(m => m.Id.Value);
        return WithComputed(machine, Successor, next?.Name, next?.CurrentOf(Replaces));
    }

    /// <summary>A second machine with whether it still stands by.</summary>
    /// <param name="machine">The second machine.</param>
    /// <param name="replaced">The one whose place it is to take; null where there is none of that name.</param>
    public static Machine WithStandsBy(Machine machine, Machine? replaced)
    {
        ArgumentNullException.ThrowIfNull(machine);
        var stands =
            replaced is not null
            && replaced.Id != machine.Id
            && !machine.Name.Equals(replaced.TextOf(ReplacedBy), StringComparison.OrdinalIgnoreCase);
        return WithComputed(machine, StandsBy, stands ? "yes" : null, machine.CurrentOf(Replaces));
    }

    private static Machine WithComputed(Machine machine, string key, string? value, Reading? from) =>
        machine.WithComputed(
            key,
            Computed,
            value is null || from is null
                ? null
                : Reading.Of(
                    key,
                    ReadingValue.Parse(key == StandsBy ? ValueKind.Flag : ValueKind.Text, value, out _)!,
                    from.Seen,
                    from.Received,
                    Computed
                )
        );
}
