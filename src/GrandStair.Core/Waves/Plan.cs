using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

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

    /// <summary>The machines that the plan covers.</summary>
    public required Condition Scope { get; init; }

    /// <summary>What must be preserved at least.</summary>
    public Preserves Preserves { get; init; } = Preserves.Full;

    /// <summary>The methods in order of preference.</summary>
    public required ImmutableArray<string> Methods { get; init; }

    /// <summary>The waves in order; the first is the pilot.</summary>
    public required ImmutableArray<WaveSpec> Waves { get; init; }

    /// <summary>When machines may be upgraded.</summary>
    public required ImmutableArray<WindowSpec> Windows { get; init; }

    /// <summary>When machines must not be upgraded.</summary>
    public ImmutableArray<FreezeSpec> Freezes { get; init; } = [];

    /// <summary>How many may run at once.</summary>
    public required Limits Limits { get; init; }

    /// <summary>The site uplinks that limit staging; a site without an entry is not limited.</summary>
    public ImmutableArray<UplinkSpec> Uplinks { get; init; } = [];

    /// <summary>The crews that methods need on site.</summary>
    public ImmutableArray<CrewSpec> Crews { get; init; } = [];

    /// <summary>What must hold before the next wave begins.</summary>
    public required AdvanceRule Advance { get; init; }

    /// <summary>When its upgrades take the newest patches; null for as each method does by itself.</summary>
    public PatchTime? Patches { get; init; }

    /// <summary>How long before its slot a machine is staged at the earliest, where its uplink lets it.</summary>
    public TimeSpan StageAhead { get; init; } = TimeSpan.FromHours(24);

    /// <summary>
    /// How long after its wave begins, or it becomes ready, a machine's slot may begin at the earliest; null for what its staging takes.
    /// </summary>
    public TimeSpan? Lead { get; init; }

    /// <summary>How long before its slot a machine must be ready: the plan's own value, or the usual staging time with a margin.</summary>
    public TimeSpan LeadFor(IEnumerable<StepSpec> steps) =>
        Lead
        ?? (
            TimeSpan.FromMinutes(10)
            + (steps.Where(s => s.Phase == Phase.Stage).Aggregate(TimeSpan.Zero, (sum, s) => sum + s.Typical) * 1.5)
        );

    /// <summary>How many missed slots of one run are rescheduled automatically; after that a person decides. Null for all.</summary>
    public int? CatchUp { get; init; }

    /// <summary>The last day by which all should be verified; null where there is none.</summary>
    public DateOnly? Deadline { get; init; }

    /// <summary>Whose approval it needs.</summary>
    public ApprovalSpec Approval { get; init; } = new(false, []);

    /// <summary>How far owners may reschedule their machines; null where they only see their times.</summary>
    public OwnersChoice? Owners { get; init; }

    /// <summary>The number or URL of the change record in another system; null where there is none.</summary>
    public string? ChangeRecord { get; init; }

    /// <summary>The uplink of a site; null where staging there is not limited.</summary>
    public UplinkSpec? UplinkOf(string site) => Uplinks.FirstOrDefault(l => l.Sites.Contains(site, StringComparer.OrdinalIgnoreCase));

    /// <summary>The crew of a name, case ignored; null where it has none.</summary>
    public CrewSpec? CrewOf(string? name) => Crews.FirstOrDefault(c => c.Name.Equals(name, StringComparison.OrdinalIgnoreCase));

    /// <summary>The names of the calendars that its windows, freezes, crews and uplinks refer to, each once.</summary>
    public IEnumerable<string> Calendars =>
        Windows
            .Select(w => w.When)
            .Concat(Freezes.Select(c => c.When))
            .Concat(Crews.Select(c => c.When))
            .Concat(Uplinks.Select(l => l.Hours).OfType<TimeRule>())
            .Select(r => r.Calendar)
            .OfType<string>()
            .Distinct(StringComparer.OrdinalIgnoreCase);
}

