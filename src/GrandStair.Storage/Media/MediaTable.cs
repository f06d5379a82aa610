using Dapper;
using GrandStair.Core.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;

namespace GrandStair.Storage.Media;

/// <summary>An installation file that the service has.</summary>
/// <param name="Sha256">The SHA-256 of its content, in hexadecimal.</param>
/// <param name="File">Its file name.</param>
/// <param name="Size">Its size in bytes.</param>
/// <param name="Added">When it was added, UTC.</param>
/// <param name="AddedBy">Who added it.</param>
/// <param name="Quarantined">Why it is never served; null where it may be.</param>
public sealed record StoredMedia(string Sha256, string File, long Size, DateTimeOffset Added, string AddedBy, string? Quarantined);

/// <summary>Where the service downloads a file from.</summary>
/// <param name="Url">The URL.</param>
/// <param name="Validator">The strong entity tag (RFC 9110) of the file, by which its server knows it again; null where it has
/// none.</param>
public sealed record MediaOrigin(Uri Url, string? Validator);

/// <summary>An upload that has not ended.</summary>
/// <param name="Id">Its id.</param>
/// <param name="File">The file's name.</param>
/// <param name="Size">The size of the whole file in bytes.</param>
/// <param name="Sha256">The SHA-256 that its content has to have; null where nothing states one.</param>
/// <param name="Begun">When it was begun, UTC.</param>
/// <param name="BegunBy">Who began it.</param>
public sealed record MediaUpload(string Id, string File, long Size, string? Sha256, DateTimeOffset Begun, string BegunBy)
{
    /// <summary>Where the service downloads it from; null where somebody sends it.</summary>
    public MediaOrigin? From { get; init; }

    /// <summary>Why the download was cut off last; null where it was not.</summary>
    public string? Trouble { get; init; }
}

/// <summary>What is known of installation files; their content lies in the media folder.</summary>
public sealed class MediaTable(Database database)
{
    private const string Columns = "sha256, file, size, added, added_by, quarantined";

    /// <summary>All files, by file name.</summary>
    public Task<IReadOnlyList<StoredMedia>> AllAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<StoredMedia>>(
            async c => [.. (await c.QueryAsync<Row>($"SELECT {Columns} FROM media ORDER BY file, sha256")).Select(r => r.Media)],
            stop
        );

    /// <summary>The file of a checksum, or null.</summary>
    public Task<StoredMedia?> FindAsync(string sha256, CancellationToken stop) =>
        database.ReadAsync(
            async c =>
                (await c.QuerySingleOrDefaultAsync<Row>($"SELECT {Columns} FROM media WHERE sha256 = @sha256", new { sha256 }))?.Media,
            stop
        );

    /// <summary>Begins an upload.</summary>
    public Task BeginAsync(MediaUpload upload, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(upload);
        return database.WriteAsync(
            (c, t) =>
                c.ExecuteAsync(
                    "INSERT INTO media_uploads (id, file, size, sha256, begun, begun_by, url, validator) VALUES (@Id, @File, @Size, "
                        + "@Sha256, @begun, @BegunBy, @url, @validator)",
                    new
                    {
                        upload.Id,
                        upload.File,
                        upload.Size,
                        upload.Sha256,
                        begun = Micros.Of(upload.Begun),
                        upload.BegunBy,
                        url = upload.From?.Url.ToString(),
                        validator = upload.From?.Validator,
                    },
                    t
                ),
            stop
        );
    }

