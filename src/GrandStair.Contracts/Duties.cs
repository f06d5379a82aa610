namespace GrandStair.Contracts;

/// <summary>A background duty of the service that answers.</summary>
/// <param name="Name">The duty, such as <c>plans</c>.</param>
/// <param name="Running">Whether it runs; false while it waits to be restarted after a failure.</param>
/// <param name="Passes">How many passes it has finished; 0 for a duty that is one long pass, and where another service has it.</param>
/// <param name="LastPass">When its last pass ended, UTC; null before.</param>
/// <param name="TookSeconds">How long that pass took; null before.</param>
/// <param name="Failures">How often it has failed since the service started.</param>
/// <param name="LastFailed">When it failed last, UTC; null for never.</param>
public sealed record DutyView(
    string Name,
    bool Running,
    long Passes,
    DateTimeOffset? LastPass,
    double? TookSeconds,
    int Failures,
    DateTimeOffset? LastFailed
);
