using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Approvals;
using GrandStair.Core.Methods;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Storage.Calendars;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>Where people approve what plans are going to do, and where plans that were changed since are put on hold.</summary>
public sealed class PlanApprovals(
    PlanTable plans,
    ApprovalTable table,
    DecisionTable decisions,
    CalendarTable calendars,
    CatalogueCache catalogues,
    TimeProvider clock
)
{
    /// <summary>The approvals that a plan needs, in the order in which it needs them.</summary>
    public async Task<ImmutableArray<NeededApproval>> NeededAsync(PlanRecord stored, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
        return await NeededAsync(
            stored,
            plan,
            await plans.MembersAsync(stored.Name, stop),
            await decisions.OfAsync(product.Name, stored.Name, clock.GetUtcNow(), stop),
            stop
        );
    }

    /// <summary>
    /// The approvals that a plan needs, as it was read a moment ago: what is opened by the same reading is what was approved.
    /// </summary>
    internal async Task<ImmutableArray<NeededApproval>> NeededAsync(
        PlanRecord stored,
        Plan plan,
        IReadOnlyList<Member> members,
        IReadOnlyDictionary<MachineId, Decisions> decided,
        CancellationToken stop
    )
    {
        var consent = await table.ConsentAsync(stored.Name, stop);
        if (!consent.EveryPlan && consent.Rules.Values.All(r => !r.IsNeeded))
            return [];
        return Consent.Needed(
            new(
                new(
                    stored.Body,
                    stored.CatalogueHash,
                    [.. members.Select(m => new IntentMember(m.Machine, m.Wave, decided.GetValueOrDefault(m.Machine)?.Method?.Method))],
                    await CalendarsAsync(plan, stop)
                ),
                consent.FirstIntent,
                [.. stored.Waves.Select(w => w.Name)],
                consent.Rules,
                consent.Changes,
                consent.Approvals,
                consent.EveryPlan
            )
        );
    }

    /// <summary>
    /// Puts a plan that has started on hold where what it is going to do is not what was approved. Whoever knows what was changed says so,
    /// also where the plan was put on hold for <see cref="PlanProgress.SomeChange"/> before.
    /// </summary>
    /// <param name="name">The plan.</param>
    /// <param name="change">What was changed, as the beginning of a sentence.</param>
    /// <param name="actor">Who changed it.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task HoldUnlessApprovedAsync(string name, string change, Actor actor, CancellationToken stop)
    {
        if (await plans.FindAsync(name, stop) is not { State: PlanStatus.Started } stored)
            return;
        bool MayBeHeld(PlanRecord plan) =>
            plan.Held is null || (plan.Held == Waiting(PlanProgress.SomeChange) && change != PlanProgress.SomeChange);
        if (MayBeHeld(stored) && !Consent.MayGoOn(await NeededAsync(stored, stop)))
            await plans.PutStatusAsync(name, PlanStatus.Started, Waiting(change), "hold", actor, clock.GetUtcNow(), stop, MayBeHeld);
    }

    private static string Waiting(string change) => $"{change}, which waits for approval";

    /// <summary>Puts every plan that has started on hold that is not approved as it is now.</summary>
    public async Task HoldUnapprovedAsync(string change, Actor actor, CancellationToken stop)
    {
        foreach (var stored in await plans.AllAsync(stop))
            await HoldUnlessApprovedAsync(stored.Name, change, actor, stop);
    }

    /// <summary>Approves what a plan, or a wave of it, is going to do.</summary>
    /// <param name="stored">The plan.</param>
    /// <param name="wave">The wave; null for the plan as a whole.</param>
    /// <param name="intent">The hash of the intent that was looked at.</param>
    /// <param name="reason">What is said with it.</param>
    /// <param name="actor">Who approves it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">It needs none, or not this person's, or is another intent than was looked at.</exception>
    public async Task ApproveAsync(PlanRecord stored, string? wave, string intent, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        ArgumentNullException.ThrowIfNull(actor);
        // Counted before the plan is read: a change that is made meanwhile is then one since this approval, whose author may not give the
        // next.
        var changes = (await table.ConsentAsync(stored.Name, stop)).Changes.Length;
        stored = await plans.FindAsync(stored.Name, stop) ?? stored;
        var all = await NeededAsync(stored, stop);
        var subject = wave is null ? Consent.WholePlan : Consent.SubjectOf(wave);
        var needed = all.FirstOrDefault(n => n.Subject.Equals(subject, StringComparison.OrdinalIgnoreCase))
            ?? throw RefusedException.Conflict(
                "no-approval-needed",
                $"Plan '{stored.Name}' needs no approval for {subject}; "
                    + (
                        all.IsEmpty
                            ? "neither its text nor this service asks for one."
                            : $"it needs one for {string.Join(", ", all.Select(n => n.Subject))}."
                    )
            );
        if (intent != needed.Intent)
            throw RefusedException.Conflict(
                "another-intent",
                $"Plan '{stored.Name}' was changed since you looked at it. Look at it again: 'gstair plan show {stored.Name}'."
            );
        if (needed.Given is not null)
            return;
        if (needed.Contributors.Contains(actor.Name))
            throw RefusedException.Conflict(
                "own-change",
                $"You changed what plan '{stored.Name}' is going to do since it was last approved. It must be approved by someone else "
                    + $"than {string.Join(", ", needed.Contributors)}."
            );
        if (!needed.By.IsEmpty && !needed.By.Contains(actor.Name))
            throw RefusedException.Conflict(
                "not-asked",
                $"Plan '{stored.Name}' asks for the approval of {string.Join(" or ", needed.By)}."
            );
        await table.AddAsync(
            stored.Name,
            new(needed.Subject, needed.Intent, stored.Revision, changes, actor.Name, clock.GetUtcNow(), reason),
            actor,
            stop
        );
    }

    /// <summary>The intent with which a plan is made, without calendars.</summary>
    internal static string FirstIntent(PlanRecord stored, IEnumerable<Member> members) =>
        new PlanIntent(stored.Body, stored.CatalogueHash, [.. members.Select(m => new IntentMember(m.Machine, m.Wave, null))], []).Hash(
            null,
            withCalendars: false
        );

    private async Task<ImmutableArray<IntentCalendar>> CalendarsAsync(Plan plan, CancellationToken stop)
    {
        var named = plan.Calendars.ToHashSet(StringComparer.OrdinalIgnoreCase);
        return named.Count == 0
            ? []
            :
            [
                .. (await calendars.StatesAsync(stop))
                    .Where(c => named.Contains(c.Name))
                    .Select(c => new IntentCalendar(c.Name, c.Hash, c.Loaded, c.LoadedBy)),
            ];
    }
}
