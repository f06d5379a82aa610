using GrandStair.Core.Readings;
using GrandStair.Core.Waves;

namespace GrandStair.Core.Scheduling;

/// <summary>How many jobs run in each minute, against a limit.</summary>
internal sealed class Usage(int most)
{
    private ushort[] _busy = [];

    /// <summary>The lowered limit of each minute; 0 where the usual limit holds.</summary>
    private ushort[] _lowered = [];

    /// <summary>The last minute of a span in which the limit is reached; -1 if it never is.</summary>
    public int LastFull(int from, int to)
    {
        for (var minute = Math.Min(to, _busy.Length) - 1; minute >= from; minute--)
        {
            if (_busy[minute] >= most || (minute < _lowered.Length && _lowered[minute] > 0 && _busy[minute] >= _lowered[minute]))
                return minute;
        }

        return -1;
    }

    public void Take(int from, int to)
    {
        // A limit above the counter's range is never reached.
        if (most >= ushort.MaxValue)
            return;
        if (to > _busy.Length)
            Array.Resize(ref _busy, Math.Max(to, _busy.Length * 2));
        for (var minute = from; minute < to; minute++)
            _busy[minute]++;
    }

    public void Release(int from, int to)
    {
        if (most >= ushort.MaxValue)
            return;
        for (var minute = from; minute < to; minute++)
            _busy[minute]--;
    }

    /// <summary>Lowers a limit for a while.</summary>
    public void Lower(int from, int to, int fewer)
    {
        if (fewer >= most)
            return;
        if (to > _lowered.Length)
            Array.Resize(ref _lowered, Math.Max(to, _lowered.Length * 2));
        for (var minute = from; minute < to; minute++)
            _lowered[minute] = _lowered[minute] == 0 ? (ushort)fewer : Math.Min(_lowered[minute], (ushort)fewer);
    }
}

/// <summary>The constraint that a search ignores, to find out which one prevents a slot.</summary>
[Flags]
internal enum Leaving
{
    Nothing = 0,
    All = 1,
    Site = 2,
    Cluster = 4,
    Crew = 8,
    Uplink = 16,
}

/// <summary>A staging over a site's uplink.</summary>
/// <param name="Job">The job that it is for.</param>
/// <param name="Minutes">How many minutes of the uplink's hours it still takes.</param>
/// <param name="From">From which minute of the uplink's hours on, if all go in the order in which they were placed.</param>
/// <param name="HasBegun">Whether it is running already and thus goes before all that have not begun.</param>
internal readonly record struct Staging(Job Job, double Minutes, double From, bool HasBegun);

/// <summary>The jobs placed so far, and the remaining capacity.</summary>
internal sealed class Board
{
    private const double Rounding = UplinkBookings.Rounding;

    private readonly ScheduleProblem _problem;
    private readonly Usage _all;
    private readonly Usage[] _sites;
    private readonly Usage[] _crews;
    private readonly Dictionary<int, int>[] _crewDays;
    private readonly List<MinuteSpan>?[] _clusters;
    private readonly int[] _start;
    private readonly int[] _crew;
    private readonly bool[] _seen;

    /// <summary>Per group of interchangeable jobs, the minute before which none of them fits: capacity only decreases.</summary>
    private readonly int[] _reach;

    /// <summary>Per site what its uplink is booked for by slots that were taken from the first, and by all.</summary>
    private readonly UplinkBookings[] _uplinksTaken;
    private readonly UplinkBookings[] _uplinks;

    /// <summary>Per site the jobs that stage over its uplink, in the order in which they were placed.</summary>
    private readonly List<Staging>?[] _staged;