    /// <summary>The uploads that have not ended, oldest first.</summary>
    public Task<IReadOnlyList<MediaUpload>> UploadsAsync(CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<MediaUpload>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<UploadRow>(
                            "SELECT id, file, size, sha256, begun, begun_by, url, validator, trouble FROM media_uploads ORDER BY begun, id"
                        )
                    ).Select(r => r.Upload),
                ],
            stop
        );

    /// <summary>Notes why a download was cut off; null where it goes on.</summary>
    public Task NoteAsync(string upload, string? trouble, CancellationToken stop) =>
        database.WriteAsync(
            (c, t) => c.ExecuteAsync("UPDATE media_uploads SET trouble = @trouble WHERE id = @upload", new { upload, trouble }, t),
            stop
        );

    /// <summary>Ends an upload: its content is in the media folder, and is kept under its checksum.</summary>
    /// <param name="upload">The upload.</param>
    /// <param name="media">What it became.</param>
    /// <param name="actor">Who sent its last part.</param>
    /// <param name="stop">Cancels the write.</param>
    public Task KeepAsync(MediaUpload upload, StoredMedia media, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(upload);
        return AddAsync(media, upload.Id, actor, stop);
    }

    /// <summary>Adds a file whose content lies in the media folder already.</summary>
    public Task AddAsync(StoredMedia media, Actor actor, CancellationToken stop) => AddAsync(media, null, actor, stop);

    private Task<int> AddAsync(StoredMedia media, string? upload, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(media);
        return database.WriteAsync(
            async (c, t) =>
            {
                await c.ExecuteAsync("DELETE FROM media_uploads WHERE id = @upload", new { upload }, t);
                // A file that is there already with this content stays as it is, whatever the upload was said to be.
                await c.ExecuteAsync(
                    $"""
                    INSERT INTO media ({Columns}) VALUES (@Sha256, @File, @Size, @added, @AddedBy, @Quarantined)
                    ON CONFLICT (sha256) DO UPDATE SET file = excluded.file, quarantined = excluded.quarantined
                      WHERE media.quarantined IS NOT NULL
                    """,
                    new
                    {
                        media.Sha256,
                        media.File,
                        media.Size,
                        added = Micros.Of(media.Added),
                        media.AddedBy,
                        media.Quarantined,
                    },
                    t
                );
                var what = media.Quarantined is null ? "media add" : "media quarantine";
                await AuditTable.AddAsync(c, t, media.Added, actor, what, media.File, null, null, media.Sha256, media.Quarantined ?? "");
                await Feed.AddAsync(c, t, media.Added, "media", media.File, media.Quarantined is null ? "added" : "quarantined", actor);
                return 0;
            },
            stop
        );
    }

    /// <summary>Ends an upload of which nothing is kept.</summary>
    public Task EndUploadAsync(string id, CancellationToken stop) =>
        database.WriteAsync((c, t) => c.ExecuteAsync("DELETE FROM media_uploads WHERE id = @id", new { id }, t), stop);

    /// <summary>Removes a file.</summary>
    /// <returns>Whether there was one.</returns>
    public Task<bool> RemoveAsync(StoredMedia media, Actor actor, string reason, DateTimeOffset now, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(media);
        return database.WriteAsync(
            async (c, t) =>
            {
                if (await c.ExecuteAsync("DELETE FROM media WHERE sha256 = @Sha256", new { media.Sha256 }, t) == 0)
                    return false;
                await AuditTable.AddAsync(c, t, now, actor, "media remove", media.File, null, media.Sha256, null, reason);
                await Feed.AddAsync(c, t, now, "media", media.File, "removed", actor);
                return true;
            },
            stop
        );
    }

    private sealed record Row
    {
        public string Sha256 { get; init; } = "";

        public string File { get; init; } = "";

        public long Size { get; init; }

        public long Added { get; init; }

        public string AddedBy { get; init; } = "";

        public string? Quarantined { get; init; }

        public StoredMedia Media => new(Sha256, File, Size, Micros.Time(Added), AddedBy, Quarantined);
    }

    private sealed record UploadRow
    {
        public string Id { get; init; } = "";

        public string File { get; init; } = "";

        public long Size { get; init; }

        public string? Sha256 { get; init; }

        public long Begun { get; init; }

        public string BegunBy { get; init; } = "";

        public string? Url { get; init; }

        public string? Validator { get; init; }

        public string? Trouble { get; init; }

        public MediaUpload Upload =>
            new(Id, File, Size, Sha256, Micros.Time(Begun), BegunBy)
            {
                From = Url is null ? null : new(new(Url), Validator),
                Trouble = Trouble,
            };
    }
}
