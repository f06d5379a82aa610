using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Media;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Media;

/// <summary>Whether the service has a file of media.</summary>
public enum MediaState
{
    /// <summary>It is there, with the right content.</summary>
    Present,

    /// <summary>The catalogue names it, and it is not there.</summary>
    Missing,

    /// <summary>What arrived has not the checksum that it has to have. It is never served.</summary>
    Quarantined,
}

/// <summary>Where the catalogue names a file of media.</summary>
/// <param name="Product">The product.</param>
/// <param name="Media">The media's name.</param>
/// <param name="For">The machines that it is for, for people: a condition, <c>all machines</c> or <c>all other machines</c>.</param>
public sealed record MediaUse(string Product, string Media, string For);

/// <summary>A file of media that the service has or should have.</summary>
/// <param name="Sha256">The SHA-256 of its content.</param>
/// <param name="File">Its file name.</param>
/// <param name="Size">Its size in bytes.</param>
/// <param name="State">Whether it is there.</param>
/// <param name="Stored">What is known of it; null where it is missing.</param>
/// <param name="Uses">Where the catalogue names it.</param>
public sealed record MediaEntry(string Sha256, string File, long Size, MediaState State, StoredMedia? Stored, IReadOnlyList<MediaUse> Uses);

/// <summary>How an upload stands.</summary>
/// <param name="Upload">The upload.</param>
/// <param name="Received">How many bytes have arrived.</param>
/// <param name="Ended">What it became; null while something is missing.</param>
public sealed record UploadStatus(MediaUpload Upload, long Received, StoredMedia? Ended);

