using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Gates;

/// <summary>A named person's decision to let a machine go on in spite of a must, until a date.</summary>
/// <param name="Check">The check's name.</param>
/// <param name="Version">The check's version then.</param>
/// <param name="Seen">What was seen then under every key that decided, as <see cref="SeenIn"/> writes it.</param>
/// <param name="Reason">Why, in a sentence.</param>
/// <param name="By">Who decided it.</param>
/// <param name="Given">When, UTC.</param>
/// <param name="Until">When it ends, UTC.</param>
public sealed record Waiver(
    string Check,
    string Version,
    ImmutableSortedDictionary<string, string> Seen,
    string Reason,
    string By,
    DateTimeOffset Given,
    DateTimeOffset Until
)
{
    private const string NeverSeen = "never seen";
    private const int ShownOfValue = 80;

    /// <summary>What decided a check, by key, so that a later look shows whether it got worse.</summary>
    public static ImmutableSortedDictionary<string, string> SeenIn(CheckResult result)
    {
        ArgumentNullException.ThrowIfNull(result);
        return result.Seen.GroupBy(l => l.Key).ToImmutableSortedDictionary(g => g.Key, g => TextOf(g.First()));
    }

    /// <summary>Why it does not count for a check that is unmet or unknown now; null where it does.</summary>
    public string? LapsedBecause(CheckResult result, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(result);
        if (now >= Until)
            return $"the waiver by {By} ended on {Until:yyyy-MM-dd}";
        if (!result.Check.Waivable)
            return "this check cannot be waived any more";
        if (result.Check.Version != Version)
            return $"the check was changed since {By} waived it";
        foreach (var leaf in result.Seen)
        {
            var then = Seen.GetValueOrDefault(leaf.Key, NeverSeen);
            if (IsWorse(result.Check, leaf, then))
                return $"{leaf.Key} was '{PlainText.Shorten(then, ShownOfValue)}' when {By} waived it and is "
                    + $"'{PlainText.Shorten(leaf.Show(), ShownOfValue)}' now";
        }

        return null;
    }

    private static string TextOf(Leaf leaf) =>
        leaf.Rows.Count > 0
            ? string.Join('\n', leaf.Rows)
            : leaf.Reading switch
            {
                null => NeverSeen,
                { State: ReadingState.Value } r => r.Value!.Text,
                var r => r.Show(),
            };

    /// <summary>What differs is worse, unless the comparison has an order and it has moved the right way, or a table lost rows.</summary>
    private static bool IsWorse(Check check, Leaf leaf, string then)
    {
        var text = TextOf(leaf);
        if (text == then)
            return false;
        if (leaf.Rows.Count > 0)
            return leaf.Rows.Except(then.Split('\n')).Any();
        if (leaf.Reading?.Value is not { } value || Comparisons(check.Wants).FirstOrDefault(c => c.Text == leaf.Text) is not { } compares)
            return true;
        if (compares.Key.Parse(then, out _) is not { } before)
            return true;
        var order =
            value.Kind == ValueKind.Version
                ? VersionOrder.Instance.Compare(value.Text, before.Text)
                : value.Amount.CompareTo(before.Amount);
        return compares.How switch
        {
            Comparison.AtLeast or Comparison.Greater => order < 0,
            Comparison.AtMost or Comparison.Less => order > 0,
            Comparison.Equal when value.Kind is ValueKind.Number && compares.With[0].Value!.Amount == 0 => Math.Abs(value.Amount)
                > Math.Abs(before.Amount),
            _ => true,
        };
    }

    private static IEnumerable<Compares> Comparisons(Condition condition) =>
        condition switch
        {
            All all => all.Parts.SelectMany(Comparisons),
            Any any => any.Parts.SelectMany(Comparisons),
            Compares compares => [compares],
            // Within a 'not' a rise is what a fall is outside of it: there whatever differs counts as worse.
            _ => [],
        };
}
