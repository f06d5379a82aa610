using System.Collections.Immutable;
using GrandStair.Core.Waves;
using NodaTime;

namespace GrandStair.Core.Scheduling;

/// <summary>A stretch in minutes since the case's begin.</summary>
internal readonly record struct MinuteSpan(int From, int To)
{
    public int Length => To - From;
}

/// <summary>A request in numbers.</summary>
/// <param name="Index">Its place among the requests; below 0 for one that is taken.</param>
/// <param name="Request">The request.</param>
/// <param name="Site">The number of its site.</param>
/// <param name="Windows">The number of its windows.</param>
/// <param name="Lasts">How long it lasts, minutes.</param>
/// <param name="Reserve">How long going back takes, minutes.</param>
/// <param name="Cluster">The number of its cluster; -1 without.</param>
/// <param name="Kind">The number of its kind of crew; -1 without.</param>
/// <param name="Alike">The number of those that can take each other's place: where one found no room, no other does.</param>
/// <param name="UplinkMinutes">How many minutes of its uplink's hours its staging takes; 0 without an uplink.</param>
/// <param name="NotBefore">Before which minute it cannot begin.</param>
internal sealed record Job(
    int Index,
    SlotRequest Request,
    int Site,
    int Windows,
    int Lasts,
    int Reserve,
    int Cluster,
    int Kind,
    int Alike,
    double UplinkMinutes,
    int NotBefore
)
{
    /// <summary>The jobs after which it comes.</summary>
    public Job[] After { get; set; } = [];

    /// <summary>The machine after which it comes and that has no slot and is not asked for; null where there is none.</summary>
    public string? WaitsFor { get; init; }

    public int Needs => Lasts + Reserve;
}

/// <summary>A crew in numbers.</summary>
/// <param name="Spec">The crew.</param>
/// <param name="Open">When it works.</param>
/// <param name="Today">When the first day began, UTC; earlier appointments of that day count too.</param>
/// <param name="Midnights">The first minute of each day after that.</param>
internal sealed record CrewHours(CrewSpec Spec, MinuteSpan[] Open, DateTimeOffset Today, int[] Midnights)
{
    /// <summary>The day to which a minute belongs.</summary>
    public int DayOf(int minute)
    {
        var at = Array.BinarySearch(Midnights, minute);
        return at < 0 ? ~at : at + 1;
    }

    /// <summary>The days that a span touches, with the first minute of it on each.</summary>
    public IEnumerable<(int Day, int From)> DaysOf(MinuteSpan span)
    {
        var first = DayOf(span.From);
        yield return (first, span.From);
        for (var day = first + 1; day <= DayOf(span.To - 1); day++)
            yield return (day, Midnights[day - 1]);
    }
}

/// <summary>An uplink in numbers: the minutes in which staging may use it.</summary>
internal sealed class UplinkHours(UplinkSpec spec, MinuteSpan[] open)
{
    private readonly long[] _before = [.. Sums(open)];

    public UplinkSpec Spec => spec;

    /// <summary>How many minutes of its hours have passed at a minute.</summary>
    public double PassedAt(double minute)
    {
        var passed = 0.0;
        foreach (var span in open)
        {
            if (span.From >= minute)
                break;
            passed += Math.Min(span.To, minute) - span.From;
        }

        return passed;
    }

    /// <summary>When so many minutes of its hours have passed; null where that is beyond the horizon.</summary>
    public double? WhenPassed(double minutes)
    {
        if (minutes <= 0)
            return open.Length == 0 ? null : open[0].From;
        // The first span at whose end as many have passed.
        int low = 0,
            high = open.Length;
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (_before[middle] + open[middle].Length >= minutes - 1e-6)
                high = middle;
            else
                low = middle + 1;
        }

        return low == open.Length ? null : open[low].From + (minutes - _before[low]);
    }

    private static IEnumerable<long> Sums(MinuteSpan[] open)
    {
        var sum = 0L;
        foreach (var span in open)
        {
            yield return sum;
            sum += span.Length;
        }
    }
}

/// <summary>A case in numbers: minutes for times, positions for names.</summary>
internal sealed partial class ScheduleProblem
{
    private readonly DateTimeOffset _origin;
    private readonly DateTimeOffset _end;
    private readonly ScheduleCase _case;
    private readonly Windows _windows;
    private readonly List<MinuteSpan[]> _open = [];
    private readonly Dictionary<string, int> _sites = new(StringComparer.OrdinalIgnoreCase);
    private readonly Dictionary<string, int> _clusters = new(StringComparer.OrdinalIgnoreCase);
    private readonly Dictionary<(int Windows, int Site, int Lasts, int Reserve, int Kind), int> _alike = [];
    private readonly Dictionary<string, int> _kinds;
    private readonly Dictionary<(int Kind, int Site), int[]> _crewsFor = [];
    private readonly List<UplinkHours?> _uplinks = [];
    private readonly List<string> _siteNames = [];

