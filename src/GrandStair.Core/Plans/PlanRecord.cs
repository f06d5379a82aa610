using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Plans;

/// <summary>Whether a plan is running.</summary>
public enum PlanStatus
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

/// <summary>A plan as it is kept: its text, its status, and the progress of its waves.</summary>
public sealed record PlanRecord(
    string Name,
    int Revision,
    string Body,
    string CatalogueHash,
    PlanStatus State,
    string? Held,
    DateTimeOffset Created,
    string CreatedBy,
    DateTimeOffset? Started,
    DateTimeOffset? Ended,
    IReadOnlyList<UndecidedMachine> Undecided,
    IReadOnlyList<WaveProgress> Waves
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

    /// <summary>In another status, or on hold. A plan that has ended stays so.</summary>
    /// <param name="status">The status.</param>
    /// <param name="held">Why it is on hold; null where it is not.</param>
    /// <param name="now">The moment, UTC.</param>
    public PlanRecord To(PlanStatus status, string? held, DateTimeOffset now) =>
        State == PlanStatus.Ended
            ? this
            : this with
            {
                State = status,
                Held = held,
                Started = status == PlanStatus.Started ? Started ?? now : Started,
                Ended = status == PlanStatus.Ended ? now : null,
            };
}

/// <summary>How far a wave is.</summary>
/// <param name="Number">Its number, from 1.</param>
/// <param name="Name">Its name.</param>
/// <param name="State">Whether it is running.</param>
/// <param name="Opened">When it began, UTC; null before.</param>
/// <param name="Why">What the advance rule last said of it.</param>
public sealed record WaveProgress(int Number, string Name, WaveState State, DateTimeOffset? Opened, string? Why)
{
    /// <summary>Begun, where nothing is left to wait for; else with what it waits for.</summary>
    /// <param name="spec">The wave as the plan says it.</param>
    /// <param name="isApproved">Whether the approvals that it needs are given.</param>
    /// <param name="now">The moment, UTC.</param>
    public WaveProgress Begin(WaveSpec spec, bool isApproved, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(spec);
        if (spec.NotBefore > now)
            return this with { Why = $"it does not begin before {spec.NotBefore:yyyy-MM-dd HH:mm} UTC" };
        return isApproved ? this with { State = WaveState.Open, Opened = now } : this with { Why = "it waits for approval" };
    }
}
