using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Gates;

/// <summary>What came of one check, from what matters least to what matters most.</summary>
public enum CheckState
{
    /// <summary>It does not apply to this machine.</summary>
    NotApplicable,

    /// <summary>It holds.</summary>
    Met,

    /// <summary>It is evaluated at a later moment.</summary>
    Deferred,

    /// <summary>It does not hold or is unknown, and a person has decided to go on in spite of it.</summary>
    Waived,

    /// <summary>It is unknown.</summary>
    Unknown,

    /// <summary>It does not hold.</summary>
    Unmet,
}

/// <summary>One check's answer, with what was seen.</summary>
/// <param name="Check">The check.</param>
/// <param name="State">What came of it.</param>
/// <param name="Seen">The comparisons that decided it, with the readings they looked at.</param>
/// <param name="Until">When the answer may change by age alone; null where it will not.</param>
public sealed record CheckResult(Check Check, CheckState State, IReadOnlyList<Leaf> Seen, DateTimeOffset? Until)
{
    /// <summary>The waiver that counts; null where none does.</summary>
    public Waiver? Waiver { get; init; }

    /// <summary>Why a waiver that was given no longer counts; null where none was or it does.</summary>
    public string? Lapsed { get; init; }
}

/// <summary>Whether a machine may pass.</summary>
public enum GateState
{
    /// <summary>No must is unmet or unknown.</summary>
    Open,

    /// <summary>No must is unmet, but one is unknown.</summary>
    Undecided,

    /// <summary>A must is unmet.</summary>
    Blocked,
}

/// <summary>All checks of one hop by one method for one machine at one moment.</summary>
/// <param name="State">Open, undecided or blocked.</param>
/// <param name="Moment">The moment that was asked about.</param>
/// <param name="Checks">Every check, in catalogue order.</param>
/// <param name="Until">When a check's answer may change by age alone; null where none will.</param>
public sealed record Gate(GateState State, Moment Moment, ImmutableArray<CheckResult> Checks, DateTimeOffset? Until)
{
    /// <summary>The musts that keep the gate from being open.</summary>
    public IEnumerable<CheckResult> InTheWay => Of(Need.Must);

    /// <summary>The recommended checks that do not hold or are unknown.</summary>
    public IEnumerable<CheckResult> Cautions => Of(Need.Should);

    /// <summary>Whether a must is unmet that nobody can fix.</summary>
    public bool CannotBeFixed => InTheWay.Any(c => c.State == CheckState.Unmet && c.Check.Fix.By == FixedBy.Nobody);

    private IEnumerable<CheckResult> Of(Need need) =>
        Checks.Where(c => c.Check.Need == need && c.State is (CheckState.Unmet or CheckState.Unknown));

    /// <summary>Asks all checks of a machine.</summary>
    /// <param name="checks">The checks.</param>
    /// <param name="machine">The machine; on a later leg, as it will be then.</param>
    /// <param name="moment">When they are asked.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="waivers">The waivers given for this machine.</param>
    /// <param name="brought">The keys that an earlier leg brings: what holds of them now is asked again when that leg is done.</param>
    public static Gate Judge(
        IEnumerable<Check> checks,
        Machine machine,
        Moment moment,
        DateTimeOffset now,
        IReadOnlyList<Waiver>? waivers = null,
        IReadOnlySet<string>? brought = null
    )
    {
        ImmutableArray<CheckResult> results =
        [
            .. checks.Select(c => Ask(c, machine, moment, now, brought)).OfType<CheckResult>().Select(r => Waived(r, waivers ?? [], now)),
        ];
        return new(StateOf(results), moment, results, results.Min(r => r.Until));
    }

    /// <summary>The worst result of the required checks.</summary>
    internal static GateState StateOf(IEnumerable<CheckResult> results) =>
        results.Where(r => r.Check.Need == Need.Must).Select(r => r.State).DefaultIfEmpty().Max() switch
        {
            CheckState.Unmet => GateState.Blocked,
            CheckState.Unknown => GateState.Undecided,
            _ => GateState.Open,
        };

    /// <summary>What an answer comes to.</summary>
    internal static CheckState StateOf(Kleene answer, Check check, bool brought) =>
        answer switch
        {
            Kleene.No => CheckState.Unmet,
            Kleene.Unknown when check.IsKnownIssue => CheckState.Unmet,
            _ when brought => CheckState.Deferred,
            Kleene.Yes => CheckState.Met,
            _ => CheckState.Unknown,
        };

    /// <summary>Whether a check is asked at a moment; null where it is over.</summary>
    internal static bool? IsAsked(Check check, Moment moment) =>
        check.AskedAt.Contains(moment) ? true
        : moment != Moment.Verification && check.AskedAt.Any(m => m > moment && m != Moment.Verification) ? false
        : null;

    /// <summary>Asks one check; null where its moments are all over.</summary>
    private static CheckResult? Ask(Check check, Machine machine, Moment moment, DateTimeOffset now, IReadOnlySet<string>? brought)
    {
        if (IsAsked(check, moment) is not { } asked)
            return null;
        if (!asked)
            return new(check, CheckState.Deferred, [], null);
        var context = new EvaluationContext(now, check.Fresh);
        if (check.AppliesTo is { } appliesTo)
        {
            var applies = appliesTo.Ask(machine, context);
            if (applies.Value == Kleene.No)
                return new(check, CheckState.NotApplicable, applies.Leaves, applies.Until);
            if (applies.Value == Kleene.Unknown)
                return new(check, CheckState.Unknown, applies.Leaves, applies.Until);
        }

        var answer = check.Wants.Ask(machine, context);
        return new(
            check,
            StateOf(answer.Value, check, brought is not null && check.Keys.Any(brought.Contains)),
            answer.Leaves,
            answer.Until
        );
    }

    private static CheckResult Waived(CheckResult result, IReadOnlyList<Waiver> waivers, DateTimeOffset now)
    {
        if (
            result.State is not (CheckState.Unmet or CheckState.Unknown)
            || waivers.LastOrDefault(w => w.Check == result.Check.Name) is not { } waiver
        )
            return result;
        return waiver.LapsedBecause(result, now) is { } why
            ? result with
            {
                Lapsed = why,
            }
            : result with
            {
                State = CheckState.Waived,
                Waiver = waiver,
                Until = result.Until < waiver.Until ? result.Until : waiver.Until,
            };
    }
}
