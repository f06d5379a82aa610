namespace GrandStair.Core.Waves;

/// <summary>One machine's appointed time.</summary>
/// <param name="Start">When it begins, UTC.</param>
/// <param name="End">When it usually ends, UTC.</param>
/// <param name="LatestTurn">The latest moment to pass the turning point, so that what follows still fits into the window, UTC.</param>
public sealed record Slot(DateTimeOffset Start, DateTimeOffset End, DateTimeOffset LatestTurn);
