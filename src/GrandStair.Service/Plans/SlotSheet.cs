using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Plans;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Files.Calendars;
using GrandStair.Files.Reports;

namespace GrandStair.Service.Plans;

/// <summary>A plan's slots, or some of them, as a sheet to write out.</summary>
internal static class SlotSheet
{
    /// <summary>The sheet of those members whose machines are among some.</summary>
    public static SlotReport Of(
        PlanRecord stored,
        Plan plan,
        Product product,
        IReadOnlyList<Member> members,
        IReadOnlyDictionary<MachineId, Machine> machines,
        IReadOnlyList<NeededApproval> approvals,
        DateTimeOffset now,
        Func<SlotLine, bool> which
    )
    {
        var aim = PlanSlots.AimOf(plan, product);
        return new(
            plan,
            aim.Target,
            stored.Revision,
            stored.RevisedBy,
            now,
            [
                .. members
                    .Where(m => machines.ContainsKey(m.Machine))
                    .Select(m => Line(stored, m, machines[m.Machine], aim))
                    .Where(which)
                    .OrderBy(r => r.Start ?? DateTimeOffset.MaxValue)
                    .ThenBy(r => r.Machine.Name, StringComparer.OrdinalIgnoreCase),
            ],
            [
                .. approvals.Select(a =>
                    $"{a.Subject}: "
                    + $"{(a.Given is { } given ? $"approved by {given.By} on {given.At:yyyy-MM-dd}: {given.Reason}" : "not approved yet")}"
                ),
            ]
        );
    }

    private static string Quoted(string site) => $"\"{site.Replace("\"", "", StringComparison.Ordinal)}\"";

    /// <summary>A plan as far as it concerns some sites: its scope and its freezes may name machines and sites elsewhere.</summary>
    public static Plan Within(Plan plan, SiteScope sites) =>
        plan with
        {
            Scope = ConditionParser.Parse(
                $"site in ({string.Join(", ", sites.Names.Select(Quoted).DefaultIfEmpty(Quoted("")))})",
                KeyRegistry.BuiltIn
            ),
            Freezes =
            [
                .. plan
                    .Freezes.Where(c => c.For.IsEveryone || c.For.Sites.Any(sites.Holds))
                    .Select(c => c with { For = c.For with { Sites = [.. c.For.Sites.Where(sites.Holds)], Groups = [], Machines = [] } }),
            ],
        };

    /// <summary>Those of a wave, a site, a crew and an owner; null for all.</summary>
    public static Func<SlotLine, bool> Which(int? wave, string? site, string? crew, string? owner)
    {
        return r =>
            (wave is null || r.WaveNumber == wave) && Is(site, r.Machine.Site) && Is(owner, r.Machine.Owner) && Is(crew, r.Crew ?? "");

        static bool Is(string? wanted, string found) => wanted is null || wanted.Equals(found, StringComparison.OrdinalIgnoreCase);
    }

    /// <summary>A sheet as a calendar.</summary>
    /// <param name="report">The sheet.</param>
    /// <param name="of">Whose slots these are, for its title.</param>
    public static string Calendar(SlotReport report, IEnumerable<string?> of) =>
        CalendarWriter.Write(string.Join(", ", of.OfType<string>().Prepend(report.Plan.Name)), report.Appointments());

    /// <summary>The time that a machine has, or that is scheduled for it; null without any.</summary>
    public static (DateTimeOffset? Start, DateTimeOffset? End) TimeOf(Member m) =>
        (m.Slot ?? m.Tentative) is { } slot ? (slot.Start, slot.End) : (null, null);

    private static SlotLine Line(PlanRecord stored, Member m, Machine machine, Aim aim)
    {
        var (start, end) = TimeOf(m);
        return new(
            machine,
            stored.Waves[m.Wave - 1].Name,
            RunMachine.Name(m.Status),
            m.Method,
            start,
            end,
            m.Slot is not null,
            (m.Slot ?? m.Tentative)?.Crew,
            m.Why,
            m.Change,
            m.Wave,
            aim.ReleaseFor(machine).Name,
            m.TimeChanges,
            m.TimeChanged
        )
        {
            OwnerPresent = m.Method is { } method && aim.Product.Method(method)?.Needs.OwnerPresent == true,
        };
    }
}
