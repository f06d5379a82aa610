using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>The id that Grand Stair gives a machine; it never changes and is never used again. Written <c>m12</c>.</summary>
public readonly record struct MachineId(long Value)
{
    /// <inheritdoc />
    public override string ToString() => $"m{Value}";

    /// <summary>Reads an id as it is written; null where the text is none.</summary>
    public static MachineId? Parse(string text) =>
        text is ['m', .. var digits] && long.TryParse(digits, out var value) && value > 0 ? new(value) : null;
}

/// <summary>Something outside that names a machine: its name, serial number, host key or directory name.</summary>
/// <param name="Kind">What kind of name it is, such as <c>name</c> or <c>serial</c>.</param>
/// <param name="Value">The name; unique within its kind, case ignored.</param>
public sealed record Identifier(string Kind, string Value);

/// <summary>How a machine is reached.</summary>
/// <param name="Kind"><c>ssh</c> or <c>simulated</c>.</param>
/// <param name="Address">Host name or address; empty for a simulated machine.</param>
/// <param name="Port">TCP port, 1 to 65535.</param>
/// <param name="User">The account that logs in.</param>
/// <param name="HostKey">The pinned host key as in known_hosts (<c>ssh-ed25519 AAAA…</c>); null where none is pinned, and then nothing is
/// sent.</param>
/// <param name="Key">The name of the secret that logs in; null for the service's own key.</param>
/// <param name="HostKeyFrom">How the host key came to be pinned: <c>import</c>, <c>known-hosts</c>, <c>person</c> or <c>first-use</c>; null
/// where that is not known.</param>
public sealed record ConnectionAddress(
    string Kind,
    string Address,
    int Port,
    string User,
    string? HostKey,
    string? Key = null,
    string? HostKeyFrom = null
);

/// <summary>That a machine was taken out of the fleet. Its runs, readings and audit entries stay.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="By">Who removed it.</param>
/// <param name="Reason">Why.</param>
public sealed record Removal(DateTimeOffset At, string By, string Reason);

/// <summary>One thing that is upgraded, with what is known of it.</summary>
public sealed record Machine : IReadable
{
    /// <summary>Our id for it.</summary>
    public required MachineId Id { get; init; }

    /// <summary>The name people call it by.</summary>
    public required string Name { get; init; }

    /// <summary>Where it is.</summary>
    public string Site { get; init; } = "";

    /// <summary>What it serves.</summary>
    public string Group { get; init; } = "";

    /// <summary>Who uses it, by role.</summary>
    public string Owner { get; init; } = "";

    /// <summary>Its free labels.</summary>
    public ImmutableArray<string> Tags { get; init; } = [];

    /// <summary>What else it is known by, such as its serial number; in lower case.</summary>
    public ImmutableArray<string> Identifiers { get; init; } = [];

    /// <summary>How it is reached.</summary>
    public required ConnectionAddress Connection { get; init; }

    /// <summary>That it was removed from the fleet; null while it belongs to it.</summary>
    public Removal? Removed { get; init; }

    /// <summary>Whether it belongs to the fleet, since nobody has removed it.</summary>
    public bool IsInFleet => Removed is null;

    /// <summary>
    /// Whether it does its own work: it neither stands by to take another one's place nor was replaced. Others are upgraded, counted and
    /// judged with their pair.
    /// </summary>
    public bool IsInService => CurrentOf(Successors.StandsBy) is null && CurrentOf(Successors.ReplacedBy)?.Value is null;

    /// <summary>All readings, of every source.</summary>
    public ImmutableArray<Reading> Readings
    {
        get;
        init
        {
            field = value;
            Current = Newest(value);
        }
    } = [];

    /// <summary>Per key the reading that counts, the newest seen; by key.</summary>
    public ImmutableArray<Reading> Current { get; private init; } = [];

    /// <summary>
    /// Readings of another source that differ from the one that counts; older ones, still visible. Moments are left out:
    /// that the last backup was another one yesterday is no conflict.
    /// </summary>
    public IEnumerable<Reading> Conflicts =>
        Readings.IsEmpty || Readings.All(r => r.Source == Readings[0].Source)
            ? []
            : Readings
                .Where(r => r.Value?.Kind != ValueKind.Instant)
                .Where(r => CurrentOf(r.Key)! is var counts && counts.Source != r.Source && !counts.Says(r))
                .OrderBy(r => r.Key, StringComparer.Ordinal);

