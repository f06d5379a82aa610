using GrandStair.Contracts;
using GrandStair.Core.Runs;
using GrandStair.Engine.Media;
using GrandStair.Service.Access;
using GrandStair.Storage.Media;

namespace GrandStair.Service.Media;

/// <summary>Media as the caller sees it: with the machines at the caller's sites that have it.</summary>
internal sealed class MediaRows(MediaStore store, StagedMediaTable staged, SiteRepositoryTable repositories, ScopedFleet fleet)
{
    private const int MostNamed = 50;

    /// <summary>All files, uploads and repositories.</summary>
    public async Task<MediaListView> AllAsync(CancellationToken stop)
    {
        var row = await RowAsync(stop);
        return new()
        {
            Files = [.. (await store.ListAsync(stop)).Select(row)],
            Uploads = [.. (await store.UploadsAsync(stop)).Select(View)],
            Free = store.Free,
            Repositories =
            [
                .. (await repositories.AllAsync(stop))
                    .Where(r => fleet.Sites.Holds(r.Site))
                    .Select(r => new SiteRepositoryView(r.Site, r.Url.ToString(), r.SetBy, r.At)),
            ],
        };
    }

    /// <summary>One file.</summary>
    public async Task<MediaRow> OneAsync(string name, CancellationToken stop) => (await RowAsync(stop))(await store.FindAsync(name, stop));

    /// <summary>How an upload stands.</summary>
    public static MediaUploadView View(UploadStatus status) =>
        new()
        {
            Id = status.Upload.Id,
            File = status.Upload.File,
            Size = status.Upload.Size,
            Received = status.Received,
            Begun = status.Upload.Begun,
            BegunBy = status.Upload.BegunBy,
            State = status.Ended is { } ended ? RunMachine.Name(MediaStore.StateOf(ended)) : "receiving",
            Sha256 = status.Ended?.Sha256 ?? status.Upload.Sha256,
            Why = status.Ended?.Quarantined,
            Url = status.Upload.From?.Url.ToString(),
            Trouble = status.Upload.Trouble,
        };

    private async Task<Func<MediaEntry, MediaRow>> RowAsync(CancellationToken stop)
    {
        var needing = await store.NeedingAsync(stop);
        var machines = await fleet.AllAsync(stop);
        var on = (await staged.AllAsync(stop))
            .Where(s => machines.ContainsKey(s.Machine))
            .ToLookup(s => s.Sha256, s => machines[s.Machine].Name);
        return entry =>
            new()
            {
                Sha256 = entry.Sha256,
                File = entry.File,
                Size = entry.Size,
                State = RunMachine.Name(entry.State),
                Added = entry.Stored?.Added,
                AddedBy = entry.Stored?.AddedBy,
                Why = entry.Stored?.Quarantined,
                Uses =
                [
                    .. entry.Uses.Select(u => new MediaUseView
                    {
                        Product = u.Product,
                        Media = u.Media,
                        For = u.For,
                    }),
                ],
                OpenRuns = needing[entry.Sha256].Count(),
                Runs = [.. needing[entry.Sha256].Take(MostNamed).Select(r => $"r{r}")],
                OnMachines = on[entry.Sha256].Count(),
                Machines = [.. on[entry.Sha256].Order(StringComparer.OrdinalIgnoreCase).Take(MostNamed)],
            };
    }
}
