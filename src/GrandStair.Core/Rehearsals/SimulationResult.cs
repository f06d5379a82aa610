using GrandStair.Core.Scheduling;

namespace GrandStair.Core.Rehearsals;

/// <summary>The result of one simulation.</summary>
internal sealed class SimulationResult(Prepared prepared)
{
    private static readonly int Causes = Enum.GetValues<Cause>().Length;

    /// <summary>When each machine was verified, UTC; null where it was not.</summary>
    public DateTimeOffset?[] Verified { get; } = new DateTimeOffset?[prepared.Machines.Length];

    /// <summary>When each wave began, UTC; null where it did not.</summary>
    public DateTimeOffset?[] Opened { get; } = new DateTimeOffset?[prepared.Waves.Length];

    /// <summary>How many hours the machines of each site waited, by cause.</summary>
    public double[,] Waited { get; } = new double[prepared.SiteNames.Length, Causes];

    /// <summary>How many slots were missed.</summary>
    public int MissedSlots { get; set; }

    public void Wait(int m, Cause cause, TimeSpan time)
    {
        if (time > TimeSpan.Zero)
            Waited[prepared.Sites[m], (int)cause] += time.TotalHours;
    }
}
