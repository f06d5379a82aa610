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
        var failures = tally[Standing.Parked] + tally[Standing.Ended];
        var going = tally.Total - tally[Standing.NotReady] - tally[Standing.Excused];
        var proved = tally[Standing.Proved] + tally[Standing.Done];
        if (failures > Failures) return new(false, $"{failures} parked or ended without success, at most {Failures} may", null);
        if (going == 0)
        {
            return tally[Standing.NotReady] == 0
                ? new(true, "every machine of it is excused", null)
                : new(false, $"none of its machines may go yet, {tally[Standing.NotReady]} are not ready", null);
        }

        var needed = Math.Max(1, (int)Math.Ceiling(Proved * going));
        var moments = provedAt.Order().ToArray();
        if (proved < needed || moments.Length < needed) return new(false, $"{proved} of {going} proved, {needed} needed", null);
        // Stragglers that come later do not begin the soak anew.
        var soaked = moments[needed - 1] + Soak;
        return soaked > now
            ? new(false, $"{proved} of {going} proved, soaks for {Readings.Units.Show(Soak.TotalSeconds, Readings.ValueKind.Duration)}", soaked)
            : new(true, $"{proved} of {going} proved and soaked", null);
    }
}

/// <summary>Whether the next wave may begin.</summary>
/// <param name="Holds">Whether the rule holds.</param>
/// <param name="Why">Why, in a sentence.</param>
/// <param name="Until">When it may hold by time alone, UTC; null where it takes more.</param>
public sealed record Advance(bool Holds, string Why, DateTimeOffset? Until);
