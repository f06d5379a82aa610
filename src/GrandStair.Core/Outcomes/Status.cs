using System.Collections.Immutable;
using GrandStair.Core.Gates;
using GrandStair.Core.Runs;

namespace GrandStair.Core.Outcomes;

/// <summary>A machine's status within a plan.</summary>
public enum Status
{
    /// <summary>Its gate is not open.</summary>
    NotReady,

    /// <summary>Its gate is open, and its wave has not begun.</summary>
    Ready,

    /// <summary>It has a slot.</summary>
    Scheduled,

    /// <summary>Its slot has opened, and it is on the way.</summary>
    Running,

    /// <summary>It waits for a person's decision.</summary>
    Parked,

    /// <summary>The target runs and the verification holds.</summary>
    Verified,

    /// <summary>Verified, its follow-ups closed, its rollback given up.</summary>
    Done,

    /// <summary>It will not go: replaced, retired, or stays until a date.</summary>
    Exempt,

    /// <summary>Rolled back, failed or cancelled; the next step has to be decided.</summary>
    Stopped,
}

/// <summary>How a machine that will not go is exempt.</summary>
public enum Exemption
{
    /// <summary>Another machine takes its place.</summary>
    Replaced,

    /// <summary>It is taken out of use.</summary>
    Retired,

    /// <summary>It stays on its release until a date.</summary>
    Stays,
}

/// <summary>Says where machines stand.</summary>
public static class Statuses
{
    /// <summary>A machine's status.</summary>
    /// <param name="exempt">Whether it is exempt.</param>
    /// <param name="gate">Its gate; used before its run begins.</param>
    /// <param name="scheduled">Whether it has a slot in a wave that has begun.</param>
    /// <param name="run">Its run; null before.</param>
    public static Status Of(bool exempt, GateState gate, bool scheduled, RunState? run)
    {
        if (run is not null)
            return Of(run, exempt);
        if (exempt)
            return Status.Exempt;
        if (gate != GateState.Open)
            return Status.NotReady;
        return scheduled ? Status.Scheduled : Status.Ready;
    }

    private static Status Of(RunState run, bool exempt)
    {
        if (run.Outcome == Outcome.Done)
            return Status.Done;
        if (run.Closed is not null)
            return exempt ? Status.Exempt : Status.Stopped;
        if (run.Parked is not null)
            return Status.Parked;
        if (run.Verified is not null)
            return Status.Verified;
        return run.NeedsRoom ? Status.Running : Status.Scheduled;
    }
}

/// <summary>Machines counted by status. Every machine is counted once.</summary>
public sealed class Tally
{
    private readonly ImmutableDictionary<Status, int> _counts;

    /// <summary>Counts statuses.</summary>
    public Tally(IEnumerable<Status> statuses) => _counts = statuses.CountBy(s => s).ToImmutableDictionary();

    /// <summary>How many stand so.</summary>
    public int this[Status status] => _counts.GetValueOrDefault(status);

    /// <summary>How many there are.</summary>
    public int Total => _counts.Values.Sum();
}
