using System.Collections.Immutable;
using System.Runtime.CompilerServices;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;

namespace GrandStair.Core.Readiness;

/// <summary>How one check fares over a scope.</summary>
/// <param name="Check">The check.</param>
/// <param name="Counts">How many machines it came to what on.</param>
/// <param name="Opens">How many gates would open if this check alone were mended.</param>
public sealed record CheckTally(Check Check, ImmutableDictionary<CheckState, int> Counts, int Opens)
{
    /// <summary>How many machines it came to that on.</summary>
    public int this[CheckState state] => Counts.GetValueOrDefault(state);
}

/// <summary>One thing to mend, in the order in which mending opens the most gates.</summary>
/// <param name="Check">The check.</param>
/// <param name="Machines">The machines that it is in the way of and that can be mended.</param>
/// <param name="Opens">How many gates open when it is mended after all that come before it.</param>
/// <param name="OpenThen">How many of the scope's gates are open then.</param>
public sealed record Mending(Check Check, int Machines, int Opens, int OpenThen);

/// <summary>A fleet's judgement over a scope, in numbers.</summary>
/// <param name="Machines">How many machines of the product are in the scope.</param>
/// <param name="Arrived">How many run the target.</param>
/// <param name="Open">How many can go.</param>
/// <param name="Undecided">Of how many it cannot be told.</param>
/// <param name="Shut">How many cannot go.</param>
/// <param name="BeyondMending">How many of the shut ones nobody can mend.</param>
/// <param name="WaitingForOffer">How many are eligible and not offered the release yet.</param>
/// <param name="Checks">Every check with its counts.</param>
/// <param name="Reasons">What keeps machines from having a gate at all, most machines first.</param>
/// <param name="ToMend">What to mend, in the order in which it opens the most gates.</param>
public sealed record FleetSummary(
    int Machines, int Arrived, int Open, int Undecided, int Shut, int BeyondMending, int WaitingForOffer,
    ImmutableArray<CheckTally> Checks, ImmutableArray<(string Reason, int Machines)> Reasons, ImmutableArray<Mending> ToMend)
{
    // One bit a check: no release has as many musts.
    private const int MostRanked = 128;

    /// <summary>Counts a judgement.</summary>
    /// <param name="judgement">The judgement.</param>
    /// <param name="scope">Which rows count; null for all.</param>
    public static FleetSummary Of(FleetJudgement judgement, bool[]? scope = null)
    {
        ArgumentNullException.ThrowIfNull(judgement);
        var places = new int[Enum.GetValues<Place>().Length];
        var (beyond, waiting) = (0, 0);
        var reasons = new Dictionary<string, int>(StringComparer.Ordinal);
        var columns = judgement.Checks.ToArray();
        var counts = columns.Select(_ => new int[Enum.GetValues<CheckState>().Length + 1]).ToArray();
        var musts = columns.Select((c, i) => (Column: c, Index: i)).Where(c => c.Column.Check.Need == Need.Must).Take(MostRanked).ToArray();
        var inTheWay = new Dictionary<UInt128, int>();
        var counted = new bool[judgement.Rows];
        var ranked = new UInt128[judgement.Rows];
        for (var row = 0; row < judgement.Rows; row++)
        {
            var place = judgement.PlaceOf(row);
            if (place == Place.Elsewhere || scope?[row] == false) continue;
            places[(int)place]++;
            if (judgement.IsBeyondMending(row)) beyond++;
            if (judgement.IsWaitingForOffer(row)) waiting++;
            if (judgement.ReasonOf(row) is { } reason) reasons[reason] = reasons.GetValueOrDefault(reason) + 1;
            counted[row] = place != Place.Arrived;
        }

        Parallel.For(0, columns.Length, i => Count(columns[i].States, counted, counts[i]));
        for (var i = 0; i < musts.Length; i++) Add(musts[i].Column.States, UInt128.One << i, ranked);
        for (var row = 0; row < judgement.Rows; row++)
        {
            if (counted[row] && judgement.IsGated(row) && judgement.PlaceOf(row) != Place.Open)
                System.Runtime.InteropServices.CollectionsMarshal.GetValueRefOrAddDefault(inTheWay, ranked[row], out _)++;
        }

        var alone = musts.Select((_, i) => inTheWay.GetValueOrDefault(UInt128.One << i)).ToArray();
        var opens = musts.Select((m, i) => (m.Index, Opens: m.Column.Check.Fix.By == Mender.Nobody ? 0 : alone[i])).ToDictionary(m => m.Index, m => m.Opens);
        ImmutableArray<CheckTally> tallies = [.. columns.Select((c, i) => new CheckTally(
            c.Check,
            Enum.GetValues<CheckState>().ToImmutableDictionary(s => s, s => counts[i][(int)s + 1]),
            opens.GetValueOrDefault(i)))];
        return new(
            places.Sum(),
            places[(int)Place.Arrived],
            places[(int)Place.Open],
            places[(int)Place.Undecided],
            places[(int)Place.Shut],
            beyond,
            waiting,
            [.. tallies.Where(t => t.Counts.Values.Any(n => n > 0)).OrderByDescending(t => t.Opens).ThenByDescending(t => t[CheckState.Unmet] + t[CheckState.Untold]).ThenBy(t => t.Check.Title, StringComparer.Ordinal)],
            [.. reasons.OrderByDescending(r => r.Value).ThenBy(r => r.Key, StringComparer.Ordinal).Select(r => (r.Key, r.Value))],
            Rank([.. musts.Select(m => m.Column.Check)], inTheWay, places[(int)Place.Open]));
    }

    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void Count(ReadOnlySpan<byte> states, bool[] counted, int[] counts)
    {
        for (var row = 0; row < states.Length && row < counted.Length; row++) if (counted[row]) counts[states[row]]++;
    }

    /// <summary>Adds a check's bit to every row that it is in the way of.</summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static void Add(ReadOnlySpan<byte> states, UInt128 bit, UInt128[] rows)
    {
        for (var row = 0; row < states.Length && row < rows.Length; row++) if (states[row] > (byte)CheckState.Untold) rows[row] |= bit;
    }

    /// <summary>Takes again and again the check that opens the most gates; where none opens one alone, the one in the way of most.</summary>
    private static ImmutableArray<Mending> Rank(Check[] musts, Dictionary<UInt128, int> inTheWay, int open)
    {
        var nobodys = Bits(musts, c => c.Fix.By == Mender.Nobody);
        var left = inTheWay.Where(b => b.Key != 0 && (b.Key & nobodys) == 0).ToDictionary();
        var machines = Weigh(left, musts.Length).Machines;
        var ranked = ImmutableArray.CreateBuilder<Mending>();
        while (left.Count > 0)
        {
            var (opens, weights, _) = Weigh(left, musts.Length);
            var best = Enumerable.Range(0, musts.Length).MaxBy(i => (opens[i], weights[i]));
            open += opens[best];
            ranked.Add(new(musts[best], machines[best], opens[best], open));
            left = Without(left, UInt128.One << best);
        }

        return ranked.ToImmutable();
    }

    /// <summary>By must: how many gates it alone keeps, its share in keeping all of them, and how many machines it is in the way of.</summary>
    private static (int[] Opens, double[] Weights, int[] Machines) Weigh(Dictionary<UInt128, int> inTheWay, int musts)
    {
        var (opens, weights, machines) = (new int[musts], new double[musts], new int[musts]);
        foreach (var (bits, count) in inTheWay)
        {
            var several = (int)UInt128.PopCount(bits);
            for (var rest = bits; rest != 0; rest &= rest - 1)
            {
                var must = (int)UInt128.TrailingZeroCount(rest);
                if (several == 1) opens[must] += count;
                weights[must] += count / (double)several;
                machines[must] += count;
            }
        }

        return (opens, weights, machines);
    }

    private static Dictionary<UInt128, int> Without(Dictionary<UInt128, int> inTheWay, UInt128 bit)
    {
        var left = new Dictionary<UInt128, int>(inTheWay.Count);
        foreach (var (bits, count) in inTheWay)
        {
            if (bits == bit) continue;
            System.Runtime.InteropServices.CollectionsMarshal.GetValueRefOrAddDefault(left, bits & ~bit, out _) += count;
        }

        return left;
    }

    private static UInt128 Bits(Check[] checks, Func<Check, bool> which) =>
        checks.Select((c, i) => which(c) ? UInt128.One << i : 0).Aggregate(UInt128.Zero, (a, b) => a | b);
}
