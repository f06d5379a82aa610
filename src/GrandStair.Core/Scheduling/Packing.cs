namespace GrandStair.Core.Scheduling;

/// <summary>
/// Finds an order that leaves little of a site's windows unused: window by window and place by place, the machines that fill it best are
/// found by adding up durations (the subset sum problem, solved exactly: there are few whole minutes). The machines are then placed in the
/// order of the starts found.
/// </summary>
internal static class Packing
{
    public static Job[] Order(ScheduleProblem problem, IReadOnlyCollection<Job> jobs)
    {
        var left = jobs.GroupBy(j => j.Lasts)
            .OrderByDescending(g => g.Key)
            .Select(g => (Lasts: g.Key, Jobs: new Stack<Job>(g.OrderByDescending(j => j.Request.Name, StringComparer.OrdinalIgnoreCase))))
            .ToArray();
        var planned = new List<(int Start, Job Job)>();
        var reserve = jobs.Max(j => j.Reserve);
        var most = Math.Min(problem.Plan.Limits.Site, jobs.Count);
        foreach (var window in problem.OpenTo(jobs.First()))
        {
            for (var place = 0; place < most && planned.Count < jobs.Count; place++)
            {
                var start = window.From;
                foreach (var lasts in Fill([.. left.Select(l => (l.Lasts, l.Jobs.Count))], window.Length - reserve))
                {
                    planned.Add((start, left.Single(l => l.Lasts == lasts).Jobs.Pop()));
                    start += lasts;
                }
            }
        }

        return [.. planned.OrderBy(p => p.Start).Select(p => p.Job), .. left.SelectMany(l => l.Jobs)];
    }

    /// <summary>
    /// The same for few machines, each with the time that going back takes for itself: what must be back earliest stands first within a
    /// window, and of those that then are in time the ones that fill it best are found exactly (Lawler and Moore's recurrence).
    /// </summary>
    public static Job[] OrderOfFew(ScheduleProblem problem, IReadOnlyCollection<Job> jobs) => OrderOfFew(problem, jobs, _ => null);

    /// <summary>
    /// The same, where each place has the longest that is left in any case: what is long does not stay over to the last (the minimum bin
    /// slack heuristic of Gupta and Ho, 1999).
    /// </summary>
    public static Job[] OrderOfFewLongestFirst(ScheduleProblem problem, IReadOnlyCollection<Job> jobs) =>
        OrderOfFew(problem, jobs, left => left.MaxBy(j => j.Lasts));

    private static Job[] OrderOfFew(ScheduleProblem problem, IReadOnlyCollection<Job> jobs, Func<List<Job>, Job?> mustHave)
    {
        var left = jobs.OrderByDescending(j => j.Reserve).ThenBy(j => j.Lasts).ThenBy(j => j.Index).ToList();
        var planned = new List<(int Start, Job Job)>();
        var most = Math.Min(problem.Plan.Limits.Site, jobs.Count);
        foreach (var window in problem.OpenTo(jobs.First()))
        {
            for (var place = 0; place < most && left.Count > 0; place++)
            {
                var start = window.From;
                foreach (var job in InTime(left, window.Length, mustHave(left)))
                {
                    planned.Add((start, job));
                    left.Remove(job);
                    start += job.Lasts;
                }
            }
        }

        return [.. planned.OrderBy(p => p.Start).Select(p => p.Job), .. left];
    }

    /// <summary>Those of some machines, ordered by when they must be through, that one after another fill a length best.</summary>
    /// <param name="jobs">The machines.</param>
    /// <param name="length">The length, minutes.</param>
    /// <param name="must">One that is among them in any case; null for none. Where it does not fit nothing is taken.</param>
    private static List<Job> InTime(List<Job> jobs, int length, Job? must)
    {
        // By machine and sum: whether the sum is reached with the machines up to this one, and whether by taking it.
        var reached = new bool[length + 1];
        reached[0] = true;
        var takes = new bool[jobs.Count][];
        for (var i = 0; i < jobs.Count; i++)
        {
            takes[i] = new bool[length + 1];
            if (jobs[i] == must)
            {
                for (var sum = length; sum >= 0; sum--)
                    reached[sum] = takes[i][sum] = sum >= jobs[i].Lasts && sum <= length - jobs[i].Reserve && reached[sum - jobs[i].Lasts];
                continue;
            }

            for (var sum = length - jobs[i].Reserve; sum >= jobs[i].Lasts; sum--)
            {
                if (reached[sum] || !reached[sum - jobs[i].Lasts])
                    continue;
                reached[sum] = takes[i][sum] = true;
            }
        }

        var chosen = new List<Job>();
        var rest = Array.FindLastIndex(reached, r => r);
        if (rest < 0)
            return [];
        for (var i = jobs.Count - 1; i >= 0; i--)
        {
            if (!takes[i][rest])
                continue;
            chosen.Add(jobs[i]);
            rest -= jobs[i].Lasts;
        }

        chosen.Reverse();
        return chosen;
    }

    /// <summary>
    /// Which durations, of so many each, together come closest to a length without being longer; longer ones rather than shorter.
    /// </summary>
    private static IEnumerable<int> Fill((int Lasts, int Count)[] durations, int length)
    {
        if (length <= 0)
            yield break;
        // How many of each kind the sum took when it was first reached; the kinds are taken from the shortest up, so that going back meets
        // the longest first.
        var taken = new int[durations.Length + 1][];
        var reached = new bool[length + 1];
        reached[0] = true;
        for (var kind = durations.Length - 1; kind >= 0; kind--)
        {
            var (lasts, count) = durations[kind];
            var many = taken[kind] = new int[length + 1];
            Array.Fill(many, -1);
            for (var sum = 0; sum <= length; sum++)
            {
                if (sum >= lasts && many[sum - lasts] >= 0 && many[sum - lasts] < count)
                    many[sum] = many[sum - lasts] + 1;
                else if (reached[sum])
                    many[sum] = 0;
            }

            for (var sum = 0; sum <= length; sum++)
                reached[sum] = many[sum] >= 0;
        }

        var rest = Array.FindLastIndex(reached, r => r);
        for (var kind = 0; kind < durations.Length; kind++)
        {
            var many = taken[kind][rest];
            for (var i = 0; i < many; i++)
                yield return durations[kind].Lasts;
            rest -= many * durations[kind].Lasts;
        }
    }
}
