namespace GrandStair.Contracts;

/// <summary>A requested rehearsal.</summary>
/// <param name="Draws">How often the plan and each what-if is gone through, 1 to 2,000; null for 200.</param>
/// <param name="Seed">What the draws come from: the same one gives the same answer; null for 1.</param>
/// <param name="FixingHours">How many hours after its wave begins a machine that is not ready is usually made ready; 0 for never, null for
/// 96.</param>
/// <param name="WhatIfs">The plan changed, side by side with the plan as it is, at most 8; null for none.</param>
public sealed record RehearsalRequest(
    int? Draws = null,
    long? Seed = null,
    double? FixingHours = null,
    IReadOnlyList<WhatIfRequest>? WhatIfs = null
);

/// <summary>The plan changed, to see what would come of it.</summary>
/// <param name="Changes">What is changed of the plan's text: a field and its new value, as in <c>limits.all=8</c> or
/// <c>crews.harbour.hands=2</c>, or an entry to add, as in <c>crews+={ name: … }</c>.</param>
/// <param name="Name">Its name, for people; null for the changes themselves.</param>
/// <param name="Plan">Another text of the plan, as YAML, in place of its own; null for its own.</param>
public sealed record WhatIfRequest(IReadOnlyList<string> Changes, string? Name = null, string? Plan = null);

/// <summary>A rehearsal.</summary>
/// <param name="State"><c>waiting</c>, <c>running</c>, <c>done</c>, <c>cancelled</c> or <c>failed</c>.</param>
/// <param name="Done">How many draws are done.</param>
/// <param name="Total">How many there are to do, over the plan and all what-ifs.</param>
/// <param name="Results">What came of it, the plan as it is first; empty before it is done.</param>
/// <param name="Why">Why it failed; null where it did not.</param>
public sealed record RehearsalView(
    long Id,
    string Plan,
    int Revision,
    string State,
    int Done,
    int Total,
    int Draws,
    long Seed,
    double? FixingHours,
    string AskedBy,
    DateTimeOffset AskedAt,
    DateTimeOffset? Ended,
    IReadOnlyList<ForecastView> Results,
    string? Why
);

/// <summary>When a plan will be done, as a range, and what is in the way.</summary>
/// <param name="Name">The what-if's name; empty for the plan as it is.</param>
/// <param name="Changes">What was changed of the plan.</param>
/// <param name="Revision">The plan's revision.</param>
/// <param name="From">From when on it was rehearsed.</param>
/// <param name="Made">When it was made, UTC.</param>
/// <param name="AgeSeconds">How long ago that is, by the service's clock.</param>
/// <param name="Outdated">What was changed first since it was begun, in words, so that it no longer counts; null where nothing was.</param>
/// <param name="Machines">How many machines it is about.</param>
/// <param name="Verified">When the last machine is verified that will be.</param>
/// <param name="Deadline">The plan's deadline; null without one.</param>
/// <param name="InTime">How likely that is in time, 0 to 1; null without a deadline.</param>
/// <param name="NotVerified">How many machines are not verified at all.</param>
/// <param name="MissedSlots">How many slots are missed.</param>
/// <param name="Sites">The sites, those that are through last first.</param>
/// <param name="Late">The machines that miss most often.</param>
/// <param name="Steps">How much is verified when, for a line with a band.</param>
public sealed record ForecastView(
    string Name,
    IReadOnlyList<string> Changes,
    int Revision,
    DateTimeOffset From,
    DateTimeOffset Made,
    double AgeSeconds,
    string? Outdated,
    int Draws,
    int Machines,
    RangeView Verified,
    string? Deadline,
    double? InTime,
    AmountView NotVerified,
    AmountView MissedSlots,
    IReadOnlyList<WaveForecastView> Waves,
    IReadOnlyList<SiteForecastView> Sites,
    IReadOnlyList<LateView> Late,
    IReadOnlyList<ForecastStepView> Steps
);

/// <summary>
/// A moment that is not known for sure: in one of ten draws it is earlier than P10, in half of them earlier than P50, in nine of ten
/// earlier than P90; null where so many never come.
/// </summary>
public sealed record RangeView(DateTimeOffset? P10, DateTimeOffset? P50, DateTimeOffset? P90);

/// <summary>A number that is not known for sure, by its deciles.</summary>
public sealed record AmountView(double P10, double P50, double P90);

/// <summary>When a wave begins and is through.</summary>
public sealed record WaveForecastView(string Wave, RangeView Begins, RangeView Verified);

/// <summary>When a site is through, and what it waits for longest besides the waves before.</summary>
/// <param name="Bottleneck">What its machines wait for longest, in words.</param>
/// <param name="Hours">How many hours one of them waits for that on average.</param>
/// <param name="Waits">How long one of them waits on average, by cause, longest first.</param>
public sealed record SiteForecastView(
    string Site,
    int Machines,
    RangeView Verified,
    string Bottleneck,
    double Hours,
    IReadOnlyList<WaitView> Waits
);

/// <summary>How long one machine waits for something on average.</summary>
public sealed record WaitView(string Cause, double Hours);

/// <summary>A machine that may be late.</summary>
/// <param name="Misses">In which share of the draws it is not verified by the deadline, or not at all where there is none, 0 to 1.</param>
public sealed record LateView(string Machine, string Site, string Wave, string Status, string? Why, double Misses);

/// <summary>How much is verified when.</summary>
public sealed record ForecastStepView(int Machines, RangeView Verified);
