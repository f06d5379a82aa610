using GrandStair.Core.Outcomes;

namespace GrandStair.Core.Waves;

/// <summary>What must hold of a wave before the next one begins.</summary>
/// <param name="Proved">The share of the machines that may go which must be proved, 0 to 1.</param>
/// <param name="Failures">How many may be parked or have ended otherwise than done.</param>
/// <param name="Soak">For how long as many as that share must have been proved.</param>
public sealed record AdvanceRule(double Proved, int Failures, TimeSpan Soak)
{
    /// <summary>Judges a wave.</summary>
    /// <param name="tally">Its machines by standing.</param>
    /// <param name="provedAt">When its machines were proved, UTC, in any order.</param>
    /// <param name="now">The moment it is asked, UTC.</param>
    public Advance Judge(Tally tally, IEnumerable<DateTimeOffset> provedAt, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(tally);
        var moments = provedAt.Order().ToArray();
        var proved = Math.Min(tally[Standing.Proved] + tally[Standing.Done], moments.Length);
        return Judge(new(tally[Standing.Parked] + tally[Standing.Ended], tally.Total - tally[Standing.NotReady] - tally[Standing.Excused], tally[Standing.NotReady], proved), n => moments[n], now);
    }

    /// <summary>Judges a wave that is counted already.</summary>
    /// <param name="count">Its machines.</param>
    /// <param name="provedAt">When the machine was proved that was the <c>n</c>th, from 0, to be so, UTC.</param>
    /// <param name="now">The moment it is asked, UTC.</param>
    internal Advance Judge(WaveCount count, Func<int, DateTimeOffset> provedAt, DateTimeOffset now)
    {
        if (count.Failures > Failures) return new(false, $"{count.Failures} parked or ended without success, at most {Failures} may", null);
        if (count.Going == 0)
        {
            return count.NotReady == 0
                ? new(true, "every machine of it is excused", null)
                : new(false, $"none of its machines may go yet, {count.NotReady} are not ready", null);
        }

        var needed = Math.Max(1, (int)Math.Ceiling(Proved * count.Going));
        if (count.Proved < needed) return new(false, $"{count.Proved} of {count.Going} proved, {needed} needed", null);
        // Stragglers that come later do not begin the soak anew.
        var soaked = provedAt(needed - 1) + Soak;
        return soaked > now
            ? new(false, $"{count.Proved} of {count.Going} proved, soaks for {Readings.Units.Show(Soak.TotalSeconds, Readings.ValueKind.Duration)}", soaked)
            : new(true, $"{count.Proved} of {count.Going} proved and soaked", null);
    }
}

/// <summary>A wave's machines as the advance rule counts them.</summary>
/// <param name="Failures">Those that are parked or have ended otherwise than done.</param>
/// <param name="Going">Those that may go or have gone.</param>
/// <param name="NotReady">Those that may not go yet.</param>
/// <param name="Proved">Those that are proved.</param>
internal readonly record struct WaveCount(int Failures, int Going, int NotReady, int Proved);

/// <summary>Whether the next wave may begin.</summary>
/// <param name="Holds">Whether the rule holds.</param>
/// <param name="Why">Why, in a sentence.</param>
/// <param name="Until">When it may hold by time alone, UTC; null where it takes more.</param>
public sealed record Advance(bool Holds, string Why, DateTimeOffset? Until);
