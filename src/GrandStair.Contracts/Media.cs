namespace GrandStair.Contracts;

/// <summary>A file of media that the service has, or that the catalogue says it should have.</summary>
public sealed record MediaRow
{
    /// <summary>The SHA-256 of its content, in hexadecimal.</summary>
    public required string Sha256 { get; init; }

    /// <summary>Its file name.</summary>
    public required string File { get; init; }

    /// <summary>Its size in bytes.</summary>
    public required long Size { get; init; }

    /// <summary><c>present</c>, <c>missing</c> or <c>quarantined</c>.</summary>
    public required string State { get; init; }

    /// <summary>When it was added, UTC; null where it is missing.</summary>
    public required DateTimeOffset? Added { get; init; }

    /// <summary>Who added it; null where it is missing.</summary>
    public required string? AddedBy { get; init; }

    /// <summary>Why it is quarantined; null where it is not.</summary>
    public required string? Why { get; init; }

    /// <summary>Where the catalogue names it.</summary>
    public required IReadOnlyList<MediaUseView> Uses { get; init; }

    /// <summary>How many open runs may still fetch it.</summary>
    public required int OpenRuns { get; init; }

    /// <summary>The first 50 of them.</summary>
    public required IReadOnlyList<string> Runs { get; init; }

    /// <summary>On how many machines it lies, of those that the caller sees.</summary>
    public required int OnMachines { get; init; }

    /// <summary>The first 50 of these, by name.</summary>
    public required IReadOnlyList<string> Machines { get; init; }
}

/// <summary>Where the catalogue names a file of media.</summary>
public sealed record MediaUseView
{
    /// <summary>The product.</summary>
    public required string Product { get; init; }

    /// <summary>The media's name.</summary>
    public required string Media { get; init; }

    /// <summary>The machines that the file is for: a condition, <c>all machines</c> or <c>all other machines</c>.</summary>
    public required string For { get; init; }
}

/// <summary>All media, and what is being uploaded.</summary>
public sealed record MediaListView
{
    /// <summary>The files, by name.</summary>
    public required IReadOnlyList<MediaRow> Files { get; init; }

    /// <summary>The uploads that have not ended.</summary>
    public required IReadOnlyList<MediaUploadView> Uploads { get; init; }

    /// <summary>How many bytes are free for further files.</summary>
    public required long Free { get; init; }

    /// <summary>The sites whose machines fetch from a repository of their own, of those that the caller sees.</summary>
    public required IReadOnlyList<SiteRepositoryView> Repositories { get; init; }
}

/// <summary>Where the machines of a site fetch media in place of the service.</summary>
/// <param name="Site">The site.</param>
/// <param name="Url">The URL below which the files lie, each under its file name.</param>
/// <param name="SetBy">Who said so.</param>
/// <param name="At">When, UTC.</param>
public sealed record SiteRepositoryView(string Site, string Url, string SetBy, DateTimeOffset At);

/// <summary>Says where the machines of a site fetch media.</summary>
/// <param name="Url">The URL below which the files lie, each under its file name: <c>http://media.linsay.example/images</c>.</param>
/// <param name="Reason">Why; recorded in the audit log.</param>
public sealed record SiteRepositoryCommand(string Url, string Reason);

/// <summary>Lets the service download a file of media.</summary>
/// <param name="Url">Where it is, on a host that an admin allowed; it ends in the file's name.</param>
/// <param name="Sha256">Its SHA-256 as its vendor states it; null for the catalogue's, or where nothing states one and the URL is
/// https.</param>
public sealed record MediaDownloadCommand(string Url, string? Sha256 = null);

/// <summary>Begins an upload, or finds the one of the same file that was cut off.</summary>
/// <param name="File">The file's name.</param>
/// <param name="Size">Its size in bytes.</param>
/// <param name="Sha256">Its SHA-256 as the sender knows it; null where they do not.</param>
public sealed record MediaUploadCommand(string? File, long Size, string? Sha256 = null);

/// <summary>How an upload stands.</summary>
public sealed record MediaUploadView
{
    /// <summary>Its id.</summary>
    public required string Id { get; init; }

    /// <summary>The file's name.</summary>
    public required string File { get; init; }

    /// <summary>The size of the whole file in bytes.</summary>
    public required long Size { get; init; }

    /// <summary>How many bytes have arrived; the next part begins there.</summary>
    public required long Received { get; init; }

    /// <summary>When it was begun, UTC.</summary>
    public required DateTimeOffset Begun { get; init; }

    /// <summary>Who began it.</summary>
    public required string BegunBy { get; init; }

    /// <summary><c>receiving</c>; with the last byte <c>present</c>, or <c>quarantined</c> where the checksum differs.</summary>
    public required string State { get; init; }

    /// <summary>The checksum that the file has or has to have; null where nothing states one yet.</summary>
    public required string? Sha256 { get; init; }

    /// <summary>Why it is quarantined; null where it is not.</summary>
    public required string? Why { get; init; }

    /// <summary>Where the service downloads it from; null where somebody sends it.</summary>
    public required string? Url { get; init; }

    /// <summary>Why the download was cut off last; null where it was not. The service tries again by itself.</summary>
    public required string? Trouble { get; init; }
}
