using System.Collections.Immutable;
using GrandStair.Core.Scheduling;

namespace GrandStair.Core.Rehearsals;

/// <summary>
/// Adds simulations up as they finish; of each only what the forecast shows is kept, so that memory does not grow with machines times
/// draws.
/// </summary>
internal sealed class ForecastSums(Prepared prepared, int draws, int steps)
{
    private static readonly Cause[] Causes = Enum.GetValues<Cause>();
    private readonly Lock _lock = new();
    private readonly int[] _misses = new int[prepared.Machines.Length];
    private readonly double[][,] _waited = new double[draws][,];
    private readonly DateTimeOffset?[][] _ends = new DateTimeOffset?[draws][];
    private readonly DateTimeOffset?[][] _begins = new DateTimeOffset?[draws][];
    private readonly DateTimeOffset?[][] _waves = new DateTimeOffset?[draws][];
    private readonly DateTimeOffset?[][] _sites = new DateTimeOffset?[draws][];
    private readonly double[] _notVerified = new double[draws];
    private readonly double[] _missed = new double[draws];
    private readonly DateTimeOffset? _deadline = prepared.Plan.Deadline is { } day ? PlanSchedule.EndOf(day) : null;
    private readonly int[] _levels =
    [
        .. Enumerable
            .Range(1, steps)
            .Select(s => (int)Math.Ceiling(s * prepared.Machines.Length / (double)steps))
            .Distinct()
            .Where(l => l > 0),
    ];

    /// <summary>Takes what came of one draw.</summary>
    public void Add(int draw, SimulationResult result)
    {
        var verified = result.Verified.OfType<DateTimeOffset>().Order().ToArray();
        _ends[draw] =
        [
            verified.Length == 0 ? null : verified[^1],
            .. _levels.Select(l => l <= verified.Length ? verified[l - 1] : (DateTimeOffset?)null),
        ];
        _begins[draw] = result.Opened;
        _notVerified[draw] = result.Verified.Length - verified.Length;
        _missed[draw] = result.MissedSlots;
        _waited[draw] = result.Waited;
        var waves = _waves[draw] = new DateTimeOffset?[prepared.Waves.Length];
        var sites = _sites[draw] = new DateTimeOffset?[prepared.SiteNames.Length];
        for (var m = 0; m < result.Verified.Length; m++)
        {
            if (result.Verified[m] is not { } at)
                continue;
            Later(ref waves[prepared.Machines[m].Wave], at);
            Later(ref sites[prepared.Sites[m]], at);
        }

        lock (_lock)
        {
            for (var m = 0; m < _misses.Length; m++)
            {
                if (result.Verified[m] is not { } at || at > _deadline)
                    _misses[m]++;
            }
        }
    }

    /// <summary>Summarises all draws.</summary>
    public Forecast Tell(RehearsalSettings settings) =>
        new()
        {
            Draws = draws,
            Seed = settings.Seed,
            From = prepared.From,
            Machines = prepared.Machines.Length,
            Verified = Spread.Of(_ends.Select(e => e[0])),
            InTime = _deadline is null ? null : _ends.Count(e => e[0] <= _deadline) / (double)draws,
            NotVerified = Amount.Of(_notVerified),
            MissedSlots = Amount.Of(_missed),
            Waves =
            [
                .. prepared.Plan.Waves.Select(
                    (w, i) => new WaveForecast(w.Name, Spread.Of(_begins.Select(b => b[i])), Spread.Of(_waves.Select(b => b[i])))
                ),
            ],
            Sites =
            [
                .. Enumerable
                    .Range(0, prepared.SiteNames.Length)
                    .Select(Site)
                    .OrderByDescending(s => s.Verified.P50 ?? DateTimeOffset.MinValue)
                    .ThenBy(s => s.Site, StringComparer.OrdinalIgnoreCase),
            ],
            Late =
            [
                .. _misses
                    .Select((misses, m) => (misses, m))
                    .Where(x => x.misses > 0)
                    .OrderByDescending(x => x.misses)
                    .ThenBy(x => x.m)
                    .Take(Rehearsal.MostLate)
                    .Select(x => new LateMachine(prepared.Machines[x.m].Request.Machine, x.misses / (double)draws)),
            ],
            Steps = [.. _levels.Select((level, l) => new ForecastStep(level, Spread.Of(_ends.Select(e => e[l + 1]))))],
        };

    private SiteForecast Site(int site)
    {
        var machines = prepared.Sites.Count(s => s == site);
        ImmutableArray<SiteWait> waits =
        [
            .. Causes
                .Select(c => new SiteWait(c, _waited.Sum(w => w[site, (int)c]) / draws / machines))
                .Where(w => w.Hours > 0)
                .OrderByDescending(w => w.Hours),
        ];
        var (cause, hours) = waits.FirstOrDefault(w => w.Cause != Cause.Waves, new(Cause.Windows, 0));
        return new(prepared.SiteNames[site], machines, Spread.Of(_sites.Select(s => s[site])), cause, hours, waits);
    }

    private static void Later(ref DateTimeOffset? latest, DateTimeOffset at)
    {
        if (latest is null || at > latest)
            latest = at;
    }
}
