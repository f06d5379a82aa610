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

    /// <summary>Begins with time that moves on when the engine is idle, for simulated machines alone.</summary>
    public DomainClock(SteppedTime stepped, TimeProvider real)
        : this(new ClockAnchor(real.GetUtcNow(), stepped.Now, 1), real) => Stepped = stepped;

    /// <summary>What moves time on when the engine is idle; null where real time does.</summary>
    public SteppedTime? Stepped { get; }

    /// <summary>How many seconds of domain time pass in one real second; at most, where time moves on when the engine is idle.</summary>
    public double Pace => Stepped?.Pace ?? _anchor.Pace;

    /// <summary>The pace by which a page may let its clock go on: 1 where time moves in steps as long as they may be.</summary>
    public double ShownPace => double.IsInfinity(Pace) ? 1 : Pace;

    /// <summary>The anchor as of now, to be kept, so that a restart goes on from here.</summary>
    public ClockAnchor Here => new(_real.GetUtcNow(), GetUtcNow(), ShownPace);

    /// <inheritdoc />
    public override DateTimeOffset GetUtcNow()
    {
        if (Stepped is not null)
            return Stepped.Now;
        var anchor = _anchor;
        return anchor.Domain + ((_real.GetUtcNow() - anchor.Real) * anchor.Pace);
    }

    /// <summary>Goes on from here at another pace.</summary>
    public void SetPace(double pace)
    {
        if (Stepped is not null)
            Stepped.Pace = pace;
        else
            _anchor = Here with { Pace = pace };
    }

    /// <summary>How long a stretch of domain time takes in real time; for ever where time moves in steps.</summary>
    public TimeSpan ToReal(TimeSpan domain)
    {
        if (Stepped is null)
            return domain / Pace;
        return domain > TimeSpan.Zero ? TimeSpan.MaxValue : TimeSpan.Zero;
    }

    /// <summary>How much domain time passes in a stretch of real time; none where time moves in steps.</summary>
    public TimeSpan ToDomain(TimeSpan real) => Stepped is null ? real * Pace : TimeSpan.Zero;
}
