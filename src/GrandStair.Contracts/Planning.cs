namespace GrandStair.Contracts;

/// <summary>What a plan is beside its waves.</summary>
/// <param name="Revision">Its revision, from 1.</param>
/// <param name="RevisedBy">Who wrote that.</param>
/// <param name="ChangeRecord">Under which number or address the change is kept elsewhere; null where there is none.</param>
/// <param name="Approvals">What it needs a yes for.</param>
/// <param name="Coverages">What its waves cover that are to cover something.</param>
/// <param name="Crews">Its crews.</param>
/// <param name="Uplinks">The uplinks over which its staging comes.</param>
public sealed record PlanningView(
    int Revision,
    string RevisedBy,
    string? ChangeRecord,
    IReadOnlyList<ApprovalView> Approvals,
    IReadOnlyList<CoverageView> Coverages,
    IReadOnlyList<CrewView> Crews,
    IReadOnlyList<UplinkView> Uplinks
);

/// <summary>A yes that a plan or a wave of it needs.</summary>
/// <param name="Subject"><c>plan</c>, or the wave's name behind <c>wave </c>.</param>
/// <param name="Intent">The hash of what is to be approved, as it is now.</param>
/// <param name="Asked">The accounts who may give it; empty for every approver.</param>
/// <param name="Contributors">Who changed what is to be approved since it was last approved: none of them may approve it.</param>
/// <param name="Why">Why it is needed, as a sentence.</param>
/// <param name="By">Who approved the plan as it is now; null while nobody has.</param>
/// <param name="Before">The approval of the plan as it was before; null where there was none.</param>
/// <param name="LoadedSince">The plan's calendars that were loaded again after the last yes.</param>
public sealed record ApprovalView(
    string Subject,
    string Intent,
    IReadOnlyList<string> Asked,
    IReadOnlyList<string> Contributors,
    string Why,
    string? By,
    DateTimeOffset? At,
    string? Reason,
    string? Before,
    IReadOnlyList<LoadedSince> LoadedSince
);

/// <summary>A calendar that was loaded again.</summary>
public sealed record LoadedSince(string Calendar, DateTimeOffset At, string By);

/// <summary>A yes.</summary>
/// <param name="Intent">The hash of the intent that was looked at; the approval is refused where it has changed since.</param>
/// <param name="Wave">The wave's name; null for the plan as a whole.</param>
/// <param name="Reason">What is said with it.</param>
public sealed record ApprovalCommand(string Intent, string Reason, string? Wave = null);

/// <summary>What a wave covers.</summary>
/// <param name="Values">How many values of its keys occur in the scope.</param>
/// <param name="Covered">How many of them it has.</param>
/// <param name="Unknown">How many machines have no known value under each key.</param>
public sealed record CoverageView(
    string Wave,
    int Values,
    int Covered,
    IReadOnlyList<UncoveredView> Uncovered,
    IReadOnlyDictionary<string, int> Unknown
);

/// <summary>A value that a wave does not cover.</summary>
public sealed record UncoveredView(string Key, string Value, int Machines, string Why);

/// <summary>A crew of a plan.</summary>
public sealed record CrewView(string Name, string Kind, int Hands, int? PerDay, IReadOnlyList<string> Sites, string When);

/// <summary>The uplinks of some sites.</summary>
/// <param name="Rate">What each preserves, bits per second.</param>
/// <param name="Share">The share that staging may use, 0 to 1.</param>
public sealed record UplinkView(IReadOnlyList<string> Sites, double Rate, double Share, string When);

/// <summary>How a plan would be scheduled if it went on now and nothing failed.</summary>
/// <param name="End">When the last slot ends; null without any.</param>
/// <param name="MeetsDeadline">Whether that is in time; true where there is no deadline.</param>
/// <param name="Changes">The smallest changes that would make it so; empty where it is, or where none was found.</param>
/// <param name="Left">The machines that cannot be scheduled.</param>
/// <param name="Ready">How many machines are ready or have begun, and so count for the end.</param>
/// <param name="NotReady">How many others are in the plan: without a fix they have no slot and miss any deadline.</param>
public sealed record ScheduleView(
    string Plan,
    int Revision,
    IReadOnlyList<WaveScheduleView> Waves,
    DateTimeOffset? End,
    string? Deadline,
    bool MeetsDeadline,
    IReadOnlyList<PlanChangeView> Changes,
    IReadOnlyList<LeftView> Left,
    int Ready,
    int NotReady
);

