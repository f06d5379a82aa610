using GrandStair.Contracts;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Runs;
using GrandStair.Service.Access;
using GrandStair.Storage.Runs;

namespace GrandStair.Service.Runs;

/// <summary>The runs of the machines that the caller sees.</summary>
internal sealed class ScopedRuns(RunLog runs, ScopedFleet fleet, RunCommands commands, UsualLengths usual, DomainClock clock)
{
    /// <summary>A run and its machine.</summary>
    /// <param name="run">The run as it is written, such as r118.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run, or the caller does not see its machine.</exception>
    public async Task<(StoredRun Run, Machine Machine)> FindAsync(string run, CancellationToken stop)
    {
        var number = Number(run);
        return
            await runs.FindAsync(number, stop) is { } stored
            && (await fleet.AllAsync(stop)).TryGetValue(new(stored.State.Machine), out var machine)
            ? (stored, machine)
            : throw RefusedException.Unknown("unknown-run", $"There is no run r{number}. 'gstair run list' shows those that exist.");
    }

    /// <summary>The number of a run whose machine the caller sees.</summary>
    /// <param name="run">The run as it is written.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run, or the caller does not see its machine.</exception>
    public async Task<long> NumberAsync(string run, CancellationToken stop) => (await FindAsync(run, stop)).Run.State.Run;

    /// <summary>A run with its phases, steps and log.</summary>
    /// <param name="run">The run as it is written.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">There is no such run, or the caller does not see its machine.</exception>
    public async Task<RunView> ViewAsync(string run, CancellationToken stop)
    {
        var (stored, machine) = await FindAsync(run, stop);
        return RunViews.View(
            stored,
            await runs.EventsAsync(stored.State.Run, stop),
            machine,
            await usual.OfAsync([stored], stop),
            stored.State.Successor is { } successor ? (await fleet.AllAsync(stop)).GetValueOrDefault(new(successor)) : null,
            await RollbackBeginsAsync(stored.State, stop),
            clock.GetUtcNow()
        );
    }

    private static long Number(string run) =>
        run is ['r', .. var digits] && long.TryParse(digits, out var number)
            ? number
            : throw RefusedException.Unknown(
                "unknown-run",
                $"There is no run '{run}'; a run is written like r118. 'gstair run list' shows those that exist."
            );

    private async Task<DateTimeOffset?> RollbackBeginsAsync(RunState run, CancellationToken stop)
    {
        try
        {
            return await commands.RollbackBeginsAsync(run, stop);
        }
        catch (RefusedException)
        {
            // The decision itself says why there is no window.
            return null;
        }
    }
}
