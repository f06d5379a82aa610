using System.Collections.Immutable;
using GrandStair.Core.Gates;
using GrandStair.Core.Runs;

namespace GrandStair.Core.Outcomes;

/// <summary>Where a machine stands within a plan.</summary>
public enum Standing
{
    /// <summary>Its gate is not open.</summary>
    NotReady,

    /// <summary>Its gate is open, and its wave has not begun.</summary>
    Ready,

    /// <summary>It has a slot.</summary>
    Scheduled,

    /// <summary>Its slot has opened, and it is on the way.</summary>
    UnderWay,

    /// <summary>It waits for a person's decision.</summary>
    Parked,

    /// <summary>The target runs and the proof holds.</summary>
    Proved,

    /// <summary>Proved, its loose ends closed, its rollback given up.</summary>
    Done,

    /// <summary>It will not go: replaced, retired, or stays until a date.</summary>
    Excused,

    /// <summary>Reverted, failed or called off: somebody must decide what next.</summary>
    Ended,
}

/// <summary>How a machine that will not go is excused.</summary>
public enum Excuse
{
    /// <summary>Another machine takes its place.</summary>
    Replaced,

    /// <summary>It is taken out of use.</summary>
    Retired,

    /// <summary>It stays on its release until a date.</summary>
    Stays,
}

/// <summary>Says where machines stand.</summary>
public static class Standings
{
    /// <summary>Where a machine stands.</summary>
    /// <param name="excused">Whether it is excused.</param>
    /// <param name="gate">Its gate; used before its run begins.</param>
    /// <param name="scheduled">Whether it has a slot in a wave that has begun.</param>
    /// <param name="run">Its run; null before.</param>
    public static Standing Of(bool excused, GateState gate, bool scheduled, RunState? run)
    {
        if (run is not null) return Of(run, excused);
        if (excused) return Standing.Excused;
        if (gate != GateState.Open) return Standing.NotReady;
        return scheduled ? Standing.Scheduled : Standing.Ready;
    }

    private static Standing Of(RunState run, bool excused)
    {
        if (run.Outcome == Outcome.Done) return Standing.Done;
        if (run.Closed is not null) return excused ? Standing.Excused : Standing.Ended;
        if (run.Parked is not null) return Standing.Parked;
        if (run.Proved is not null) return Standing.Proved;
        return run.NeedsRoom ? Standing.UnderWay : Standing.Scheduled;
    }
}

/// <summary>Machines counted by standing. Every machine is counted once.</summary>
public sealed class Tally
{
    private readonly ImmutableDictionary<Standing, int> _counts;

    /// <summary>Counts standings.</summary>
    public Tally(IEnumerable<Standing> standings) => _counts = standings.CountBy(s => s).ToImmutableDictionary();

    /// <summary>How many stand so.</summary>
    public int this[Standing standing] => _counts.GetValueOrDefault(standing);

    /// <summary>How many there are.</summary>
    public int Total => _counts.Values.Sum();
}
