using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using NodaTime;

namespace GrandStair.Core.Rehearsals;

/// <summary>A case in numbers, found out once for all draws; nothing of it changes afterwards.</summary>
internal sealed class Prepared
{
    /// <summary>How long after its begin a rehearsal ends, whatever is not verified by then.</summary>
    public static readonly TimeSpan Span = SlotPlacer.Horizon * 2;

    private readonly RehearsalCase _case;
    private readonly int[] _open;
    private readonly int[] _clusters;
    private readonly int[] _uplinks;
    private readonly string?[] _crews;
    private readonly Cause[] _causes;
    private readonly Dictionary<string, int> _crewLimits = new(StringComparer.OrdinalIgnoreCase);
    private readonly List<Stretch[]> _stretches = [];

    public Prepared(RehearsalCase @case)
    {
        _case = @case;
        To = @case.From + Span;
        Times = new(@case.Plan, @case.Calendars, @case.From, To);
        var sites = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        Sites = [.. @case.Machines.Select(m => ScheduleProblem.Number(sites, m.Request.Site))];
        SiteNames = [.. sites.OrderBy(s => s.Value).Select(s => s.Key)];
        Members =
        [
            .. @case.Plan.Waves.Select(
                (_, w) => Enumerable.Range(0, @case.Machines.Length).Where(m => @case.Machines[m].Wave == w).ToArray()
            ),
        ];
        var kinds = new Dictionary<string, int>(StringComparer.Ordinal);
        Kinds = [.. @case.Machines.Select(m => ScheduleProblem.Number(kinds, string.Join('|', m.Legs.Select(l => $"{l.Hop}/{l.Method}"))))];
        Lead = [.. @case.Machines.Select(m => @case.Plan.LeadFor(m.Legs.IsEmpty ? [] : m.Legs[0].Steps))];

        List<(int Most, Cause Cause)> limits =
        [
            (@case.Plan.Limits.All, Cause.PlanLimit),
            .. SiteNames.Select(_ => (@case.Plan.Limits.Site, Cause.SiteLimit)),
        ];
        foreach (var crew in @case.Plan.Crews)
            Limit(_crewLimits, crew.Name, crew.Hands, Cause.Crew);
        var clusters = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        var uplinks = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        _clusters = [.. @case.Machines.Select(m => m.Request.Cluster is { } cluster ? Limit(clusters, cluster, 1, Cause.Cluster) : -1)];
        _uplinks =
        [
            .. @case.Machines.Select(m =>
                @case.Plan.UplinkOf(m.Request.Site) is not null ? Limit(uplinks, m.Request.Site, 1, Cause.Uplink) : -1
            ),
        ];
        Most = [.. limits.Select(l => l.Most)];
        _causes = [.. limits.Select(l => l.Cause)];
        OtherLimits = [.. @case.Others.Select(o => LimitsOf(o).ToArray())];
        var numbers = new Dictionary<MachineId, int>();
        for (var m = 0; m < @case.Machines.Length; m++)
            numbers[@case.Machines[m].Request.Machine] = m;
        Before = [.. @case.Machines.Select(m => m.Request.After.IsEmpty ? -1 : numbers.GetValueOrDefault(m.Request.After[0].Machine, -1))];

        _crews = [.. @case.Machines.Select(m => CrewFor(m.Request)?.Name)];
        var open = new Dictionary<(int Windows, string? Crew), int>();
        _open = [.. @case.Machines.Select((m, i) => OpenOf(open, m.Request, _crews[i]))];
        Tightest = SlotPlacer.Tightest(
            new(@case.Plan, @case.Calendars, [.. @case.Machines.Select(m => m.Request with { Stands = null })], [], @case.From)
            {
                Known = Times,
            },
            SiteNames
        );

        IEnumerable<(int Limit, int Most)> LimitsOf(TakenSlot other)
        {
            if (other.OtherPlan is { } plan && sites.TryGetValue(other.Of.Site, out var site))
                yield return (1 + site, plan.Limits.Site);
            if (other.Of.Cluster is { } cluster && clusters.TryGetValue(cluster, out var limit))
                yield return (limit, 1);
            if (CrewLimit(other.Slot.Crew) is var crew and >= 0)
                yield return (crew, other.OtherPlan?.CrewOf(other.Slot.Crew)?.Hands ?? int.MaxValue);
        }

        int Limit(Dictionary<string, int> known, string name, int most, Cause cause)
        {
            if (known.TryGetValue(name, out var limit))
                return limit;
            limits.Add((most, cause));
            return known[name] = limits.Count - 1;
        }
    }

    public Plan Plan => _case.Plan;

    public IReadOnlyDictionary<string, ICalendar> Calendars => _case.Calendars;

    public ImmutableArray<RehearsedMachine> Machines => _case.Machines;

