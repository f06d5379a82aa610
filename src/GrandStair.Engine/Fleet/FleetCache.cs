using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Conditions;
using GrandStair.Core.Methods;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Fleet;

/// <summary>
/// The fleet as it was last read, brought up to date by what changed since: by machine, and by columns for what is asked of all of it.
/// What was judged is kept as long as no answer of it can have changed.
/// </summary>
public sealed class FleetCache : IDisposable
{
    // Above so many changes it is quicker to judge all again than each one.
    private const int MostJudgedSingly = 300;
    private const int MostKept = 8;
    private const int MostMatches = 32;
    private readonly Dictionary<string, Matches> _matches = new(StringComparer.Ordinal);
    private readonly FleetTable _table;
    private readonly DecisionTable _decisions;
    private readonly SharedRefresh _refresh;
    private FleetColumns _columns = new();
    private SearchColumns _search = new();
    private readonly Dictionary<string, Kept> _kept = new(StringComparer.Ordinal);
    private ImmutableDictionary<MachineId, Machine> _machines = ImmutableDictionary<MachineId, Machine>.Empty;
    private readonly Dictionary<string, MachineId> _byName = new(StringComparer.OrdinalIgnoreCase);
    private readonly NamedLinks _hangingOn = new(Dependents.HangsOn);
    private readonly NamedLinks _replacing = new(Successors.Replaces);
    private int[]? _order;
    private long _position;
    private long _version;

    /// <summary>A copy that is filled when it is first asked.</summary>
    public FleetCache(FleetTable table, DecisionTable decisions)
    {
        (_table, _decisions) = (table, decisions);
        _refresh = new(RefreshAsync);
    }

    /// <summary>All machines as of now, by id. Those that were removed are among them, since runs and plans still refer to them.</summary>
    public Task<ImmutableDictionary<MachineId, Machine>> AllAsync(CancellationToken stop) => _refresh.ReadAsync(() => _machines, stop);

    /// <summary>The machine of that name (case ignored) or id, or null. One that was removed is found by its id.</summary>
    public Task<Machine?> FindAsync(string nameOrId, CancellationToken stop) =>
        _refresh.ReadAsync(
            () =>
                _byName.TryGetValue(nameOrId, out var id) ? _machines[id]
                : MachineId.Parse(nameOrId) is { } written ? _machines.GetValueOrDefault(written)
                : null,
            stop
        );

    /// <summary>
    /// The machines of some sites of which a condition holds, by name, and how many are unknown; all of them where there is no condition.
    /// No call waits until another one's condition has been evaluated.
    /// </summary>
    public async Task<(IReadOnlyList<Machine> Matching, int Undecided)> MatchingAsync(
        Condition? condition,
        SiteScope sites,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var name = $"{sites}/{condition?.Written}";
        using var copy = await BorrowAsync(stop);
        lock (_matches)
        {
            if (_matches.TryGetValue(name, out var known) && known.Version == copy.Version && now >= known.At && !(now >= known.Until))
                return (known.Machines, known.Undecided);
        }

        var columns = copy.Of.Columns;
        var answer = condition is null ? null : FleetQuestion.Ask(condition, columns, new(now));
        var matching = new List<Machine>();
        var undecided = 0;
        foreach (var row in copy.Of.Order)
        {
            if (!sites.Holds(columns[row].Site))
                continue;
            if (answer is null || answer.Values[row] == Kleene.Yes)
                matching.Add(columns[row]);
            else if (answer.Values[row] == Kleene.Unknown)
                undecided++;
        }

        lock (_matches)
        {
            if (_matches.Count >= MostMatches)
                _matches.Clear();
            _matches[name] = new(matching, undecided, now, answer?.Until, copy.Version);
        }

        return (matching, undecided);
    }

    /// <summary>Reads something from the fleet's columns, which hold still meanwhile.</summary>
    public async Task<T> ColumnsAsync<T>(Func<FleetColumns, T> read, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(read);
        using var copy = await BorrowAsync(stop);
        return read(copy.Of.Columns);
    }

