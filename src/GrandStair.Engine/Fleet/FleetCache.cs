using System.Collections.Immutable;
using GrandStair.Core.Readings;
using GrandStair.Storage.Fleet;

namespace GrandStair.Engine.Fleet;

/// <summary>The fleet as it was last read, brought up to date by what changed since.</summary>
public sealed class FleetCache(FleetTable table) : IDisposable
{
    private readonly SemaphoreSlim _turn = new(1, 1);
    private ImmutableDictionary<MachineId, Machine> _machines = ImmutableDictionary<MachineId, Machine>.Empty;
    private long _position;

    /// <summary>All machines as of now.</summary>
    public async Task<ImmutableDictionary<MachineId, Machine>> AllAsync(CancellationToken stop)
    {
        await _turn.WaitAsync(stop);
        try
        {
            var (changed, position) = await table.ChangedAsync(_position, stop);
            _machines = _machines.SetItems(changed.Select(m => KeyValuePair.Create(m.Id, m)));
            _position = position;
            return _machines;
        }
        finally
        {
            _turn.Release();
        }
    }

    /// <summary>The machine of that name (case ignored) or id, or null.</summary>
    public async Task<Machine?> FindAsync(string nameOrId, CancellationToken stop)
    {
        var all = await AllAsync(stop);
        return all.Values.FirstOrDefault(m => m.Name.Equals(nameOrId, StringComparison.OrdinalIgnoreCase))
            ?? (MachineId.Parse(nameOrId) is { } id ? all.GetValueOrDefault(id) : null);
    }

    /// <inheritdoc />
    public void Dispose() => _turn.Dispose();
}
