using System.Globalization;
using System.Net.Http.Json;
using GrandStair.Contracts;

namespace GrandStair.Client;

public sealed partial class GrandStairClient
{
    /// <summary>The installation files, and what is being uploaded.</summary>
    public Task<MediaListView> MediaAsync(CancellationToken stop) => GetAsync<MediaListView>("media", stop);

    /// <summary>One installation file, by its file name or the beginning of its SHA-256.</summary>
    public Task<MediaRow> MediaFileAsync(string name, CancellationToken stop) => GetAsync<MediaRow>($"media/{Escape(name)}", stop);

    /// <summary>Begins an upload, or finds the one of the same file that was cut off.</summary>
    public Task<MediaUploadView> BeginMediaUploadAsync(MediaUploadCommand command, CancellationToken stop) =>
        SendAsync<MediaUploadView>(HttpMethod.Post, "media-uploads", JsonContent.Create(command), stop);

    /// <summary>Sends a part of an upload.</summary>
    public Task<MediaUploadView> SendMediaPartAsync(string id, long offset, ReadOnlyMemory<byte> part, CancellationToken stop) =>
        SendAsync<MediaUploadView>(
            HttpMethod.Put,
            Query($"media-uploads/{Escape(id)}", ("offset", offset.ToString(CultureInfo.InvariantCulture))),
            new ReadOnlyMemoryContent(part) { Headers = { ContentType = new("application/octet-stream") } },
            stop,
            MostForImport
        );

    /// <summary>Removes an installation file.</summary>
    public Task RemoveMediaAsync(string name, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"media/{Escape(name)}/remove", JsonContent.Create(new Because(reason)), stop);

    /// <summary>How an upload or a download stands; null once it has ended.</summary>
    public async Task<MediaUploadView?> MediaUploadAsync(string id, CancellationToken stop)
    {
        try
        {
            return await GetAsync<MediaUploadView>($"media-uploads/{Escape(id)}", stop);
        }
        catch (ServiceException error) when (error.Name == "unknown-upload")
        {
            return null;
        }
    }

    /// <summary>Lets the service download a file.</summary>
    public Task<MediaUploadView> DownloadMediaAsync(MediaDownloadCommand command, CancellationToken stop) =>
        SendAsync<MediaUploadView>(HttpMethod.Post, "media-downloads", JsonContent.Create(command), stop);

    /// <summary>Says where the machines of a site fetch media.</summary>
    public Task<MediaListView> SetRepositoryAsync(string site, SiteRepositoryCommand command, CancellationToken stop) =>
        SendAsync<MediaListView>(HttpMethod.Put, $"site-repositories/{Escape(site)}", JsonContent.Create(command), stop);

    /// <summary>Lets the machines of a site fetch from the service again.</summary>
    public Task RemoveRepositoryAsync(string site, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"site-repositories/{Escape(site)}/remove", JsonContent.Create(new Because(reason)), stop);
}