    public Board(ScheduleProblem problem)
    {
        _problem = problem;
        var count = problem.All;
        _all = new(Bounded(problem.Plan.Limits.All));
        var shared = problem.Taken.Where(t => t.OtherPlan is not null).Select(t => t.Job.Site).ToHashSet();
        // Where another plan may let fewer go, they are counted whatever the limit.
        _sites =
        [
            .. Enumerable
                .Range(0, problem.Sites)
                .Select(s => new Usage(
                    shared.Contains(s) ? Math.Min(problem.Plan.Limits.Site, ushort.MaxValue - 1) : Bounded(problem.Plan.Limits.Site)
                )),
        ];
        _crews = [.. problem.Crews.Select(c => new Usage(c.Spec.Hands))];
        _crewDays = [.. problem.Crews.Select(_ => new Dictionary<int, int>())];
        _clusters = new List<MinuteSpan>?[problem.Clusters];
        _start = new int[problem.Jobs.Length];
        _crew = new int[problem.Jobs.Length];
        _seen = new bool[problem.Jobs.Length];
        Array.Fill(_start, -1);
        Array.Fill(_crew, -1);
        _reach = new int[problem.Alikes];
        _uplinksTaken = [.. Enumerable.Range(0, problem.Sites).Select(_ => new UplinkBookings())];
        _staged = new List<Staging>?[problem.Sites];
        foreach (var (job, slot, otherPlan) in problem.Taken)
            Take(job, slot, otherPlan);
        foreach (var booking in problem.CrewBookings)
            Book(booking);
        foreach (
            var (job, slot, _) in problem
                .Taken.Where(t => t.Job.UplinkMinutes > 0 && t.Slot.End > t.Slot.Start)
                .OrderBy(t => StageFrom(t.Slot))
        )
        {
            var still = StillToStage(job, slot);
            var from = _problem.UplinkOf(job.Site)!.PassedAt(_problem.MinutesTo(StageFrom(slot)));
            _uplinksTaken[job.Site].Take(_uplinksTaken[job.Site].FirstFree(still, from), still);
        }

        _uplinks = [.. _uplinksTaken.Select(u => u.Copy())];

        int Bounded(int most) => most >= count ? int.MaxValue : most;
    }

    /// <summary>Removes all placed jobs; slots that were taken from the start stay.</summary>
    public void Clear()
    {
        foreach (var job in _problem.Jobs)
        {
            var (start, crew) = (_start[job.Index], _crew[job.Index]);
            if (start < 0)
                continue;
            var end = start + job.Lasts;
            _all.Release(start, end);
            _sites[job.Site].Release(start, end);
            if (job.Cluster >= 0)
                _clusters[job.Cluster]!.Remove(new(start, end));
            if (crew < 0)
                continue;
            _crews[crew].Release(start, end);
            _crewDays[crew][_problem.Crews[crew].DayOf(start)]--;
        }

        Array.Fill(_start, -1);
        Array.Fill(_crew, -1);
        Array.Clear(_seen);
        Array.Clear(_reach);
        for (var site = 0; site < _staged.Length; site++)
        {
            if (_staged[site] is not { Count: > 0 } staged)
                continue;
            staged.Clear();
            _uplinks[site] = _uplinksTaken[site].Copy();
        }
    }

    public ScheduleScore Score
    {
        get
        {
            int left = 0,
                end = 0;
            var sum = 0L;
            foreach (var job in _problem.Jobs)
            {
                if (_start[job.Index] < 0)
                    left++;
                else
                    end = Math.Max(end, _start[job.Index] + job.Lasts);
                sum += Math.Max(0, _start[job.Index]);
            }

            return new(left, end, sum);
        }
    }

    /// <summary>The minute at which a job ends; negative if it has no slot.</summary>
    public int EndOf(Job job) => _start[job.Index] < 0 ? -1 : _start[job.Index] + job.Lasts;

    /// <summary>Keeps a job's current slot if it is still possible.</summary>
    public void TryStand(Job job)
    {
        var stands = job.Request.Stands!;
        var at = _problem.MinuteAfter(stands.Start);
        if (
            _problem.At(at) != stands.Start
            || Earliest(job, Leaving.Uplink) is not { } earliest
            || at < earliest
            || !StagedBefore(job, StillToStage(job, stands), at)
        )
            return;
        var (start, crew) = Find(job, at, Leaving.Nothing, stands.Crew);
        if (start == at)
            Put(job, at, crew, StillToStage(job, stands), _problem.HasBegunToStage(job));
    }

