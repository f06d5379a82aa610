using GrandStair.Contracts;
using GrandStair.Core.Readings;
using GrandStair.Engine.Clocks;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>Runs as lists show them.</summary>
internal sealed class RunRows(RunLog runs, UsualLengths usual, DomainClock clock)
{
    /// <summary>Rows of some runs, in their order.</summary>
    /// <param name="shown">The runs.</param>
    /// <param name="machines">At least their machines.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<RunRow[]> OfAsync(
        IReadOnlyList<StoredRun> shown,
        IReadOnlyDictionary<MachineId, Machine> machines,
        CancellationToken stop
    )
    {
        var (lengths, now) = (await usual.OfAsync(shown, stop), clock.GetUtcNow());
        return [.. shown.Select(r => RunViews.Row(r, machines[new(r.State.Machine)], lengths, now))];
    }

    /// <summary>All runs of a machine.</summary>
    public async Task<RunRow[]> OfMachineAsync(Machine machine, CancellationToken stop) =>
        await OfAsync(await runs.OfMachineAsync(machine.Id, stop), new Dictionary<MachineId, Machine> { [machine.Id] = machine }, stop);
}
