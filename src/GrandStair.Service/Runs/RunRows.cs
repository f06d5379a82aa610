using GrandStair.Contracts;
using GrandStair.Core.Readings;
using GrandStair.Engine.Clocks;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>The runs of machines, as lists show them.</summary>
internal sealed class RunRows(RunLog runs, UsualLengths usual, DomainClock clock)
{
    /// <summary>All runs of a machine.</summary>
    public async Task<IReadOnlyList<RunRow>> OfMachineAsync(Machine machine, CancellationToken stop)
    {
        var stored = await runs.OfMachineAsync(machine.Id, stop);
        var lengths = await usual.OfAsync(stored, stop);
        return [.. stored.Select(r => RunViews.Row(r, machine, lengths, clock.GetUtcNow()))];
    }
}
