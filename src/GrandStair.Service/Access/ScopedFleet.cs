using GrandStair.Core.Access;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Fleet;

namespace GrandStair.Service.Access;

/// <summary>The fleet as the caller sees it: machines at other sites do not exist. Endpoints know no other fleet.</summary>
internal sealed class ScopedFleet(FleetCache fleet, IHttpContextAccessor context)
{
    /// <summary>The sites that the caller sees.</summary>
    public SiteScope Sites => context.HttpContext!.User.Caller().Sites;

    /// <summary>All machines at these sites, by id; also those that were removed, to which runs and plans still refer.</summary>
    public async Task<IReadOnlyDictionary<MachineId, Machine>> AllAsync(CancellationToken stop)
    {
        var all = await fleet.AllAsync(stop);
        var sites = Sites;
        return sites.IsAll ? all : all.Values.Where(m => sites.Holds(m.Site)).Select(Seen(all.Values)).ToDictionary(m => m.Id);
    }

    /// <summary>The machine of that name or id, or which one may be meant.</summary>
    /// <exception cref="RefusedException">There is none at the caller's sites, or it was removed from the fleet.</exception>
    public async Task<Machine> MachineAsync(string name, CancellationToken stop)
    {
        var machine = await EverKnownAsync(name, stop);
        return machine.Removed is { } removed
            ? throw RefusedException.Conflict(
                "machine-removed",
                $"{machine.Name} was removed from the fleet on {removed.At:yyyy-MM-dd} by {removed.By}: {removed.Reason}. 'gstair "
                    + $"machine restore {machine.Id}' brings it back."
            )
            : machine;
    }

    /// <summary>
    /// The machine of that name or id; by its id, and by its name where no other machine has it, also one that was removed.
    /// </summary>
    /// <exception cref="RefusedException">There is none at the caller's sites.</exception>
    public async Task<Machine> EverKnownAsync(string name, CancellationToken stop)
    {
        if (await fleet.FindAsync(name, stop) is { } machine && Sites.Holds(machine.Site))
            return Sites.IsAll ? machine : Seen((await fleet.AllAsync(stop)).Values)(machine);
        var all = (await AllAsync(stop)).Values;
        if (all.Where(m => !m.IsInFleet && m.Name.Equals(name, StringComparison.OrdinalIgnoreCase)).MaxBy(m => m.Removed!.At) is { } gone)
            return gone;
        var names = all.Where(m => m.IsInFleet).Select(m => m.Name);
        throw RefusedException.Unknown(
            "unknown-machine",
            $"There is no machine '{name}'{Spelling.DidYouMean(name, names, ". 'gstair fleet list' shows those that exist.")}"
        );
    }

    /// <summary>The machines that match a condition or fragments of names, by name, and of how many that is unknown.</summary>
    public async Task<(IReadOnlyList<Machine> Matching, int Undecided)> MatchingAsync(
        string? filter,
        CatalogueCache catalogues,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(catalogues);
        if (filter is not null && MachineSearch.Of(filter, catalogues.Keys) is { } search)
            return (
                [
                    .. (await AllAsync(stop))
                        .Values.Where(m => m.IsInFleet && search.Finds(m))
                        .OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase),
                ],
                0
            );
        var condition = string.IsNullOrWhiteSpace(filter) ? null : ConditionParser.Parse(filter, catalogues.Keys);
        if (Sites.IsAll)
            return await fleet.MatchingAsync(condition, Sites, now, stop);
        if (condition is null || !condition.Keys.Any(NamesOfOthers.AreIn))
        {
            var (matching, undecided) = await fleet.MatchingAsync(condition, Sites, now, stop);
            return ([.. matching.Select(Seen((await fleet.AllAsync(stop)).Values))], undecided);
        }

        // Evaluated on the machines as the caller sees them, so that the answer does not reveal names that are left out.
        var asked = (await AllAsync(stop))
            .Values.Where(m => m.IsInFleet)
            .OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase)
            .Select(m => (Machine: m, condition.Ask(m, new(now)).Value))
            .ToArray();
        return ([.. asked.Where(a => a.Value == Kleene.Yes).Select(a => a.Machine)], asked.Count(a => a.Value == Kleene.Unknown));
    }

    /// <summary>Machines as the caller sees them: without the names of machines at other sites.</summary>
    private Func<Machine, Machine> Seen(IEnumerable<Machine> all)
    {
        var isSeen = IsSeen(all);
        return machine => NamesOfOthers.LeftOut(machine, isSeen);
    }

    /// <summary>Readings of a machine as the caller sees them: without the names of machines at other sites.</summary>
    public async Task<IReadOnlyList<Reading>> SeenAsync(IReadOnlyList<Reading> readings, CancellationToken stop)
    {
        if (Sites.IsAll)
            return readings;
        var isSeen = IsSeen((await fleet.AllAsync(stop)).Values);
        return [.. readings.Select(r => NamesOfOthers.LeftOut(r, isSeen))];
    }

    /// <summary>Whether a name is not that of a machine at another site.</summary>
    private Func<string, bool> IsSeen(IEnumerable<Machine> all)
    {
        var sites = Sites;
        // Hardly any machine names another one, so this is seldom asked for.
        var elsewhere = new Lazy<HashSet<string>>(() =>
            all.Where(m => !sites.Holds(m.Site)).Select(m => m.Name).ToHashSet(StringComparer.OrdinalIgnoreCase)
        );
        return name => !elsewhere.Value.Contains(name);
    }

    /// <summary>The values of a key, those on most of the caller's machines first.</summary>
    public async Task<IReadOnlyList<(string Value, int Machines)>> ValuesAsync(string key, string having, int most, CancellationToken stop)
    {
        var values = await fleet.ColumnsAsync(c => c.ValuesOf(key, having, most, Sites), stop);
        if (Sites.IsAll || !NamesOfOthers.AreIn(key))
            return values;
        var isSeen = IsSeen((await fleet.AllAsync(stop)).Values);
        return [.. values.Where(v => isSeen(v.Value))];
    }

    /// <summary>
    /// Judges the fleet for an aim, and reads something from the judgement; the third argument says which rows are at the caller's sites.
    /// </summary>
    public Task<T> JudgedAsync<T>(
        Aim aim,
        string? plan,
        DateTimeOffset now,
        Func<FleetJudgement, IReadOnlyList<int>, Func<int, bool>, T> read,
        CancellationToken stop
    )
    {
        var sites = Sites;
        return fleet.JudgedAsync(
            aim,
            plan,
            now,
            (judgement, order) => read(judgement, order, row => sites.Holds(judgement.Fleet[row].Site)),
            stop
        );
    }
}
