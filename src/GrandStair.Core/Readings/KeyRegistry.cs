using System.Collections.Frozen;
using System.Collections.Immutable;
using System.Text.RegularExpressions;

namespace GrandStair.Core.Readings;

/// <summary>A known reading key.</summary>
/// <param name="Name">The name: lower-case words with dots and hyphens, such as <c>disk.system.free</c>.</param>
/// <param name="Kind">The type of its value.</param>
/// <param name="Meaning">What it tells, in a sentence for people.</param>
public sealed record KeyDefinition(string Name, ValueKind Kind, string Meaning)
{
    /// <summary>The columns of a table, the one that names a row first; empty for every other kind.</summary>
    public ImmutableArray<KeyDefinition> Columns { get; init; } = [];

    /// <summary>The column of that name, or null.</summary>
    public KeyDefinition? Column(string name) => Columns.FirstOrDefault(c => c.Name == name);

    /// <summary>Reads a value of this key.</summary>
    /// <param name="expected">What was expected, where the text is not such a value.</param>
    public ReadingValue? Parse(string text, out string? expected)
    {
        if (Kind != ValueKind.Table)
            return ReadingValue.Parse(Kind, text, out expected);
        if (TableRow.ParseAll(text, out expected) is not { } rows)
            return null;
        expected = rows.Select(Wrong).FirstOrDefault(w => w is not null);
        return expected is null ? ReadingValue.Of(rows) : null;
    }

    /// <summary>What of a row does not fit this table, as what was expected; null where all does.</summary>
    public string? Wrong(TableRow row)
    {
        foreach (var (name, text) in row.Cells)
        {
            if (Column(name) is not { } column)
                return $"columns {string.Join(", ", Columns.Select(c => c.Name))}, and found '{name}'";
            if (text is not null && ReadingValue.Parse(column.Kind, text, out var expected) is null)
                return $"{expected} in column '{name}', and found '{text}'";
        }

        return null;
    }

    /// <summary>Whether both have the same kind and the same columns.</summary>
    public bool SameShape(KeyDefinition other) =>
        Kind == other.Kind && Columns.Select(c => (c.Name, c.Kind)).SequenceEqual(other.Columns.Select(c => (c.Name, c.Kind)));
}

/// <summary>All known keys: those that every fleet has, and those that catalogue files add.</summary>
public sealed partial class KeyRegistry
{
    private readonly ImmutableSortedDictionary<string, KeyDefinition> _keys;

    private readonly FrozenDictionary<string, KeyDefinition> _byName;

    private KeyRegistry(ImmutableSortedDictionary<string, KeyDefinition> keys) =>
        (_keys, _byName) = (keys, keys.ToFrozenDictionary(StringComparer.Ordinal));

