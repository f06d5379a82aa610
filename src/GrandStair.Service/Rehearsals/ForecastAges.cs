using GrandStair.Storage.Feeds;
using GrandStair.Storage.Rehearsals;

namespace GrandStair.Service.Rehearsals;

/// <summary>How old a forecast is.</summary>
/// <param name="Made">When it was made, UTC.</param>
/// <param name="Age">How long ago that is.</param>
/// <param name="Outdated">What was changed first since it was begun, in words; null where nothing was.</param>
internal sealed record ForecastAge(DateTimeOffset Made, TimeSpan Age, string? Outdated);

/// <summary>Says how old forecasts are, and whether they still count.</summary>
internal sealed class ForecastAges(Feed feed, TimeProvider clock)
{
    /// <summary>How old a forecast or rehearsal is.</summary>
    public async Task<ForecastAge> OfAsync(StoredRehearsal rehearsal, CancellationToken stop)
    {
        var made = rehearsal.Ended ?? rehearsal.AskedAt;
        var now = clock.GetUtcNow();
        return new(
            made,
            now > made ? now - made : TimeSpan.Zero,
            await feed.FirstAgainstForecastAsync(rehearsal.Position, stop) is { } change ? Words(change, rehearsal.Plan) : null
        );
    }

    /// <summary>What was changed. The caller may not see the other plans.</summary>
    private static string Words(Change change, string plan) =>
        change.Kind switch
        {
            "calendar" => "a calendar was loaded",
            "catalogue" => "the catalogue was approved again",
            "decision" => "a decision was made",
            "fleet" => "machines were imported",
            _ when change.Subject != plan => "another plan was changed",
            _ => $"the plan was changed by {change.Actor} ({change.Type.Replace('-', ' ')})",
        };
}
