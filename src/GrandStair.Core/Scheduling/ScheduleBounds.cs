using GrandStair.Core.Waves;

namespace GrandStair.Core.Scheduling;

/// <summary>
/// A lower bound of the schedule's end: the latest of the ends that each limit, uplink, crew and cluster needs on its own, within the
/// windows.
/// </summary>
internal sealed partial class ScheduleProblem
{
    private readonly Dictionary<int, int?> _endOfKinds = [];

    /// <summary>The latest of all bounds; null where there is nothing to place.</summary>
    public ScheduleBound? Bound()
    {
        var bounds = Bounds().Where(b => b.End is { } end && end < int.MaxValue).Select(b => (End: b.End!.Value, b.Why)).ToArray();
        if (bounds.Length == 0)
            return null;
        var (latest, why) = bounds.MaxBy(b => b.End);
        return new(At(latest), why);
    }

    /// <summary>
    /// What takes longest at a site: its own limit with its windows, its uplink, the hands of crews, a cluster, or the limit of the whole
    /// plan.
    /// </summary>
    public Cause TightestOf(string name)
    {
        if (!_sites.TryGetValue(name, out var site))
            return Cause.Windows;
        List<(int? End, Cause Cause)> ends =
        [
            (EndOfSite(site), Cause.SiteLimit),
            (EndOfUplink(site), Cause.Uplink),
            (EndOfAllOnce.Value, Cause.PlanLimit),
        ];
        ends.AddRange(JobsOf(site).Where(j => j.Kind >= 0).GroupBy(j => j.Kind).Select(k => (EndOfKind(k.Key), Cause.Crew)));
        ends.AddRange(JobsOf(site).Where(j => j.Cluster >= 0).GroupBy(j => j.Cluster).Select(u => (EndOf([.. u], 1), Cause.Cluster)));
        return ends.MaxBy(e => e.End ?? -1).Cause;
    }

    private Lazy<int?> EndOfAllOnce => field ??= new(EndOfAll);

    private int? EndOfKind(int kind)
    {
        if (!_endOfKinds.TryGetValue(kind, out var end))
            _endOfKinds[kind] = end = EndOfCrews([.. Jobs.Where(j => j.Kind == kind)]);
        return end;
    }

    private IEnumerable<(int? End, string Why)> Bounds()
    {
        for (var site = 0; site < Sites; site++)
        {
            yield return (
                EndOfSite(site),
                $"the windows of site '{SiteName(site)}'{(Limits.Shown(Plan.Limits.Site) is { } atOnce ? $" with {atOnce} at once" : "")}"
            );
            yield return (EndOfUplink(site), $"the uplink of site '{SiteName(site)}'");
        }

        yield return (EndOfAll(), $"the limit of {Plan.Limits.All} at once in the whole plan");
        foreach (var kind in Jobs.Where(j => j.Kind >= 0).GroupBy(j => j.Kind))
            yield return (EndOfKind(kind.Key), $"the capacity of the crews '{kind.First().Request.Crew}'");
        foreach (var cluster in Jobs.Where(j => j.Cluster >= 0).GroupBy(j => j.Cluster))
            yield return (EndOf([.. cluster], 1), $"the cluster '{cluster.First().Request.Cluster}', of which one goes at a time");
        foreach (var job in Jobs.Where(j => j.NotBefore > 0).GroupBy(j => (j.Windows, j.NotBefore)).Select(g => g.MaxBy(j => j.Lasts)!))
            yield return (EndOf([job], 1), $"{job.Request.Name}, which cannot begin before {At(job.NotBefore):yyyy-MM-dd HH:mm} UTC");
    }

    private int? EndOfSite(int site) => EndOf([.. JobsOf(site)], Plan.Limits.Site);

    private ILookup<int, Job> BySite => field ??= Jobs.ToLookup(j => j.Site);

    private IEnumerable<Job> JobsOf(int site) => BySite[site];