/// <summary>The installation files that the service has, and those that the catalogue says it should have.</summary>
public sealed class MediaStore(
    MediaTable table,
    MediaFolder folder,
    CatalogueCache catalogues,
    RunLog runs,
    RunIndex index,
    FleetCache fleet,
    TimeProvider clock
)
{
    /// <summary>All files that are there or should be, by file name.</summary>
    public async Task<IReadOnlyList<MediaEntry>> ListAsync(CancellationToken stop)
    {
        var stored = (await table.AllAsync(stop)).ToDictionary(m => m.Sha256);
        var named = Named().ToLookup(n => n.Variant.Sha256, n => n.Use);
        var missing = Named()
            .Where(n => !stored.ContainsKey(n.Variant.Sha256))
            .DistinctBy(n => n.Variant.Sha256)
            .Select(n => new MediaEntry(
                n.Variant.Sha256,
                n.Variant.File,
                n.Variant.Size,
                MediaState.Missing,
                null,
                [.. named[n.Variant.Sha256]]
            ));
        return
        [
            .. stored
                .Values.Select(m => new MediaEntry(m.Sha256, m.File, m.Size, StateOf(m), m, [.. named[m.Sha256]]))
                .Concat(missing)
                .OrderBy(e => e.File, StringComparer.Ordinal)
                .ThenBy(e => e.Sha256, StringComparer.Ordinal),
        ];
    }

    /// <summary>Whether a file that the service has may be served.</summary>
    public static MediaState StateOf(StoredMedia media)
    {
        ArgumentNullException.ThrowIfNull(media);
        return media.Quarantined is null ? MediaState.Present : MediaState.Quarantined;
    }

    /// <summary>The file of a checksum (or the beginning of one), or of a file name.</summary>
    /// <exception cref="RefusedException">There is none, or several.</exception>
    public async Task<MediaEntry> FindAsync(string name, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(name);
        const int ShortestBeginning = 6;
        var all = await ListAsync(stop);
        var found = all.Where(e =>
                e.File == name || (name.Length >= ShortestBeginning && e.Sha256.StartsWith(name, StringComparison.OrdinalIgnoreCase))
            )
            .ToArray();
        return found switch
        {
            [var one] => one,
            [] => throw RefusedException.Unknown(
                "unknown-media",
                $"There is no media '{name}'{Spelling.DidYouMean(name, all.Select(e => e.File), ". 'gstair media list' shows all files.")}"
            ),
            _ => throw RefusedException.Invalid(
                "several-media",
                $"'{name}' stands for {found.Length} files: {string.Join(", ", found.Select(e => $"{e.File} {e.Sha256[..12]}"))}. Name one "
                    + "by its checksum."
            ),
        };
    }

    /// <summary>Begins an upload, or finds the one of the same file that was cut off.</summary>
    /// <param name="file">The file's name.</param>
    /// <param name="size">Its size in bytes.</param>
    /// <param name="sha256">Its SHA-256 as whoever sends it knows it; null where they do not.</param>
    /// <param name="actor">Who sends it.</param>
    /// <param name="stop">Cancels the write.</param>
    /// <param name="from">Where the service downloads it from; null where somebody sends it.</param>
    /// <exception cref="RefusedException">It differs from the catalogue, is there already, or does not fit on the disk.</exception>
    public async Task<UploadStatus> BeginAsync(
        string file,
        long size,
        string? sha256,
        Actor actor,
        CancellationToken stop,
        MediaOrigin? from = null
    )
    {
        ArgumentNullException.ThrowIfNull(file);
        ArgumentNullException.ThrowIfNull(actor);
        var named = Stated(file);
        if (named is not null && sha256 is not null && named.Sha256 != sha256)
            throw RefusedException.Conflict(
                "media-checksum",
                $"{file} has the checksum {sha256}; the catalogue says {named.Sha256}. Get the file from its vendor again."
            );
        if (named is not null && named.Size != size)
            throw RefusedException.Conflict(
                "media-size",
                $"{file} has {size:N0} bytes; the catalogue says {named.Size:N0}. Get the file from its vendor again."
            );
        sha256 ??= named?.Sha256;
        if (sha256 is not null && await table.FindAsync(sha256, stop) is { Quarantined: null } stored)
            throw RefusedException.Conflict("media-present", $"{stored.File} is there already ({stored.Sha256}); nothing is left to do.");
        var begun = (await table.UploadsAsync(stop)).FirstOrDefault(u =>
            u.File == file && u.Size == size && u.Sha256 == sha256 && u.From?.Url == from?.Url
        );
        if (begun is not null)
            return new(begun, folder.Received(begun.Id), null);
        if (size > folder.Free)
            throw RefusedException.Conflict(
                "media-space",
                $"{file} needs {Units.Show(size, ValueKind.Size)}, and {Units.Show(folder.Free, ValueKind.Size)} are free on the "
                    + "service's disk. Remove media that is no longer needed with 'gstair media remove'."
            );
        var upload = new MediaUpload(Guid.NewGuid().ToString("N"), file, size, sha256, clock.GetUtcNow(), actor.Name) { From = from };
        await table.BeginAsync(upload, stop);
        return new(upload, 0, null);
    }

    /// <summary>What the catalogue says of a file; null where it does not name it.</summary>
    public MediaVariant? Stated(string file) => Named().Select(n => n.Variant).FirstOrDefault(v => v.File == file);

    /// <summary>How many bytes of an upload have arrived.</summary>
    public long Received(MediaUpload upload)
    {
        ArgumentNullException.ThrowIfNull(upload);
        return folder.Received(upload.Id);
    }

    /// <summary>Deletes what has arrived of an upload, which begins again.</summary>
    /// <returns>0, which is how many bytes have arrived now.</returns>
    public long Restart(MediaUpload upload)
    {
        ArgumentNullException.ThrowIfNull(upload);
        folder.DropUpload(upload.Id);
        return 0;
    }

    /// <summary>How an upload stands.</summary>
    /// <exception cref="RefusedException">There is none of that id.</exception>
    public async Task<UploadStatus> UploadAsync(string id, CancellationToken stop) =>
        new(await FindUploadAsync(id, stop), folder.Received(id), null);

    /// <summary>Appends to an upload; with its last byte its content is compared with the checksum that it has to have.</summary>
    /// <param name="id">The upload.</param>
    /// <param name="offset">Where in the file the content begins.</param>
    /// <param name="content">The content.</param>
    /// <param name="actor">Who sends it.</param>
    /// <param name="stop">Ends the wait; what has arrived stays.</param>
    /// <exception cref="RefusedException">The upload is not at that offset, or there is none.</exception>
    public async Task<UploadStatus> AppendAsync(string id, long offset, Stream content, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        var upload = await FindUploadAsync(id, stop);
        var received = await folder.AppendAsync(id, offset, content, upload.Size, stop);
        if (received < 0)
            throw RefusedException.Conflict(
                "media-offset",
                $"This part of {upload.File} begins at byte {offset:N0}, and {folder.Received(id):N0} bytes have arrived; or another call "
                    + "is sending it. Ask how the upload stands, and go on from there."
            );
        if (received < upload.Size)
            return new(upload, received, null);
        var hash = await folder.HashAsync(id, stop);
        var why = upload.Sha256 is { } expected && expected != hash ? $"expected the checksum {expected}, found {hash}" : null;
        var media = new StoredMedia(hash, upload.File, upload.Size, clock.GetUtcNow(), actor.Name, why);
        folder.Keep(id, hash);
        await table.KeepAsync(upload, media, actor, CancellationToken.None);
        return new(upload, received, media);
    }

    /// <summary>Ends an upload, and deletes what has arrived of it.</summary>
    public async Task EndUploadAsync(string id, CancellationToken stop)
    {
        await FindUploadAsync(id, stop);
        await table.EndUploadAsync(id, stop);
        folder.DropUpload(id);
    }

    /// <summary>The uploads that have not ended.</summary>
    public async Task<IReadOnlyList<UploadStatus>> UploadsAsync(CancellationToken stop) =>
        [.. (await table.UploadsAsync(stop)).Select(u => new UploadStatus(u, folder.Received(u.Id), null))];

    /// <summary>How many bytes are free for further files.</summary>
    public long Free => folder.Free;

    /// <summary>Removes a file.</summary>
    /// <exception cref="RefusedException">It is not there, or a run still needs it.</exception>
    public async Task RemoveAsync(string name, string reason, Actor actor, CancellationToken stop)
    {
        var entry = await FindAsync(name, stop);
        if (entry.Stored is not { } stored)
            throw RefusedException.Conflict("media-missing", $"{entry.File} is not there; the catalogue only names it.");
        if (stored.Quarantined is null && (await NeedingAsync(stop))[stored.Sha256].ToArray() is [var first, ..] needing)
            throw RefusedException.Conflict(
                "media-needed",
                $"{entry.File} is needed by {needing.Length} open run{(needing.Length == 1 ? "" : "s")}, such as r{first}. Wait until they "
                    + "have passed their point of no return, or cancel them."
            );
        await table.RemoveAsync(stored, actor, reason, clock.GetUtcNow(), stop);
        folder.Drop(stored.Sha256);
    }

    /// <summary>By checksum the open runs that may still fetch a file.</summary>
    public async Task<ILookup<string, long>> NeedingAsync(CancellationToken stop)
    {
        var machines = await fleet.AllAsync(stop);
        var needing = new List<(string Sha256, long Run)>();
        long[] open = [.. (await index.AllAsync(stop)).Where(r => r.Closed is null).Select(r => r.Run).OrderDescending()];
        foreach (var run in (await runs.SomeAsync(open, stop)).Select(r => r.State))
        {
            var product = await catalogues.ByHashAsync(run.CatalogueHash, stop);
            var fetched = run
                .Legs.Skip(run.Turned ? run.Leg + 1 : run.Leg)
                .SelectMany(l => l.Steps)
                .Where(s => s.Media is not null)
                .Select(s => product.Media.Single(m => m.Name == s.Media));
            if (machines.GetValueOrDefault(new(run.Machine)) is not { } machine)
                continue;
            var files = fetched.Select(m => m.Choose(machine, clock.GetUtcNow()).Variant?.Sha256).OfType<string>().Distinct();
            needing.AddRange(files.Select(sha256 => (sha256, run.Run)));
        }

        return needing.ToLookup(n => n.Sha256, n => n.Run);
    }

    private async Task<MediaUpload> FindUploadAsync(string id, CancellationToken stop) =>
        (await table.UploadsAsync(stop)).FirstOrDefault(u => u.Id == id)
        ?? throw RefusedException.Unknown(
            "unknown-upload",
            $"There is no upload '{id}'; it has ended. 'gstair media list' shows what is there."
        );

    private IEnumerable<(MediaVariant Variant, MediaUse Use)> Named() =>
        from product in catalogues.Products.Values
        from media in product.Media
        from variant in media.Variants
        select (variant, new MediaUse(product.Name, media.Name, For(media, variant)));

    private static string For(Core.Catalogue.Media media, MediaVariant variant) =>
        variant.For?.Text ?? (media.Variants.Length == 1 ? "all machines" : "all other machines");
}
