namespace GrandStair.Core.Scheduling;

/// <summary>One machine's slot.</summary>
/// <param name="Start">When it begins, UTC.</param>
/// <param name="End">When it usually ends, UTC.</param>
/// <param name="LatestTurn">The latest moment to pass the point of no return, so that what follows, and going back, still fit into the
/// window, UTC.</param>
public sealed record Slot(DateTimeOffset Start, DateTimeOffset End, DateTimeOffset LatestTurn)
{
    /// <summary>
    /// When its staging begins, so that the site's uplink has brought everything before the slot, UTC; null where no uplink is in the way.
    /// </summary>
    public DateTimeOffset? StageFrom { get; init; }

    /// <summary>The crew that is booked for it; null where none is needed.</summary>
    public string? Crew { get; init; }
}