    /// <summary>The keys that every machine has by being in the fleet, and the common ones of its system.</summary>
    public static KeyRegistry BuiltIn { get; } =
        new(
            new KeyDefinition[]
            {
                new("name", ValueKind.Text, "The machine's name"),
                new("site", ValueKind.Text, "The site at which it is"),
                new("group", ValueKind.Text, "The group that it serves"),
                new("owner", ValueKind.Text, "Who uses it, by role"),
                new("tag", ValueKind.List, "Its free labels"),
                new("connection", ValueKind.Text, "How it is reached: ssh or simulated"),
                new("in-service", ValueKind.Flag, "Whether it neither stands by for another machine nor was replaced by one"),
                new("os.product", ValueKind.Text, "The operating system's product name"),
                new("os.edition", ValueKind.Text, "The operating system's edition"),
                new("os.version", ValueKind.Version, "The operating system's release"),
                new("os.build", ValueKind.Version, "The operating system's build within its release"),
                new("hardware.model", ValueKind.Text, "The machine's model"),
                new("hardware.memory", ValueKind.Size, "Main memory"),
                new("hardware.processor", ValueKind.Text, "The processor's model"),
                new("disk.system.free", ValueKind.Size, "Free space on the system volume"),
                new("disk.system.size", ValueKind.Size, "Size of the system volume"),
                new("network.rate", ValueKind.Rate, "Speed of the machine's line"),
                new("power.mains", ValueKind.Flag, "Whether it runs on mains power"),
                new("backup.last", ValueKind.Instant, "When the last good backup ended"),
                new(
                    PartlyUpgraded,
                    ValueKind.Version,
                    "The release to which its upgrade got only partly: one that failed after its point of no return, or packages of "
                        + "several releases; absent where none did"
                ),
                new("boot.id", ValueKind.Text, "What changes with every start of the system"),
                new(
                    "cluster",
                    ValueKind.Text,
                    "The common name of machines that belong together and never go at once: the nodes of a cluster, a pair"
                ),
                new("hangs-on", ValueKind.Text, "The name of the machine that it hangs on, such as a radio on its gateway"),
                new(
                    Successors.Replaces,
                    ValueKind.Text,
                    "The name of the machine whose place it is to take: it was built or cloned for an upgrade side by side"
                ),
                new(Successors.Successor, ValueKind.Text, "The name of the second machine that is to take its place"),
                new(Successors.StandsBy, ValueKind.Flag, "Whether it is such a second machine, and the first one still does the work"),
                new(Successors.ReplacedBy, ValueKind.Text, "The name of the machine that has taken its place"),
                new("apps", ValueKind.Table, "Installed applications")
                {
                    Columns =
                    [
                        new("name", ValueKind.Text, "Its name"),
                        new("version", ValueKind.Version, "Its version"),
                        new("publisher", ValueKind.Text, "Who made it"),
                    ],
                },
                new("devices", ValueKind.Table, "Devices and their drivers")
                {
                    Columns =
                    [
                        new("name", ValueKind.Text, "Its name"),
                        new("kind", ValueKind.Text, "What it is"),
                        new("driver", ValueKind.Version, "Version of its driver"),
                        new("fault", ValueKind.Flag, "Whether it has a fault mark"),
                    ],
                },
                new("services", ValueKind.Table, "Services")
                {
                    Columns =
                    [
                        new("name", ValueKind.Text, "Its name"),
                        new("state", ValueKind.Text, "running, stopped or failed"),
                        new("start", ValueKind.Text, "auto or manual"),
                    ],
                },
                new("dependents", ValueKind.Table, "The machines of the fleet that hang on this one")
                {
                    Columns =
                    [
                        new("name", ValueKind.Text, "Its name"),
                        new("product", ValueKind.Text, "Its product"),
                        new("version", ValueKind.Version, "Its release"),
                        new("model", ValueKind.Text, "Its model"),
                    ],
                },
            }.ToImmutableSortedDictionary(k => k.Name, k => k, StringComparer.Ordinal)
        );

    /// <summary>The key under which stands to which release a machine was upgraded only partly.</summary>
    public const string PartlyUpgraded = "upgrade.partial";

    /// <summary>All keys, by name.</summary>
    public IEnumerable<KeyDefinition> All => _keys.Values;

    /// <summary>The key of that name, or null.</summary>
    public KeyDefinition? Find(string name) => _byName.GetValueOrDefault(name);

    /// <summary>The key of a name as people type it, case ignored, or null.</summary>
    public KeyDefinition? FindTyped(string name)
    {
        ArgumentNullException.ThrowIfNull(name);
        // Keys are lower-case words.
        return Find(name.ToLowerInvariant());
    }

    /// <summary>A registry with more keys.</summary>
    /// <exception cref="ArgumentException">A name is not well formed, or is known with another kind.</exception>
    public KeyRegistry With(IEnumerable<KeyDefinition> more)
    {
        var keys = _keys;
        foreach (var key in more)
        {
            if (!WellFormed().IsMatch(key.Name))
                throw new ArgumentException(
                    $"'{key.Name}' is not a key: expected lower-case words with dots or hyphens between them, such as disk.system.free."
                );
            if (key.Kind == ValueKind.Table && key.Columns.IsEmpty)
                throw new ArgumentException($"Key '{key.Name}' is a table and names no columns.");
            if (keys.TryGetValue(key.Name, out var known) && !known.SameShape(key))
                throw new ArgumentException(
                    $"Key '{key.Name}' is a {known.Kind} already{(known.Kind == key.Kind ? ", with other columns," : "")} and cannot "
                        + $"also be a {key.Kind}."
                );
            keys = keys.SetItem(key.Name, key);
        }

        return new(keys);
    }

    /// <summary>The known key that looks most like a name, or null where none is near.</summary>
    public string? Nearest(string name) => Spelling.Nearest(name, _keys.Keys);

    [GeneratedRegex("^[a-z][a-z0-9]*([.-][a-z0-9]+)*$")]
    private static partial Regex WellFormed();
}