/// <summary>A wave as it would be scheduled.</summary>
/// <param name="Placed">How many machines get a slot.</param>
/// <param name="From">When it begins.</param>
/// <param name="End">When its last slot ends; null without any.</param>
/// <param name="Bound">Before when no schedule of it can end.</param>
/// <param name="BoundWhy">What it is that takes so long.</param>
/// <param name="Share">How many times as long as the bound it takes, from 1; null without any slot.</param>
public sealed record WaveScheduleView(
    string Wave,
    int Placed,
    int Left,
    DateTimeOffset From,
    DateTimeOffset? End,
    DateTimeOffset? Bound,
    string? BoundWhy,
    double? Share
);

/// <summary>A change of a plan that would make it end earlier.</summary>
public sealed record PlanChangeView(string What, DateTimeOffset End, bool Meets);

/// <summary>A machine that cannot be scheduled.</summary>
/// <param name="Why">What keeps it out.</param>
/// <param name="Change">What would have to change.</param>
public sealed record LeftView(string Machine, string Site, string Wave, string Why, string Change);

/// <summary>What loading a text would change.</summary>
/// <param name="Revision">The revision that it would become; 1 for a new plan.</param>
/// <param name="Lines">The lines that would go, each after <c>- </c>, and those that would come, each after <c>+ </c>.</param>
/// <param name="Waves">The machines that would be in another wave, come in, or leave.</param>
/// <param name="Moved">The slots that would move.</param>
/// <param name="Missing">Machines that a wave lists and that are not in the scope.</param>
/// <param name="NoEffect">What the text says and has no effect, in sentences: what comes too late, and names that nothing has.</param>
public sealed record ComparisonView(
    string Plan,
    int Revision,
    int Machines,
    IReadOnlyList<string> Lines,
    IReadOnlyList<WaveChangeRow> Waves,
    IReadOnlyList<MovedRow> Moved,
    ScheduleView Schedule,
    IReadOnlyList<CoverageView> Coverages,
    IReadOnlyList<string> Undecided,
    IReadOnlyList<string> Missing,
    IReadOnlyList<string> NoEffect
);

/// <summary>A machine that would be in another wave.</summary>
public sealed record WaveChangeRow(string Machine, string Site, string? From, string? To);

/// <summary>A slot that would move.</summary>
public sealed record MovedRow(string Machine, string Site, DateTimeOffset Before, DateTimeOffset? After);

/// <summary>A plan's text at some time.</summary>
public sealed record RevisionRow(int Number, DateTimeOffset At, string By, string Reason);

/// <summary>A machine that is to go to another wave.</summary>
public sealed record MoveCommand(string Wave, string Reason);

/// <summary>The time that a machine is to have; null discards the manually chosen one.</summary>
public sealed record RescheduleCommand(string Reason, DateTimeOffset? Start = null);

/// <summary>The times that a machine can have.</summary>
/// <param name="Slot">The time that it has, or that is scheduled for it; null without any.</param>
/// <param name="Confirmed">Whether that is its confirmed slot; otherwise it is only planned.</param>
/// <param name="Chosen">The manually chosen time; null where there is none.</param>
/// <param name="ChosenBy">Who chose it, and why.</param>
/// <param name="Times">The times that are free.</param>
public sealed record TimesView(
    string Machine,
    string Site,
    SpanView? Slot,
    bool Confirmed,
    DateTimeOffset? Chosen,
    string? ChosenBy,
    IReadOnlyList<SpanView> Times
);

/// <summary>What would come of it if a machine were given a time.</summary>
/// <param name="Slot">Its slot; null where something is in the way.</param>
/// <param name="InTheWay">All that is in the way; empty where nothing is.</param>
/// <param name="Moved">The machines whose time is scheduled otherwise then.</param>
/// <param name="EndBefore">When the last slot of those still to be given would end without it.</param>
/// <param name="End">When it would end with it.</param>
public sealed record TrialView(
    string Machine,
    SpanView? Slot,
    DateTimeOffset? StageFrom,
    string? Crew,
    IReadOnlyList<string> InTheWay,
    IReadOnlyList<MovedRow> Moved,
    DateTimeOffset? EndBefore,
    DateTimeOffset? End,
    bool MeetsDeadline
);

/// <summary>Whose slots a share link shows.</summary>
/// <param name="Kind"><c>plan</c>, <c>wave</c>, <c>site</c>, <c>crew</c> or <c>owner</c>.</param>
/// <param name="Of">Which one, by its name; not needed for the whole plan.</param>
public sealed record ShareLinkCommand(string Kind, string? Of = null);

/// <summary>A link that shows some of a plan's slots without an account.</summary>
/// <param name="State"><c>active</c> or <c>ended</c>.</param>
public sealed record ShareLinkRow(
    string Id,
    string Kind,
    string Of,
    string State,
    DateTimeOffset Made,
    string MadeBy,
    DateTimeOffset? LastUsed
);

