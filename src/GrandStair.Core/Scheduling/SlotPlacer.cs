using System.Collections.Immutable;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Scheduling;

/// <summary>
/// Gives machines their slots by list scheduling: one after another, each the earliest time that windows, limits, uplinks, crews and
/// clusters leave. Whose site takes longest goes first. Small plans are tried in many orders and the best is kept; the draws are
/// seeded, so that the same case gives the same slots. A slot that stands already stays as long as nothing is in its way.
/// </summary>
public static class SlotPlacer
{
    /// <summary>How far ahead slots are looked for.</summary>
    public static readonly TimeSpan Horizon = TimeSpan.FromDays(120);

    /// <summary>Slots begin at full multiples of this.</summary>
    public static readonly TimeSpan Grain = TimeSpan.FromMinutes(1);

    /// <summary>How many machines are placed at most while looking for a better order.</summary>
    private const int Work = 150_000;

    private const int MostRounds = 2500;

    /// <summary>How many machines a site has at most for which every one is looked at by itself when it is packed.</summary>
    private const int FewAtSite = 80;

    /// <summary>Places the machines of a case.</summary>
    public static Schedule Place(ScheduleCase @case)
    {
        ArgumentNullException.ThrowIfNull(@case);
        var problem = new ScheduleProblem(@case);
        var bound = @case.Thorough ? problem.Bound() : null;
        var board = Best(problem, bound, @case.Thorough);
        var placed = ImmutableArray.CreateBuilder<Placed>(problem.Jobs.Length);
        var moved = ImmutableArray.CreateBuilder<MovedSlot>();
        var stagings = board.Stagings();
        foreach (var job in problem.Jobs)
        {
            var slot = board.SlotOf(job, stagings);
            var (why, change) = slot is null ? board.Explain(job) : (null, null);
            placed.Add(new(job.Request.Machine, slot, why, change));
            if (job.Request.Stands is { } before && (slot is null || slot.Start != before.Start))
                moved.Add(new(job.Request.Machine, before, slot));
        }

        return new(placed.MoveToImmutable(), bound, moved.ToImmutable());
    }

    /// <summary>What takes longest at each of some sites, in whatever order.</summary>
    internal static Cause[] Tightest(ScheduleCase @case, IEnumerable<string> sites)
    {
        var problem = new ScheduleProblem(@case);
        return [.. sites.Select(problem.TightestOf)];
    }

    private static Board Best(ScheduleProblem problem, ScheduleBound? bound, bool thorough)
    {
        var order = problem
            .Jobs.Where(j => j.Request.Stands is null)
            .OrderByDescending(j => problem.SiteEnds[j.Site])
            .ThenBy(j => problem.Width(j))
            .ThenByDescending(j => j.Lasts)
            .ThenBy(j => j.Request.Name, StringComparer.OrdinalIgnoreCase)
            .ThenBy(j => j.Index)
            .ToArray();
        var best = new Board(problem);
        Run(problem, best, order);
        Board? spare = null;
        var score = best.Score;
        var rounds = order.Length < 2 || !thorough ? 0 : Math.Min(MostRounds, Work / order.Length);
        var end = bound is null ? 0 : problem.MinuteOf(bound.End);
        var late = order
            .Where(j => thorough && score.End > end && problem.SiteEnds[j.Site] < int.MaxValue)
            .GroupBy(j => j.Site)
            .Where(g => g.Max(best.EndOf) > end)
            .ToArray();
        if (late.Length > 0)
            Pack(Packing.Order);
        if (late.Length > 0 && late.All(g => g.Count() <= FewAtSite))
        {
            Pack(Packing.OrderOfFew);
            Pack(Packing.OrderOfFewLongestFirst);
        }

        var draw = new Draws(29);
        foreach (var usual in rounds < 5 ? [] : Orders(problem, order))
        {
            if (score.Left == 0 && score.End <= end)
                break;
            Keep(usual);
        }

        for (var round = 0; round < rounds && (score.Left > 0 || score.End > end); round++)
        {
            var next = (Job[])order.Clone();
            // A job that ends last or has no slot moves forward in the order; otherwise two jobs are swapped.
            var last =
                draw.Next(3) > 0 ? Array.FindIndex(next, j => best.EndOf(j) is var e && (e == score.End || e < 0)) : draw.Next(next.Length);
            if (last < 0)
                last = draw.Next(next.Length);
            var to = draw.Next(next.Length);
            var moving = next[last];
            if (to < last)
                Array.Copy(next, to, next, to + 1, last - to);
            else
                Array.Copy(next, last + 1, next, last, to - last);
            next[to] = moving;
            Keep(next);
        }

        return best;

        void Pack(Func<ScheduleProblem, IReadOnlyCollection<Job>, Job[]> pack)
        {
            var packed = late.ToDictionary(g => g.Key, g => new Queue<Job>(pack(problem, [.. g])));
            Keep([.. order.Select(j => packed.TryGetValue(j.Site, out var site) ? site.Dequeue() : j)]);
        }

        void Keep(Job[] next)
        {
            if (spare is null)
                spare = new(problem);
            else
                spare.Clear();
            Run(problem, spare, next);
            if (spare.Score is var other && other.CompareTo(score) > 0)
                return;
            (best, spare, order, score) = (spare, best, next, other);
        }
    }

    /// <summary>Other orders that often give good schedules.</summary>
    private static IEnumerable<Job[]> Orders(ScheduleProblem problem, Job[] order)
    {
        yield return [.. order.OrderByDescending(j => j.Lasts)];
        yield return [.. order.OrderBy(j => problem.Width(j)).ThenByDescending(j => j.Lasts)];
        yield return [.. order.OrderByDescending(j => j.Kind >= 0).ThenByDescending(j => j.Lasts)];
        yield return [.. order.OrderByDescending(j => problem.SiteEnds[j.Site]).ThenBy(j => j.UplinkMinutes)];
        yield return [.. order.OrderBy(j => j.Lasts)];
    }

    private static void Run(ScheduleProblem problem, Board board, Job[] order)
    {
        foreach (var job in problem.WithSlot)
            board.TryStand(job);
        foreach (var job in problem.WithSlot)
            board.PlaceWithThoseBefore(job);
        foreach (var job in order)
            board.PlaceWithThoseBefore(job);
    }
}

/// <summary>How good a schedule is: fewer left out, then an earlier end, then earlier on the whole.</summary>
internal readonly record struct ScheduleScore(int Left, int End, long Sum) : IComparable<ScheduleScore>
{
    public int CompareTo(ScheduleScore other) => (Left, End, Sum).CompareTo((other.Left, other.End, other.Sum));
}