    public ScheduleProblem(ScheduleCase @case)
    {
        _case = @case;
        _origin = RoundUp(@case.From);
        _end = _origin + SlotPlacer.Horizon;
        _windows = @case.Known ?? new(@case.Plan, @case.Calendars, _origin, _end);
        Crews = [.. @case.Plan.Crews.Select(HoursOf)];
        _kinds = @case
            .Plan.Crews.Select(c => c.Kind)
            .Distinct(StringComparer.OrdinalIgnoreCase)
            .Select((k, i) => (k, i))
            .ToDictionary(x => x.k, x => x.i, StringComparer.OrdinalIgnoreCase);
        Taken = [.. @case.Taken.Where(t => !t.IsOfCrewAlone).Select((t, i) => (JobOf(t.Of, -1 - i), t.Slot, t.OtherPlan))];
        CrewBookings = [.. @case.Taken.Where(t => t.IsOfCrewAlone).Select(t => t.Slot)];
        var endOfTaken = @case.Requests.All(r => r.After.IsEmpty)
            ? []
            : @case.Taken.Where(t => !t.IsOfCrewAlone).GroupBy(t => t.Of.Machine).ToDictionary(t => t.Key, t => t.Max(s => s.Slot.End));
        var asked = @case.Requests.Select(r => r.Machine).ToHashSet();
        Jobs = [.. @case.Requests.Select((r, i) => r.After.IsEmpty ? JobOf(r, i) : AfterTaken(JobOf(r, i)))];
        var byMachine = Jobs.ToDictionary(j => j.Request.Machine);
        foreach (var job in Jobs.Where(j => !j.Request.After.IsEmpty))
            job.After = [.. job.Request.After.Select(a => byMachine.GetValueOrDefault(a.Machine)).OfType<Job>()];
        WithSlot =
        [
            .. Jobs.Where(j => j.Request.Stands is not null)
                // What comes after another one can only stand once that one does.
                .OrderBy(j => !HasBegunToStage(j) || j.After.Any(a => a.Request.Stands is not null))
                .ThenBy(j => j.Request.Stands!.Start)
                .ThenBy(j => j.Index),
        ];
        SiteEnds = [.. Enumerable.Range(0, Sites).Select(s => EndOfSite(s) ?? int.MaxValue)];

        Job AfterTaken(Job job) =>
            job with
            {
                NotBefore = job
                    .Request.After.Select(a => endOfTaken.TryGetValue(a.Machine, out var end) ? MinuteAfter(end) : 0)
                    .Append(job.NotBefore)
                    .Max(),
                WaitsFor = job
                    .Request.After.Where(a => !asked.Contains(a.Machine) && !endOfTaken.ContainsKey(a.Machine))
                    .Select(a => a.Name)
                    .FirstOrDefault(),
            };
    }

    public Job[] Jobs { get; }

    public (Job Job, Slot Slot, Plan? OtherPlan)[] Taken { get; }

    /// <summary>What takes a hand of a crew alone.</summary>
    public Slot[] CrewBookings { get; }

    /// <summary>The jobs that have a slot, by its start; those that are being staged come first.</summary>
    public Job[] WithSlot { get; }

    public CrewHours[] Crews { get; }

    /// <summary>Before which minute the work of a site cannot end.</summary>
    public int[] SiteEnds { get; }

    public Plan Plan => _case.Plan;

    public IReadOnlyDictionary<string, ICalendar> Calendars => _case.Calendars;

    public int Sites => _sites.Count;

    public int Clusters => _clusters.Count;

    public int Alikes => _alike.Count;

    public int All => Jobs.Length + Taken.Length;

    public static int Horizon => (int)SlotPlacer.Horizon.TotalMinutes;

    public UplinkHours? UplinkOf(int site) => _uplinks[site];

    /// <summary>Whether the staging for the slot that a job has is running, or through.</summary>
    public bool HasBegunToStage(Job job) => job.Request.Stands?.StageFrom is { } from && from <= At(0);

    public string SiteName(int site) => _siteNames[site];

    public MinuteSpan[] OpenTo(Job job) => _open[job.Windows];

    /// <summary>
    /// Whose windows count for a job, how many minutes the longest of them has without its freezes, and what these freezes are.
    /// </summary>
    public (string Whose, int Longest, ImmutableArray<string> Freezes) WindowsOf(Job job)
    {
        var (whose, longest, freezes) = _windows.Told(job.Request.Site, job.Request.Group, job.Request.Name);
        return (whose, (int)longest.TotalMinutes, freezes);
    }

