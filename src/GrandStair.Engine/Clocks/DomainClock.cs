using GrandStair.Storage.Databases;

namespace GrandStair.Engine.Clocks;

/// <summary>
/// Domain time: real time at pace 1; for a fleet of simulated machines alone it may go faster. It stands still while no service runs.
/// </summary>
public sealed class DomainClock : TimeProvider
{
    private readonly TimeProvider _real;
    private volatile ClockAnchor _anchor;

    /// <summary>Begins from an anchor.</summary>
    public DomainClock(ClockAnchor anchor, TimeProvider real)
    {
        _anchor = anchor;
        _real = real;
    }

    /// <summary>How many seconds of domain time pass in one real second.</summary>
    public double Pace => _anchor.Pace;

    /// <summary>The anchor as of now, to be kept, so that a restart goes on from here.</summary>
    public ClockAnchor Here => new(_real.GetUtcNow(), GetUtcNow(), Pace);

    /// <inheritdoc />
    public override DateTimeOffset GetUtcNow()
    {
        var anchor = _anchor;
        return anchor.Domain + ((_real.GetUtcNow() - anchor.Real) * anchor.Pace);
    }

    /// <summary>Goes on from here at another pace.</summary>
    public void SetPace(double pace) => _anchor = Here with { Pace = pace };

    /// <summary>How long a stretch of domain time takes in real time.</summary>
    public TimeSpan ToReal(TimeSpan domain) => domain / Pace;

    /// <summary>How much domain time passes in a stretch of real time.</summary>
    public TimeSpan ToDomain(TimeSpan real) => real * Pace;
}
