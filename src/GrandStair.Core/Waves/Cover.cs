using System.Collections.Immutable;

namespace GrandStair.Core.Waves;

/// <summary>Finds a small set of candidates that covers every value that occurs: set cover by a greedy start and local search.</summary>
/// <remarks>
/// The greedy cover is within a factor of ln n of the smallest (Chvátal 1979). Removing some candidates and refilling, for a fixed number
/// of rounds, closes most of the gap. The random draws are seeded: the same candidates give the same cover.
/// </remarks>
public static class Cover
{
    private const int Work = 4_000_000;

    /// <summary>Chooses candidates.</summary>
    /// <param name="candidates">What each candidate has, as numbers from 0.</param>
    /// <param name="dislike">The cost of each candidate; among covers of the same size the cheapest is taken.</param>
    /// <returns>The positions of those chosen, in order.</returns>
    public static ImmutableArray<int> Choose(IReadOnlyList<IReadOnlyCollection<int>> candidates, IReadOnlyList<int> dislike)
    {
        ArgumentNullException.ThrowIfNull(candidates);
        ArgumentNullException.ThrowIfNull(dislike);
        var size = candidates.SelectMany(c => c).DefaultIfEmpty(-1).Max() + 1;
        if (size == 0)
            return [];
        // Of candidates with the same values only the cheapest is needed.
        var distinct = Enumerable
            .Range(0, candidates.Count)
            .Where(i => candidates[i].Count > 0)
            .GroupBy(i => string.Join(',', candidates[i].Order()))
            .Select(g => g.MinBy(i => (dislike[i], i)))
            .Order()
            .ToArray();
        var search = new Search(size, [.. distinct.Select(i => candidates[i].Distinct().ToArray())], [.. distinct.Select(i => dislike[i])]);
        return [.. search.Best().Select(i => distinct[i]).Order()];
    }

    private sealed class Search(int size, int[][] sets, int[] dislike)
    {
        private readonly Draws _draw = new(17);
        private readonly int[][] _having = Having(size, sets);

        public List<int> Best()
        {
            var best = Complete([], noise: 0);
            var rounds = Math.Clamp(Work / Math.Max(1, sets.Sum(s => s.Length)), 20, 4000);
            for (var round = 0; round < rounds && best.Count > 1; round++)
            {
                var kept = new List<int>(best);
                for (var out_ = 1 + _draw.Next(Math.Min(6, kept.Count)); out_ > 0; out_--)
                    kept.RemoveAt(_draw.Next(kept.Count));
                var next = Complete(kept, noise: 0.3);
                if (Cost(next).CompareTo(Cost(best)) <= 0)
                    best = next;
            }

            return best;
        }

        private (int Count, int Dislike) Cost(List<int> chosen) => (chosen.Count, chosen.Sum(c => dislike[c]));

        /// <summary>
        /// Adds the candidate that covers most until everything is covered, then removes those that are no longer needed.
        /// </summary>
        private List<int> Complete(List<int> chosen, double noise)
        {
            var times = new int[size];
            foreach (var e in chosen.SelectMany(c => sets[c]))
                times[e]++;
            var gain = new int[sets.Length];
            for (var s = 0; s < sets.Length; s++)
                gain[s] = sets[s].Count(e => times[e] == 0);
            var all = new List<int>(chosen);
            while (true)
            {
                var most = -1;
                var mostGain = 0.0;
                for (var s = 0; s < sets.Length; s++)
                {
                    if (gain[s] == 0)
                        continue;
                    var worth = gain[s] - (dislike[s] * 1e-3) + (noise > 0 ? _draw.NextDouble() * noise * gain[s] : 0);
                    if (most < 0 || worth > mostGain)
                        (most, mostGain) = (s, worth);
                }

                if (most < 0)
                    break;
                all.Add(most);
                foreach (var e in sets[most])
                {
                    if (times[e]++ > 0)
                        continue;
                    foreach (var s in _having[e])
                        gain[s]--;
                }
            }

            foreach (var c in all.OrderByDescending(c => dislike[c]).ThenBy(c => sets[c].Length).ToArray())
            {
                if (sets[c].Any(e => times[e] < 2))
                    continue;
                all.Remove(c);
                foreach (var e in sets[c])
                    times[e]--;
            }

            return all;
        }

        private static int[][] Having(int size, int[][] sets)
        {
            var having = Enumerable.Range(0, size).Select(_ => new List<int>()).ToArray();
            for (var s = 0; s < sets.Length; s++)
            {
                foreach (var e in sets[s])
                    having[e].Add(s);
            }

            return [.. having.Select(h => h.ToArray())];
        }
    }
}
