namespace GrandStair.Engine.Duties;

/// <summary>Something that a service does again and again in the background.</summary>
/// <param name="Name">Its name, such as <c>plans</c>.</param>
/// <param name="Pause">The pause after each pass, in real time.</param>
/// <param name="Pass">One pass. Whatever it throws is logged and counted, and the duty goes on after a pause.</param>
public sealed record Duty(string Name, TimeSpan Pause, Func<CancellationToken, Task> Pass)
{
    /// <summary>Whether of several services on one database only one has it at a time: the one that holds its lease.</summary>
    public bool IsSingle { get; init; }

    /// <summary>
    /// Is called when the passes end: the duty is stopped, has failed, or has lost its lease. Null for nothing to do then.
    /// </summary>
    public Action? Ended { get; init; }

    /// <summary>Waits, after the pause, until there is something to do; null where a pass follows every pause.</summary>
    public Func<CancellationToken, Task>? Wait { get; init; }

    /// <summary>
    /// How many times as long as a pass took the pause is at least, so that long passes leave the processor to others; 0 for no such rule.
    /// </summary>
    public int Rests { get; init; }
}

/// <summary>How a background duty of this process is doing.</summary>
/// <param name="Name">The duty's name, such as <c>worker</c>.</param>
/// <param name="IsRunning">Whether it runs; false while it waits to be restarted after a failure.</param>
/// <param name="Failures">How often it failed since the process started.</param>
/// <param name="LastFailed">When it failed last, UTC; null for never.</param>
public sealed record DutyStatus(string Name, bool IsRunning, int Failures, DateTimeOffset? LastFailed)
{
    /// <summary>How many passes it has finished; 0 for a duty that is one long pass, and where another service has it.</summary>
    public long Passes { get; init; }

    /// <summary>When its last pass ended, UTC; null before.</summary>
    public DateTimeOffset? LastPass { get; init; }

    /// <summary>How long its last pass took.</summary>
    public TimeSpan Took { get; init; }
}