    /// <summary>Places a job in the earliest possible slot after the jobs that it depends on.</summary>
    public void PlaceWithThoseBefore(Job job)
    {
        if (_start[job.Index] >= 0 || _seen[job.Index])
            return;
        _seen[job.Index] = true;
        foreach (var before in job.After)
            PlaceWithThoseBefore(before);
        if (Earliest(job) is not { } earliest)
            return;
        var (start, crew) = Find(job, earliest, Leaving.Nothing, null);
        if (start >= 0)
            Put(job, start, crew, job.UplinkMinutes, hasBegunToStage: false);
    }

    /// <summary>The slot of a job, including the start of its staging.</summary>
    public Slot? SlotOf(Job job, IReadOnlyDictionary<int, double> stagings)
    {
        var start = _start[job.Index];
        if (start < 0)
            return null;
        var window = _problem.OpenTo(job).First(s => s.To >= start + job.Needs);
        var begins = _problem.At(start);
        return new(begins, _problem.At(start + job.Lasts), _problem.At(window.To - job.Reserve) - job.Request.AfterPointOfNoReturn)
        {
            Crew = _crew[job.Index] < 0 ? null : _problem.Crews[_crew[job.Index]].Spec.Name,
            StageFrom =
                stagings.TryGetValue(job.Index, out var from) ? _problem.At(from)
                : _problem.HasBegunToStage(job) && job.Request.Stands!.Start == begins ? job.Request.Stands.StageFrom
                : null,
        };
    }

    /// <summary>
    /// The start of each staging that has not begun. Stagings go in the order of their slots if all are in time that way, otherwise in the
    /// order in which they were placed.
    /// Each starts as long before its slot as the plan says, or earlier if a later staging would miss its slot otherwise.
    /// </summary>
    public Dictionary<int, double> Stagings()
    {
        var begins = new Dictionary<int, double>();
        for (var site = 0; site < _staged.Length; site++)
        {
            if (_staged[site] is not { Count: > 0 } staged)
                continue;
            var uplink = _problem.UplinkOf(site)!;
            var bookings = _uplinksTaken[site].Copy();
            foreach (var begun in staged.Where(s => s.HasBegun))
                bookings.Take(begun.From, begun.Minutes);
            foreach (var (job, minutes, from, hasBegun) in (InOrderOfSlots(site, uplink, staged) ?? staged).OrderByDescending(s => s.From))
            {
                if (hasBegun)
                    continue;
                var latest = uplink.PassedAt(_start[job.Index]) - minutes;
                var wanted = uplink.PassedAt(Math.Max(0, _start[job.Index] - _problem.Plan.StageAhead.TotalMinutes));
                var begin = bookings.LastFree(minutes, Math.Max(from, Math.Min(latest, wanted)));
                bookings.Take(begin, minutes);
                begins[job.Index] = uplink.WhenPassed(begin)!.Value;
            }
        }

        return begins;
    }

    /// <summary>The stagings of a site, each as early as it can in the order of their slots; null where one would then be late.</summary>
    private List<Staging>? InOrderOfSlots(int site, UplinkHours uplink, List<Staging> staged)
    {
        var bookings = _uplinksTaken[site].Copy();
        var ordered = new List<Staging>();
        // Those that have begun were placed first, in this order.
        foreach (var next in staged.OrderBy(s => !s.HasBegun).ThenBy(s => _start[s.Job.Index]).ThenBy(s => s.Job.Index))
        {
            var from = bookings.FirstFree(next.Minutes, 0);
            if (from + next.Minutes > uplink.PassedAt(_start[next.Job.Index]) + Rounding)
                return null;
            bookings.Take(from, next.Minutes);
            ordered.Add(next with { From = from });
        }

        return ordered;
    }

