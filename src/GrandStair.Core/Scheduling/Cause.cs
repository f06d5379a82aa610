namespace GrandStair.Core.Scheduling;

/// <summary>Why a machine waits.</summary>
public enum Cause
{
    /// <summary>The wave before has not passed.</summary>
    Waves,

    /// <summary>It is not ready, and has to be fixed.</summary>
    Fixing,

    /// <summary>Its windows are closed.</summary>
    Windows,

    /// <summary>The limit at its site.</summary>
    SiteLimit,

    /// <summary>The limit of the whole plan.</summary>
    PlanLimit,

    /// <summary>The uplink of its site.</summary>
    Uplink,

    /// <summary>The capacity of a crew.</summary>
    Crew,

    /// <summary>Others of its cluster.</summary>
    Cluster,

    /// <summary>It waits for a decision.</summary>
    People,
}
