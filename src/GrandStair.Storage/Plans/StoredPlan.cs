using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Waves;

namespace GrandStair.Storage.Plans;

/// <summary>Whether a plan is running.</summary>
public enum PlanState
{
    /// <summary>It was made, and nothing of it has begun.</summary>
    Drafted,

    /// <summary>It is running.</summary>
    Started,

    /// <summary>Every machine of it has an outcome or an exemption.</summary>
    Ended,
}

/// <summary>Whether a wave is running.</summary>
public enum WaveState
{
    /// <summary>It has not begun.</summary>
    Waiting,

    /// <summary>It is running.</summary>
    Open,

    /// <summary>The advance rule held, and the next one began.</summary>
    Passed,
}

/// <summary>A machine of which it is unknown whether it is in a plan's scope or in one of its waves.</summary>
/// <param name="Machine">The number of its id.</param>
/// <param name="Name">Its name when the plan was loaded.</param>
/// <param name="Why">What is unknown.</param>
public sealed record UndecidedMachine(long Machine, string Name, string Why)
{
    /// <inheritdoc />
    public override string ToString() => $"{Name}: {Why}";
}

/// <summary>A plan as it is kept.</summary>
public sealed record StoredPlan(
    string Name,
    int Revision,
    string Body,
    string CatalogueHash,
    PlanState State,
    string? Held,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset? Started,
    DateTimeOffset? Ended,
    IReadOnlyList<UndecidedMachine> Undecided,
    IReadOnlyList<StoredWave> Waves
)
{
    /// <summary>
    /// The sites that it was made for: those of whoever made it. Its members stand there, and who commands the whole of it sees them all.
    /// </summary>
    public SiteScope Sites { get; init; } = SiteScope.All;

    /// <summary>Who wrote the revision that it has.</summary>
    public string RevisedBy { get; init; } = "";

    /// <summary>What its text says about who has to approve it; kept with each revision, and not read back with the plan.</summary>
    public ConsentRule Consent { get; init; } = ConsentRule.None;

    /// <summary>The hash of the intent with which it is made, without calendars; not read back with the plan.</summary>
    public string FirstIntent { get; init; } = "";

    /// <summary>What its waves cover that are to cover something.</summary>
    public IReadOnlyList<Coverage> Coverages { get; init; } = [];
}

/// <summary>A wave as it is kept.</summary>
/// <param name="Number">Its number, from 1.</param>
/// <param name="Name">Its name.</param>
/// <param name="State">Whether it is running.</param>
/// <param name="Opened">When it began, UTC; null before.</param>
/// <param name="Why">What the advance rule last said of it.</param>
public sealed record StoredWave(int Number, string Name, WaveState State, DateTimeOffset? Opened, string? Why);