    /// <summary>Why a job could not be placed, and what would have to change.</summary>
    public (string Why, string Change) Explain(Job job)
    {
        var request = job.Request;
        var days = $"{SlotPlacer.Horizon.TotalDays:0} days";
        var site = $"site '{request.Site}'";
        if ((job.WaitsFor ?? job.After.FirstOrDefault(j => _start[j.Index] < 0)?.Request.Name) is { } before)
            return ($"it depends on {before}, which has no slot", $"a slot for {before}");
        var open = _problem.OpenTo(job);
        var longest = open.Length == 0 ? 0 : open.Max(w => w.Length);
        if (longest < job.Needs)
        {
            var (whose, unfrozen, freezes) = _problem.WindowsOf(job);
            var takes = $"it takes {job.Lasts} min{(job.Reserve > 0 ? $", and {job.Reserve} min to go back," : ",")}";
            if (unfrozen >= job.Needs)
                return (
                    $"{takes} and the freeze {string.Join(" or ", freezes.Select(f => $"'{f}'"))} leaves "
                        + $"{(longest == 0 ? "no window" : $"no more than {longest} min")} of {whose} within {days}",
                    $"an earlier end of that freeze, or a window for {whose} outside of it"
                );
            if (open.Length == 0)
                return ($"no window of {whose} within {days}", $"a window for {whose}");
            return ($"{takes} and the longest window of {whose} is {longest} min", $"a window of at least {job.Needs} min for {whose}");
        }

        if (job.Kind == -2 || (job.Kind >= 0 && _problem.CrewsFor(job).Length == 0))
            return (
                $"it needs the hands of a crew '{request.Crew}', and the plan has none that comes to {site}",
                $"a crew of kind '{request.Crew}' for {site}"
            );

        var relaxed = new (Leaving What, string Why, string Change)[]
        {
            (
                Leaving.Uplink,
                $"the uplink of {site} cannot bring its {Size(request.Stages)} and what comes before it within {days}",
                $"a faster uplink of {site}, more hours for staging or a larger share of it"
            ),
            (
                Leaving.Crew,
                $"no crew '{request.Crew}' is free within the windows of {site} for {days}",
                $"more hands or other hours of a crew '{request.Crew}'"
            ),
            (
                Leaving.Site,
                $"the limit of {_problem.Plan.Limits.Site} at one site leaves no room at {site} within {days}",
                "more at once at one site, or longer windows"
            ),
            (
                Leaving.All,
                $"the limit of {_problem.Plan.Limits.All} at once in the whole plan leaves no room within {days}",
                "more at once in the whole plan"
            ),
            (Leaving.Cluster, $"others of its cluster '{request.Cluster}' take all of the time within {days}", $"longer windows of {site}"),
        };
        foreach (var (what, why, change) in relaxed)
        {
            if (Earliest(job, what) is { } earliest && Find(job, earliest, what, null).Start >= 0)
                return (why, change);
        }

        if (Earliest(job) is { } bound && bound > 0 && Find(job, 0, Leaving.Nothing, null).Start >= 0)
            return (
                $"it cannot begin before {_problem.At(bound):yyyy-MM-dd HH:mm} UTC, and after that no window of {site} has room within "
                    + $"{days}",
                $"a later window of {site}"
            );
        return (
            $"the limits together ({_problem.Plan.Limits.All} at once, {_problem.Plan.Limits.Site} at one site) leave no room within "
                + $"{days}",
            "higher limits, or longer windows"
        );
    }

