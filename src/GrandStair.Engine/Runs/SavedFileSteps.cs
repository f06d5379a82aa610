using System.Globalization;
using GrandStair.Connections;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Orders;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Runs;

/// <summary>What orders that save files of machines, and put them back, say to machines.</summary>
public sealed class SavedFileSteps(SavedFiles saved, IOrderLinks links)
{
    /// <summary>Why files cannot be saved or put back; null where they can.</summary>
    public async Task<string?> WhyNotAsync(RunState run, StepSpec step, Machine machine, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(step);
        ArgumentNullException.ThrowIfNull(machine);
        // A simulated machine only plays it.
        if (machine.Connection.Kind == "simulated")
            return null;
        return step.Kind == StepKind.RestoreFiles && await ArchiveAsync(run, step, stop) is null
            ? $"step '{step.With}' has saved nothing"
            : links.WhyNot();
    }

    /// <summary>Adds to an order what its step needs to know about saved files.</summary>
    public async Task<PostedOrder> CompleteAsync(PostedOrder posted, RunState run, StepSpec step, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(posted);
        ArgumentNullException.ThrowIfNull(run);
        ArgumentNullException.ThrowIfNull(step);
        var link = links.LinkFor(posted.Name, PathOf(run.Run, run.Leg + 1, step.With ?? step.Name));
        var archive = step.Kind == StepKind.RestoreFiles ? await ArchiveAsync(run, step, stop) : null;
        return posted.With(
            link,
            ("files", string.Join(':', step.Files)),
            ("most", SavedFiles.Largest.ToString(CultureInfo.InvariantCulture)),
            ("sha256", archive?.Sha256 ?? "")
        );
    }

    /// <summary>Deletes what was saved for a run.</summary>
    public async Task DropAsync(RunState run, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(run);
        if (run.Legs.SelectMany(l => l.Steps).Any(s => s.Kind == StepKind.SaveFiles))
            await saved.DropAsync(run.Run, stop);
    }

    /// <summary>The path below the service where a machine leaves an archive and fetches it.</summary>
    private static string PathOf(long run, int leg, string step) => $"/run-files/r{run}/{leg}/{step}";

    private async Task<SavedArchive?> ArchiveAsync(RunState run, StepSpec step, CancellationToken stop) =>
        (await saved.OfAsync(run.Run, stop)).FirstOrDefault(a => a.Leg == run.Leg + 1 && a.Step == step.With);
}