    /// <summary>How many minutes a job may begin in: what has few is placed first.</summary>
    public long Width(Job job) => OpenTo(job).Sum(s => (long)Math.Max(0, s.Length - job.Needs + 1));

    /// <summary>The crews that can serve a job.</summary>
    public int[] CrewsFor(Job job)
    {
        if (!_crewsFor.TryGetValue((job.Kind, job.Site), out var crews))
        {
            _crewsFor[(job.Kind, job.Site)] = crews = [
                .. Enumerable
                    .Range(0, Crews.Length)
                    .Where(c => _kinds[Crews[c].Spec.Kind] == job.Kind && Crews[c].Spec.ComesTo(_siteNames[job.Site])),
            ];
        }

        return crews;
    }

    public DateTimeOffset At(double minute) => _origin.AddMinutes(minute);

    /// <summary>The minute in which a moment lies, at least 0.</summary>
    public int MinuteOf(DateTimeOffset moment) => (int)Math.Clamp(Math.Floor((moment - _origin).TotalMinutes), 0, int.MaxValue / 2);

    /// <summary>How many minutes it is to a moment, with what is left of one; at least 0.</summary>
    public double MinutesTo(DateTimeOffset moment) => Math.Max(0, (moment - _origin).TotalMinutes);

    /// <summary>The first minute that does not begin before a moment, at least 0.</summary>
    public int MinuteAfter(DateTimeOffset moment) => MinuteOf(RoundUp(moment));

    private static DateTimeOffset RoundUp(DateTimeOffset time)
    {
        var over = time.Ticks % SlotPlacer.Grain.Ticks;
        return over == 0 ? time : time + (SlotPlacer.Grain - TimeSpan.FromTicks(over));
    }

    private Job JobOf(SlotRequest request, int index)
    {
        var site = SiteOf(request.Site);
        var windows = _windows.NumberOf(request.Site, request.Group, request.Name);
        while (_open.Count < _windows.Count)
            _open.Add(Spans(_windows[_open.Count]));
        var lasts = Math.Max(1, Minutes(request.Lasts));
        var reserve = Minutes(request.RollbackLasts);
        var kind =
            request.Crew is null ? -1
            : _kinds.TryGetValue(request.Crew, out var known) ? known
            : -2;
        var cluster = request.Cluster is null ? -1 : Number(_clusters, request.Cluster);
        var alike = Number(_alike, (windows, site, lasts, reserve, kind));
        var uplink = _uplinks[site] is { } hours && request.Stages > 0 ? request.Stages / hours.Spec.BytesPerMinute : 0;
        return new(
            index,
            request,
            site,
            windows,
            lasts,
            reserve,
            cluster,
            kind,
            alike,
            uplink,
            request.NotBefore is { } earliest ? MinuteAfter(earliest) : 0
        );
    }

    private int SiteOf(string name)
    {
        if (_sites.TryGetValue(name, out var known))
            return known;
        _siteNames.Add(name);
        var spec = _case.Plan.UplinkOf(name);
        _uplinks.Add(
            spec is null
                ? null
                : new(spec, Spans(spec.Hours is null ? [new(_origin, _end)] : spec.Hours.Joined(_origin, _end, _case.Calendars)))
        );
        return _sites[name] = _sites.Count;
    }

    private CrewHours HoursOf(CrewSpec spec)
    {
        var zone = DateTimeZoneProviders.Tzdb[spec.When.Zone];
        var first = Instant.FromDateTimeOffset(_origin).InZone(zone).Date;
        var midnights = Enumerable
            .Range(1, (int)SlotPlacer.Horizon.TotalDays + 1)
            .Select(d => MinuteOf(zone.AtStartOfDay(first.PlusDays(d)).ToInstant().ToDateTimeOffset()));
        return new(
            spec,
            Spans(spec.When.Joined(_origin, _end, _case.Calendars)),
            zone.AtStartOfDay(first).ToInstant().ToDateTimeOffset(),
            [.. midnights]
        );
    }

    private MinuteSpan[] Spans(IEnumerable<Stretch> stretches) =>
        [.. stretches.Select(s => new MinuteSpan(MinuteAfter(s.From), Math.Min(MinuteOf(s.To), Horizon))).Where(s => s.Length > 0)];

    private static int Minutes(TimeSpan time) => (int)Math.Ceiling(time.TotalMinutes);

    /// <summary>A number for something: the next one where it has none yet.</summary>
    internal static int Number<T>(Dictionary<T, int> numbers, T of)
        where T : notnull
    {
        if (!numbers.TryGetValue(of, out var number))
            numbers[of] = number = numbers.Count;
        return number;
    }
}