    /// <summary>Judges the whole fleet for an aim, and reads something from the judgement while it holds still.</summary>
    /// <param name="aim">What it is judged for.</param>
    /// <param name="plan">The plan whose decisions about methods count; null for none.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="read">What is read: the judgement, and the rows in the order of the machines' names.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<T> JudgedAsync<T>(
        Aim aim,
        string? plan,
        DateTimeOffset now,
        Func<FleetJudgement, IReadOnlyList<int>, T> read,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(aim);
        var stamp = await _decisions.StampAsync(stop);
        var decided = await _decisions.OfAsync(aim.Product.Name, plan, now, stop);
        return await _refresh.ReadAsync(() => read(JudgementOf(aim, plan, decided, stamp, now), Order()), stop);
    }

    /// <inheritdoc />
    public void Dispose() => _refresh.Dispose();

    private FleetJudgement JudgementOf(
        Aim aim,
        string? plan,
        IReadOnlyDictionary<MachineId, Decisions> decided,
        long stamp,
        DateTimeOffset now
    )
    {
        var name = $"{aim.Name}/{plan}";
        if (
            _kept.TryGetValue(name, out var kept)
            && kept.Stamp == stamp
            && (kept.Judgement.Until is not { } until || now < until)
            && now >= kept.Judgement.Now
            && kept.Judgement.Rows == _columns.Count
        )
        {
            foreach (var row in kept.Changed)
                kept.Judgement.Rejudge(row, now, decided.GetValueOrDefault(_columns[row].Id));
            kept.Changed.Clear();
            return kept.Judgement;
        }

        if (_kept.Count >= MostKept)
            _kept.Remove(_kept.MinBy(k => k.Value.Judgement.Now).Key);
        var judgement = FleetJudgement.Of(aim, _columns, now, decided);
        _kept[name] = new(judgement, stamp, []);
        return judgement;
    }

    private int[] Order() => _order ??= _columns.RowsByName();

    /// <summary>Columns of the fleet as of now.</summary>
    private async Task<Borrowed> BorrowAsync(CancellationToken stop)
    {
        while (true)
        {
            var returned = Task.CompletedTask;
            var borrowed = await _refresh.ReadAsync(
                () => _search.TryBorrow(_machines, out returned) is { } copy ? new Borrowed(copy, _version) : null,
                stop
            );
            if (borrowed is not null)
                return borrowed;
            await returned.WaitAsync(stop);
        }
    }

    private async Task RefreshAsync(CancellationToken stop)
    {
        var (changed, position) = await _table.ChangedAsync(_position, stop);
        _position = position;
        if (changed.Count > 0)
            Take(changed);
    }

    private void Take(IReadOnlyList<Machine> changed)
    {
        _version++;
        var fewer = changed.Any(m => !m.IsInFleet && _byName.GetValueOrDefault(m.Name) == m.Id);
        var renamed = false;
        var shouldered = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var replaced = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (var machine in changed)
        {
            var before = _machines.GetValueOrDefault(machine.Id);
            renamed |= before?.Name != machine.Name;
            NoteName(before, machine);
            _hangingOn.Note(before, machine, shouldered);
            _replacing.Note(before, machine, replaced);
        }

        _machines = _machines.SetItems(changed.Select(m => KeyValuePair.Create(m.Id, m)));
        var computed = Compute(shouldered, replaced);
        if (fewer)
        {
            // Rows are never taken out of columns; removing machines is rare enough to make them again.
            (_columns, _search, _order) = (FleetColumns.Of(_machines.Values.Where(m => m.IsInFleet)), new(), null);
            _kept.Clear();
            return;
        }

        var touched = changed.Select(m => m.Id).Concat(computed).Distinct().Select(id => _machines[id]).Where(m => m.IsInFleet).ToArray();
        foreach (var machine in touched)
            _columns.Put(machine);
        _search.Changed(touched.Select(m => m.Id));
        if (renamed)
            _order = null;
        NoteChanged(touched);
    }

    private void NoteName(Machine? before, Machine machine)
    {
        if (
            before is not null
            && (before.Name != machine.Name || !machine.IsInFleet)
            && _byName.GetValueOrDefault(before.Name) == machine.Id
        )
            _byName.Remove(before.Name);
        if (machine.IsInFleet)
            _byName[machine.Name] = machine.Id;
    }

    /// <summary>Takes note of which machines have to be judged again.</summary>
    private void NoteChanged(IReadOnlyList<Machine> touched)
    {
        foreach (var (name, kept) in _kept.ToArray())
        {
            foreach (var machine in touched)
                kept.Changed.Add(_columns.RowOf(machine.Id)!.Value);
            if (kept.Changed.Count > MostJudgedSingly)
                _kept.Remove(name);
        }
    }

    /// <summary>Makes the readings of machines that follow from others: their dependents, and their second machines.</summary>
    /// <param name="shouldered">The names of machines on which another one hangs or hung.</param>
    /// <param name="replaced">The names of machines whose place another one is or was to take.</param>
    /// <returns>The machines that have changed by it.</returns>
    private HashSet<MachineId> Compute(IEnumerable<string> shouldered, IEnumerable<string> replaced)
    {
        var computed = new HashSet<MachineId>();
        void Put(Machine machine)
        {
            _machines = _machines.SetItem(machine.Id, machine);
            computed.Add(machine.Id);
        }

        foreach (var name in shouldered.Where(_byName.ContainsKey))
            Put(Dependents.With(_machines[_byName[name]], [.. _hangingOn.To(name).Select(id => _machines[id])]));
        foreach (var name in replaced)
            Pair(name, Put);
        return computed;
    }

    /// <summary>Tells a machine and those that are to take its place of each other.</summary>
    private void Pair(string name, Action<Machine> put)
    {
        var replacing = _replacing.To(name).Select(m => _machines[m]).ToArray();
        var old = _byName.TryGetValue(name, out var id) ? _machines[id] : null;
        if (old is not null)
            put(Successors.With(old, replacing));
        foreach (var next in replacing)
            put(Successors.WithStandsBy(_machines[next.Id], old));
    }

    private sealed record Matches(IReadOnlyList<Machine> Machines, int Undecided, DateTimeOffset At, DateTimeOffset? Until, long Version);

    /// <summary>Columns in use.</summary>
    /// <param name="Of">The columns.</param>
    /// <param name="Version">The state of the fleet that they are of.</param>
    private sealed record Borrowed(SearchColumns.Copy Of, long Version) : IDisposable
    {
        public void Dispose() => Of.Dispose();
    }

    private sealed record Kept(FleetJudgement Judgement, long Stamp, HashSet<int> Changed);
}
