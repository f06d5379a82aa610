using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Waves;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>A yes that a plan, or a wave of it, needs before it begins.</summary>
/// <param name="Subject"><c>plan</c>, or the wave's name behind <c>wave </c>.</param>
/// <param name="Intent">The hash of what is to be approved as it is now: the plan's text, the catalogue, and who is in which wave.</param>
/// <param name="By">The accounts who may give it; empty for every approver but who wrote the plan.</param>
/// <param name="Given">The yes to exactly this; null while nobody gave it.</param>
/// <param name="Before">The last yes to something else than it is now; null where there is none.</param>
public sealed record NeededApproval(string Subject, string Intent, ImmutableArray<string> By, Approval? Given, Approval? Before);

/// <summary>Where somebody else than who wrote a plan says yes to it. What is approved is what it intends, and not the single slots.</summary>
public sealed class PlanApprovals(PlanTable plans, ApprovalTable table, Shelf shelf, TimeProvider clock)
{
    /// <summary>The approval's subject that means the plan as a whole.</summary>
    public const string WholePlan = "plan";

    /// <summary>What a plan needs a yes for, in the order in which it is needed.</summary>
    public async Task<IReadOnlyList<NeededApproval>> NeededAsync(StoredPlan stored, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var (plan, _) = await shelf.ReadPlanAsync(stored, stop);
        if (!plan.Approval.Needed && plan.Waves.All(w => !w.NeedsApproval)) return [];
        return Needed(stored, plan, await plans.MembersAsync(stored.Name, stop), await table.OfAsync(stored.Name, stop));
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

    private static IReadOnlyList<NeededApproval> Needed(StoredPlan stored, Plan plan, IReadOnlyList<Member> members, IReadOnlyList<Approval> given)
    {
        var subjects = plan.Waves.Select((w, i) => (Wave: w, Number: i + 1)).Where(w => w.Wave.NeedsApproval)
            .Select(w => (Subject: SubjectOf(w.Wave.Name), Members: members.Where(m => m.Wave == w.Number)));
        if (plan.Approval.Needed) subjects = subjects.Prepend((WholePlan, members));
        return
        [
            .. subjects.Select(s =>
            {
                var intent = IntentOf(stored, s.Members);
                var own = given.Where(a => a.Subject == s.Subject).ToArray();
                return new NeededApproval(s.Subject, intent, plan.Approval.By, own.FirstOrDefault(a => a.Intent == intent), own.LastOrDefault(a => a.Intent != intent));
            }),
        ];
    }

    private static string SubjectOf(string wave) => $"wave {wave}";

    private static string IntentOf(StoredPlan stored, IEnumerable<Member> members)
    {
        var text = $"{stored.Body}\n{stored.CatalogueHash}\n{string.Join(' ', members.OrderBy(m => m.Machine.Value).Select(m => $"{m.Machine}:{m.Wave}"))}";
        return FileChange.Hash(text);
    }
}
