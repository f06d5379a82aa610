using GrandStair.Core.Readings;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Outcomes;

/// <summary>Evaluates the advance rule: whether the next wave may begin.</summary>
public static class WaveAdvance
{
    /// <summary>
    /// Evaluates a wave. Machines that became not ready after the wave had opened still count, so that the share does not rise because of
    /// them.
    /// </summary>
    /// <param name="rule">The rule.</param>
    /// <param name="tally">Its machines by status.</param>
    /// <param name="verifiedAt">When its machines were verified, UTC, in any order.</param>
    /// <param name="now">The moment it is asked, UTC.</param>
    /// <param name="lapsed">The names of those that have become not ready since it opened.</param>
    public static Advance Evaluate(
        this AdvanceRule rule,
        Tally tally,
        IEnumerable<DateTimeOffset> verifiedAt,
        DateTimeOffset now,
        IReadOnlyList<string> lapsed
    )
    {
        ArgumentNullException.ThrowIfNull(rule);
        ArgumentNullException.ThrowIfNull(tally);
        ArgumentNullException.ThrowIfNull(lapsed);
        var notReady = tally[Status.NotReady] - lapsed.Count;
        var moments = verifiedAt.Order().ToArray();
        var verified = Math.Min(tally[Status.Verified] + tally[Status.Done], moments.Length);
        var advance = rule.Evaluate(
            new WaveCount(tally[Status.Parked] + tally[Status.Stopped], tally.Total - notReady - tally[Status.Exempt], notReady, verified),
            n => moments[n],
            now
        );
        return lapsed.Count == 0
            ? advance
            : advance with
            {
                Why = $"{advance.Why}; not ready any more since the wave opened: {Names(lapsed)}",
            };
    }

    private static string Names(IReadOnlyList<string> names)
    {
        const int most = 3;
        return names.Count <= most ? string.Join(", ", names) : $"{string.Join(", ", names.Take(most))} and {names.Count - most} more";
    }

    /// <summary>Evaluates a wave whose machines are counted already.</summary>
    /// <param name="rule">The rule.</param>
    /// <param name="count">Its machines.</param>
    /// <param name="verifiedAt">When the <c>n</c>th machine, from 0, was verified, UTC.</param>
    /// <param name="now">The moment it is asked, UTC.</param>
    internal static Advance Evaluate(this AdvanceRule rule, WaveCount count, Func<int, DateTimeOffset> verifiedAt, DateTimeOffset now)
    {
        if (count.Failures > rule.Failures)
            return new(false, $"{count.Failures} parked or stopped without success, at most {rule.Failures} may", null);
        if (count.Going == 0)
        {
            return count.NotReady == 0
                ? new(true, "every machine of it is exempt", null)
                : new(false, $"none of its machines may go yet, {count.NotReady} are not ready", null);
        }

        var needed = Math.Max(1, (int)Math.Ceiling(rule.Verified * count.Going));
        if (count.Verified < needed)
            return new(false, $"{count.Verified} of {count.Going} verified, {needed} needed", null);
        // Machines that are verified later do not restart the soak time.
        var soaked = verifiedAt(needed - 1) + rule.Soak;
        return soaked > now
            ? new(
                false,
                $"{count.Verified} of {count.Going} verified, soaks for {Units.Show(rule.Soak.TotalSeconds, ValueKind.Duration)}",
                soaked
            )
            : new(true, $"{count.Verified} of {count.Going} verified and soaked", null);
    }
}

/// <summary>A wave's machines as the advance rule counts them.</summary>
/// <param name="Failures">Those that are parked or ended without success.</param>
/// <param name="Going">Those that may go or have gone.</param>
/// <param name="NotReady">Those that may not go yet.</param>
/// <param name="Verified">Those that are verified.</param>
internal readonly record struct WaveCount(int Failures, int Going, int NotReady, int Verified);

/// <summary>Whether the next wave may begin.</summary>
/// <param name="Holds">Whether the rule holds.</param>
/// <param name="Why">Why, in a sentence.</param>
/// <param name="Until">When it may hold by time alone, UTC; null where it takes more.</param>
public sealed record Advance(bool Holds, string Why, DateTimeOffset? Until);
