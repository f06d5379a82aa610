using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Catalogue;
using GrandStair.Storage.Scripts;

namespace GrandStair.Engine.Runs;

/// <summary>The scripts of steps. That one goes to a machine is noted before it does.</summary>
public sealed class StepScripts(CatalogueCache catalogues, ScriptTable sent)
{
    /// <summary>Takes the script of a run's step out of the catalogue that the run was opened with, to be sent to its machine.</summary>
    /// <param name="run">The run.</param>
    /// <param name="script">The script's file name.</param>
    /// <param name="order">The order for which it is sent.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="stop">Cancels the write.</param>
    /// <returns>The script's content.</returns>
    public async Task<string> TakeAsync(
        RunState run,
        string script,
        Order order,
        Machine machine,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(run);
        ArgumentNullException.ThrowIfNull(order);
        ArgumentNullException.ThrowIfNull(machine);
        var product = await catalogues.ByHashAsync(run.CatalogueHash, stop);
        var content = product.Scripts[script];
        await sent.SentAsync(
            machine.Id,
            [new(product.Name, script, FileChange.Hash(content))],
            "step",
            $"plan {run.Plan}",
            order.Name.ToString(),
            now,
            stop
        );
        return content;
    }
}
