namespace GrandStair.Engine.Runs;

/// <summary>
/// How long until a machine is asked again about an order, in domain time: often while something is about to happen, seldom otherwise.
/// </summary>
public static class LookInterval
{
    /// <summary>The shortest interval.</summary>
    public static readonly TimeSpan Shortest = TimeSpan.FromSeconds(2);

    /// <summary>The longest interval for a machine that answers: an end is noticed within it.</summary>
    public static readonly TimeSpan LongestRunning = TimeSpan.FromMinutes(1);

    /// <summary>The longest interval for a machine that does not answer.</summary>
    public static readonly TimeSpan LongestSilent = TimeSpan.FromMinutes(2);

    /// <summary>
    /// For a step that is running: a twentieth of the time that has passed or, before it usually ends, a tenth of the time to go if that is
    /// longer.
    /// </summary>
    /// <param name="elapsed">How long it has been running.</param>
    /// <param name="typical">How long it usually takes.</param>
    public static TimeSpan Running(TimeSpan elapsed, TimeSpan typical) =>
        Clamp(Max(elapsed / 20, (typical - elapsed) / 10), LongestRunning);

    /// <summary>
    /// For a machine without contact: half of the time since it was last heard of, and a fifth while its return is expected.
    /// </summary>
    /// <param name="silence">How long nothing has been heard.</param>
    /// <param name="expected">How long it usually does not answer here, as for a restart; up to twice that its return is expected.</param>
    public static TimeSpan Silent(TimeSpan silence, TimeSpan expected) => Clamp(silence / (silence <= expected * 2 ? 5 : 2), LongestSilent);

    private static TimeSpan Clamp(TimeSpan interval, TimeSpan longest) =>
        interval < Shortest ? Shortest
        : interval > longest ? longest
        : interval;

    private static TimeSpan Max(TimeSpan a, TimeSpan b) => a > b ? a : b;
}
