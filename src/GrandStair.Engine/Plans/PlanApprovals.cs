using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Waves;
using GrandStair.Storage.Calendars;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>A yes that a plan, or a wave of it, needs before it begins.</summary>
/// <param name="Subject"><c>plan</c>, or the wave's name behind <c>wave </c>.</param>
/// <param name="Intent">The hash of what is to be approved as it is now: the plan's text, the catalogue, who is in which wave, and what its calendars say where the plan wants that.</param>
/// <param name="By">The accounts who may give it; empty for every approver but who wrote the plan.</param>
/// <param name="Given">The yes to exactly this; null while nobody gave it.</param>
/// <param name="Before">The last yes to something else than it is now; null where there is none.</param>
/// <param name="LoadedSince">The plan's calendars that were loaded anew after the yes that counts, or else the last one.</param>
public sealed record NeededApproval(string Subject, string Intent, ImmutableArray<string> By, Approval? Given, Approval? Before, ImmutableArray<CalendarState> LoadedSince);

/// <summary>Where somebody else than who wrote a plan says yes to it. What is approved is what it intends, and not the single slots.</summary>
public sealed class PlanApprovals(PlanTable plans, ApprovalTable table, CalendarTable calendars, Shelf shelf, TimeProvider clock)
{
    /// <summary>The approval's subject that means the plan as a whole.</summary>
    public const string WholePlan = "plan";

    /// <summary>What a plan needs a yes for, in the order in which it is needed.</summary>
    public async Task<IReadOnlyList<NeededApproval>> NeededAsync(StoredPlan stored, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var (plan, _) = await shelf.ReadPlanAsync(stored, stop);
        if (!plan.Approval.Needed && plan.Waves.All(w => !w.NeedsApproval)) return [];
        var named = plan.Calendars.ToHashSet(StringComparer.OrdinalIgnoreCase);
        CalendarState[] own = named.Count == 0 ? [] : [.. (await calendars.StatesAsync(stop)).Where(c => named.Contains(c.Name))];
        return Needed(stored, plan, await plans.MembersAsync(stored.Name, stop), own, await table.OfAsync(stored.Name, stop));
    }

    /// <summary>Holds the plans under way that were approved with what a calendar said, now that it says something else.</summary>
    public async Task CalendarChangedAsync(string calendar, Actor actor, CancellationToken stop)
    {
        foreach (var stored in (await plans.AllAsync(stop)).Where(p => p is { State: PlanState.Started, Held: null }))
        {
            var (plan, _) = await shelf.ReadPlanAsync(stored, stop);
            if (plan.Approval.OfCalendars && plan.Calendars.Contains(calendar, StringComparer.OrdinalIgnoreCase))
                await plans.PutStateAsync(stored.Name, PlanState.Started, $"calendar {calendar} was loaded anew, which waits for approval", "hold", actor, clock.GetUtcNow(), stop);
        }
    }

    /// <summary>Says yes.</summary>
    /// <param name="stored">The plan.</param>
    /// <param name="wave">The wave; null for the plan as a whole.</param>
    /// <param name="intent">The hash of what was looked at; null for what it is now.</param>
    /// <param name="reason">What is said with it.</param>
    /// <param name="actor">Who says it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="CommandException">It needs none, or not this person's, or is another thing than was looked at.</exception>
    public async Task ApproveAsync(StoredPlan stored, string? wave, string? intent, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        ArgumentNullException.ThrowIfNull(actor);
        var all = await NeededAsync(stored, stop);
        var subject = wave is null ? WholePlan : SubjectOf(wave);
        var needed = all.FirstOrDefault(n => n.Subject.Equals(subject, StringComparison.OrdinalIgnoreCase))
            ?? throw new CommandException("no-approval-needed", $"Plan '{stored.Name}' needs no approval for {subject}{(all.Count == 0 ? "; its file asks for none." : $"; it needs one for {string.Join(", ", all.Select(n => n.Subject))}.")}");
        if (intent is not null && intent != needed.Intent) throw new CommandException("another-intent", $"Plan '{stored.Name}' was changed since you looked at it. Look at it again: 'gstair plan show {stored.Name}'.");
        if (actor.Name == stored.RevisedBy) throw new CommandException("own-plan", $"You wrote revision {stored.Revision} of plan '{stored.Name}'; somebody else has to say yes to it.");
        if (!needed.By.IsEmpty && !needed.By.Contains(actor.Name)) throw new CommandException("not-asked", $"Plan '{stored.Name}' asks for the yes of {string.Join(" or ", needed.By)}.");
        await table.AddAsync(stored.Name, new(needed.Subject, needed.Intent, stored.Revision, actor.Name, clock.GetUtcNow(), reason), actor, stop);
    }

    /// <summary>Whether a wave may begin as far as approval goes.</summary>
    internal async Task<bool> MayBeginAsync(StoredPlan stored, string wave, CancellationToken stop) =>
        (await NeededAsync(stored, stop)).FirstOrDefault(n => n.Subject == SubjectOf(wave)) is null or { Given: not null };

    private static IReadOnlyList<NeededApproval> Needed(StoredPlan stored, Plan plan, IReadOnlyList<Member> members, IReadOnlyList<CalendarState> calendars, IReadOnlyList<Approval> given)
    {
        var subjects = plan.Waves.Select((w, i) => (Wave: w, Number: i + 1)).Where(w => w.Wave.NeedsApproval)
            .Select(w => (Subject: SubjectOf(w.Wave.Name), Members: members.Where(m => m.Wave == w.Number)));
        if (plan.Approval.Needed) subjects = subjects.Prepend((WholePlan, members));
        return
        [
            .. subjects.Select(s =>
            {
                var intent = IntentOf(stored, s.Members, plan.Approval.OfCalendars ? calendars : []);
                var own = given.Where(a => a.Subject == s.Subject).ToArray();
                var counts = own.FirstOrDefault(a => a.Intent == intent);
                var before = own.LastOrDefault(a => a.Intent != intent);
                var last = counts ?? before;
                return new NeededApproval(s.Subject, intent, plan.Approval.By, counts, before, last is null ? [] : [.. calendars.Where(c => c.Loaded > last.At)]);
            }),
        ];
    }

    private static string SubjectOf(string wave) => $"wave {wave}";

    private static string IntentOf(StoredPlan stored, IEnumerable<Member> members, IReadOnlyList<CalendarState> calendars)
    {
        var text = $"{stored.Body}\n{stored.CatalogueHash}\n{string.Join(' ', members.OrderBy(m => m.Machine.Value).Select(m => $"{m.Machine}:{m.Wave}"))}{string.Concat(calendars.Select(c => $"\n{c.Name} {c.Hash}"))}";
        return FileChange.Hash(text);
    }
}