    /// <summary>The keys that the fleet itself answers; no source reads them.</summary>
    public static IReadOnlyList<string> OwnKeys { get; } = ["name", "site", "group", "owner", "connection", "tag", "in-service"];

    /// <summary>How long nothing may be heard of a machine until it is said to be silent.</summary>
    public static readonly TimeSpan SilentAfter = TimeSpan.FromDays(7);

    /// <summary>When anything of it was last seen, UTC; null where nothing ever was.</summary>
    public DateTimeOffset? LastSeen => Readings.IsEmpty ? null : Readings.Max(r => r.Seen);

    /// <summary>Whether nothing was heard of it for a week.</summary>
    public bool IsSilent(DateTimeOffset now) => LastSeen is not { } seen || seen < now - SilentAfter;

    /// <summary>
    /// What is known under a key: the current reading, or what the fleet itself says (<see cref="OwnKeys"/>), which does not age,
    /// and is absent where it was left empty. Null where it was never seen.
    /// </summary>
    public Reading? Find(string key)
    {
        var (kind, text) = key switch
        {
            "name" => (ValueKind.Text, Name),
            "site" => (ValueKind.Text, Site),
            "group" => (ValueKind.Text, Group),
            "owner" => (ValueKind.Text, Owner),
            "connection" => (ValueKind.Text, Connection.Kind),
            "in-service" => (ValueKind.Flag, IsInService ? "yes" : "no"),
            "tag" => (ValueKind.List, string.Join(',', Tags)),
            _ => (ValueKind.Text, null),
        };
        if (text is null)
            return CurrentOf(key);
        if (text.Length == 0)
            return new(key, ReadingState.Absent, null, null, DateTimeOffset.MaxValue, DateTimeOffset.MaxValue, "fleet");
        return new(
            key,
            ReadingState.Value,
            ReadingValue.Parse(kind, text, out _),
            null,
            DateTimeOffset.MaxValue,
            DateTimeOffset.MaxValue,
            "fleet"
        );
    }

    /// <summary>Of the readings of each key the newest, by key.</summary>
    private static ImmutableArray<Reading> Newest(ImmutableArray<Reading> readings)
    {
        var sorted = readings.Sort(
            static (a, b) =>
            {
                var order = string.CompareOrdinal(a.Key, b.Key);
                return order != 0 ? order : (a.Seen, a.Received, a.Source).CompareTo((b.Seen, b.Received, b.Source));
            }
        );
        var isLast = (int i) => i + 1 == sorted.Length || sorted[i + 1].Key != sorted[i].Key;
        return Enumerable.Range(0, sorted.Length).All(isLast) ? sorted : [.. sorted.Where((_, i) => isLast(i))];
    }

    /// <summary>The machine with what follows from other machines under a key, in place of what followed before.</summary>
    /// <param name="key">The key.</param>
    /// <param name="source">The source of such readings.</param>
    /// <param name="reading">The reading; null where nothing follows any more.</param>
    internal Machine WithComputed(string key, string source, Reading? reading)
    {
        var others = Readings.RemoveAll(r => r.Key == key && r.Source == source);
        return this with { Readings = reading is null ? others : others.Add(reading) };
    }

    internal Reading? CurrentOf(string key)
    {
        var (low, high) = (0, Current.Length - 1);
        while (low <= high)
        {
            var middle = (low + high) / 2;
            var order = string.CompareOrdinal(Current[middle].Key, key);
            if (order == 0)
                return Current[middle];
            if (order < 0)
                low = middle + 1;
            else
                high = middle - 1;
        }

        return null;
    }

    /// <summary>The text of a reading that has a value; null otherwise.</summary>
    public string? TextOf(string key) => Find(key)?.Value?.Text;
}

/// <summary>What one source reports of one machine at one time.</summary>
/// <param name="Source">The source's name.</param>
/// <param name="Covered">The keys that the source looks at: covered but not reported is absent.</param>
/// <param name="Readings">What it reported; keys outside <paramref name="Covered"/> are covered by being reported.</param>
public sealed record SourceReport(string Source, ImmutableArray<string> Covered, ImmutableArray<Reading> Readings)
{
    /// <summary>The reported readings, and an absent one for every covered key that was not reported.</summary>
    public ImmutableArray<Reading> Complete(DateTimeOffset seen, DateTimeOffset received)
    {
        var reported = Readings.Select(r => r.Key).ToHashSet(StringComparer.Ordinal);
        return [.. Readings, .. Covered.Where(k => !reported.Contains(k)).Select(k => Reading.Absent(k, seen, received, Source))];
    }
}
