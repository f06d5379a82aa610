using System.Collections.Concurrent;
using System.Net;
using System.Net.Http.Headers;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Duties;
using GrandStair.Storage.Media;
using Microsoft.Extensions.Logging;

namespace GrandStair.Engine.Media;

/// <summary>
/// Downloads media from allowed hosts. A download is an upload that the service fills by itself: it goes on after a cut or a restart, where
/// the server can send the rest of the same file, and begins again where it cannot.
/// </summary>
public sealed class MediaDownloads(MediaStore store, MediaTable table, MediaHostTable hosts, ILogger<MediaDownloads> log) : IDisposable
{
    private const int AtOnce = 2;
    private const int MostRedirects = 5;
    private static readonly TimeSpan Tick = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan ConnectTimeout = TimeSpan.FromSeconds(30);
    private static readonly TimeSpan LongestPause = TimeSpan.FromMinutes(15);

    /// <summary>How long a server may let one wait for an answer, or for more of the file.</summary>
    private static readonly TimeSpan LongestSilence = TimeSpan.FromMinutes(2);

    // Redirects are followed here, so that they lead to allowed hosts only.
    private readonly HttpClient _http = new(new SocketsHttpHandler { AllowAutoRedirect = false, ConnectTimeout = ConnectTimeout })
    {
        Timeout = Timeout.InfiniteTimeSpan,
    };

    /// <summary>By upload what is being downloaded.</summary>
    private readonly ConcurrentDictionary<string, Task> _running = new();

    /// <summary>By upload: how often it was cut off in a row, and before when it is not tried again.</summary>
    private readonly ConcurrentDictionary<string, (int Times, DateTime NotBefore)> _cutOff = new();

    /// <summary>The duty that downloads what was begun. One service does so at a time.</summary>
    public Duty Duty => new("media-downloads", Tick, ContinueAsync) { IsSingle = true };

    /// <summary>Begins a download, or finds the one of the same file.</summary>
    /// <param name="url">Where the file is.</param>
    /// <param name="sha256">Its SHA-256 as its vendor states it; null where nothing does.</param>
    /// <param name="actor">Who asks for it.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="RefusedException">The host is not allowed, does not answer with a file, or the file is refused by
    /// <see cref="MediaStore.BeginAsync"/>.</exception>
    public async Task<UploadStatus> BeginAsync(Uri url, string? sha256, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(url);
        var file = Uri.UnescapeDataString(url.Segments[^1]);
        if (file.Length == 0 || !MediaVariant.IsFileName(file))
            throw RefusedException.Invalid(
                "media-file",
                $"'{url}' does not end in a file name for media; expected letters, digits, '.', '-' and '_' after the last '/'."
            );
        if (sha256 is null && url.Scheme != Uri.UriSchemeHttps && store.Stated(file) is null)
            throw RefusedException.Invalid(
                "media-url",
                $"Nothing states the checksum of {file}, and '{url}' is not https: nobody would notice another file. State its SHA-256."
            );
        HttpResponseMessage response;
        try
        {
            response = await AskAsync(url, 0, null, stop);
        }
        catch (HttpRequestException error)
        {
            throw RefusedException.Conflict("media-url", $"{url.Authority} does not answer: {error.Message}.");
        }

        using (response)
        {
            if (response.StatusCode != HttpStatusCode.OK)
                throw RefusedException.Conflict("media-url", $"{url} answers {(int)response.StatusCode} {response.ReasonPhrase}.");
            if (response.Content.Headers.ContentLength is not { } size)
                throw RefusedException.Conflict("media-url", $"{url} does not say how large the file is; download it and add the file.");
            return await store.BeginAsync(file, size, sha256, actor, stop, new(url, ValidatorOf(response)));
        }
    }

    /// <inheritdoc />
    public void Dispose() => _http.Dispose();

    private async Task ContinueAsync(CancellationToken stop)
    {
        var uploads = (await table.UploadsAsync(stop)).Where(u => u.From is not null).ToArray();
        foreach (var ended in _cutOff.Keys.Except(uploads.Select(u => u.Id)))
            _cutOff.TryRemove(ended, out _);
        foreach (var (upload, download) in _running.Where(r => r.Value.IsCompleted))
        {
            _running.TryRemove(upload, out _);
            // What it did not expect goes to the log of the duty.
            await download;
        }

        var due = uploads.Where(u =>
            !_running.ContainsKey(u.Id) && (!_cutOff.TryGetValue(u.Id, out var cut) || cut.NotBefore <= DateTime.UtcNow)
        );
        foreach (var upload in due.Take(AtOnce - _running.Count))
            _running[upload.Id] = DownloadAsync(upload, stop);
    }

