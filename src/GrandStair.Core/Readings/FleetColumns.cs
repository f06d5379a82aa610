using GrandStair.Core.Access;

namespace GrandStair.Core.Readings;

/// <summary>
/// The fleet by columns: per key the state, time and value of every machine's current reading, so that a condition is asked of all
/// machines in one pass. Values that are no numbers are kept once each and counted by code. Not safe for threads: who owns it
/// sees to it that nobody asks while machines are put in.
/// </summary>
public sealed class FleetColumns
{
    private readonly Dictionary<MachineId, int> _rows = [];
    private readonly Dictionary<string, FleetColumn> _columns = new(StringComparer.Ordinal);
    private Machine[] _machines = new Machine[64];
    private bool[] _conflicts = new bool[64];

    /// <summary>How many machines there are.</summary>
    public int Count { get; private set; }

    /// <summary>The machines by row, in the order in which they came.</summary>
    public ReadOnlySpan<Machine> Machines => _machines.AsSpan(0, Count);

    /// <summary>Columns of a whole fleet.</summary>
    public static FleetColumns Of(IEnumerable<Machine> machines)
    {
        ArgumentNullException.ThrowIfNull(machines);
        var columns = new FleetColumns();
        foreach (var machine in machines)
            columns.Put(machine);
        return columns;
    }

    /// <summary>The machine of a row.</summary>
    public Machine this[int row] => _machines[row];

    /// <summary>Whether two sources conflict on the machine of a row.</summary>
    public bool Conflicts(int row) => _conflicts[row];

    /// <summary>The row of a machine; null where it is not in the fleet.</summary>
    public int? RowOf(MachineId id) => _rows.TryGetValue(id, out var row) ? row : null;

    /// <summary>All rows in the order of the machines' names, case ignored.</summary>
    public int[] RowsByName()
    {
        var names = new string[Count];
        var rows = new int[Count];
        for (var row = 0; row < Count; row++)
            (names[row], rows[row]) = (_machines[row].Name, row);
        Array.Sort(names, rows, StringComparer.OrdinalIgnoreCase);
        return rows;
    }

    /// <summary>
    /// The values that machines have under a key, the most common first, with how many have each; a list's texts one by one.
    /// </summary>
    /// <param name="key">The key.</param>
    /// <param name="having">What a value has inside, case ignored; empty for every value.</param>
    /// <param name="most">How many values at most.</param>
    public IReadOnlyList<(string Value, int Machines)> ValuesOf(string key, string having, int most, SiteScope sites)
    {
        ArgumentNullException.ThrowIfNull(sites);
        var counts = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        foreach (var machine in Machines)
        {
            if (!sites.Holds(machine.Site) || machine.Find(key)?.Value is not { } value)
                continue;
            if (value.Kind == ValueKind.List)
                foreach (var item in value.Items)
                    counts[item] = counts.GetValueOrDefault(item) + 1;
            else if (value.Kind != ValueKind.Table)
                counts[value.Text] = counts.GetValueOrDefault(value.Text) + 1;
        }

        return
        [
            .. counts
                .Where(c => c.Key.Contains(having, StringComparison.OrdinalIgnoreCase))
                .OrderByDescending(c => c.Value)
                .ThenBy(c => c.Key, StringComparer.OrdinalIgnoreCase)
                .Take(most)
                .Select(c => (c.Key, c.Value)),
        ];
    }

    /// <summary>Puts a machine in, or in place of what was known of it.</summary>
    public void Put(Machine machine)
    {
        ArgumentNullException.ThrowIfNull(machine);
        if (!_rows.TryGetValue(machine.Id, out var row))
        {
            row = Count++;
            _rows[machine.Id] = row;
            if (Count > _machines.Length)
            {
                Array.Resize(ref _machines, Count * 2);
                Array.Resize(ref _conflicts, Count * 2);
            }
        }
        else
        {
            foreach (var gone in _machines[row].Current.Where(r => machine.Find(r.Key) is null))
                _columns[gone.Key].Clear(row);
        }

        _machines[row] = machine;
        _conflicts[row] = machine.Conflicts.Any();
        foreach (var reading in machine.Current)
            Put(row, reading);
        foreach (var key in Machine.OwnKeys)
            Put(row, machine.Find(key)!);
    }