    /// <summary>All that prevents a job from beginning at a minute while everything else stays, each in a few words.</summary>
    public IEnumerable<string> InTheWay(Job job, int at)
    {
        var site = $"site '{job.Request.Site}'";
        var end = at + job.Lasts;
        if (at < job.NotBefore)
            yield return $"it cannot begin before {Told(job.NotBefore)}";
        var open = _problem.OpenTo(job);
        if (open.FirstOrDefault(w => w.From <= at && at < w.To) is not { Length: > 0 } window)
        {
            var next = open.FirstOrDefault(w => w.From > at && w.Length >= job.Needs);
            yield return $"{site} may not be touched then{(next.Length > 0 ? $"; its next window begins {Told(next.From)}" : "")}";
        }
        else if (at + job.Needs > window.To)
            yield return $"its window ends {Told(window.To)}, and it takes {job.Lasts} "
                + $"min{(job.Reserve > 0 ? $" and {job.Reserve} min to go back" : "")}";
        if (_all.LastFull(at, end) >= 0)
            yield return $"{_problem.Plan.Limits.All} of the whole plan go at that time already";
        if (_sites[job.Site].LastFull(at, end) >= 0)
            yield return $"{_problem.Plan.Limits.Site} at {site} go at that time already";
        if (job.Cluster >= 0 && ClusterFree(job, at) > at)
            yield return $"another of its cluster '{job.Request.Cluster}' goes at that time";
        var hands =
            job.Kind < 0
                ? job.Kind == -1
                    ? at
                    : -1
                : CrewFree(job, at, null).Start;
        if (hands != at)
            yield return $"no crew '{job.Request.Crew}' is free at that time{(hands > at ? $"; the next is {Told(hands)}" : "")}";
        if (job.UplinkMinutes > 0 && UplinkInTheWay(job, at) is { } uplink)
            yield return uplink;
    }

    /// <summary>The slot of a job that starts at a minute without conflicts.</summary>
    public Slot SlotAt(Job job, int at)
    {
        Put(job, at, job.Kind < 0 ? -1 : CrewFree(job, at, null).Crew, 0, hasBegunToStage: false);
        var staged = new Dictionary<int, double>();
        if (job.UplinkMinutes > 0)
        {
            var uplink = _problem.UplinkOf(job.Site)!;
            var (latest, wanted) = (
                uplink.PassedAt(at) - job.UplinkMinutes,
                uplink.PassedAt(Math.Max(0, at - _problem.Plan.StageAhead.TotalMinutes))
            );
            var from = _uplinks[job.Site].LastFree(job.UplinkMinutes, Math.Min(latest, wanted));
            staged[job.Index] = uplink.WhenPassed(from >= 0 ? from : _uplinks[job.Site].FirstFree(job.UplinkMinutes, 0))!.Value;
        }

        var slot = SlotOf(job, staged)!;
        Clear();
        return slot;
    }

    /// <summary>
    /// The first minute from a given one at which windows, limits, clusters and crews allow a job; negative if there is none.
    /// </summary>
    public int NextRoom(Job job, int from) => Find(job, Math.Max(from, job.NotBefore), Leaving.Uplink, null).Start;

    /// <summary>The first minute at which a crew has a hand free for so many minutes; negative if there is none.</summary>
    /// <exception cref="ArgumentException">The plan has no such crew.</exception>
    public int CrewFreeFrom(string crew, int lasts) =>
        Number(crew) is var number and >= 0
            ? FreeFrom(number, 0, lasts)
            : throw new ArgumentException($"The plan has no crew '{crew}'.", nameof(crew));

    /// <summary>Why the uplink cannot stage a job before a minute; null if it can.</summary>
    private string? UplinkInTheWay(Job job, int at)
    {
        if (StagedBefore(job, job.UplinkMinutes, at))
            return null;
        var then = WhenStaged(job, job.UplinkMinutes);
        return $"the uplink of site '{job.Request.Site}' has brought its {Size(job.Request.Stages)} "
            + $"{(then is { } minute ? $"by {Told((int)Math.Ceiling(minute))} at the earliest" : "at no time")}";
    }

    /// <summary>
    /// When the uplink of a job's site has brought so many minutes of its own at the earliest; null where that is beyond the horizon.
    /// </summary>
    private double? WhenStaged(Job job, double minutes) =>
        _problem.UplinkOf(job.Site)!.WhenPassed(_uplinks[job.Site].FirstFree(minutes, 0) + minutes);

    private bool StagedBefore(Job job, double minutes, int at) =>
        minutes <= 0 || (WhenStaged(job, minutes) is { } staged && staged <= at + Rounding);

    private string Told(int minute) => $"{_problem.At(minute):yyyy-MM-dd HH:mm} UTC";

