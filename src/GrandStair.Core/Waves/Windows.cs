using System.Collections.Immutable;
using GrandStair.Core.Readings;
using NodaTime;

namespace GrandStair.Core.Waves;

/// <summary>When some may be touched.</summary>
/// <param name="For">Which machines it is for. An entry that names a machine counts before one for its group, that before one for its site,
/// and that before one for everyone.</param>
/// <param name="When">When.</param>
public sealed record WindowSpec(TargetSelector For, TimeRule When);

/// <summary>When some may not be touched, whatever their windows say.</summary>
/// <param name="For">Which machines it is for; every freeze that names a machine, its group, its site or everyone holds.</param>
/// <param name="When">When.</param>
/// <param name="Why">Why, for people.</param>
public sealed record FreezeSpec(TargetSelector For, TimeRule When, string Why);

/// <summary>
/// When the machines of a plan may be touched within a span: their windows without their freezes. Machines with the same rules share one
/// answer.
/// </summary>
public sealed class Windows
{
    private readonly Plan _plan;
    private readonly IReadOnlyDictionary<string, ICalendar> _calendars;
    private readonly DateTimeOffset _from;
    private readonly DateTimeOffset _to;
    private readonly TargetSelectorIndex _windows;
    private readonly TargetSelectorIndex _freezes;
    private readonly List<ImmutableArray<Stretch>> _open = [];
    private readonly Dictionary<string, int> _byRules = new(StringComparer.Ordinal);
    private readonly Dictionary<(string Site, string Group), int> _byPlace = [];

    /// <summary>The windows of a plan.</summary>
    /// <param name="plan">The plan.</param>
    /// <param name="calendars">The calendars that its rules name.</param>
    /// <param name="from">The span's begin, UTC.</param>
    /// <param name="to">The span's end, UTC.</param>
    public Windows(Plan plan, IReadOnlyDictionary<string, ICalendar> calendars, DateTimeOffset from, DateTimeOffset to)
    {
        ArgumentNullException.ThrowIfNull(plan);
        (_plan, _calendars, _from, _to) = (plan, calendars, from, to);
        _windows = new([.. plan.Windows.Select(w => w.For)]);
        _freezes = new([.. plan.Freezes.Select(c => c.For)]);
    }

    /// <summary>How many different answers there are so far.</summary>
    internal int Count => _open.Count;

    /// <summary>An answer by its number.</summary>
    internal ImmutableArray<Stretch> this[int number] => _open[number];

    /// <summary>The stretches in which a machine may be touched, in order; those that touch or overlap are joined.</summary>
    public ImmutableArray<Stretch> Of(string site, string group, string machine) => _open[NumberOf(site, group, machine)];

    /// <summary>Whether the name is of a zone in the IANA database.</summary>
    public static bool IsZone(string name) => DateTimeZoneProviders.Tzdb.GetZoneOrNull(name) is not null;

    /// <summary>
    /// Whose windows count for a machine, how long the longest of them is without its freezes, and what these freezes are.
    /// </summary>
    internal (string Whose, TimeSpan Longest, ImmutableArray<string> Freezes) Told(string site, string group, string machine)
    {
        var windows = _windows.Nearest(site, group, machine);
        // The narrowest kind that is named counts.
        var named = windows.Length == 0 ? null : _plan.Windows[windows[0]].For;
        var whose =
            named is null ? $"site '{site}'"
            : named.IsEveryone ? "everyone"
            : named.Machines.Contains(machine, StringComparer.OrdinalIgnoreCase) ? $"machine '{machine}'"
            : named.Groups.Contains(group, StringComparer.OrdinalIgnoreCase) ? $"group '{group}'"
            : $"site '{site}'";
        var open = Open(windows.Select(w => _plan.Windows[w].When), []);
        return (
            whose,
            open.IsEmpty ? TimeSpan.Zero : open.Max(s => s.To - s.From),
            [.. _freezes.All(site, group, machine).Order().Select(c => _plan.Freezes[c].Why)]
        );
    }

    /// <summary>The number of a machine's answer: the same for machines with the same rules.</summary>
    internal int NumberOf(string site, string group, string machine)
    {
        var named = _windows.Knows(machine) || _freezes.Knows(machine);
        if (!named && _byPlace.TryGetValue((site, group), out var known))
            return known;
        var windows = _windows.Nearest(site, group, machine);
        var freezes = _freezes.All(site, group, machine).ToArray();
        var rules = $"{string.Join(',', windows)}|{string.Join(',', freezes)}";
        if (!_byRules.TryGetValue(rules, out var number))
        {
            _byRules[rules] = number = _open.Count;
            _open.Add(Open(windows.Select(w => _plan.Windows[w].When), freezes.Select(c => _plan.Freezes[c].When)));
        }

        if (!named)
            _byPlace[(site, group)] = number;
        return number;
    }

    private ImmutableArray<Stretch> Open(IEnumerable<TimeRule> windows, IEnumerable<TimeRule> freezes)
    {
        var open = Join(windows.SelectMany(w => w.Between(_from, _to, _calendars)));
        var blocked = Join(freezes.SelectMany(c => c.Between(_from, _to, _calendars)));
        var left = ImmutableArray.CreateBuilder<Stretch>();
        var next = 0;
        foreach (var stretch in open)
        {
            var from = stretch.From;
            while (next < blocked.Count && blocked[next].To <= from)
                next++;
            for (var i = next; i < blocked.Count && blocked[i].From < stretch.To; i++)
            {
                if (blocked[i].From > from)
                    left.Add(new(from, blocked[i].From));
                if (blocked[i].To > from)
                    from = blocked[i].To;
            }

            if (from < stretch.To)
                left.Add(stretch with { From = from });
        }

        return left.ToImmutable();
    }

    /// <summary>Stretches in order, those that touch or overlap made one.</summary>
    internal static IReadOnlyList<Stretch> Join(IEnumerable<Stretch> stretches)
    {
        var joined = new List<Stretch>();
        foreach (var next in stretches.Where(s => s.From < s.To).OrderBy(s => s.From))
        {
            if (joined.Count > 0 && next.From <= joined[^1].To)
                joined[^1] = joined[^1] with { To = joined[^1].To > next.To ? joined[^1].To : next.To };
            else
                joined.Add(next);
        }

        return joined;
    }
}
