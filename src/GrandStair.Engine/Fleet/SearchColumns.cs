using System.Collections.Immutable;
using GrandStair.Core.Readings;

namespace GrandStair.Engine.Fleet;

/// <summary>
/// Columns of the fleet that searches evaluate their conditions over, as many copies as it takes, so that no search waits until another
/// one's condition has been evaluated. A copy is brought up to date only while nobody reads it; searches of the same state share one.
/// </summary>
internal sealed class SearchColumns
{
    // Each copy takes memory for the whole fleet. When all of them are being read in an older state, a search waits for the first to be
    // returned.
    private const int MostCopies = 3;
    private readonly Lock _lock = new();
    private readonly List<Copy> _copies = [];
    private TaskCompletionSource _returned = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>Notes which machines have changed; they are put into a copy when it is next borrowed.</summary>
    public void Changed(IEnumerable<MachineId> machines)
    {
        lock (_lock)
        {
            foreach (var machine in machines)
            {
                foreach (var copy in _copies)
                    copy.Pending.Add(machine);
            }
        }
    }

    /// <summary>A copy that is up to date; null where all are being read in an older state.</summary>
    /// <param name="machines">The fleet as it is now.</param>
    /// <param name="returned">Ends when a copy has been returned.</param>
    public Copy? TryBorrow(ImmutableDictionary<MachineId, Machine> machines, out Task returned)
    {
        lock (_lock)
        {
            returned = _returned.Task;
            var copy = _copies.Find(c => c.Pending.Count == 0) ?? _copies.Find(c => c.Readers == 0);
            if (copy is null)
            {
                if (_copies.Count == MostCopies)
                    return null;
                _copies.Add(copy = new(this));
                copy.Pending.UnionWith(machines.Values.Where(m => m.IsInFleet).Select(m => m.Id));
            }

            copy.CatchUp(machines);
            copy.Readers++;
            return copy;
        }
    }

    private void Return(Copy copy)
    {
        lock (_lock)
        {
            copy.Readers--;
            _returned.SetResult();
            _returned = new(TaskCreationOptions.RunContinuationsAsynchronously);
        }
    }

    /// <summary>One copy of the columns, borrowed until it is disposed of.</summary>
    internal sealed class Copy(SearchColumns owner) : IDisposable
    {
        private int[]? _order;

        /// <summary>The columns; they hold still while the copy is borrowed.</summary>
        public FleetColumns Columns { get; } = new();

        /// <summary>The rows in the order of the machines' names.</summary>
        public IReadOnlyList<int> Order => _order!;

        /// <summary>The machines that have changed since the copy was brought up to date.</summary>
        public HashSet<MachineId> Pending { get; } = [];

        /// <summary>How many searches are reading it.</summary>
        public int Readers { get; set; }

        /// <inheritdoc />
        public void Dispose() => owner.Return(this);

        /// <summary>Puts in what has changed.</summary>
        public void CatchUp(ImmutableDictionary<MachineId, Machine> machines)
        {
            foreach (var id in Pending)
            {
                var machine = machines[id];
                if (Columns.RowOf(id) is not { } row || Columns[row].Name != machine.Name)
                    _order = null;
                Columns.Put(machine);
            }

            Pending.Clear();
            _order ??= Columns.RowsByName();
        }
    }
}
