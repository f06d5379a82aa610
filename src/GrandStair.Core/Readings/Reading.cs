using System.Globalization;

namespace GrandStair.Core.Readings;

/// <summary>What came of looking for a key on a machine.</summary>
public enum ReadingState
{
    /// <summary>A value was seen.</summary>
    Value,

    /// <summary>It was looked for and is not there.</summary>
    Absent,

    /// <summary>It was looked for and could not be read.</summary>
    Unreadable,
}

/// <summary>A value that was read before.</summary>
/// <param name="Value">The value.</param>
/// <param name="Seen">When it was seen, UTC.</param>
public sealed record LastValue(ReadingValue Value, DateTimeOffset Seen);

/// <summary>What was seen on a machine under one key.</summary>
/// <param name="Key">The key, such as <c>disk.system.free</c>.</param>
/// <param name="State">Whether there is a value.</param>
/// <param name="Value">The value; null unless <paramref name="State"/> is <see cref="ReadingState.Value"/>.</param>
/// <param name="Why">Why it could not be read; null unless <paramref name="State"/> is <see cref="ReadingState.Unreadable"/>.</param>
/// <param name="Seen">When it was seen on the machine, UTC.</param>
/// <param name="Received">When it reached us, UTC; never before <paramref name="Seen"/>.</param>
/// <param name="Source">The source that reported it, such as <c>ssh</c> or the name of an import.</param>
public sealed record Reading(
    string Key,
    ReadingState State,
    ReadingValue? Value,
    string? Why,
    DateTimeOffset Seen,
    DateTimeOffset Received,
    string Source
)
{
    /// <summary>Whether the source said a time in the future, which was set back to when we received it.</summary>
    public bool Clamped { get; init; }

    /// <summary>
    /// For a reading that could not be read: the last value that the source did read, and when that was seen. Null where there was none.
    /// </summary>
    public LastValue? Last { get; init; }

    /// <summary>A reading with a value.</summary>
    public static Reading Of(string key, ReadingValue value, DateTimeOffset seen, DateTimeOffset received, string source) =>
        Clamp(new(key, ReadingState.Value, value, null, seen, received, source));

    /// <summary>A reading that says: looked, is not there.</summary>
    public static Reading Absent(string key, DateTimeOffset seen, DateTimeOffset received, string source) =>
        Clamp(new(key, ReadingState.Absent, null, null, seen, received, source));

    /// <summary>A reading that says: tried, could not.</summary>
    public static Reading Unreadable(string key, string why, DateTimeOffset seen, DateTimeOffset received, string source) =>
        Clamp(new(key, ReadingState.Unreadable, null, why, seen, received, source));

    /// <summary>The same thing said: state and value, whatever the time and the source.</summary>
    public bool Says(Reading other) => State == other.State && Equals(Value, other.Value) && Why == other.Why;

    /// <summary>The value as a person reads it, <c>absent</c>, or why it could not be read.</summary>
    public string Show() =>
        State switch
        {
            ReadingState.Value => Value!.Show(),
            ReadingState.Absent => "absent",
            _ when Last is { } last => string.Create(
                CultureInfo.InvariantCulture,
                $"unreadable: {Why}; it was {last.Value.Show()} on {last.Seen:yyyy-MM-dd HH:mm} UTC"
            ),
            _ => $"unreadable: {Why}",
        };

    /// <summary>
    /// The reading as it follows an earlier one of the same source: what could not be read now keeps the last value in view.
    /// </summary>
    public Reading After(Reading? before) =>
        State == ReadingState.Unreadable && before is not null
            ? this with
            {
                Last = before.Value is { } value ? new(value, before.Seen) : before.Last,
            }
            : this;

    private static Reading Clamp(Reading reading) =>
        reading.Seen > reading.Received ? reading with { Seen = reading.Received, Clamped = true } : reading;
}