    /// <summary>
    /// Before when some jobs cannot all end, where so many may go at once: by their work, and by how many of the shortest fit into each
    /// window.
    /// </summary>
    private int? EndOf(Job[] jobs, int atOnce, MinuteSpan[]? only = null)
    {
        jobs = [.. jobs.Where(j => OpenTo(j).Any(s => s.Length >= j.Needs))];
        if (jobs.Length == 0)
            return null;
        var most = Math.Min(atOnce, jobs.Length);
        var shortest = jobs.Min(j => j.Lasts);
        var reserve = jobs.Min(j => j.Reserve);
        var earliest = jobs.Min(j => j.NotBefore);
        var usable = Union(jobs.Select(j => j.Windows).Distinct().SelectMany(w => _open[w]))
            .Select(s => new MinuteSpan(Math.Max(s.From, earliest), s.To - reserve))
            .Where(s => s.Length >= shortest);
        if (only is not null)
            usable = Intersect([.. usable], only).Where(s => s.Length >= shortest);
        var work = jobs.Sum(j => (long)j.Lasts);
        var count = jobs.Length;
        int? byWork = null,
            byCount = null;
        foreach (var span in usable)
        {
            if (byWork is null && work <= (long)span.Length * most)
                byWork = span.From + (int)((work + most - 1) / most);
            work -= (long)span.Length * most;
            var fit = (long)most * (span.Length / shortest);
            if (byCount is null && count <= fit)
                byCount = span.From + ((count + most - 1) / most * shortest);
            count = (int)Math.Max(0, count - fit);
            if (byWork is not null && byCount is not null)
                return Math.Max(byWork.Value, byCount.Value);
        }

        return byWork ?? byCount;
    }

    private int? EndOfCrews(Job[] jobs)
    {
        var crews = jobs.DistinctBy(j => j.Site).SelectMany(CrewsFor).Distinct().Select(c => Crews[c]).ToArray();
        if (crews.Length == 0)
            return null;
        var hands = EndOf(jobs, crews.Sum(c => c.Spec.Hands), Union(crews.SelectMany(c => c.Open)));
        if (crews.Any(c => c.Spec.PerDay is null))
            return hands;
        // So many appointments a day: the last is not before the day on which all have one.
        var left = jobs.Length;
        var days = crews.SelectMany(c => c.Open.SelectMany(c.DaysOf).DistinctBy(d => d.Day).Select(d => (d.From, c))).OrderBy(x => x.From);
        foreach (var (from, crew) in days)
        {
            left -= crew.Spec.PerDay!.Value;
            if (left <= 0)
                return Math.Max(hands ?? 0, from + jobs.Min(j => j.Lasts));
        }

        return hands;
    }

    private int? EndOfUplink(int site)
    {
        if (UplinkOf(site) is not { } uplink)
            return null;
        var staged = JobsOf(site).Where(j => j.UplinkMinutes > 0 && j.Request.Stands is null).ToArray();
        if (staged.Length == 0 || uplink.WhenPassed(staged.Sum(j => j.UplinkMinutes)) is not { } all)
            return null;
        // One of them is staged last, whichever it is, and begins after all are staged.
        return staged
            .GroupBy(j => j.Alike)
            .Min(alike => EndOf([alike.MinBy(j => j.NotBefore)! with { NotBefore = Math.Max(alike.Min(j => j.NotBefore), (int)all) }], 1));
    }

    /// <summary>The whole plan's work over what all its sites can do at once, minute by minute, but no more than the limit.</summary>
    private int? EndOfAll()
    {
        var work = Jobs.Sum(j => (long)j.Lasts);
        if (work == 0)
            return null;
        var changes = new SortedDictionary<int, int>();
        foreach (var site in BySite)
        {
            var most = Math.Min(Plan.Limits.Site, site.Count());
            foreach (var span in Union(site.Select(j => j.Windows).Distinct().SelectMany(w => _open[w])))
            {
                changes[span.From] = changes.GetValueOrDefault(span.From) + most;
                changes[span.To] = changes.GetValueOrDefault(span.To) - most;
            }
        }

        int at = 0,
            able = 0;
        foreach (var (minute, change) in changes)
        {
            var now = Math.Min(able, Plan.Limits.All);
            if (now > 0 && work <= (long)now * (minute - at))
                return at + (int)((work + now - 1) / now);
            work -= (long)now * (minute - at);
            (at, able) = (minute, able + change);
        }

        return null;
    }

    private static MinuteSpan[] Union(IEnumerable<MinuteSpan> spans)
    {
        var joined = new List<MinuteSpan>();
        foreach (var span in spans.OrderBy(s => s.From))
        {
            if (joined.Count > 0 && span.From <= joined[^1].To)
                joined[^1] = new(joined[^1].From, Math.Max(joined[^1].To, span.To));
            else
                joined.Add(span);
        }

        return [.. joined];
    }

    private static IEnumerable<MinuteSpan> Intersect(MinuteSpan[] one, MinuteSpan[] other)
    {
        var (i, j) = (0, 0);
        while (i < one.Length && j < other.Length)
        {
            var both = new MinuteSpan(Math.Max(one[i].From, other[j].From), Math.Min(one[i].To, other[j].To));
            if (both.Length > 0)
                yield return both;
            if (one[i].To < other[j].To)
                i++;
            else
                j++;
        }
    }
}
