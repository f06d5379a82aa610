using GrandStair.Core.Access;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Scheduling;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Files.Reports;
using GrandStair.Service.Plans;
using GrandStair.Storage.Access;
using GrandStair.Storage.Plans;

namespace GrandStair.Service.ShareLinks;

/// <summary>What a share link shows.</summary>
/// <param name="Link">The link.</param>
/// <param name="Stored">The plan as it is kept.</param>
/// <param name="Report">The slots.</param>
/// <param name="Members">The machines' places in the plan.</param>
internal sealed record Shown(StoredShareLink Link, PlanRecord Stored, SlotReport Report, IReadOnlyDictionary<MachineId, Member> Members)
{
    /// <summary>The slot of a machine.</summary>
    /// <exception cref="RefusedException">The link shows no such machine.</exception>
    public SlotLine LineOf(string machine) =>
        Report.Slots.FirstOrDefault(s => s.Machine.Name.Equals(machine, StringComparison.OrdinalIgnoreCase))
        ?? throw RefusedException.Unknown("unknown-machine", $"There is no machine '{machine}' at this link.");

    /// <summary>Whether a machine's time was chosen manually.</summary>
    public bool IsChosen(SlotLine line) => Members[line.Machine.Id].Rescheduled is { } at && at == line.Start;

    /// <summary>
    /// Between which moments an owner may have a machine begin; null where its time is not to be chosen here, or no longer.
    /// </summary>
    public (DateTimeOffset From, DateTimeOffset To)? Choice(SlotLine line)
    {
        if (Link.Kind != ShareLinkKind.Owner || Report.Plan.Owners is not { } owners || Stored.State == PlanStatus.Ended)
            return null;
        var member = Members[line.Machine.Id];
        if (member.Status is not (Core.Outcomes.Status.Ready or Core.Outcomes.Status.Scheduled) || line.Start is not { } start)
            return null;
        var earliest = Report.At + owners.Notice;
        if (start < earliest)
            return null;
        // Where the plan slips, what may be chosen slips with it; where an owner chooses, it does not.
        var scheduled = IsChosen(line) ? member.PlannedStart ?? start : start;
        var (from, to) = (scheduled - owners.Within, scheduled + owners.Within);
        return to < earliest ? null : (from > earliest ? from : earliest, to);
    }
}

/// <summary>
/// What a share link gives to whoever has it: some of a plan's slots, and an owner's choice of times. It needs no account, and nothing else
/// of the fleet is shown.
/// </summary>
internal sealed class SharedSlots(
    ShareLinkTable links,
    PlanTable plans,
    FleetCache fleet,
    CatalogueCache catalogues,
    SlotCommands desk,
    AccountTable accounts,
    TimeProvider clock
)
{
    private static readonly TimeSpan Apart = TimeSpan.FromHours(1);
    private static readonly TimeSpan OutlivesPlan = TimeSpan.FromDays(30);

    /// <summary>What a link shows.</summary>
    /// <exception cref="RefusedException">There is no such link, or it was ended.</exception>
    public async Task<Shown> FindAsync(string secret, CancellationToken stop)
    {
        var now = clock.GetUtcNow();
        var link = await links.OfAsync(secret, now, stop) ?? throw Unknown();
        // It shows no more than its maker sees today, and nothing once that account has ended.
        if (await accounts.FindAsync(link.MadeBy, stop) is not { Ended: null } maker)
            throw Unknown();
        link = link with { Sites = link.Sites.Within(maker.Sites) };
        var stored = (await plans.FindAsync(link.Plan, stop))!;
        if (IsOver(stored, now))
            throw Unknown();
        var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
        var machines = (await fleet.AllAsync(stop)).Values.Where(m => link.Sites.Holds(m.Site)).ToDictionary(m => m.Id);
        var members = (await plans.MembersAsync(stored.Name, stop)).Where(m => m.Exemption is null).ToArray();
        return new(
            link,
            stored,
            SlotSheet.Of(stored, plan, product, members, machines, [], now, Which(stored, link)),
            members.ToDictionary(m => m.Machine)
        );
    }

    /// <summary>The times that an owner can choose among.</summary>
    /// <exception cref="RefusedException">It is not to be chosen here.</exception>
    public async Task<IReadOnlyList<Slot>> TimesAsync(string secret, string machine, CancellationToken stop)
    {
        var (shown, line, from, to) = await ChoosableAsync(secret, machine, stop);
        return await desk.TimesAsync(shown.Stored, line.Machine, from, to, Apart, stop);
    }

    /// <summary>Gives a machine the time that its owner wants.</summary>
    /// <exception cref="RefusedException">It is not to be chosen here, or something is in the way.</exception>
    public async Task ChooseAsync(string secret, string machine, DateTimeOffset start, string from, CancellationToken stop)
    {
        var (shown, line, earliest, latest) = await ChoosableAsync(secret, machine, stop);
        if (start < earliest || start > latest)
            throw RefusedException.Conflict(
                "not-to-be-chosen",
                $"{line.Machine.Name} can begin between {earliest:yyyy-MM-dd HH:mm} and {latest:yyyy-MM-dd HH:mm} UTC; ask "
                    + $"{shown.Stored.RevisedBy} for a time outside of that."
            );
        await desk.RescheduleAsync(
            shown.Stored,
            line.Machine,
            start,
            "chosen by its owner",
            new Actor($"owner {shown.Link.Of}", $"{from} by share link a{shown.Link.Id}"),
            stop
        );
    }

    /// <summary>Whether the links of a plan are over, since it ended thirty days ago or longer.</summary>
    public static bool IsOver(PlanRecord plan, DateTimeOffset now) => plan.Ended + OutlivesPlan < now;

    private static RefusedException Unknown() =>
        RefusedException.Unknown(
            "unknown-share-link",
            "This link is unknown or was revoked. Ask the person who gave it to you for a new one."
        );

    /// <summary>Which of a plan's slots a link shows.</summary>
    private static Func<SlotLine, bool> Which(PlanRecord stored, StoredShareLink link) =>
        link.Kind switch
        {
            ShareLinkKind.Plan => _ => true,
            // A wave that the plan no longer has shows nothing.
            ShareLinkKind.Wave => SlotSheet.Which(
                stored.Waves.FirstOrDefault(w => w.Name.Equals(link.Of, StringComparison.OrdinalIgnoreCase))?.Number ?? -1,
                null,
                null,
                null
            ),
            ShareLinkKind.Site => SlotSheet.Which(null, link.Of, null, null),
            ShareLinkKind.Crew => SlotSheet.Which(null, null, link.Of, null),
            _ => SlotSheet.Which(null, null, null, link.Of),
        };

    private async Task<(Shown Shown, SlotLine Line, DateTimeOffset From, DateTimeOffset To)> ChoosableAsync(
        string secret,
        string machine,
        CancellationToken stop
    )
    {
        var shown = await FindAsync(secret, stop);
        var line = shown.LineOf(machine);
        return shown.Choice(line) is { } choice
            ? (shown, line, choice.From, choice.To)
            : throw RefusedException.Conflict(
                "not-to-be-chosen",
                $"The time of {line.Machine.Name} cannot be chosen here, or no longer; ask {shown.Stored.RevisedBy}."
            );
    }
}
