using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;

namespace GrandStair.Core.Waves;

/// <summary>What a planner wants: which machines go to which release, how, when, and how many at once.</summary>
public sealed record Plan
{
    /// <summary>The plan's name: lower-case words with hyphens.</summary>
    public required string Name { get; init; }

    /// <summary>The product to upgrade.</summary>
    public required string Product { get; init; }

    /// <summary>The release to go to.</summary>
    public required string Release { get; init; }

    /// <summary>The first build of that release that will do; null for any.</summary>
    public string? LeastBuild { get; init; }

    /// <summary>The machines that go to another release or build of that product.</summary>
    public ImmutableArray<OtherTarget> But { get; init; } = [];

    /// <summary>The machines that it is about.</summary>
    public required Condition Scope { get; init; }

    /// <summary>How much has to be carried across.</summary>
    public Preserves Preserves { get; init; } = Preserves.Full;

    /// <summary>The methods in order of preference.</summary>
    public required ImmutableArray<string> Methods { get; init; }

    /// <summary>The waves in order; the first is the pilot.</summary>
    public required ImmutableArray<WaveSpec> Waves { get; init; }

    /// <summary>When machines may be upgraded.</summary>
    public required ImmutableArray<WindowSpec> Windows { get; init; }

    /// <summary>When who may not be touched.</summary>
    public ImmutableArray<FreezeSpec> Freezes { get; init; } = [];

    /// <summary>How many may run at once.</summary>
    public required Limits Limits { get; init; }

    /// <summary>The uplinks over which staging has to come; a site without one is not held up by its uplink.</summary>
    public ImmutableArray<UplinkSpec> Uplinks { get; init; } = [];

    /// <summary>The crews whose hands methods need.</summary>
    public ImmutableArray<CrewSpec> Crews { get; init; } = [];

    /// <summary>What must hold before the next wave begins.</summary>
    public required AdvanceRule Advance { get; init; }

    /// <summary>How long before its slot a machine is staged at the earliest, where its uplink lets it.</summary>
    public TimeSpan StageAhead { get; init; } = TimeSpan.FromHours(24);

    /// <summary>How long after its wave begins, or it becomes ready, a machine's slot may begin at the earliest; null for what its staging takes.</summary>
    public TimeSpan? Lead { get; init; }

    /// <summary>How long before a slot its machine has to be known: what was said, or what staging usually takes with some to spare.</summary>
    public TimeSpan LeadFor(IEnumerable<StepSpec> steps) => Lead
        ?? (TimeSpan.FromMinutes(10) + (steps.Where(s => s.Phase == Phase.Stage).Aggregate(TimeSpan.Zero, (sum, s) => sum + s.Typical) * 1.5));

    /// <summary>How many missed slots of one run are caught up in the next window by themselves; at each further one a person decides. Null for all.</summary>
    public int? CatchUp { get; init; }

    /// <summary>The last day by which all should be verified; null where there is none.</summary>
    public DateOnly? Deadline { get; init; }

    /// <summary>Whose approval it needs.</summary>
    public ApprovalSpec Approval { get; init; } = new(false, []);

    /// <summary>How far owners may reschedule their machines; null where they only see their times.</summary>
    public OwnersChoice? Owners { get; init; }

    /// <summary>The number or address of the record under which the change is kept elsewhere; null where there is none.</summary>
    public string? ChangeRecord { get; init; }

    /// <summary>The uplink of a site; null where none holds it up.</summary>
    public UplinkSpec? UplinkOf(string site) => Uplinks.FirstOrDefault(l => l.Sites.Contains(site, StringComparer.OrdinalIgnoreCase));

    /// <summary>The crew of a name, case ignored; null where it has none.</summary>
    public CrewSpec? CrewOf(string? name) => Crews.FirstOrDefault(c => c.Name.Equals(name, StringComparison.OrdinalIgnoreCase));

    /// <summary>The names of the calendars that its windows, freezes, crews and uplinks refer to, each once.</summary>
    public IEnumerable<string> Calendars => Windows.Select(w => w.When).Concat(Freezes.Select(c => c.When)).Concat(Crews.Select(c => c.When)).Concat(Uplinks.Select(l => l.Hours).OfType<TimeRule>())
        .Select(r => r.Calendar).OfType<string>().Distinct(StringComparer.OrdinalIgnoreCase);
}

/// <summary>Machines that go to another release or build than the rest of a plan.</summary>
/// <param name="For">Which machines. An entry that names a machine counts before one that names its group, and that before one that names its site.</param>
/// <param name="Release">The release.</param>
/// <param name="LeastBuild">The first build of it that will do; null for any.</param>
public sealed record OtherTarget(TargetSelector For, string Release, string? LeastBuild);