/// <summary>Machines that go to another release or build than the rest of a plan.</summary>
/// <param name="For">Which machines. A machine rule overrides a group rule, which overrides a site rule.</param>
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

    /// <summary>Whether it needs its own approval before it begins.</summary>
    public bool NeedsApproval { get; init; }

    /// <summary>The earliest start, UTC, whatever the state of the wave before; null for none.</summary>
    public DateTimeOffset? NotBefore { get; init; }

    /// <summary>The later of a moment and the earliest start, UTC.</summary>
    public DateTimeOffset BeginsFrom(DateTimeOffset moment) => NotBefore > moment ? NotBefore.Value : moment;
}

/// <summary>A wave that covers, with as few machines as possible, every value of some keys that occurs in the plan's scope.</summary>
/// <param name="Keys">The keys, such as <c>hardware.model</c> or <c>site</c>; each entry of a list and each named row of a table is a
/// value.</param>
/// <param name="Prefer">Machines to prefer where there is a choice, such as those of owners who volunteered; null for none.</param>
public sealed record CoverSpec(ImmutableArray<string> Keys, Condition? Prefer);

/// <summary>How many may run at once.</summary>
/// <param name="All">In the whole plan.</param>
/// <param name="Site">At one site.</param>
public sealed record Limits(int All, int Site)
{
    /// <summary>The value of a limit that is not set.</summary>
    public const int Unlimited = int.MaxValue;

    /// <summary>A limit as people see it: null where it is not set.</summary>
    public static int? Shown(int limit) => limit == Unlimited ? null : limit;
}

/// <summary>The uplink of a site, which limits staging.</summary>
/// <param name="Sites">The sites; each has an uplink of its own.</param>
/// <param name="Rate">Its rate, bits per second.</param>
/// <param name="Share">The share of it that staging may use, above 0 and up to 1.</param>
/// <param name="Hours">The hours in which staging may use it; null for all.</param>
public sealed record UplinkSpec(ImmutableArray<string> Sites, double Rate, double Share, TimeRule? Hours)
{
    /// <summary>How many bytes staging transfers in a minute.</summary>
    public double BytesPerMinute => Rate * Share / 8 * 60;

    /// <summary>How many minutes of its hours lie in a stretch.</summary>
    public double MinutesBetween(DateTimeOffset from, DateTimeOffset to, IReadOnlyDictionary<string, ICalendar> calendars) =>
        Hours is null
            ? (to - from).TotalMinutes
            : Hours.Joined(from, to, calendars).Sum(s => ((s.To < to ? s.To : to) - (s.From > from ? s.From : from)).TotalMinutes);
}

/// <summary>People that a method needs on site.</summary>
/// <param name="Name">The crew's name.</param>
/// <param name="Kind">The kind that methods refer to; several crews can be of one kind.</param>
/// <param name="Hands">How many machines it can serve at a time.</param>
/// <param name="PerDay">How many appointments it takes on one day of its zone; null for as many as fit.</param>
/// <param name="Sites">The sites to which it comes; empty for all.</param>
/// <param name="When">When it works.</param>
public sealed record CrewSpec(string Name, string Kind, int Hands, int? PerDay, ImmutableArray<string> Sites, TimeRule When)
{
    /// <summary>Whether it comes to a site.</summary>
    public bool ComesTo(string site) => Sites.IsEmpty || Sites.Contains(site, StringComparer.OrdinalIgnoreCase);
}

/// <summary>How far owners may reschedule their machines.</summary>
/// <param name="Within">How far a machine's time may be from the one that the plan schedules, before or after.</param>
/// <param name="Notice">How long before the slot owners can reschedule at the latest.</param>
public sealed record OwnersChoice(TimeSpan Within, TimeSpan Notice);

/// <summary>Whose approval a plan needs before it starts.</summary>
/// <param name="Needed">Whether the plan as a whole needs approval by someone other than its author.</param>
/// <param name="By">The accounts who may give it; empty for every approver.</param>
public sealed record ApprovalSpec(bool Needed, ImmutableArray<string> By)
{
    /// <summary>Whether the approval covers the content of the calendars, so that a reloaded calendar needs another approval.</summary>
    public bool OfCalendars { get; init; }
}
