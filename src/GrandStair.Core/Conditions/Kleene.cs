using GrandStair.Core.Readings;

namespace GrandStair.Core.Conditions;

/// <summary>
/// The three values of Kleene's strong logic of indeterminacy, in the order in which <c>and</c> is the lesser and <c>or</c> the greater.
/// </summary>
public enum Kleene : byte
{
    /// <summary>It does not hold.</summary>
    No = 0,

    /// <summary>It is unknown: never seen, unreadable, or too old for this use.</summary>
    Unknown = 1,

    /// <summary>It holds.</summary>
    Yes = 2,
}

/// <summary>What a condition says of one machine, and why.</summary>
/// <param name="Value">Yes, no or unknown.</param>
/// <param name="Leaves">The comparisons that decided it, in the order of the text.</param>
/// <param name="Until">When the answer may change by readings growing older alone; null where it will not. UTC.</param>
public sealed record Answer(Kleene Value, IReadOnlyList<Leaf> Leaves, DateTimeOffset? Until);

/// <summary>One comparison, and what it was compared with.</summary>
/// <param name="Text">The comparison as it was written.</param>
/// <param name="Key">The key it looks at.</param>
/// <param name="Value">What came of it.</param>
/// <param name="Reading">The reading it looked at; null where the key was never seen.</param>
/// <param name="Note">Why it is unknown; null where it is not.</param>
public sealed record Leaf(string Text, string Key, Kleene Value, Reading? Reading, string? Note)
{
    /// <summary>The rows that decided it, where it looked into a table.</summary>
    public IReadOnlyList<string> Rows { get; init; } = [];

    /// <summary>What was seen, for people: the rows that decided, or else the reading.</summary>
    public string Show() => Rows.Count > 0 ? string.Join("; ", Rows) : Reading?.Show() ?? "never seen";

    /// <summary>What was seen under which key, or why it is unknown.</summary>
    public string Tell() => Note is { } note ? $"{Key} {note}" : $"{Key} = {Show()}";
}

/// <summary>How a use of a condition looks at readings.</summary>
/// <param name="Now">The moment at which it is asked, UTC.</param>
/// <param name="MaxAge">How old a reading may be; null where any age will do.</param>
public readonly record struct EvaluationContext(DateTimeOffset Now, TimeSpan? MaxAge = null)
{
    /// <summary>Why a reading cannot be used; null where it can.</summary>
    internal string? WhyNot(Reading? reading)
    {
        if (reading is null)
            return "never seen";
        if (reading.State == ReadingState.Unreadable)
            return reading.Show();
        if (MaxAge is { } age && reading.Seen < Now - age)
            return $"seen {Units.Show((Now - reading.Seen).TotalSeconds, ValueKind.Duration)} ago, must not be older than "
                + $"{Units.Show(age.TotalSeconds, ValueKind.Duration)}";
        return null;
    }

    /// <summary>When a reading that can be used now will be too old; null where it never will.</summary>
    internal DateTimeOffset? Until(Reading reading) =>
        MaxAge is { } age && reading.Seen < DateTimeOffset.MaxValue - age ? reading.Seen + age : null;
}