/// <summary>Which machines go together.</summary>
/// <param name="Name">The wave's name.</param>
/// <param name="Members">Which machines may belong to it; null for all that no earlier wave took.</param>
/// <param name="Count">How many at most, first by name; null for all that match.</param>
public sealed record WaveSpec(string Name, Condition? Members, int? Count)
{
    /// <summary>The machines by name; empty where they are not listed.</summary>
    public ImmutableArray<string> Machines { get; init; } = [];

    /// <summary>The share of those that may belong to it which does, 0 to 1, drawn by their ids; null for all.</summary>
    public double? Sample { get; init; }

    /// <summary>What its machines have to cover together; null where it takes them as they come.</summary>
    public CoverSpec? Cover { get; init; }

    /// <summary>Whether it needs a yes of its own before it begins.</summary>
    public bool NeedsApproval { get; init; }

    /// <summary>Before when it does not begin, whatever the wave before has come to, UTC; null where that alone decides.</summary>
    public DateTimeOffset? NotBefore { get; init; }

    /// <summary>When it begins at the earliest, where all else lets it begin at a moment, UTC.</summary>
    public DateTimeOffset BeginsFrom(DateTimeOffset moment) => NotBefore > moment ? NotBefore.Value : moment;
}

/// <summary>That a wave has, with as few machines as that takes, every value of some keys that occurs in the plan's scope.</summary>
/// <param name="Keys">The keys, such as <c>hardware.model</c> or <c>site</c>; each entry of a list and each named row of a table is a value.</param>
/// <param name="Prefer">Machines to prefer where there is a choice, such as those of owners who volunteered; null for none.</param>
public sealed record CoverSpec(ImmutableArray<string> Keys, Condition? Prefer);

/// <summary>How many may run at once.</summary>
/// <param name="All">In the whole plan.</param>
/// <param name="Site">At one site.</param>
public sealed record Limits(int All, int Site)
{
    /// <summary>How a limit that is not set is kept.</summary>
    public const int Unlimited = int.MaxValue;

    /// <summary>A limit as people see it: null where it is not set.</summary>
    public static int? Shown(int limit) => limit == Unlimited ? null : limit;
}

/// <summary>The uplink of a site, over which staging has to come.</summary>
/// <param name="Sites">The sites; each has an uplink of its own.</param>
/// <param name="Rate">What it preserves, bits per second.</param>
/// <param name="Share">The share of it that staging may use, above 0 and up to 1.</param>
/// <param name="Hours">The hours in which staging may use it; null for all.</param>
public sealed record UplinkSpec(ImmutableArray<string> Sites, double Rate, double Share, TimeRule? Hours)
{
    /// <summary>How many bytes staging gets across in a minute.</summary>
    public double BytesPerMinute => Rate * Share / 8 * 60;

    /// <summary>How many minutes of its hours lie in a stretch.</summary>
    public double MinutesBetween(DateTimeOffset from, DateTimeOffset to, IReadOnlyDictionary<string, ICalendar> calendars) => Hours is null
        ? (to - from).TotalMinutes
        : Hours.Joined(from, to, calendars).Sum(s => ((s.To < to ? s.To : to) - (s.From > from ? s.From : from)).TotalMinutes);
}

/// <summary>People whose hands a method needs.</summary>
/// <param name="Name">The crew's name.</param>
/// <param name="Kind">What methods call it; several crews can be of one kind.</param>
/// <param name="Hands">How many machines it can serve at a time.</param>
/// <param name="PerDay">How many appointments it takes on one day of its zone; null for as many as fit.</param>
/// <param name="Sites">The sites to which it comes; empty for all.</param>
/// <param name="When">When it works.</param>
public sealed record CrewSpec(string Name, string Kind, int Hands, int? PerDay, ImmutableArray<string> Sites, TimeRule When)
{
    /// <summary>Whether it comes to a site.</summary>
    public bool ComesTo(string site) => Sites.IsEmpty || Sites.Contains(site, StringComparer.OrdinalIgnoreCase);
}

/// <summary>What owners may choose of their machines' times.</summary>
/// <param name="Within">How far from the time that the plan lays out for it a machine's time may be, before or after.</param>
/// <param name="Notice">How long before it begins it can be chosen, or given up, at the latest.</param>
public sealed record OwnersChoice(TimeSpan Within, TimeSpan Notice);

/// <summary>Whose approval a plan needs before it starts.</summary>
/// <param name="Needed">Whether the plan as a whole needs approval by someone other than its author.</param>
/// <param name="By">The accounts who may give it; empty for every approver.</param>
public sealed record ApprovalSpec(bool Needed, ImmutableArray<string> By)
{
    /// <summary>Whether what its calendars say is part of what is approved, so that one that is loaded again asks again.</summary>
    public bool OfCalendars { get; init; }
}