    public ImmutableArray<RehearsedWave> Waves => _case.Waves;

    public DateTimeOffset From => _case.From;

    public DateTimeOffset To { get; }

    /// <summary>The windows of all machines; all of it was asked for already, so that asking again changes nothing.</summary>
    public Windows Times { get; }

    /// <summary>The number of each machine's site.</summary>
    public int[] Sites { get; }

    public string[] SiteNames { get; }

    /// <summary>The machines of each wave.</summary>
    public int[][] Members { get; }

    /// <summary>A number for the legs of each machine: the same for those that go through the same.</summary>
    public int[] Kinds { get; }

    /// <summary>How long before its slot each machine has to be known.</summary>
    public TimeSpan[] Lead { get; }

    /// <summary>How many may have room in each limit: the plan, the sites, then crews, clusters and uplinks.</summary>
    public int[] Most { get; }

    /// <summary>What takes longest at each site.</summary>
    public Cause[] Tightest { get; }

    /// <summary>By machine the number of the one that it goes after; below 0 where it goes after none of this plan.</summary>
    public int[] Before { get; }

    /// <summary>The slots of other plans.</summary>
    public ImmutableArray<TakenSlot> Others => _case.Others;

    /// <summary>By slot of another plan the limits in which it takes room, and how many its plan lets have room there.</summary>
    public (int Limit, int Most)[][] OtherLimits { get; }

    public Cause CauseOf(int limit) => _causes[limit];

    public int ClusterOf(int m) => _clusters[m];

    public int UplinkOf(int m) => _uplinks[m];

    public int CrewLimit(string? crew) => crew is null ? -1 : _crewLimits.GetValueOrDefault(crew, -1);

    public string? CrewOf(int m) => _crews[m];

    /// <summary>The stretches in which a machine may be touched, and its crew is there, that end after a moment.</summary>
    public ReadOnlySpan<Stretch> OpenFrom(int m, DateTimeOffset from)
    {
        var open = _stretches[_open[m]];
        int low = 0,
            high = open.Length;
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (open[middle].To > from)
                high = middle;
            else
                low = middle + 1;
        }

        return open.AsSpan(low);
    }

    /// <summary>When a machine could begin if it were alone; null where it never can.</summary>
    public DateTimeOffset? FirstFit(int m, DateTimeOffset from)
    {
        var needs = Machines[m].Request.Lasts + Machines[m].Request.RollbackLasts;
        foreach (var window in OpenFrom(m, from))
        {
            var start = window.From > from ? window.From : from;
            if (start + needs <= window.To)
                return start;
        }

        return null;
    }

    /// <summary>The begin of the window in which a moment lies; null where it lies in none.</summary>
    public DateTimeOffset? WindowOf(int m, DateTimeOffset at) => OpenFrom(m, at) is [var first, ..] && first.From <= at ? first.From : null;

    /// <summary>
    /// How many appointments a crew takes on one day, and the day of a moment in its zone; null where it takes as many as fit.
    /// </summary>
    public (int Most, LocalDate Day)? DayOf(string? crew, DateTimeOffset at) =>
        Plan.CrewOf(crew) is { PerDay: { } most } spec
            ? (most, Instant.FromDateTimeOffset(at).InZone(DateTimeZoneProviders.Tzdb[spec.When.Zone]).Date)
            : null;

    private CrewSpec? CrewFor(SlotRequest request) =>
        request.Crew is not { } kind
            ? null
            : Plan.Crews.FirstOrDefault(c => c.Kind.Equals(kind, StringComparison.OrdinalIgnoreCase) && c.ComesTo(request.Site));

    private int OpenOf(Dictionary<(int Windows, string? Crew), int> open, SlotRequest request, string? crew)
    {
        var key = (Times.NumberOf(request.Site, request.Group, request.Name), crew);
        if (open.TryGetValue(key, out var known))
            return known;
        var stretches = Times[key.Item1];
        if (crew is not null)
            stretches = Both(stretches, Plan.Crews.Single(c => c.Name == crew).When.Joined(From, To, Calendars));
        _stretches.Add([.. stretches]);
        return open[key] = _stretches.Count - 1;
    }

    private static ImmutableArray<Stretch> Both(IReadOnlyList<Stretch> one, IReadOnlyList<Stretch> other)
    {
        var both = ImmutableArray.CreateBuilder<Stretch>();
        var (i, j) = (0, 0);
        while (i < one.Count && j < other.Count)
        {
            var (from, to) = (one[i].From > other[j].From ? one[i].From : other[j].From, one[i].To < other[j].To ? one[i].To : other[j].To);
            if (from < to)
                both.Add(new(from, to));
            if (one[i].To < other[j].To)
                i++;
            else
                j++;
        }

        return both.ToImmutable();
    }
}
