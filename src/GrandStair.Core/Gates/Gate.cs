using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Gates;

/// <summary>What came of one check.</summary>
public enum CheckState
{
    /// <summary>It holds.</summary>
    Met,

    /// <summary>It does not hold.</summary>
    Unmet,

    /// <summary>It could not be told.</summary>
    Untold,

    /// <summary>It is asked at a later moment.</summary>
    Deferred,

    /// <summary>It is not asked of this machine.</summary>
    NotApplicable,
}

/// <summary>One check's answer, with what was seen.</summary>
/// <param name="Check">The check.</param>
/// <param name="State">What came of it.</param>
/// <param name="Seen">The comparisons that decided it, with the readings they looked at.</param>
/// <param name="Until">When the answer may change by age alone; null where it will not.</param>
public sealed record CheckResult(Check Check, CheckState State, IReadOnlyList<Leaf> Seen, DateTimeOffset? Until);

/// <summary>Whether a machine may pass.</summary>
public enum GateState
{
    /// <summary>No must is unmet or untold.</summary>
    Open,

    /// <summary>No must is unmet, but one could not be told.</summary>
    Undecided,

    /// <summary>A must is unmet.</summary>
    Shut,
}

/// <summary>All checks of one hop by one method for one machine at one moment.</summary>
/// <param name="State">Open, undecided or shut.</param>
/// <param name="Moment">The moment that was asked about.</param>
/// <param name="Checks">Every check, in catalogue order.</param>
/// <param name="Until">When a check's answer may change by age alone; null where none will.</param>
public sealed record Gate(GateState State, Moment Moment, ImmutableArray<CheckResult> Checks, DateTimeOffset? Until)
{
    /// <summary>The musts that keep the gate from being open.</summary>
    public IEnumerable<CheckResult> InTheWay => Of(Need.Must);

    /// <summary>The shoulds that do not hold or could not be told.</summary>
    public IEnumerable<CheckResult> Cautions => Of(Need.Should);

    /// <summary>Whether a must is unmet that nobody can mend.</summary>
    public bool CannotBeMended => InTheWay.Any(c => c.State == CheckState.Unmet && c.Check.Fix.By == Mender.Nobody);

    private IEnumerable<CheckResult> Of(Need need) =>
        Checks.Where(c => c.Check.Need == need && c.State is (CheckState.Unmet or CheckState.Untold));

    /// <summary>Asks all checks of a machine.</summary>
    public static Gate Judge(IEnumerable<Check> checks, Machine machine, Moment moment, DateTimeOffset now)
    {
        ImmutableArray<CheckResult> results = [.. checks.Select(c => Ask(c, machine, moment, now)).OfType<CheckResult>()];
        var musts = results.Where(r => r.Check.Need == Need.Must).ToArray();
        var state = musts.Any(r => r.State == CheckState.Unmet) ? GateState.Shut
            : musts.Any(r => r.State == CheckState.Untold) ? GateState.Undecided
            : GateState.Open;
        return new(state, moment, results, results.Min(r => r.Until));
    }

    /// <summary>Asks one check; null where its moments are all over.</summary>
    private static CheckResult? Ask(Check check, Machine machine, Moment moment, DateTimeOffset now)
    {
        if (!check.AskedAt.Contains(moment))
        {
            var later = moment != Moment.Proof && check.AskedAt.Any(m => m > moment && m != Moment.Proof);
            return later ? new(check, CheckState.Deferred, [], null) : null;
        }

        var use = new Use(now, check.Fresh);
        if (check.AppliesTo is { } appliesTo)
        {
            var applies = appliesTo.Ask(machine, use);
            if (applies.Value == Kleene.No) return new(check, CheckState.NotApplicable, applies.Leaves, applies.Until);
            if (applies.Value == Kleene.CannotTell) return new(check, CheckState.Untold, applies.Leaves, applies.Until);
        }

        var answer = check.Wants.Ask(machine, use);
        var state = answer.Value switch
        {
            Kleene.Yes => CheckState.Met,
            Kleene.No => CheckState.Unmet,
            _ => CheckState.Untold,
        };
        return new(check, state, answer.Leaves, answer.Until);
    }
}
