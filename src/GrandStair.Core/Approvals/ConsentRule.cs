using System.Collections.Immutable;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Approvals;

/// <summary>What a plan says about who has to approve it.</summary>
/// <param name="WholePlan">Whether the plan as a whole needs an approval.</param>
/// <param name="By">Lists of accounts; an approver has to be in each of them. Empty for every approver.</param>
/// <param name="OfCalendars">Whether what its calendars say is part of what is approved.</param>
/// <param name="Waves">The names of the waves that need an approval of their own before they begin.</param>
public sealed record ConsentRule(bool WholePlan, ImmutableArray<ImmutableArray<string>> By, bool OfCalendars, ImmutableArray<string> Waves)
{
    /// <summary>Nothing needs an approval.</summary>
    public static ConsentRule None { get; } = new(false, [], false, []);

    /// <summary>The rule of a service on which every plan needs an approval.</summary>
    public static ConsentRule EveryPlan { get; } = None with { WholePlan = true };

    /// <summary>Whether anything needs an approval.</summary>
    public bool IsNeeded => WholePlan || !Waves.IsEmpty;

    /// <summary>The rule that a plan's text states.</summary>
    public static ConsentRule Of(Plan plan)
    {
        ArgumentNullException.ThrowIfNull(plan);
        return new(
            plan.Approval.Needed,
            plan.Approval.By.IsEmpty ? [] : [plan.Approval.By],
            plan.Approval.OfCalendars,
            [.. plan.Waves.Where(w => w.NeedsApproval).Select(w => w.Name)]
        );
    }

    /// <summary>The stricter of two rules: whatever either of them asks for.</summary>
    public ConsentRule And(ConsentRule other)
    {
        ArgumentNullException.ThrowIfNull(other);
        return new(
            WholePlan || other.WholePlan,
            [.. By.Concat(other.By.Where(o => !By.Any(b => b.SequenceEqual(o))))],
            OfCalendars || other.OfCalendars,
            [.. Waves.Concat(other.Waves).Distinct(StringComparer.OrdinalIgnoreCase)]
        );
    }

    /// <summary>
    /// The accounts who may approve; empty for every approver. Where nobody is in all of the lists, those in the oldest one.
    /// </summary>
    public ImmutableArray<string> Approvers
    {
        get
        {
            if (By.IsEmpty)
                return [];
            ImmutableArray<string> common = [.. By[0].Where(a => By.All(list => list.Contains(a)))];
            return common.IsEmpty ? By[0] : common;
        }
    }

    /// <summary>Whether a wave needs an approval of its own.</summary>
    public bool AsksForWave(string wave) => Waves.Contains(wave, StringComparer.OrdinalIgnoreCase);
}