    /// <summary>The column of a key; null where no machine has a reading under it.</summary>
    internal FleetColumn? Find(string key) => _columns.GetValueOrDefault(key);

    private void Put(int row, Reading reading)
    {
        if (!_columns.TryGetValue(reading.Key, out var column))
            _columns[reading.Key] = column = new();
        column.Put(row, reading, Count);
    }
}

/// <summary>One key's readings over the fleet. Rows beyond the end of the arrays were never seen.</summary>
internal sealed class FleetColumn
{
    /// <summary>Marks what was never seen; the other states are those of <see cref="ReadingState"/> plus one.</summary>
    public const byte Never = 0;

    private const int CompactAbove = 1024;
    private readonly Dictionary<string, int> _codes = new(StringComparer.Ordinal);
    private readonly List<ReadingValue> _values = [];
    private readonly Dictionary<TableRow, int> _rowCodes = [];
    private readonly List<int[]> _tables = [];
    private byte[] _state = [];
    private long[] _seen = [];
    private double[] _amount = [];
    private int[] _code = [];

    /// <summary>The state of every row's reading.</summary>
    public ReadOnlySpan<byte> State => _state;

    /// <summary>When every row's reading was seen, in ticks of UTC.</summary>
    public ReadOnlySpan<long> Seen => _seen;

    /// <summary>The amounts of values that are numbers; empty where the key's are none.</summary>
    public ReadOnlySpan<double> Amount => _amount;

    /// <summary>The place in <see cref="Values"/> of every row's value; empty where the key's values are numbers.</summary>
    public ReadOnlySpan<int> Code => _code;

    /// <summary>Every distinct value that is no number.</summary>
    public IReadOnlyList<ReadingValue> Values => _values;

    /// <summary>Every distinct row of the tables, in the order of their numbers.</summary>
    public IEnumerable<TableRow> DistinctRows => _rowCodes.Keys;

    /// <summary>The numbers of the rows of every value in <see cref="Values"/>, where they are tables.</summary>
    public IReadOnlyList<int[]> Tables => _tables;

    public void Put(int row, Reading reading, int count)
    {
        Grow(row, count);
        _state[row] = (byte)(reading.State + 1);
        _seen[row] = reading.Seen.UtcTicks;
        if (reading.Value is not { } value)
            return;
        if (IsAmount(value.Kind))
        {
            if (_amount.Length < _state.Length)
                Array.Resize(ref _amount, _state.Length);
            _amount[row] = value.Amount;
            return;
        }

        if (_code.Length < _state.Length)
            Array.Resize(ref _code, _state.Length);
        _code[row] = CodeOf(value);
        if (_values.Count > CompactAbove && _values.Count > 4L * count)
            Compact(count);
    }

    public void Clear(int row)
    {
        if (row < _state.Length)
            _state[row] = Never;
    }

    private static bool IsAmount(ValueKind kind) => kind is not (ValueKind.Text or ValueKind.Version or ValueKind.List or ValueKind.Table);

    private int CodeOf(ReadingValue value)
    {
        if (_codes.TryGetValue(value.Text, out var code))
            return code;
        code = _values.Count;
        _values.Add(value);
        _codes[value.Text] = code;
        if (value.Kind == ValueKind.Table)
            _tables.Add([.. value.Rows.Select(RowCodeOf)]);
        return code;
    }

    private int RowCodeOf(TableRow row)
    {
        if (!_rowCodes.TryGetValue(row, out var code))
            _rowCodes[row] = code = _rowCodes.Count;
        return code;
    }

    private void Grow(int row, int count)
    {
        if (row < _state.Length)
            return;
        var size = Math.Max(count, _state.Length * 2);
        Array.Resize(ref _state, size);
        Array.Resize(ref _seen, size);
    }

    /// <summary>Forgets values that no machine has any more, such as start marks of long ago.</summary>
    private void Compact(int count)
    {
        var old = _values.ToArray();
        _values.Clear();
        _codes.Clear();
        _tables.Clear();
        _rowCodes.Clear();
        for (var row = 0; row < Math.Min(count, _code.Length); row++)
        {
            if (_state[row] == (byte)(ReadingState.Value + 1))
                _code[row] = CodeOf(old[_code[row]]);
        }
    }
}