    private static string Size(double bytes) => Units.Show(bytes, ValueKind.Size);

    /// <summary>The earliest start of a job; null if it cannot start at all.</summary>
    private int? Earliest(Job job, Leaving without = Leaving.Nothing)
    {
        if (job.WaitsFor is not null)
            return null;
        var earliest = job.NotBefore;
        foreach (var before in job.After)
        {
            if (_start[before.Index] < 0)
                return null;
            earliest = Math.Max(earliest, EndOf(before));
        }

        if (job.UplinkMinutes <= 0 || without.HasFlag(Leaving.Uplink))
            return earliest;
        return WhenStaged(job, job.UplinkMinutes) is { } staged ? Math.Max(earliest, (int)Math.Ceiling(staged - Rounding)) : null;
    }

    /// <summary>When the staging for a slot begins, or as long before the slot as the plan says where nobody has said.</summary>
    private DateTimeOffset StageFrom(Slot slot) => slot.StageFrom ?? (slot.Start - _problem.Plan.StageAhead);

    /// <summary>How much of a fixed slot's staging has still to come over the uplink, in minutes of its hours.</summary>
    private double StillToStage(Job job, Slot stands)
    {
        if (job.UplinkMinutes <= 0 || stands.StageFrom is not { } from || from > _problem.At(0))
            return stands.Start <= _problem.At(0) ? 0 : job.UplinkMinutes;
        return Math.Max(0, job.UplinkMinutes - _problem.UplinkOf(job.Site)!.Spec.MinutesBetween(from, _problem.At(0), _problem.Calendars));
    }

    private void Take(Job job, Slot slot, Plan? otherPlan)
    {
        var crew = Number(slot.Crew);
        if (crew >= 0)
            CountDay(crew, slot.Start);
        var (from, to) = (_problem.MinuteOf(slot.Start), _problem.MinuteAfter(slot.End));
        if (to <= from)
            return;
        Occupy(job, from, to, crew, ofOtherPlan: otherPlan is not null);
        if (otherPlan is null)
            return;
        _sites[job.Site].Lower(from, to, otherPlan.Limits.Site);
        if (crew >= 0 && otherPlan.CrewOf(slot.Crew) is { } theirs)
            _crews[crew].Lower(from, to, theirs.Hands);
    }

    /// <summary>Takes a hand of a crew, and nothing else.</summary>
    private void Book(Slot booking)
    {
        var crew = Number(booking.Crew);
        if (crew < 0)
            return;
        CountDay(crew, booking.Start);
        _crews[crew].Take(_problem.MinuteOf(booking.Start), _problem.MinuteAfter(booking.End));
    }

    /// <summary>The number of a crew; negative for one that the plan does not have.</summary>
    private int Number(string? crew) => Array.FindIndex(_problem.Crews, c => c.Spec.Name.Equals(crew, StringComparison.OrdinalIgnoreCase));

    private void Put(Job job, int start, int crew, double uplinkMinutes, bool hasBegunToStage)
    {
        _start[job.Index] = start;
        _crew[job.Index] = crew;
        Occupy(job, start, start + job.Lasts, crew, ofOtherPlan: false);
        if (crew >= 0)
            CountDay(crew, _problem.At(start));
        if (uplinkMinutes <= 0)
            return;
        var from = _uplinks[job.Site].FirstFree(uplinkMinutes, 0);
        _uplinks[job.Site].Take(from, uplinkMinutes);
        (_staged[job.Site] ??= []).Add(new(job, uplinkMinutes, from, hasBegunToStage));
    }

    private void Occupy(Job job, int from, int to, int crew, bool ofOtherPlan)
    {
        if (!ofOtherPlan)
            _all.Take(from, to);
        _sites[job.Site].Take(from, to);
        if (job.Cluster >= 0)
            (_clusters[job.Cluster] ??= []).Add(new(from, to));
        if (crew >= 0)
            _crews[crew].Take(from, to);
    }

