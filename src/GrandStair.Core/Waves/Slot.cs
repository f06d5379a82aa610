namespace GrandStair.Core.Waves;

/// <summary>One machine's appointed time.</summary>
/// <param name="Start">When it begins, UTC.</param>
/// <param name="End">When it usually ends, UTC.</param>
/// <param name="LatestTurn">The latest moment to pass the turning point, so that what follows, and going back, still fit into the window, UTC.</param>
public sealed record Slot(DateTimeOffset Start, DateTimeOffset End, DateTimeOffset LatestTurn)
{
    /// <summary>When its staging begins, so that the site's line has brought everything before the slot, UTC; null where no line is in the way.</summary>
    public DateTimeOffset? StageFrom { get; init; }

    /// <summary>The crew that is booked for it; null where no hands are needed.</summary>
    public string? Crew { get; init; }
}