/// <summary>A new share link; what is secret of it is shown this once.</summary>
/// <param name="Calendar">Where the calendar is fetched, from the service's own address on.</param>
/// <param name="Page">Where people look at it, from the service's own address on.</param>
public sealed record NewShareLink(string Calendar, string Page, ShareLinkRow Link);

/// <summary>What a share link shows.</summary>
/// <param name="NoticeHours">How long before a time it can be changed at the latest; null where it cannot be chosen here.</param>
public sealed record SharedView(
    string Plan,
    string Target,
    string Kind,
    string Of,
    DateTimeOffset Now,
    double? NoticeHours,
    IReadOnlyList<SharedSlot> Slots
);

/// <summary>A machine with its time, as a share link shows it.</summary>
/// <param name="Confirmed">Whether that is its confirmed slot; otherwise it is only planned.</param>
/// <param name="Chosen">Whether it was chosen manually.</param>
/// <param name="ChooseFrom">From when on another time can be chosen; null where none can.</param>
/// <param name="ChooseTo">Up to when.</param>
public sealed record SharedSlot(
    string Machine,
    string Site,
    string Wave,
    string Status,
    DateTimeOffset? Start,
    DateTimeOffset? End,
    bool Confirmed,
    bool Chosen,
    DateTimeOffset? ChooseFrom,
    DateTimeOffset? ChooseTo
)
{
    /// <summary>Whether the machine's owner has to be there while it is upgraded.</summary>
    public bool OwnerPresent { get; init; }

    /// <summary>Whether a problem with it can be reported here.</summary>
    public required bool MayReport { get; init; }

    /// <summary>What its owner has reported, in the order in which it was.</summary>
    public required IReadOnlyList<SharedReport> Reports { get; init; }
}

/// <summary>What an owner has reported about a machine.</summary>
/// <param name="Words">What is wrong, in their own words.</param>
/// <param name="At">When.</param>
/// <param name="Closed">When it was closed; null while it is open.</param>
/// <param name="Because">What was done; null while it is open.</param>
public sealed record SharedReport(string Words, DateTimeOffset At, DateTimeOffset? Closed, string? Because);

/// <summary>The time that an owner wants.</summary>
public sealed record ChooseCommand(DateTimeOffset Start);

/// <summary>A plan by site over time.</summary>
public sealed record BoardView(
    DateTimeOffset From,
    DateTimeOffset To,
    DateTimeOffset Now,
    IReadOnlyList<BoardWave> Waves,
    IReadOnlyList<BoardSite> Sites
);

/// <summary>A wave over time.</summary>
/// <param name="State"><c>waiting</c>, <c>open</c> or <c>passed</c>.</param>
/// <param name="From">When the first slot of it that the caller sees begins; null without any.</param>
/// <param name="To">When the last one ends.</param>
/// <param name="NotBefore">Before when the plan does not let it begin; null where it does not say.</param>
public sealed record BoardWave(int Number, string Name, string State, DateTimeOffset? From, DateTimeOffset? To, DateTimeOffset? NotBefore);

/// <summary>A site of a plan over time.</summary>
/// <param name="Open">When it may be touched: its windows without its freezes.</param>
/// <param name="Closed">Its freezes.</param>
/// <param name="Slots">Its machines' slots: those that stand, and those of waves to come as they are scheduled.</param>
/// <param name="Unplaced">How many of its machines have no slot.</param>
public sealed record BoardSite(
    string Site,
    IReadOnlyList<SpanView> Open,
    IReadOnlyList<ClosedView> Closed,
    IReadOnlyList<BoardSlot> Slots,
    int Unplaced
);

/// <summary>A stretch of time.</summary>
public sealed record SpanView(DateTimeOffset From, DateTimeOffset To);

/// <summary>A stretch in which a site may not be touched.</summary>
public sealed record ClosedView(DateTimeOffset From, DateTimeOffset To, string Why);

/// <summary>A slot on the board.</summary>
/// <param name="Confirmed">Whether that is its confirmed slot; otherwise it is only planned.</param>
/// <param name="Chosen">Whether its time was chosen manually.</param>
public sealed record BoardSlot(
    string Machine,
    int Wave,
    string Status,
    DateTimeOffset Start,
    DateTimeOffset End,
    DateTimeOffset? StageFrom,
    string? Crew,
    bool Confirmed,
    bool Chosen
);

/// <summary>A calendar that plans can refer to.</summary>
/// <param name="Events">How many events it has, each that comes back counted once.</param>
/// <param name="Plans">The plans that refer to it.</param>
public sealed record CalendarRow(string Name, int Events, string Hash, DateTimeOffset Loaded, string LoadedBy, IReadOnlyList<string> Plans);
