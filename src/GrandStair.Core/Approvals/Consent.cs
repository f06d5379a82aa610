using System.Collections.Immutable;

namespace GrandStair.Core.Approvals;

/// <summary>What consent is judged by.</summary>
/// <param name="Intent">What the plan is going to do, as it is now.</param>
/// <param name="FirstIntent">The hash of the intent, without calendars, with which the plan was made; empty where it is not known.</param>
/// <param name="Waves">The names of its waves, in their order.</param>
/// <param name="Rules">The rule of every revision, by the revision's number.</param>
/// <param name="Changes">Every change of the intent, oldest first.</param>
/// <param name="Approvals">Every approval that was given, oldest first.</param>
/// <param name="EveryPlan">Whether the service asks for an approval of every plan.</param>
public sealed record ConsentFacts(
    PlanIntent Intent,
    string FirstIntent,
    ImmutableArray<string> Waves,
    ImmutableSortedDictionary<int, ConsentRule> Rules,
    ImmutableArray<IntentChange> Changes,
    ImmutableArray<Approval> Approvals,
    bool EveryPlan
);

/// <summary>An approval that a plan, or a wave of it, needs.</summary>
/// <param name="Subject"><c>plan</c>, or the wave's name behind <c>wave </c>.</param>
/// <param name="Intent">The hash of what is to be approved, as it is now.</param>
/// <param name="By">The accounts who may give it; empty for every approver.</param>
/// <param name="Contributors">Who changed the intent, or a calendar that is part of it, since the last approval: none of them may give the
/// next one.</param>
/// <param name="Why">Why it is needed, as a sentence.</param>
/// <param name="Given">The approval of exactly this; null while nobody gave it.</param>
/// <param name="Before">The last approval of something else than it is now; null where there is none.</param>
/// <param name="LoadedSince">The plan's calendars that were loaded after the last approval.</param>
public sealed record NeededApproval(
    string Subject,
    string Intent,
    ImmutableArray<string> By,
    ImmutableArray<string> Contributors,
    string Why,
    Approval? Given,
    Approval? Before,
    ImmutableArray<IntentCalendar> LoadedSince
);

/// <summary>
/// Decides which approvals a plan needs. Consent is to an intent, so any change of it asks again, whoever made it and through whichever
/// call. The stricter of all rules since the last approval of the whole plan counts, so that no revision can relax its own rule.
/// </summary>
public static class Consent
{
    /// <summary>The approval's subject that means the plan as a whole.</summary>
    public const string WholePlan = "plan";

    /// <summary>The approval's subject that means a wave.</summary>
    public static string SubjectOf(string wave) => $"wave {wave}";

    /// <summary>The approvals that a plan needs, in the order in which it needs them.</summary>
    public static ImmutableArray<NeededApproval> Needed(ConsentFacts facts)
    {
        ArgumentNullException.ThrowIfNull(facts);
        var last = facts.Approvals.LastOrDefault(a => a.Subject == WholePlan);
        var own = facts
            .Rules.Where(r => last is null || r.Key >= last.Revision)
            .Select(r => r.Value)
            .Aggregate(ConsentRule.None, (all, next) => all.And(next));
        var rule = facts.EveryPlan ? own.And(ConsentRule.EveryPlan) : own;
        if (!rule.IsNeeded)
            return [];
        var needed = ImmutableArray.CreateBuilder<NeededApproval>();
        // A plan of which only waves ask could otherwise lose what they ask for by moving machines between them.
        var isChanged = facts.Intent.Hash(null, withCalendars: false) != facts.FirstIntent;
        if (rule.WholePlan || isChanged)
        {
            var why =
                own.WholePlan ? "The plan asks for it."
                : rule.WholePlan ? "This service asks for it of every plan."
                : "Waves of the plan need an approval, and the plan was changed since it was made.";
            needed.Add(Of(facts, rule, WholePlan, null, why));
        }

        for (var i = 0; i < facts.Waves.Length; i++)
            if (rule.AsksForWave(facts.Waves[i]))
                needed.Add(Of(facts, rule, SubjectOf(facts.Waves[i]), i + 1, "The wave asks for it before it begins."));
        return needed.ToImmutable();
    }

    /// <summary>Whether the plan as a whole may go on: it needs no approval, or has it.</summary>
    public static bool MayGoOn(ImmutableArray<NeededApproval> needed) => needed.All(n => n.Subject != WholePlan || n.Given is not null);

    /// <summary>Whether runs of a wave may be opened.</summary>
    /// <param name="needed">The approvals that the plan needs.</param>
    /// <param name="wave">The wave's name.</param>
    /// <param name="hasBegun">Whether it has begun, which it cannot without its approval; from then on an approval of the whole plan covers
    /// what is changed of it.</param>
    public static bool MayOpenRuns(ImmutableArray<NeededApproval> needed, string wave, bool hasBegun)
    {
        if (!MayGoOn(needed))
            return false;
        if (needed.FirstOrDefault(n => n.Subject.Equals(SubjectOf(wave), StringComparison.OrdinalIgnoreCase)) is not { Given: null })
            return true;
        return hasBegun && needed.Any(n => n is { Subject: WholePlan, Given: not null });
    }

    private static NeededApproval Of(ConsentFacts facts, ConsentRule rule, string subject, int? wave, string why)
    {
        var intent = facts.Intent.Hash(wave, rule.OfCalendars);
        // An older approval of the same intent does not count: what was approved after it took its place.
        var last = facts.Approvals.LastOrDefault(a => a.Subject.Equals(subject, StringComparison.OrdinalIgnoreCase));
        var given = last?.Intent == intent ? last : null;
        ImmutableArray<IntentCalendar> loaded = last is null ? [] : [.. facts.Intent.Calendars.Where(c => c.Loaded > last.At)];
        var contributors = facts.Changes.Where(c => c.Number > (last?.Changes ?? 0)).Select(c => c.By);
        if (rule.OfCalendars)
            contributors = contributors.Concat((last is null ? facts.Intent.Calendars : loaded).Select(c => c.LoadedBy));
        return new(
            subject,
            intent,
            rule.Approvers,
            [.. contributors.Distinct().Order(StringComparer.Ordinal)],
            why,
            given,
            given is null ? last : null,
            loaded
        );
    }
}
