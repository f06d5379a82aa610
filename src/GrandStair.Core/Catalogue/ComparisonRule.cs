namespace GrandStair.Core.Catalogue;

/// <summary>How something that was recorded differs from what is there now.</summary>
public enum Change
{
    /// <summary>It was there before, and is not now.</summary>
    Missing,

    /// <summary>It is there now, and was not before.</summary>
    Added,

    /// <summary>It is there with another value.</summary>
    Changed,
}

/// <summary>What a difference leads to.</summary>
public enum DifferenceResult
{
    /// <summary>Nothing: it was to be expected.</summary>
    Ignore,

    /// <summary>Somebody looks at it after the upgrade.</summary>
    FollowUp,

    /// <summary>The run is parked until somebody has decided.</summary>
    Fail,
}

/// <summary>Says what differences of one kind lead to. Of several rules the first that fits counts.</summary>
/// <param name="Of">The kind of entry, such as <c>package</c>, <c>service</c>, <c>device</c> or <c>file</c>; null for every kind.</param>
/// <param name="Name">A pattern with <c>*</c> for the entry's name; null for every name.</param>
/// <param name="Change">How it differs; null for every way.</param>
/// <param name="Then">What it leads to.</param>
public sealed record ComparisonRule(string? Of, string? Name, Change? Change, DifferenceResult Then);
