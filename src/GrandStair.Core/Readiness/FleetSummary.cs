using System.Collections.Immutable;
using System.Numerics;
using System.Runtime.CompilerServices;
using System.Runtime.Intrinsics;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;

namespace GrandStair.Core.Readiness;

/// <summary>How one check fares over a scope.</summary>
/// <param name="Check">The check.</param>
/// <param name="Counts">How many machines it came to what on.</param>
/// <param name="Opens">How many gates would open if this check alone were fixed.</param>
public sealed record CheckTally(Check Check, ImmutableDictionary<CheckState, int> Counts, int Opens)
{
    /// <summary>How many machines it came to that on.</summary>
    public int this[CheckState state] => Counts.GetValueOrDefault(state);
}

/// <summary>One thing to fix, in the order in which fixing opens the most gates.</summary>
/// <param name="Check">The check.</param>
/// <param name="Machines">The machines that it is in the way of and that can be fixed.</param>
/// <param name="Opens">How many gates open when it is fixed after all that come before it.</param>
/// <param name="OpenThen">How many of the scope's gates are open then.</param>
public sealed record Fixing(Check Check, int Machines, int Opens, int OpenThen);

/// <summary>A fleet's judgement over a scope, in numbers.</summary>
/// <param name="Machines">How many machines of the product are in the scope.</param>
/// <param name="Arrived">How many run the target.</param>
/// <param name="Open">How many can go.</param>
/// <param name="Undecided">How many are unknown.</param>
/// <param name="Blocked">How many cannot go.</param>
/// <param name="NotFixable">How many of the blocked ones nobody can fix.</param>
/// <param name="WaitingForOffer">How many are eligible and not offered the release yet.</param>
/// <param name="Checks">Every check with its counts.</param>
/// <param name="Reasons">What keeps machines from having a gate at all, most machines first.</param>
/// <param name="ToFix">What to fix, in the order in which it opens the most gates.</param>
public sealed record FleetSummary(
    int Machines,
    int Arrived,
    int Open,
    int Undecided,
    int Blocked,
    int NotFixable,
    int WaitingForOffer,
    ImmutableArray<CheckTally> Checks,
    ImmutableArray<(string Reason, int Machines)> Reasons,
    ImmutableArray<Fixing> ToFix
)
{
    // One bit a check: no release has as many musts.
    private const int MostRanked = 128;
    private const int RowsAtOnce = 4096;

    /// <summary>Counts a judgement.</summary>
    /// <param name="judgement">The judgement.</param>
    /// <param name="scope">Which rows count; null for all.</param>
    public static FleetSummary Of(FleetJudgement judgement, bool[]? scope = null)
    {
        ArgumentNullException.ThrowIfNull(judgement);
        var columns = judgement.Checks.ToArray();
        var musts = columns.Where(c => c.Check.Need == Need.Must).Take(MostRanked).ToArray();
        var parts = new Part[(judgement.Rows + RowsAtOnce - 1) / RowsAtOnce];
        Parallel.For(0, parts.Length, i =>
            parts[i] = new(judgement, columns, musts, scope, i * RowsAtOnce, Math.Min(judgement.Rows, (i + 1) * RowsAtOnce))
        );

        var places = Enum.GetValues<Place>().Select((_, place) => parts.Sum(p => p.Places[place])).ToArray();
        var reasons = parts.SelectMany(p => p.Reasons).GroupBy(r => r.Key).Select(g => (Reason: g.Key, Machines: g.Sum(r => r.Value)));
        UInt128[] inTheWay = [.. parts.SelectMany(p => p.InTheWay)];
        var alone = new Weights(musts.Length, inTheWay).Alone;
        var opens = musts
            .Select((m, i) => (m.Check, Opens: m.Check.Fix.By == FixedBy.Nobody ? 0 : alone[i]))
            .ToDictionary(m => m.Check, m => m.Opens);
        ImmutableArray<CheckTally> tallies =
        [
            .. columns.Select(
                (c, i) =>
                    new CheckTally(
                        c.Check,
                        Enum.GetValues<CheckState>().ToImmutableDictionary(s => s, s => parts.Sum(p => p.Counts[i][(int)s + 1])),
                        opens.GetValueOrDefault(c.Check)
                    )
            ),
        ];
        return new(
            places.Sum() - places[(int)Place.Elsewhere],
            places[(int)Place.Arrived],
            places[(int)Place.Open],
            places[(int)Place.Undecided],
            places[(int)Place.Blocked],
            parts.Sum(p => p.NotFixable),
            parts.Sum(p => p.WaitingForOffer),
            [
                .. tallies
                    .Where(t => t.Counts.Values.Any(n => n > 0))
                    .OrderByDescending(t => t.Opens)
                    .ThenByDescending(t => t[CheckState.Unmet] + t[CheckState.Unknown])
                    .ThenBy(t => t.Check.Title, StringComparer.Ordinal),
            ],
            [.. reasons.OrderByDescending(r => r.Machines).ThenBy(r => r.Reason, StringComparer.Ordinal)],
            Rank([.. musts.Select(m => m.Check)], inTheWay, places[(int)Place.Open])
        );
    }

    /// <summary>
    /// Takes again and again the check that opens the most gates; where none opens one alone, the one in the way of most.
    /// </summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    private static ImmutableArray<Fixing> Rank(Check[] musts, UInt128[] inTheWay, int open)
    {
        var nobodys = musts.Select((c, i) => c.Fix.By == FixedBy.Nobody ? UInt128.One << i : 0).Aggregate(UInt128.Zero, (a, b) => a | b);
        var left = inTheWay.Where(b => (b & nobodys) == 0).ToArray();
        var weights = new Weights(musts.Length, left);
        var machines = weights.Machines.ToArray();
        var keptBy = machines.Select(m => new List<int>(m)).ToArray();
        for (var i = 0; i < left.Length; i++)
        {
            for (var rest = left[i]; rest != 0; rest &= rest - 1)
                keptBy[(int)UInt128.TrailingZeroCount(rest)].Add(i);
        }

        var ranked = ImmutableArray.CreateBuilder<Fixing>();
        while (weights.Heaviest() is { } best)
        {
            open += weights.Alone[best];
            ranked.Add(new(musts[best], machines[best], weights.Alone[best], open));
            foreach (var i in keptBy[best])
            {
                weights.Add(left[i], -1);
                left[i] ^= UInt128.One << best;
                weights.Add(left[i], 1);
            }
        }

        return ranked.ToImmutable();
    }

    /// <summary>The counts of some rows.</summary>
    private sealed class Part
    {
        // 255 where a row counts, so that it masks.
        private readonly byte[] _counted;

        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        public Part(FleetJudgement judgement, CheckColumn[] columns, CheckColumn[] musts, bool[]? scope, int from, int to)
        {
            _counted = new byte[to - from];
            var ranked = new UInt128[to - from];
            for (var row = from; row < to; row++)
            {
                var place = judgement.PlaceOf(row);
                if (place == Place.Elsewhere || scope?[row] == false)
                    continue;
                Places[(int)place]++;
                if (judgement.IsNotFixable(row))
                    NotFixable++;
                if (judgement.IsWaitingForOffer(row))
                    WaitingForOffer++;
                if (judgement.ReasonOf(row) is { } reason)
                    Reasons[reason] = Reasons.GetValueOrDefault(reason) + 1;
                _counted[row - from] = place != Place.Arrived ? byte.MaxValue : (byte)0;
            }

            Counts = [.. columns.Select(c => Count(c.States.AsSpan(from, to - from)))];
            for (var i = 0; i < musts.Length; i++)
                Add(musts[i].States.AsSpan(from, to - from), UInt128.One << i, ranked);
            for (var row = from; row < to; row++)
                if (_counted[row - from] != 0 && judgement.IsGated(row) && judgement.PlaceOf(row) != Place.Open)
                    InTheWay.Add(ranked[row - from]);
        }

        public int[] Places { get; } = new int[Enum.GetValues<Place>().Length];

        public int NotFixable { get; }

        public int WaitingForOffer { get; }

        public Dictionary<string, int> Reasons { get; } = new(StringComparer.Ordinal);

        /// <summary>By check, how many machines it came to what on.</summary>
        public int[][] Counts { get; }

        /// <summary>For every machine with a gate that is not open, a bit for each must that is in the way.</summary>
        public List<UInt128> InTheWay { get; } = [];

        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        private int[] Count(ReadOnlySpan<byte> states)
        {
            var counts = new int[Enum.GetValues<CheckState>().Length + 1];
            var row = 0;
            for (; row <= states.Length - Vector256<byte>.Count; row += Vector256<byte>.Count)
            {
                var (state, counted) = (Vector256.Create(states.Slice(row, Vector256<byte>.Count)), Vector256.Create(_counted, row));
                for (var one = 1; one < counts.Length; one++)
                    counts[one] += BitOperations.PopCount(
                        (Vector256.Equals(state, Vector256.Create((byte)one)) & counted).ExtractMostSignificantBits()
                    );
            }

            for (; row < states.Length; row++)
                if (_counted[row] != 0)
                    counts[states[row]]++;
            return counts;
        }

        /// <summary>Adds a check's bit to every row that it is in the way of.</summary>
        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        private static void Add(ReadOnlySpan<byte> states, UInt128 bit, UInt128[] rows)
        {
            var row = 0;
            for (; row <= states.Length - Vector256<byte>.Count; row += Vector256<byte>.Count)
            {
                var found = Vector256
                    .GreaterThan(Vector256.Create(states.Slice(row, Vector256<byte>.Count)), Vector256.Create((byte)CheckState.Unknown))
                    .ExtractMostSignificantBits();
                for (; found != 0; found &= found - 1)
                    rows[row + BitOperations.TrailingZeroCount(found)] |= bit;
            }

            for (; row < states.Length; row++)
                if (states[row] > (byte)CheckState.Unknown)
                    rows[row] |= bit;
        }
    }

    /// <summary>
    /// By must: how many gates it alone keeps, its share in keeping all of them, and how many machines it is in the way of.
    /// </summary>
    private sealed class Weights
    {
        // Divides by every count of musts up to sixteen; beyond that a share is as good as exact.
        private const long Whole = 720_720;
        private readonly long[] _shares;

        public Weights(int musts, UInt128[] inTheWay)
        {
            (Alone, Machines, _shares) = (new int[musts], new int[musts], new long[musts]);
            foreach (var bits in inTheWay)
                Add(bits, 1);
        }

        public int[] Alone { get; }

        public int[] Machines { get; }

        /// <summary>
        /// The must that keeps the most gates alone, and of these the one with the greatest share; null where nothing is in the way.
        /// </summary>
        public int? Heaviest() =>
            Enumerable.Range(0, Alone.Length).Where(i => Machines[i] > 0).Cast<int?>().MaxBy(i => (Alone[i!.Value], _shares[i.Value]));

        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        public void Add(UInt128 bits, int times)
        {
            var several = (int)UInt128.PopCount(bits);
            if (several == 0)
                return;
            var share = times * (Whole / several);
            for (var rest = bits; rest != 0; rest &= rest - 1)
            {
                var must = (int)UInt128.TrailingZeroCount(rest);
                if (several == 1)
                    Alone[must] += times;
                _shares[must] += share;
                Machines[must] += times;
            }
        }
    }
}
