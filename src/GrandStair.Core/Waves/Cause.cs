namespace GrandStair.Core.Waves;

/// <summary>What keeps a machine waiting.</summary>
public enum Cause
{
    /// <summary>The wave before has not passed.</summary>
    Waves,

    /// <summary>It is not ready, and has to be mended.</summary>
    Mending,

    /// <summary>Its windows are shut.</summary>
    Windows,

    /// <summary>The limit at its site.</summary>
    SiteLimit,

    /// <summary>The limit of the whole plan.</summary>
    PlanLimit,

    /// <summary>The line of its site.</summary>
    Line,

    /// <summary>The hands of a crew.</summary>
    Crew,

    /// <summary>Others of its unit.</summary>
    Unit,

    /// <summary>Somebody has to decide about it.</summary>
    People,
}