    private async Task DownloadAsync(MediaUpload upload, CancellationToken stop)
    {
        try
        {
            await ReceiveAsync(upload, upload.From!, stop);
            _cutOff.TryRemove(upload.Id, out _);
        }
        catch (OperationCanceledException) when (stop.IsCancellationRequested)
        {
            // Another pass goes on with it, here or elsewhere.
        }
        catch (Exception error) when (error is HttpRequestException or IOException or RefusedException)
        {
            var times = _cutOff.GetValueOrDefault(upload.Id).Times + 1;
            var pause = TimeSpan.FromSeconds(Math.Min(LongestPause.TotalSeconds, Math.Pow(2, times)));
            _cutOff[upload.Id] = (times, DateTime.UtcNow + pause);
            log.LogWarning(
                "Downloading {Url} was cut off: {Why}; it goes on in {Pause} s",
                upload.From!.Url,
                error.Message,
                pause.TotalSeconds
            );
            await table.NoteAsync(upload.Id, error.Message, stop);
        }
    }

    private async Task ReceiveAsync(MediaUpload upload, MediaOrigin from, CancellationToken stop)
    {
        var offset = store.Received(upload);
        if (offset == upload.Size)
        {
            // All of it arrived before the service was killed.
            await store.AppendAsync(upload.Id, offset, Stream.Null, new(upload.BegunBy), stop);
            return;
        }

        // Without a checksum, only what the server vouches for as the same file is added to what has arrived.
        if (offset > 0 && upload.Sha256 is null && from.Validator is null)
            offset = store.Restart(upload);
        using var response = await AskAsync(from.Url, offset, from.Validator, stop);
        if (offset > 0 && response.StatusCode is HttpStatusCode.OK or HttpStatusCode.RequestedRangeNotSatisfiable)
        {
            store.Restart(upload);
            throw new IOException("the file on the server is another one now, or its server sends no parts; it begins again");
        }

        response.EnsureSuccessStatusCode();
        if (response.Content.Headers.ContentRange is { From: { } begin } && begin != offset)
            throw new IOException($"the server sent bytes from {begin} on, in place of {offset}");
        await table.NoteAsync(upload.Id, null, stop);
        await using var content = await response.Content.ReadAsStreamAsync(stop);
        using var silence = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var watching = CancelWhenSilentAsync(upload, silence);
        try
        {
            var status = await store.AppendAsync(upload.Id, offset, content, new(upload.BegunBy), silence.Token);
            if (status.Ended is null)
                throw new IOException($"the server ended after {status.Received} of {upload.Size} bytes");
        }
        catch (OperationCanceledException) when (!stop.IsCancellationRequested)
        {
            throw new IOException($"nothing arrived for {LongestSilence.TotalMinutes:0} minutes");
        }
        finally
        {
            await silence.CancelAsync();
            await watching;
        }
    }

    /// <summary>Cancels a download of which nothing arrives any more.</summary>
    private async Task CancelWhenSilentAsync(MediaUpload upload, CancellationTokenSource silence)
    {
        var before = -1L;
        while (store.Received(upload) is var received && received > before)
        {
            before = received;
            await Task.Delay(LongestSilence, silence.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (silence.IsCancellationRequested)
                return;
        }

        await silence.CancelAsync();
    }

    /// <summary>Asks for a file or the rest of it, by way of redirects to allowed hosts.</summary>
    private async Task<HttpResponseMessage> AskAsync(Uri url, long offset, string? validator, CancellationToken stop)
    {
        var allowed = await hosts.ReadAsync(stop);
        for (var redirects = 0; ; redirects++)
        {
            if (url.Scheme != Uri.UriSchemeHttp && url.Scheme != Uri.UriSchemeHttps)
                throw RefusedException.Invalid("media-url", $"'{url}' is neither http nor https.");
            if (!allowed.Allow(url))
                throw RefusedException.Invalid(
                    "media-host",
                    $"The service may not download from {url.Authority}; allowed: "
                        + $"{string.Join(", ", allowed.Names.DefaultIfEmpty("no host"))}. An admin allows a host with 'gstair setting "
                        + "change --media-hosts'."
                );
            using var request = new HttpRequestMessage(HttpMethod.Get, url);
            if (offset > 0)
            {
                request.Headers.Range = new(offset, null);
                if (validator is not null)
                    request.Headers.IfRange = new(EntityTagHeaderValue.Parse(validator));
            }

            var response = await AnswerAsync(request, stop);
            if ((int)response.StatusCode is not (>= 300 and < 400) || response.Headers.Location is not { } location)
                return response;
            response.Dispose();
            if (redirects == MostRedirects)
                throw RefusedException.Conflict("media-url", $"{url.Authority} redirects more than {MostRedirects} times.");
            url = new(url, location);
        }
    }

    private async Task<HttpResponseMessage> AnswerAsync(HttpRequestMessage request, CancellationToken stop)
    {
        using var late = CancellationTokenSource.CreateLinkedTokenSource(stop);
        late.CancelAfter(LongestSilence);
        try
        {
            return await _http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, late.Token);
        }
        catch (OperationCanceledException error) when (!stop.IsCancellationRequested)
        {
            throw new HttpRequestException($"no answer within {LongestSilence.TotalMinutes:0} minutes", error);
        }
    }

    /// <summary>The strong entity tag of a file, by which a server knows that it still is the same; null where it has none.</summary>
    private static string? ValidatorOf(HttpResponseMessage response) =>
        response.Headers.ETag is { IsWeak: false } tag ? tag.ToString() : null;
}
