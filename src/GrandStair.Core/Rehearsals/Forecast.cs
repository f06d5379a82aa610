using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;

namespace GrandStair.Core.Rehearsals;

/// <summary>
/// A moment that is not known for sure: one in ten is earlier than the first, half are earlier than the middle one, nine in ten earlier
/// than the last. UTC; null where so many never come within the rehearsal.
/// </summary>
/// <param name="P10">The first decile.</param>
/// <param name="P50">The median.</param>
/// <param name="P90">The ninth decile.</param>
public readonly record struct Spread(DateTimeOffset? P10, DateTimeOffset? P50, DateTimeOffset? P90)
{
    /// <summary>The spread of some moments; null is later than all.</summary>
    public static Spread Of(IEnumerable<DateTimeOffset?> moments)
    {
        var sorted = moments.OrderBy(m => m ?? DateTimeOffset.MaxValue).ToArray();
        return sorted.Length == 0 ? default : new(At(0.1), At(0.5), At(0.9));

        DateTimeOffset? At(double share) => sorted[(int)Math.Round(share * (sorted.Length - 1))];
    }

    /// <summary>Whether a moment lies between the deciles, both of them in.</summary>
    public bool Holds(DateTimeOffset moment) => moment >= P10 && (P90 is not { } last || moment <= last);
}

/// <summary>A number that is not known for sure, by its deciles.</summary>
public readonly record struct Amount(double P10, double P50, double P90)
{
    /// <summary>The spread of some numbers.</summary>
    public static Amount Of(IEnumerable<double> numbers)
    {
        var sorted = numbers.Order().ToArray();
        return sorted.Length == 0 ? default : new(At(0.1), At(0.5), At(0.9));

        double At(double share) => sorted[(int)Math.Round(share * (sorted.Length - 1))];
    }
}

/// <summary>When a wave begins and is through.</summary>
/// <param name="Wave">Its name.</param>
/// <param name="Begins">When it begins.</param>
/// <param name="Verified">When the last of its machines is verified that will be.</param>
public sealed record WaveForecast(string Wave, Spread Begins, Spread Verified);

/// <summary>When a site is through, and what it waits for most.</summary>
/// <param name="Site">The site.</param>
/// <param name="Machines">How many machines of the plan stand there.</param>
/// <param name="Verified">When the last of them is verified that will be.</param>
/// <param name="Bottleneck">What its machines wait for longest, besides the waves before.</param>
/// <param name="Hours">How long one of them waits for that on average.</param>
/// <param name="Waits">How long one of them waits on average by cause, hours, longest first.</param>
public sealed record SiteForecast(
    string Site,
    int Machines,
    Spread Verified,
    Cause Bottleneck,
    double Hours,
    ImmutableArray<SiteWait> Waits
);

/// <summary>How long one machine of a site waits for something on average.</summary>
/// <param name="Cause">What for.</param>
/// <param name="Hours">How long.</param>
public readonly record struct SiteWait(Cause Cause, double Hours);

/// <summary>A machine that may not be verified in time.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Misses">In which share of the draws it is not verified by the deadline, or not at all where there is none, 0 to 1.</param>
public sealed record LateMachine(MachineId Machine, double Misses);

/// <summary>How much of the plan is verified when.</summary>
/// <param name="Machines">How many machines.</param>
/// <param name="Verified">When so many are.</param>
public sealed record ForecastStep(int Machines, Spread Verified);

/// <summary>When a plan will be done, as a range, and what is in the way.</summary>
public sealed record Forecast
{
    /// <summary>How many draws it is made of.</summary>
    public required int Draws { get; init; }

    /// <summary>The seed of the draws.</summary>
    public required ulong Seed { get; init; }

    /// <summary>When it was made for, UTC.</summary>
    public required DateTimeOffset From { get; init; }

    /// <summary>How many machines it is about.</summary>
    public required int Machines { get; init; }

    /// <summary>When the last machine is verified that will be.</summary>
    public required Spread Verified { get; init; }

    /// <summary>
    /// In which share of the draws every machine that will be verified is so by the deadline, 0 to 1; null without a deadline.
    /// </summary>
    public double? InTime { get; init; }

    /// <summary>
    /// How many machines are not verified at all: they are not made ready, they cannot be scheduled, or they fail again and again.
    /// </summary>
    public required Amount NotVerified { get; init; }

    /// <summary>How many slots are missed.</summary>
    public required Amount MissedSlots { get; init; }

    /// <summary>The waves in order.</summary>
    public required ImmutableArray<WaveForecast> Waves { get; init; }

    /// <summary>The sites, those that are through last first; at the end those where half of the draws verify no machine.</summary>
    public required ImmutableArray<SiteForecast> Sites { get; init; }

    /// <summary>The machines that miss most often, at most <see cref="Rehearsal.MostLate"/>.</summary>
    public required ImmutableArray<LateMachine> Late { get; init; }

    /// <summary>How much is verified when.</summary>
    public required ImmutableArray<ForecastStep> Steps { get; init; }
}