    /// <summary>Counts an appointment of a crew on the day on which it begins.</summary>
    private void CountDay(int crew, DateTimeOffset start)
    {
        if (start < _problem.Crews[crew].Today)
            return;
        var day = _problem.Crews[crew].DayOf(_problem.MinuteOf(start));
        _crewDays[crew][day] = _crewDays[crew].GetValueOrDefault(day) + 1;
    }

    /// <summary>
    /// The first minute from <paramref name="earliest"/> on at which a job has room, and the crew that is free then; below 0 where there is
    /// none.
    /// </summary>
    private (int Start, int Crew) Find(Job job, int earliest, Leaving without, string? crewNamed)
    {
        var start = without == Leaving.Nothing ? Math.Max(earliest, _reach[job.Alike]) : earliest;
        // A constraint of this job alone says nothing about interchangeable jobs.
        var ofItsOwn = earliest > _reach[job.Alike] || without != Leaving.Nothing || crewNamed is not null;
        var open = _problem.OpenTo(job);
        var crew = -1;
        while (true)
        {
            start = FirstStart(open, start, job.Needs);
            if (start < 0)
                return (-1, -1);
            var full = without.HasFlag(Leaving.All) ? -1 : _all.LastFull(start, start + job.Lasts);
            if (full < 0 && !without.HasFlag(Leaving.Site))
                full = _sites[job.Site].LastFull(start, start + job.Lasts);
            if (full >= 0)
            {
                start = full + 1;
                continue;
            }

            if (job.Cluster >= 0 && !without.HasFlag(Leaving.Cluster) && ClusterFree(job, start) is var free && free > start)
            {
                (start, ofItsOwn) = (free, true);
                continue;
            }

            if (job.Kind == -1 || without.HasFlag(Leaving.Crew))
                break;
            (var hands, crew) = CrewFree(job, start, crewNamed);
            if (hands < 0)
                return (-1, -1);
            if (hands == start)
                break;
            start = hands;
        }

        if (!ofItsOwn)
            _reach[job.Alike] = start;
        return (start, crew);
    }

    /// <summary>The end of a conflicting slot of the same cluster, or the start itself.</summary>
    private int ClusterFree(Job job, int start)
    {
        foreach (var busy in _clusters[job.Cluster] ?? [])
        {
            if (busy.From < start + job.Lasts && busy.To > start)
                return busy.To;
        }

        return start;
    }

    private (int Start, int Crew) CrewFree(Job job, int start, string? named)
    {
        var (best, crew) = (int.MaxValue, -1);
        foreach (var one in _problem.CrewsFor(job))
        {
            if (named is not null && _problem.Crews[one].Spec.Name != named)
                continue;
            var free = FreeFrom(one, start, job.Lasts);
            if (free >= 0 && free < best)
                (best, crew) = (free, one);
        }

        return crew < 0 ? (-1, -1) : (best, crew);
    }

    private int FreeFrom(int crew, int start, int lasts)
    {
        var hours = _problem.Crews[crew];
        while (true)
        {
            start = FirstStart(hours.Open, start, lasts);
            if (start < 0)
                return -1;
            var day = hours.DayOf(start);
            if (hours.Spec.PerDay is { } most && _crewDays[crew].GetValueOrDefault(day) >= most)
            {
                if (day >= hours.Midnights.Length)
                    return -1;
                start = hours.Midnights[day];
                continue;
            }

            var full = _crews[crew].LastFull(start, start + lasts);
            if (full < 0)
                return start;
            start = full + 1;
        }
    }

    /// <summary>The first minute from a start on from which a span lasts long enough; below 0 where there is none.</summary>
    private static int FirstStart(MinuteSpan[] spans, int start, int lasts)
    {
        int low = 0,
            high = spans.Length;
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (spans[middle].To >= start + lasts)
                high = middle;
            else
                low = middle + 1;
        }

        for (; low < spans.Length; low++)
        {
            var begin = Math.Max(start, spans[low].From);
            if (begin + lasts <= spans[low].To)
                return begin;
        }

        return -1;
    }
}
