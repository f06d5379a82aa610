using System.Diagnostics;

namespace GrandStair.Engine.Clocks;

/// <summary>
/// How often work that comes back is done, in real time: no more often than it is worth, and in no more than a share of one processor's
/// time.
/// </summary>
/// <param name="Every">How much time lies between two at least.</param>
internal readonly record struct WorkShare(TimeSpan Every)
{
    private const double Share = 0.04;

    /// <summary>From when on it is done again, where it was begun at a timestamp and has just ended; as a timestamp too.</summary>
    public long NextAfter(long begun)
    {
        var pause = Stopwatch.GetElapsedTime(begun) / Share;
        return Stopwatch.GetTimestamp() + (long)((pause > Every ? pause : Every).TotalSeconds * Stopwatch.Frequency);
    }
}
